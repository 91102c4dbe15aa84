//! The datum that is proposed after a solve, with what speaks for each part of it.

use super::{Datum, LineRole};
use crate::camera::CameraPath;
use crate::geometry::Similarity;
use crate::scene::Surface;
use crate::solve::Solution;
use crate::survey::{FoundPlane, PlaneKind, Survey, kind_of, mean_up};
use nalgebra::{Vector2, Vector3};

/// Walls whose ways differ by less than this, degrees, up to right angles, speak for one heading.
const SAME_WAY_DEG: f64 = 6.0;
/// What walls of one way must have of all walls to give the heading.
const WALLS_AGREE: f64 = 0.4;
/// How far away the camera may look on average for the origin to lie there, camera heights.
const FAR_HEIGHTS: f64 = 25.0;
/// Camera heights that are guessed, metres, by how steeply it looks down, degrees: by hand, over heads, a drone.
const GUESSES: [(f64, f64); 3] = [(12.0, 1.6), (35.0, 10.0), (90.0, 25.0)];
/// Surfaces that are proposed at most.
const MOST_SURFACES: usize = 10;

/// Cosine of the angle to what the cameras are held by, below which a plane cannot be level.
const NO_LEVEL: f64 = 0.8;

/// Where the heading comes from.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum HeadingBasis {
    /// Walls.
    Walls {
        /// How many agree.
        count: usize,
        /// How far they spread, degrees.
        spread_deg: f64,
    },
    /// The way the camera goes.
    Path,
    /// The way the camera looks.
    View,
}

/// A datum that could be taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// The datum; its scale is a guess.
    pub datum: Datum,
    /// Walls and other flat parts, in its world.
    pub surfaces: Vec<Surface>,
    /// Where the heading comes from.
    pub heading: HeadingBasis,
    /// Whether the origin lies where the camera looks on average; else in the middle of the floor.
    pub origin_in_view: bool,
    /// How high over the floor the camera is guessed to be, metres; nothing without a floor.
    pub camera_height_m: Option<f64>,
}

/// How high a camera is guessed to be that looks down by so many degrees.
pub fn guessed_height_m(looks_down_deg: f64) -> f64 {
    GUESSES.iter().find(|(steep, _)| looks_down_deg < *steep).map_or(GUESSES[2].1, |g| g.1)
}

/// What is proposed from a survey; `None` where nothing was found. A scale that is known already stays. Without a floor
/// the proposal is what else was found, in a world that stands upright as far as that tells.
pub fn propose(solution: &Solution, survey: &Survey, before: &Datum) -> Option<Proposal> {
    match survey.floors.first() {
        Some(floor) => Some(on_floor(solution, survey, floor, before)),
        None => without_floor(solution, survey, before),
    }
}

fn on_floor(solution: &Solution, survey: &Survey, floor: &FoundPlane, before: &Datum) -> Proposal {
    let up = floor.plane.normal;
    let aim = aim(solution, floor);
    let mut datum = before.with_floor(solution, floor, Some(aim.unwrap_or(floor.plane.point)));
    let (ahead, heading) = heading(solution, survey, &up);
    let to = datum.world_from_solve.rotation * ahead;
    datum = datum.with_heading(Vector3::zeros(), to).unwrap_or(datum);
    let looks = solution.frames.iter().map(|f| f.pose.rotation.inverse() * Vector3::z()).sum::<Vector3<f64>>();
    let down_deg = -(looks.normalize().dot(&up)).clamp(-1.0, 1.0).asin().to_degrees();
    let camera_height_m = guessed_height_m(down_deg);
    if !datum.scale.is_known() {
        datum = datum.with_camera_height(&solution.centres(), camera_height_m, true).unwrap_or(datum);
    }
    datum.lines.retain(|l| l.role != LineRole::Heading);
    let world = datum.world_from_solve;
    let surfaces = surfaces_of(&survey.planes, &world);
    let camera_height_m = Some(camera_height_m);
    Proposal { datum, surfaces, heading, origin_in_view: aim.is_some(), camera_height_m }
}

fn without_floor(solution: &Solution, survey: &Survey, before: &Datum) -> Option<Proposal> {
    if survey.planes.is_empty() {
        return None;
    }
    let mut datum = before.clone();
    let laid = *before != Datum::default();
    let up = if laid {
        before.world_from_solve.rotation.inverse() * Vector3::y()
    } else {
        up_by_walls(&survey.planes, &mean_up(solution)?)
    };
    // What each plane is was not told while nothing was known to be up.
    let judged = |p: &FoundPlane| FoundPlane { kind: kind_of(&p.plane, Some(&up)), ..p.clone() };
    let survey = Survey { planes: survey.planes.iter().map(judged).collect(), ..survey.clone() };
    let (ahead, heading) = heading(solution, &survey, &up);
    if !laid {
        datum = datum.with_up(up).unwrap_or(datum);
        let to = datum.world_from_solve.rotation * ahead;
        datum = datum.with_heading(Vector3::zeros(), to).unwrap_or(datum);
    }
    let surfaces = surfaces_of(&survey.planes, &datum.world_from_solve);
    Some(Proposal { datum, surfaces, heading, origin_in_view: false, camera_height_m: None })
}

/// What is up where no floor is known: in the plane of the largest wall, as near as can be to how the cameras are held.
fn up_by_walls(planes: &[FoundPlane], held: &Vector3<f64>) -> Vector3<f64> {
    let wall = planes.iter().map(|p| p.plane.normal).find(|n| n.dot(held).abs() < NO_LEVEL);
    wall.and_then(|n| (held - n * n.dot(held)).try_normalize(1e-6)).unwrap_or(*held)
}

/// Walls and other planes as surfaces of the datum's world, each with a name.
fn surfaces_of(planes: &[FoundPlane], world: &Similarity) -> Vec<Surface> {
    let mut counts = [0usize; 3];
    let mut name = |kind: PlaneKind| {
        let (slot, word) = match kind {
            PlaneKind::Wall => (0, "wall"),
            PlaneKind::Slope => (1, "slope"),
            PlaneKind::Floor | PlaneKind::Other => (2, "level"),
        };
        counts[slot] += 1;
        format!("{word} {}", letters(counts[slot] - 1))
    };
    planes.iter().take(MOST_SURFACES).map(|p| Surface::of_found(name(p.kind), p, world)).collect()
}

/// A, B, ... Z, AA, AB, ...
pub(in crate::scene) fn letters(mut i: usize) -> String {
    let mut text = Vec::new();
    loop {
        text.push(b'A' + (i % 26) as u8);
        if i < 26 {
            break;
        }
        i = i / 26 - 1;
    }
    text.iter().rev().map(|b| char::from(*b)).collect()
}

/// Where on a floor the camera looks on average, world of the solve; `None` where that is far off.
fn aim(solution: &Solution, floor: &FoundPlane) -> Option<Vector3<f64>> {
    let path = CameraPath::new(solution, &Similarity::identity());
    let middle = Vector2::new(f64::from(solution.width), f64::from(solution.height)) * 0.5;
    let mut met: Vec<Vector3<f64>> = Vec::new();
    for camera in path.cameras() {
        let height = floor.plane.distance(camera.centre()).abs();
        let place = floor.plane.meet(&camera.ray(middle));
        met.extend(place.filter(|p| (p - camera.centre()).norm() < FAR_HEIGHTS * height));
    }
    if 2 * met.len() < solution.frames.len() || met.is_empty() {
        return None;
    }
    let median = |axis: usize| {
        let mut values: Vec<f64> = met.iter().map(|p| p[axis]).collect();
        values.sort_by(f64::total_cmp);
        values[values.len() / 2]
    };
    Some(floor.plane.foot(Vector3::new(median(0), median(1), median(2))))
}

/// The level way that becomes -Z, in the world of the solve, and where it comes from.
fn heading(solution: &Solution, survey: &Survey, up: &Vector3<f64>) -> (Vector3<f64>, HeadingBasis) {
    let level = |v: Vector3<f64>| (v - up * up.dot(&v)).try_normalize(1e-6);
    let looks = solution.frames.iter().map(|f| f.pose.rotation.inverse() * Vector3::z()).sum::<Vector3<f64>>();
    let tops = solution.frames.iter().map(|f| f.pose.rotation.inverse() * -Vector3::y()).sum::<Vector3<f64>>();
    // A camera that looks straight down has its picture's up for ahead.
    let steep = looks.normalize().dot(up).abs() > 0.97;
    let view = if steep { level(tops) } else { level(looks) }.unwrap_or_else(|| up.cross(&Vector3::x()).normalize());
    if let Some((way, count, spread_deg)) = way_of_walls(survey, up, &view) {
        return (way, HeadingBasis::Walls { count, spread_deg });
    }
    let ends = solution.frames.first().zip(solution.frames.last());
    let path = ends.and_then(|(a, b)| level(b.pose.centre() - a.pose.centre()));
    match path {
        // Who flies ahead looks where he flies.
        Some(way) if way.dot(&view) > 0.9 => (way, HeadingBasis::Path),
        _ => (view, HeadingBasis::View),
    }
}

/// The way of most walls, up to right angles, nearest to the view; with how many agree and how far they spread.
fn way_of_walls(survey: &Survey, up: &Vector3<f64>, view: &Vector3<f64>) -> Option<(Vector3<f64>, usize, f64)> {
    let side = view.cross(up);
    let quarter = std::f64::consts::FRAC_PI_2;
    let walls: Vec<(f64, f64)> = survey
        .planes
        .iter()
        .filter(|p| p.kind == PlaneKind::Wall)
        .map(|p| {
            let bearing = p.plane.normal.dot(&side).atan2(p.plane.normal.dot(view));
            (bearing.rem_euclid(quarter), (p.windows + p.points.len()) as f64)
        })
        .collect();
    let apart = |a: f64, b: f64| {
        let d = (a - b).rem_euclid(quarter);
        if d > quarter / 2.0 { d - quarter } else { d }
    };
    let near = |to: f64| walls.iter().filter(move |(b, _)| apart(*b, to).abs().to_degrees() < SAME_WAY_DEG);
    let weight = |to: f64| near(to).map(|w| w.1).sum::<f64>();
    let best = walls.iter().map(|w| w.0).max_by(|a, b| weight(*a).total_cmp(&weight(*b)))?;
    let total: f64 = walls.iter().map(|w| w.1).sum();
    if weight(best) < WALLS_AGREE * total {
        return None;
    }
    let mean = best + near(best).map(|(b, w)| apart(*b, best) * w).sum::<f64>() / weight(best);
    let spread = (near(best).map(|(b, w)| apart(*b, mean).powi(2) * w).sum::<f64>() / weight(best)).sqrt().to_degrees();
    // Of the four ways at right angles that one which the camera looks.
    let turn = if apart(mean, 0.0).abs() < 1e-12 { 0.0 } else { apart(mean, 0.0) };
    Some((view * turn.cos() + side * turn.sin(), near(best).count(), spread))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::survey::Plane;

    fn wall(normal: Vector3<f64>, windows: usize) -> FoundPlane {
        FoundPlane {
            kind: PlaneKind::Wall,
            plane: Plane { point: Vector3::zeros(), normal: normal.normalize() },
            outline: Vec::new(),
            points: Vec::new(),
            windows,
            share: 1.0,
            fit_px: 0.1,
            fit: 0.01,
            normal_deviation_deg: 0.1,
            place_deviation: 0.01,
        }
    }

    #[test]
    fn the_heading_follows_most_walls_and_the_view_decides_between_right_angles() {
        let turned = |deg: f64| Vector3::new(deg.to_radians().sin(), 0.0, deg.to_radians().cos());
        let planes = vec![wall(turned(20.0), 100), wall(turned(110.5), 80), wall(turned(55.0), 60)];
        let survey = Survey { floors: Vec::new(), planes, no_floor: None };
        let (way, count, spread) = way_of_walls(&survey, &Vector3::y(), &-Vector3::z()).unwrap();
        // Normals at 20 degrees to +Z: -Z turned by 20 degrees the same way.
        assert!((way - turned(200.2)).norm() < 0.01 && count == 2 && spread < 0.5, "{way} {count} {spread}");
        let few = Survey { floors: Vec::new(), planes: Vec::new(), no_floor: None };
        assert!(way_of_walls(&few, &Vector3::y(), &-Vector3::z()).is_none());
    }

    #[test]
    fn without_a_floor_walls_are_proposed_in_a_world_that_they_hold_upright() {
        use crate::geometry::{Lens, Pose};
        use crate::solve::SolvedFrame;
        // Looks up the front of a house by 30 degrees, in a world that lies anyhow.
        let anyhow = nalgebra::Rotation3::from_euler_angles(0.4, -0.9, 0.2);
        let mut solution = Solution::empty(1280, 720, 5);
        solution.frames = (0..5)
            .map(|i| {
                let eye = Vector3::new(0.3 * f64::from(i), 1.7, 8.0);
                let pose = Pose::look_at(eye, eye + Vector3::new(0.0, 0.58, -1.0), Vector3::y()).unwrap();
                let rotation = pose.rotation * anyhow.inverse();
                let turned = Pose { rotation, translation: -(rotation * (anyhow * eye)) };
                SolvedFrame::new(i, turned, Lens::centred(900.0, 1280, 720), 0.1, 50)
            })
            .collect();
        let front = FoundPlane { kind: PlaneKind::Other, ..wall(anyhow * Vector3::z(), 200) };
        let survey = Survey { floors: Vec::new(), planes: vec![front], no_floor: None };
        let proposal = propose(&solution, &survey, &Datum::default()).unwrap();
        assert!(proposal.datum.floor.is_none() && proposal.camera_height_m.is_none());
        let [surface] = proposal.surfaces.as_slice() else { panic!("{:?}", proposal.surfaces) };
        assert!(surface.kind == PlaneKind::Wall && surface.name == "wall A");
        let up = proposal.datum.world_from_solve.rotation * (anyhow * Vector3::y());
        assert!((up - Vector3::y()).norm() < 1e-6, "{up}");
        assert!((Vector3::from(surface.normal) - Vector3::z()).norm() < 1e-6, "the heading faces it");
        let nothing = Survey { planes: Vec::new(), ..survey };
        assert!(propose(&solution, &nothing, &Datum::default()).is_none());
    }

    #[test]
    fn names_go_on_after_z() {
        assert_eq!([0, 1, 25, 26, 27, 52].map(letters), ["A", "B", "Z", "AA", "AB", "BA"]);
    }

    #[test]
    fn a_camera_that_looks_down_is_guessed_higher() {
        assert_eq!([0.0, 20.0, 80.0].map(guessed_height_m), [1.6, 10.0, 25.0]);
    }
}
