//! The datum: where the origin is, which way is up and ahead, and how long a metre is.

mod error;
mod lines;
mod proposal;
mod scale;

pub use error::DatumError;
pub use lines::{DrawnLine, LineError, LineRole};
pub(in crate::scene) use proposal::letters;
pub use proposal::{HeadingBasis, Proposal, guessed_height_m, propose};
pub use scale::{Distance, ScaleBasis, ScaleReading};

use crate::camera::CameraPath;
use crate::geometry::Similarity;
use crate::matte::contains;
use crate::solve::{Solution, SolvedPoint};
use crate::survey::{ByPoints, FoundPlane, mean_up};
use crate::track::TrackId;
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// How well a floor was laid.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FloorReading {
    /// RMS distance of what lies on it, px.
    pub fit_px: f64,
    /// How far the average camera is rolled against the floor, degrees: near 0 where the camera was held
    /// level. (The camera's pitch says nothing of the floor; its roll does.)
    pub level_deg: f64,
    /// Its points.
    pub points: Vec<TrackId>,
    /// Those that were chosen for it, but lie off it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<TrackId>,
    /// Windows of the pictures that lie on it; 0 where points alone tell of it.
    #[serde(default)]
    pub windows: usize,
    /// Deviation of its normal, degrees; nothing for a floor that an earlier version laid.
    #[serde(default)]
    pub normal_deviation_deg: Option<f64>,
    /// Deviation of its place, as a part of the camera's height; nothing for a floor that an earlier version laid.
    #[serde(default)]
    pub place_deviation: Option<f64>,
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
    /// Where the scale comes from.
    pub scale: ScaleBasis,
    /// Lines drawn along uprights, parallel edges and the horizon.
    #[serde(default)]
    pub lines: Vec<DrawnLine>,
}

impl Default for Datum {
    fn default() -> Self {
        Self { world_from_solve: Similarity::identity(), floor: None, scale: ScaleBasis::Unset, lines: Vec::new() }
    }
}

/// How far the average camera of a solve is rolled against an upright in the world of the solve, degrees.
pub fn mean_roll_deg(solution: &Solution, up: &Vector3<f64>) -> f64 {
    let rolls =
        solution.frames.iter().map(|f| up.dot(&(f.pose.rotation.inverse() * Vector3::x())).clamp(-1.0, 1.0).asin());
    (rolls.sum::<f64>() / solution.frames.len().max(1) as f64).abs().to_degrees()
}

/// The solved points that are seen inside an outline on a frame, by rising id.
pub fn points_inside(solution: &Solution, frame: u32, outline: &[[f64; 2]]) -> Vec<TrackId> {
    let path = CameraPath::new(solution, &Similarity::identity());
    let Some(camera) = path.at(frame) else { return Vec::new() };
    let seen = |p: &&SolvedPoint| {
        let there = (p.first_frame..=p.last_frame).contains(&frame);
        there && camera.project(p.position).is_some_and(|at| contains(outline, at.x, at.y))
    };
    solution.points.iter().filter(seen).map(|p| p.id).collect()
}

impl Datum {
    /// Lays the floor: Y along its normal, the origin at its middle (or at `origin`, a point of the
    /// solve's world, put onto the floor), -Z the way the first camera looks. The scale stays.
    pub fn with_floor(&self, solution: &Solution, floor: &FoundPlane, origin: Option<Vector3<f64>>) -> Self {
        let up = floor.plane.normal;
        let forward = solution.frames.first().map_or(-Vector3::z(), |f| f.pose.rotation.inverse() * Vector3::z());
        let rotation = upright(up, forward);
        let scale = self.world_from_solve.scale;
        let foot = floor.plane.foot(origin.unwrap_or(floor.plane.point));
        let world_from_solve = Similarity { scale, rotation, translation: -(rotation * foot) * scale };
        let heights = solution.frames.iter().map(|f| floor.plane.distance(f.pose.centre()).abs());
        let height = heights.sum::<f64>() / solution.frames.len().max(1) as f64;
        let reading = FloorReading {
            fit_px: floor.fit_px,
            level_deg: mean_roll_deg(solution, &up),
            points: floor.points.clone(),
            left_out: Vec::new(),
            windows: floor.windows,
            normal_deviation_deg: Some(floor.normal_deviation_deg),
            place_deviation: Some(floor.place_deviation / height.max(1e-12)),
            outline: floor.outline.iter().map(|c| world_from_solve.point(*c).into()).collect(),
        };
        let mut datum = self.moved(&self.world_from_solve.inverse().then(&world_from_solve));
        datum.world_from_solve = world_from_solve;
        datum.floor = Some(reading);
        datum
    }

    /// Lays the floor through chosen points, and keeps which of them lie off it.
    pub fn with_floor_through(&self, solution: &Solution, through: &ByPoints) -> Self {
        let mut datum = self.with_floor(solution, &through.found, None);
        if let Some(reading) = &mut datum.floor {
            reading.left_out.clone_from(&through.left_out);
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

    /// Turns the world, the least way, so that a direction of it points up. The origin stays.
    ///
    /// # Errors
    /// [`DatumError::NotSound`] for a direction that is none.
    pub fn with_up(&self, up: Vector3<f64>) -> Result<Self, DatumError> {
        let up = up.try_normalize(1e-9).ok_or(DatumError::NotSound)?;
        let rotation = Rotation3::rotation_between(&up, &Vector3::y())
            .unwrap_or_else(|| Rotation3::from_axis_angle(&Vector3::x_axis(), std::f64::consts::PI));
        Ok(self.moved(&Similarity { rotation, ..Similarity::identity() }))
    }

    /// Lays a floor under a camera that only turns: so far below it. The camera's place is the solve's origin. Where
    /// nothing was laid before, what is up is told by the lines that are drawn along uprights and the horizon, or else by how
    /// the cameras are held.
    ///
    /// # Errors
    /// [`DatumError::NoDistance`] for a height that is none.
    pub fn with_height_of_pan(&self, solution: &Solution, height_m: f64) -> Result<Self, DatumError> {
        if !(height_m.is_finite() && height_m > 0.0) {
            return Err(DatumError::NoDistance);
        }
        let untouched = Self { lines: Vec::new(), ..self.clone() } == Self::default();
        let drawn = || self.up_by_lines(solution).ok().map(|(up, _)| up);
        let known = if untouched { drawn().or_else(|| mean_up(solution)) } else { None };
        let level = known.map_or_else(|| Ok(self.clone()), |up| self.with_up(up))?;
        let rotation = level.world_from_solve.rotation;
        let up = rotation.inverse() * Vector3::y();
        let foot = Vector3::new(0.0, height_m, 0.0);
        let world_from_solve = Similarity { scale: 1.0, rotation, translation: foot };
        let mut datum = self.moved(&self.world_from_solve.inverse().then(&world_from_solve));
        datum.world_from_solve = world_from_solve;
        datum.scale = ScaleBasis::Typed { metres: height_m };
        datum.floor = Some(FloorReading {
            fit_px: solution.rms_px,
            level_deg: mean_roll_deg(solution, &up),
            points: Vec::new(),
            left_out: Vec::new(),
            windows: 0,
            normal_deviation_deg: None,
            place_deviation: None,
            outline: Vec::new(),
        });
        Ok(datum)
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

    /// The same datum with its world moved: what is noted in it moves along.
    fn moved(&self, by: &Similarity) -> Self {
        let mut datum = Self { world_from_solve: self.world_from_solve.then(by), ..self.clone() };
        for corner in datum.floor.iter_mut().flat_map(|f| &mut f.outline) {
            *corner = by.point(Vector3::from(*corner)).into();
        }
        datum.scale.move_with(by);
        datum
    }
}

/// The turn that takes `up` to Y and `forward`, as far as it lies across `up`, to -Z.
fn upright(up: Vector3<f64>, forward: Vector3<f64>) -> Rotation3<f64> {
    let back =
        -(forward - up * forward.dot(&up)).try_normalize(1e-6).unwrap_or_else(|| up.cross(&Vector3::x()).normalize());
    let right = up.cross(&back);
    Rotation3::from_matrix_unchecked(Matrix3::from_rows(&[right.transpose(), up.transpose(), back.transpose()]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::SolvedFrame;
    use crate::survey::{PlaneKind, plane_through};

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
    fn a_floor_under_a_camera_that_turns_is_level_by_what_is_drawn() {
        // The world of the solve leans, and the camera looks up.
        let leans = Rotation3::from_euler_angles(0.12, 0.0, -0.07);
        let held = Pose::look_at(Vector3::zeros(), Vector3::new(0.0, 1.5, -10.0), Vector3::y()).unwrap();
        let pose = Pose { rotation: held.rotation * leans.inverse(), translation: Vector3::zeros() };
        let lens = Lens::centred(900.0, 1280, 720);
        let mut solution = Solution::empty(1280, 720, 1);
        solution.frames = vec![SolvedFrame::new(0, pose, lens, 0.1, 30)];
        let seen = |p: [f64; 3]| -> [f64; 2] {
            let at = held.rotation * Vector3::from(p);
            lens.project(nalgebra::Vector2::new(at.x / at.z, at.y / at.z)).into()
        };
        let post = |x: f64| {
            let (from, to) = (seen([x, 0.5, -10.0]), seen([x, 4.0, -10.0]));
            DrawnLine { role: LineRole::Upright, frame: 0, from, to, at_edge: false }
        };
        let drawn = Datum::default().with_line(post(-5.0)).with_line(post(4.0));
        let off = |datum: &Datum| (datum.world_from_solve.rotation * (leans * Vector3::y())).angle(&Vector3::y());
        let laid = drawn.with_height_of_pan(&solution, 1.6).unwrap();
        assert!(off(&laid) < 1e-6 && laid.world_from_solve.translation.y == 1.6, "{}", off(&laid));
        assert!(off(&Datum::default().with_height_of_pan(&solution, 1.6).unwrap()) > 0.1, "held by how it looks");
        // What was turned by hand stays.
        let turned = drawn.nudged([5.0, 0.0, 0.0], [0.0; 3]);
        let kept = turned.with_height_of_pan(&solution, 1.6).unwrap();
        assert!(kept.world_from_solve.rotation.angle_to(&turned.world_from_solve.rotation) < 1e-9);
    }

    /// A camera over 30 points of a floor, some of them raised.
    fn solved(raised: impl Fn(u32) -> bool) -> Solution {
        let mut solution = Solution::empty(1280, 720, 1);
        let pose = Pose::look_at(Vector3::new(0.0, 4.0, 9.0), Vector3::zeros(), Vector3::y()).unwrap();
        solution.frames = vec![SolvedFrame::new(0, pose, Lens::centred(900.0, 1280, 720), 0.1, 30)];
        let at =
            |i: u32| Vector3::new(f64::from(i % 6) - 2.5, if raised(i) { 0.8 } else { 0.0 }, f64::from(i / 6) - 2.0);
        solution.points = (0..30).map(|i| SolvedPoint::new(TrackId(i), at(i), 0.1, (0, 0), 5.0)).collect();
        solution
    }

    #[test]
    fn the_outline_of_a_floor_is_laid_with_it_and_moves_with_the_world() {
        let mut solution = solved(|_| false);
        let ids: Vec<TrackId> = (0..30).map(TrackId).collect();
        let floor = plane_through(&solution, &[], &ids, PlaneKind::Floor, None).unwrap().found;
        let laid = Datum::default().with_floor(&solution, &floor, None);
        let corners = |d: &Datum| -> Vec<Vector3<f64>> {
            d.floor.as_ref().unwrap().outline.iter().map(|c| Vector3::from(*c)).collect()
        };
        let longest =
            |c: &[Vector3<f64>]| c.iter().flat_map(|a| c.iter().map(move |b| (a - b).norm())).fold(0.0, f64::max);
        assert!(corners(&laid).len() >= 4 && corners(&laid).iter().all(|c| c.y.abs() < 1e-9));
        assert!((longest(&corners(&laid)) - 41f64.sqrt()).abs() < 1e-6, "{}", longest(&corners(&laid)));
        let scaled =
            laid.with_distance(Vector3::zeros(), Vector3::x(), 3.0).unwrap().with_origin(Vector3::new(2.0, 0.0, 1.0));
        assert!((longest(&corners(&scaled)) - 3.0 * 41f64.sqrt()).abs() < 1e-6);
        // The points under other ids, as of another run: the corners stay.
        solution.points.iter_mut().for_each(|p| p.id = TrackId((p.id.0 + 15) % 30));
        solution.points.sort_by_key(|p| p.id);
        assert_eq!(super::super::floor_corners(&scaled, &solution), corners(&scaled));
    }

    #[test]
    fn of_the_points_of_a_region_those_off_the_floor_are_left_out() {
        let solution = solved(|i| i.is_multiple_of(5));
        let all = points_inside(&solution, 0, &[[0.0, 0.0], [1280.0, 0.0], [1280.0, 720.0], [0.0, 720.0]]);
        assert_eq!(all.len(), 30);
        assert_eq!(points_inside(&solution, 0, &[[0.0, 0.0], [640.0, 0.0], [640.0, 720.0], [0.0, 720.0]]).len(), 15);
        assert!(points_inside(&solution, 1, &[[0.0, 0.0], [1280.0, 0.0], [640.0, 720.0]]).is_empty());
        let laid = plane_through(&solution, &[], &all, PlaneKind::Floor, None).unwrap();
        let kept = Datum::default().with_floor_through(&solution, &laid).floor.unwrap();
        assert_eq!((kept.points.len(), kept.left_out.len()), (24, 6));
        assert_eq!((laid.found.points.len(), laid.left_out.len()), (24, 6));
        assert!(laid.found.plane.normal.y > 1.0 - 1e-9 && laid.found.plane.point.y.abs() < 1e-9);
        assert!(plane_through(&solution, &[], &all[..2], PlaneKind::Floor, None).is_err());
    }
}
