//! How good a datum is, in figures and a verdict with its reason.

use super::laying::lines_of;
use fennik_core::camera::CameraPath;
use fennik_core::geometry::Similarity;
use fennik_core::scene::{Datum, LineRole, ScaleBasis, floor_corners, mean_roll_deg};
use fennik_core::solve::{Grade, Motion, Solution, covariance};
use fennik_core::survey::{Plane, Slide, View, slide, up_by_turning};
use nalgebra::Vector3;

/// Slide of the floor's texture under the grid, RMS, px of a picture 1280 wide, up to which a datum is good or fair.
const SLIDES_PX: (f64, f64) = (0.6, 1.5);
/// Deviation of the floor's normal, degrees, up to which it is good or fair.
const FIRM_DEG: (f64, f64) = (0.3, 1.0);
/// Lean of drawn verticals, degrees, up to which it is good or fair.
const UPRIGHT_DEG: (f64, f64) = (0.6, 2.0);
/// How far what is up may be from what drawn lines say, degrees, and still be told by them.
const DRAWN_APART_DEG: f64 = 1.0;
/// Disagreement of measured distances, a part, up to which it is good or fair.
const AGREE: (f64, f64) = (0.02, 0.06);

/// What is known of a datum.
#[derive(Debug, Clone, PartialEq)]
pub struct DatumReadings {
    /// How far the average camera is rolled against up, degrees.
    pub level_deg: f64,
    /// How far drawn uprights lean against up, RMS, degrees, and how many there are.
    pub verticals: Option<(f64, usize)>,
    /// How far the floor's own texture slides under the grid.
    pub slide: Option<Slide>,
    /// How many metres a metre may be off: deviation of the scale, a part; nothing where it is a guess.
    pub scale_deviation: Option<f64>,
    /// The verdict.
    pub grade: Grade,
    /// Its reason.
    pub reason: String,
}

/// Looks at a datum. `views` may be empty.
pub fn readings(datum: &Datum, solution: &Solution, views: &[View]) -> DatumReadings {
    let back: Similarity = datum.world_from_solve.inverse();
    let up = back.rotation * Vector3::y();
    let floor = Plane { point: back.translation, normal: up };
    let laid = datum.floor.is_some() && solution.motion != Motion::Nodal;
    let seen = laid.then(|| {
        let corners: Vec<Vector3<f64>> =
            floor_corners(datum, solution).iter().map(|c| floor.foot(back.point(*c))).collect();
        slide(views, &floor, &corners)
    });
    let verticals = datum.verticals_deg(solution).map(|lean| (lean, lines_of(datum, LineRole::Upright)));
    let mut readings = DatumReadings {
        level_deg: mean_roll_deg(solution, &up),
        verticals,
        slide: seen.flatten(),
        scale_deviation: scale_deviation(datum, solution),
        grade: Grade::Good,
        reason: String::new(),
    };
    let (grade, reason) = verdict(datum, solution, &readings);
    (readings.grade, readings.reason) = (grade, reason);
    readings
}

fn graded(value: f64, (good, fair): (f64, f64)) -> Grade {
    Grade::of(value, good, fair)
}

/// The worst of what is known, with its figure and what to try.
fn verdict(datum: &Datum, solution: &Solution, readings: &DatumReadings) -> (Grade, String) {
    let Some(floor) = &datum.floor else { return (Grade::Weak, "no floor is laid".to_owned()) };
    let px = f64::from(solution.width) / 1280.0;
    let mut all = Vec::new();
    match (&readings.slide, floor.normal_deviation_deg) {
        (Some(s), _) => all.push((
            graded(s.rms_px / px, SLIDES_PX),
            if s.rms_px / px <= SLIDES_PX.0 {
                format!("the floor's texture stays within {:.2} px of the grid", s.rms_px)
            } else {
                format!(
                    "the floor's texture slides {:.2} px under the grid and leans {:.2} deg to it: lay the floor anew",
                    s.rms_px, s.leans_deg
                )
            },
        )),
        (None, Some(d)) => all.push((
            graded(d, FIRM_DEG).max(Grade::Fair),
            format!("the picture does not tell of this floor; its points tell its tilt to {d:.2} deg"),
        )),
        (None, None) if solution.motion == Motion::Nodal => {
            let drawn = datum.lines.iter().any(|l| matches!(l.role, LineRole::Upright | LineRole::Horizon));
            let turning = if drawn { None } else { up_by_turning(solution) };
            let apart = |(up, deviation): (Vector3<f64>, f64)| {
                Some(up.angle(&Vector3::y()).to_degrees()).filter(|apart| *apart > deviation.max(DRAWN_APART_DEG))
            };
            let level = match turning {
                _ if let Some(apart) = datum.up_by_lines(solution).ok().and_then(apart) => {
                    format!("none of the lines drawn: they say {apart:.1} deg otherwise; turn upright by them")
                }
                Some((_, deviation)) => {
                    format!("how the camera turns (±{deviation:.2} deg); draw along an upright to be sure")
                }
                None if drawn => "the horizon or uprights drawn".to_owned(),
                None => "how the camera is held; draw along the horizon or an upright to be sure".to_owned(),
            };
            all.push((Grade::Fair, format!("the floor rests on the height that was typed, and level on {level}")));
        }
        (None, None) => {
            all.push((Grade::Fair, "an earlier version laid this floor; lay it anew to have it checked".to_owned()))
        }
    }
    if let Some(d) = floor.normal_deviation_deg.filter(|d| *d > FIRM_DEG.0) {
        all.push((
            graded(d, FIRM_DEG),
            format!("the tilt of the floor is known to {d:.2} deg only: add points farther apart"),
        ));
    }
    if let Some((lean, count)) = readings.verticals {
        all.push((graded(lean, UPRIGHT_DEG), format!("{count} drawn uprights lean {lean:.2} deg against it")));
    }
    if let Some(r) = datum.scale.reading().filter(|r| r.distances > 1) {
        all.push((
            graded(r.disagreement, AGREE),
            format!("the {} measured distances disagree by {:.1} %", r.distances, 100.0 * r.disagreement),
        ));
    }
    let worst = all.iter().map(|a| a.0).max().unwrap_or(Grade::Weak);
    all.into_iter().find(|a| a.0 == worst).unwrap_or((Grade::Weak, String::new()))
}

/// Deviation of the scale by how firmly the ends of its distances are known, a part.
fn scale_deviation(datum: &Datum, solution: &Solution) -> Option<f64> {
    let back = datum.world_from_solve.inverse();
    let path = CameraPath::new(solution, &Similarity::identity());
    let distances = datum.scale.distances();
    if distances.is_empty() {
        return None;
    }
    // An end is known as firmly as the nearest point, and pointed at within a px.
    let deviation = |at: [f64; 3], way: Vector3<f64>| -> f64 {
        let at = back.point(Vector3::from(at));
        let nearest = solution
            .points
            .iter()
            .min_by(|a, b| (a.position - at).norm_squared().total_cmp(&(b.position - at).norm_squared()));
        let known = nearest.map_or(0.0, |p| way.dot(&(covariance(p.spread) * way)).max(0.0).sqrt());
        let depth = path.cameras().map(|c| (c.centre() - at).norm()).fold(f64::INFINITY, f64::min);
        let pointed = path.cameras().next().map_or(0.0, |c| depth / c.lens.focal_px);
        known.hypot(pointed)
    };
    let (mut total, mut squares) = (0.0, 0.0);
    for d in distances {
        let (from, to) = (back.point(Vector3::from(d.from)), back.point(Vector3::from(d.to)));
        let length = (to - from).norm();
        let way = (to - from) / length.max(1e-12);
        let relative = deviation(d.from, way).hypot(deviation(d.to, way)) / length.max(1e-12);
        let weight = length * length;
        total += weight;
        squares += (weight * relative).powi(2);
    }
    Some(squares.sqrt() / total)
}

/// What the scale rests on, in words.
pub fn scale_words(datum: &Datum, deviation: Option<f64>) -> String {
    match &datum.scale {
        ScaleBasis::Unset => "not set: a unit is whatever the solve made it".to_owned(),
        ScaleBasis::Guessed { camera_height_m } => format!("a guess: the camera {camera_height_m:.1} m over the floor"),
        ScaleBasis::Typed { .. } => "typed".to_owned(),
        ScaleBasis::Measured { distances } => {
            let off = deviation.map_or_else(String::new, |d| format!(" · ±{:.1} %", 100.0 * d));
            match distances.as_slice() {
                [one] => format!("from one distance of {:.2} m{off}", one.metres),
                all => {
                    let apart = datum.scale.reading().map_or(0.0, |r| r.disagreement);
                    format!("mean of {} distances{off} · they disagree by {:.1} %", all.len(), 100.0 * apart)
                }
            }
        }
    }
}
