//! The datum: where the origin is, which way is up and ahead, and how long a metre is.

use super::surface::{fit_plane, plane_error_px};
use crate::camera::{Camera, CameraPath};
use crate::geometry::Similarity;
use crate::random::SplitMix64;
use crate::solve::{Motion, Solution, SolvedPoint};
use crate::track::TrackId;
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// Draws of three points in the search for a floor.
const DRAWS: usize = 400;
/// How far a floor may lean against the average camera upright, degrees.
const MAX_LEAN_DEG: f64 = 40.0;
/// Distance from the floor, px of a picture 1280 wide, within which a point lies on it.
const ON_FLOOR_PX: f64 = 1.5;
/// Points that a floor needs.
const FEWEST: usize = 12;

/// How well a floor was laid.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FloorReading {
    /// RMS distance of its points, px.
    pub fit_px: f64,
    /// How far the average camera is rolled against the floor, degrees: near 0 where the camera was held
    /// level. (The camera's pitch says nothing of the floor; its roll does.)
    pub level_deg: f64,
    /// Its points.
    pub points: Vec<TrackId>,
    /// Its corners as laid, in the world of the datum: ids of points mean nothing once the camera is of another run.
    /// Nothing for a floor that is not laid, or that an earlier version laid.
    #[serde(default)]
    pub outline: Vec<[f64; 3]>,
}

/// The datum of a shot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Datum {
    /// From the world of the solve to that of the datum: Y up, metres.
    pub world_from_solve: Similarity,
    /// Present once a floor was laid; the floor is the plane Y = 0.
    pub floor: Option<FloorReading>,
    /// The distance that gave the scale, metres; `None` while the scale is a guess.
    pub known_distance_m: Option<f64>,
}

impl Default for Datum {
    fn default() -> Self {
        Self { world_from_solve: Similarity::identity(), floor: None, known_distance_m: None }
    }
}

/// A plane in the world of the solve that could be the floor.
#[derive(Debug, Clone, PartialEq)]
pub struct FloorFit {
    /// On the plane, in the middle of its points.
    pub middle: Vector3<f64>,
    /// Unit normal, upwards.
    pub normal: Vector3<f64>,
    /// How well it fits.
    pub reading: FloorReading,
}

/// The average camera's up in the world of the solve.
fn camera_up(solution: &Solution) -> Vector3<f64> {
    let sum: Vector3<f64> = solution.frames.iter().map(|f| f.pose.rotation.inverse() * -Vector3::y()).sum();
    sum.try_normalize(1e-9).unwrap_or_else(Vector3::y)
}

/// The frame in the middle of a point's life, or the nearest solved one.
fn camera_of(solution: &Solution, point: &SolvedPoint) -> Option<Camera> {
    let middle = u32::midpoint(point.first_frame, point.last_frame);
    let i = solution.frames.partition_point(|f| f.frame < middle).min(solution.frames.len().checked_sub(1)?);
    // Planes are looked for in the world of the solve.
    CameraPath::new(solution, &Similarity::identity()).at(solution.frames[i].frame)
}

fn reading(solution: &Solution, on: Vector3<f64>, normal: Vector3<f64>, ids: &[TrackId]) -> FloorReading {
    let residuals: Vec<f64> = solution
        .points
        .iter()
        .filter(|p| ids.binary_search(&p.id).is_ok())
        .filter_map(|p| plane_error_px(&camera_of(solution, p)?, p.position, on, normal))
        .collect();
    let fit_px = (residuals.iter().map(|m| m * m).sum::<f64>() / residuals.len().max(1) as f64).sqrt();
    let rolls =
        solution.frames.iter().map(|f| normal.dot(&(f.pose.rotation.inverse() * Vector3::x())).clamp(-1.0, 1.0).asin());
    let level_deg = (rolls.sum::<f64>() / solution.frames.len().max(1) as f64).abs().to_degrees();
    FloorReading { fit_px, level_deg, points: ids.to_vec(), outline: Vec::new() }
}

/// Why no floor can be laid.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum FloorError {
    /// There are no depths.
    #[error(
        "the camera turns on the spot, which gives directions and no depths: no floor can be laid. Place things far \
            away"
    )]
    Nodal,
    /// A plane needs three points.
    #[error("a floor needs at least 3 solved points; {found} are selected")]
    TooFew {
        /// How many there are.
        found: usize,
    },
    /// A plane through a line can lean any way.
    #[error("the selected points lie on a line; add one beside it")]
    OnALine,
}

/// Why a datum cannot be laid so.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum DatumError {
    /// Numbers that are none, a mirror, no size.
    #[error("the datum must have finite numbers, a turn that is one, and a scale above zero; choose other points")]
    NotSound,
    /// The same of the way to another camera.
    #[error("the way from the old camera to the new one is none; solve again")]
    NoWay,
    /// A distance that is none.
    #[error("type the real distance in metres, above 0")]
    NoDistance,
    /// No distance between two points.
    #[error("the two points are in one place; choose two that are apart")]
    OnePlace,
    /// No way along the ground between two places.
    #[error("the two places lie over each other; choose two that are apart on the ground")]
    OverEachOther,
}

/// The floor through the given points, by least squares.
///
/// # Errors
/// [`FloorError`] says what is missing.
pub fn fit_floor(solution: &Solution, ids: &[TrackId]) -> Result<FloorFit, FloorError> {
    if solution.motion == Motion::Nodal {
        return Err(FloorError::Nodal);
    }
    let mut ids = ids.to_vec();
    ids.sort_unstable();
    ids.dedup();
    let positions: Vec<Vector3<f64>> =
        solution.points.iter().filter(|p| ids.binary_search(&p.id).is_ok()).map(|p| p.position).collect();
    if positions.len() < 3 {
        return Err(FloorError::TooFew { found: positions.len() });
    }
    let (middle, normal) = fit_plane(&positions).ok_or(FloorError::OnALine)?;
    let up = camera_up(solution);
    let normal = if normal.dot(&up) < 0.0 { -normal } else { normal };
    let reading = reading(solution, middle, normal, &ids);
    Ok(FloorFit { middle, normal, reading })
}

/// The solved points that are seen inside an outline on a frame, by rising id.
pub fn points_inside(solution: &Solution, frame: u32, outline: &[[f64; 2]]) -> Vec<TrackId> {
    let path = CameraPath::new(solution, &Similarity::identity());
    let Some(camera) = path.at(frame) else { return Vec::new() };
    let inside = |x: f64, y: f64| {
        // Even-odd rule.
        let edges = outline.iter().zip(outline.iter().cycle().skip(1));
        edges.filter(|(a, b)| (a[1] > y) != (b[1] > y) && x < a[0] + (y - a[1]) * (b[0] - a[0]) / (b[1] - a[1])).count()
            % 2
            == 1
    };
    let seen = |p: &&SolvedPoint| {
        let there = (p.first_frame..=p.last_frame).contains(&frame);
        there && camera.project(p.position).is_some_and(|at| inside(at.x, at.y))
    };
    solution.points.iter().filter(seen).map(|p| p.id).collect()
}

/// The floor through most of the given points: those that lie off the plane of the others are left out (RANSAC over
/// triples, refitted twice).
///
/// # Errors
/// As [`fit_floor`].
pub fn fit_floor_to_most(solution: &Solution, ids: &[TrackId]) -> Result<FloorFit, FloorError> {
    let scale = f64::from(solution.width) / 1280.0;
    let seen: Vec<_> = solution
        .points
        .iter()
        .filter(|p| ids.contains(&p.id))
        .filter_map(|p| Some((p, camera_of(solution, p)?)))
        .collect();
    let members = |on: Vector3<f64>, normal: Vector3<f64>| -> Vec<TrackId> {
        let on_it = |(p, f): &&(&SolvedPoint, Camera)| {
            plane_error_px(f, p.position, on, normal).is_some_and(|m| m < ON_FLOOR_PX * scale)
        };
        seen.iter().filter(on_it).map(|(p, _)| p.id).collect()
    };
    let mut random = SplitMix64::new(31);
    let mut best: Vec<TrackId> = Vec::new();
    for _ in 0..DRAWS {
        let Some(pick) = random.distinct::<3>(seen.len()) else { break };
        let Some((on, normal)) = fit_plane(&pick.map(|i| seen[i].0.position)) else { continue };
        let there = members(on, normal);
        if there.len() > best.len() {
            best = there;
        }
    }
    let mut fit = fit_floor(solution, if best.len() < 3 { ids } else { &best })?;
    for _ in 0..2 {
        let there = members(fit.middle, fit.normal);
        if there.len() >= 3 {
            fit = fit_floor(solution, &there)?;
        }
    }
    Ok(fit)
}

/// Looks for the floor by itself: among planes that lean little against the average camera upright
/// and have hardly anything under them, the one that the most points lie on.
pub fn suggest_floor(solution: &Solution) -> Option<FloorFit> {
    if solution.motion == Motion::Nodal {
        return None;
    }
    let up = camera_up(solution);
    let scale = f64::from(solution.width) / 1280.0;
    let seen: Vec<_> = solution.points.iter().filter_map(|p| Some((p, camera_of(solution, p)?))).collect();
    let mut random = SplitMix64::new(29);
    let least_cosine = MAX_LEAN_DEG.to_radians().cos();
    let mut best: (f64, Vec<TrackId>) = (0.0, Vec::new());
    for _ in 0..DRAWS {
        let pick = random.distinct::<3>(seen.len())?;
        let Some((on, mut normal)) = fit_plane(&pick.map(|i| seen[i].0.position)) else { continue };
        if normal.dot(&up) < 0.0 {
            normal = -normal;
        }
        // Nobody films a floor from below.
        let below = solution.frames.iter().filter(|f| normal.dot(&(f.pose.centre() - on)) < 0.0).count();
        if normal.dot(&up) < least_cosine || below * 10 > solution.frames.len() {
            continue;
        }
        let (mut members, mut under) = (Vec::new(), 0usize);
        for (p, frame) in &seen {
            match plane_error_px(frame, p.position, on, normal) {
                Some(m) if m < ON_FLOOR_PX * scale => members.push(p.id),
                Some(_) if normal.dot(&(p.position - on)) < 0.0 => under += 1,
                _ => {}
            }
        }
        let score = members.len() as f64 - 0.5 * under as f64;
        if score > best.0 {
            best = (score, members);
        }
    }
    if best.1.len() < FEWEST {
        return None;
    }
    // The consensus of three points is rough; two refits widen it to all that belong.
    let mut fit = fit_floor(solution, &best.1).ok()?;
    for _ in 0..2 {
        let members: Vec<TrackId> = seen
            .iter()
            .filter(|(p, f)| {
                plane_error_px(f, p.position, fit.middle, fit.normal).is_some_and(|m| m < ON_FLOOR_PX * scale)
            })
            .map(|(p, _)| p.id)
            .collect();
        fit = fit_floor(solution, &members).ok()?;
    }
    (fit.normal.dot(&up) >= least_cosine).then_some(fit)
}

impl Datum {
    /// Lays the floor: Y along its normal, the origin at its middle (or at `origin`, a point of the
    /// solve's world, put onto the floor), -Z the way the first camera looks. The scale stays.
    pub fn with_floor(&self, solution: &Solution, fit: &FloorFit, origin: Option<Vector3<f64>>) -> Self {
        let up = fit.normal;
        let forward = solution.frames.first().map_or(-Vector3::z(), |f| f.pose.rotation.inverse() * Vector3::z());
        let back = -(forward - up * forward.dot(&up))
            .try_normalize(1e-6)
            .unwrap_or_else(|| up.cross(&Vector3::x()).normalize());
        let right = up.cross(&back);
        let rotation = Rotation3::from_matrix_unchecked(Matrix3::from_rows(&[
            right.transpose(),
            up.transpose(),
            back.transpose(),
        ]));
        let scale = self.world_from_solve.scale;
        let origin = origin.unwrap_or(fit.middle);
        let foot = origin - up * up.dot(&(origin - fit.middle));
        let world_from_solve = Similarity { scale, rotation, translation: -(rotation * foot) * scale };
        let mut datum =
            Self { world_from_solve, floor: Some(fit.reading.clone()), known_distance_m: self.known_distance_m };
        let corners = super::floor_corners(&datum, solution).iter().map(|c| (*c).into()).collect();
        if let Some(floor) = &mut datum.floor {
            floor.outline = corners;
        }
        datum
    }

    /// Makes a point of the solve's world the origin; with a floor laid, the point's foot on it.
    pub fn with_origin(&self, point: Vector3<f64>) -> Self {
        let mut world = self.world_from_solve.point(point);
        if self.floor.is_some() {
            world.y = 0.0;
        }
        self.moved(&Similarity { translation: -world, ..Similarity::identity() })
    }

    /// Sets the scale so that two points of the solve's world are `distance_m` apart.
    ///
    /// # Errors
    /// [`DatumError`] when the distance or the points cannot give a scale.
    pub fn with_distance(&self, a: Vector3<f64>, b: Vector3<f64>, distance_m: f64) -> Result<Self, DatumError> {
        let now = (self.world_from_solve.point(a) - self.world_from_solve.point(b)).norm();
        if !(distance_m.is_finite() && distance_m > 0.0) {
            return Err(DatumError::NoDistance);
        }
        if now <= 1e-12 {
            return Err(DatumError::OnePlace);
        }
        let mut datum = self.moved(&Similarity { scale: distance_m / now, ..Similarity::identity() });
        datum.known_distance_m = Some(distance_m);
        Ok(datum)
    }

    /// Turns about the upright so that the way from one point of the datum's world to another runs along -Z.
    ///
    /// # Errors
    /// [`DatumError::OverEachOther`].
    pub fn with_heading(&self, from: Vector3<f64>, to: Vector3<f64>) -> Result<Self, DatumError> {
        let way = to - from;
        if way.x.hypot(way.z) <= 1e-9 * way.norm().max(1e-9) {
            return Err(DatumError::OverEachOther);
        }
        Ok(self.nudged([0.0, way.x.atan2(-way.z).to_degrees(), 0.0], [0.0; 3]))
    }

    /// Turns about X, Y, Z (degrees, in this order) and then shifts (metres).
    pub fn nudged(&self, turn_deg: [f64; 3], shift_m: [f64; 3]) -> Self {
        let [x, y, z] = turn_deg.map(f64::to_radians);
        let rotation = Rotation3::from_axis_angle(&Vector3::z_axis(), z)
            * Rotation3::from_axis_angle(&Vector3::y_axis(), y)
            * Rotation3::from_axis_angle(&Vector3::x_axis(), x);
        self.moved(&Similarity { scale: 1.0, rotation, translation: Vector3::from(shift_m) })
    }

    /// Turns the world upside down about X.
    pub fn flipped(&self) -> Self {
        self.nudged([180.0, 0.0, 0.0], [0.0; 3])
    }

    fn moved(&self, by: &Similarity) -> Self {
        let mut datum = Self { world_from_solve: self.world_from_solve.then(by), ..self.clone() };
        for corner in datum.floor.iter_mut().flat_map(|f| &mut f.outline) {
            *corner = by.point(Vector3::from(*corner)).into();
        }
        datum
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::SolvedFrame;
    use crate::solve::SolvedPoint;

    #[test]
    fn a_heading_leads_along_minus_z() {
        for (from, to) in [
            ([0.0, 0.0, 0.0], [1.0, 0.0, 0.0]),
            ([1.0, 2.0, 3.0], [-4.0, 2.5, 7.0]),
            ([0.0, 0.0, 0.0], [0.0, 1.0, 9.0]),
        ] {
            let (from, to) = (Vector3::from(from), Vector3::from(to));
            let turned = Datum::default().with_heading(from, to).unwrap().world_from_solve;
            let way = turned.point(to) - turned.point(from);
            assert!(way.x.abs() < 1e-9 && way.z < 0.0 && (way.y - (to - from).y).abs() < 1e-9, "{way}");
        }
        assert!(Datum::default().with_heading(Vector3::zeros(), Vector3::y()).is_err());
    }

    #[test]
    fn the_outline_of_a_floor_is_laid_with_it_and_moves_with_the_world() {
        let mut solution = Solution::empty(1280, 720, 1);
        let pose = Pose::look_at(Vector3::new(0.0, 4.0, 9.0), Vector3::zeros(), Vector3::y()).unwrap();
        solution.frames = vec![SolvedFrame::new(0, pose, Lens::centred(900.0, 1280, 720), 0.1, 30)];
        let at = |i: u32| Vector3::new(f64::from(i % 6), 0.0, f64::from(i / 6));
        solution.points = (0..30).map(|i| SolvedPoint::new(TrackId(i), at(i), 0.1, (0, 0), 5.0)).collect();
        let ids: Vec<TrackId> = (0..30).map(TrackId).collect();
        let laid = Datum::default().with_floor(&solution, &fit_floor(&solution, &ids).unwrap(), None);
        let corners = |d: &Datum| -> Vec<Vector3<f64>> {
            d.floor.as_ref().unwrap().outline.iter().map(|c| Vector3::from(*c)).collect()
        };
        let sides = |c: &[Vector3<f64>]| ((c[0] - c[1]).norm(), (c[0] - c[2]).norm());
        assert!(corners(&laid).len() == 4 && corners(&laid).iter().all(|c| c.y.abs() < 1e-9));
        let (a, b) = sides(&corners(&laid));
        assert!((a - 4.0).abs() < 1e-9 && (b - 5.0).abs() < 1e-9, "{a} by {b}");
        let scaled =
            laid.with_distance(Vector3::zeros(), Vector3::x(), 3.0).unwrap().with_origin(Vector3::new(2.0, 0.0, 1.0));
        assert!((sides(&corners(&scaled)).1 - 15.0).abs() < 1e-9);
        // The points under other ids, as of another run: the corners stay.
        solution.points.iter_mut().for_each(|p| p.id = TrackId((p.id.0 + 15) % 30));
        solution.points.sort_by_key(|p| p.id);
        assert_eq!(super::super::floor_corners(&scaled, &solution), corners(&scaled));
    }

    #[test]
    fn of_the_points_of_a_region_those_off_the_floor_are_left_out() {
        let mut solution = Solution::empty(1280, 720, 1);
        let pose = Pose::look_at(Vector3::new(0.0, 4.0, 9.0), Vector3::zeros(), Vector3::y()).unwrap();
        solution.frames = vec![SolvedFrame::new(0, pose, Lens::centred(900.0, 1280, 720), 0.1, 30)];
        let at = |i: u32| {
            Vector3::new(f64::from(i % 6) - 2.5, if i.is_multiple_of(5) { 0.8 } else { 0.0 }, f64::from(i / 6) - 2.0)
        };
        solution.points = (0..30).map(|i| SolvedPoint::new(TrackId(i), at(i), 0.1, (0, 0), 5.0)).collect();
        let all = points_inside(&solution, 0, &[[0.0, 0.0], [1280.0, 0.0], [1280.0, 720.0], [0.0, 720.0]]);
        assert_eq!(all.len(), 30);
        assert_eq!(points_inside(&solution, 0, &[[0.0, 0.0], [640.0, 0.0], [640.0, 720.0], [0.0, 720.0]]).len(), 15);
        assert!(points_inside(&solution, 1, &[[0.0, 0.0], [1280.0, 0.0], [640.0, 720.0]]).is_empty());
        let fit = fit_floor_to_most(&solution, &all).unwrap();
        assert_eq!(fit.reading.points.len(), 24);
        assert!(fit.normal.y > 1.0 - 1e-9 && fit.middle.y.abs() < 1e-9);
        assert!(fit_floor_to_most(&solution, &all[..2]).is_err());
    }
}
