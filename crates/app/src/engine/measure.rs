//! Measuring in the scene: what lies between two places, with how far it may be off.

use fennik_core::camera::CameraPath;
use fennik_core::scene::{ShotDocument, Spot};
use fennik_core::solve::{Solution, covariance};
use nalgebra::Vector3;

/// How far off people point, px.
const POINTED_PX: f64 = 1.0;
/// Points nearest to a place that tell how firmly it is known.
const NEAREST: usize = 5;

/// What lies between two places, in the world of the datum.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Measured {
    /// Metres.
    pub distance: f64,
    /// Deviation of it, metres, without that of the scale.
    pub distance_deviation: f64,
    /// Height of each over the floor, metres; nothing where no floor is laid.
    pub heights: Option<[f64; 2]>,
    /// Angle between their surfaces, degrees.
    pub angle_deg: f64,
}

impl Measured {
    /// In words. Where the scale is a guess, so are lengths.
    pub fn text(&self, known: bool) -> String {
        let unit = if known { "m" } else { "m (scale a guess)" };
        let mut text = format!("{:.3} ±{:.3} {unit}", self.distance, self.distance_deviation);
        if let Some([a, b]) = self.heights {
            if (b - a).abs() > 1e-3 {
                text.push_str(&format!(" · {:+.3} m in height", b - a));
            }
        }
        if self.angle_deg > 0.05 {
            text.push_str(&format!(" · {:.1} deg", self.angle_deg));
        }
        text
    }
}

/// Deviation of a place along a direction, metres: by the points round it, and by how well people point.
fn deviation(solution: &Solution, document: &ShotDocument, spot: &Spot, frame: u32, way: &Vector3<f64>) -> f64 {
    let world = &document.datum.world_from_solve;
    let path = CameraPath::new(solution, world);
    let mut near: Vec<(f64, [f64; 6])> =
        solution.points.iter().map(|p| ((world.point(p.position) - spot.point).norm_squared(), p.spread)).collect();
    let k = NEAREST.min(near.len());
    if k > 0 {
        near.select_nth_unstable_by(k - 1, |a, b| a.0.total_cmp(&b.0));
    }
    near.truncate(k);
    let in_solve = world.rotation.inverse() * way;
    let known = near.iter().map(|(_, s)| in_solve.dot(&(covariance(*s) * in_solve)).max(0.0));
    let known = (known.sum::<f64>() / k.max(1) as f64).sqrt() * world.scale;
    let Some(camera) = path.at(frame) else { return known };
    let away = spot.point - camera.centre();
    // A px moves the place in its surface the farther the flatter it is seen.
    let steep = spot.normal.dot(&away.normalize()).abs().max(0.02);
    let pointed = POINTED_PX * away.norm() / camera.lens.focal_px;
    let sight = away.normalize();
    let in_depth = (way - spot.normal * spot.normal.dot(way)).dot(&sight).abs() / steep;
    known.hypot(pointed * in_depth.max(1.0))
}

/// Measures from one place, seen on a frame, to another.
pub fn measure(
    solution: &Solution,
    document: &ShotDocument,
    (from, from_frame): (&Spot, u32),
    (to, to_frame): (&Spot, u32),
) -> Measured {
    let between = to.point - from.point;
    let distance = between.norm();
    let way = between.try_normalize(1e-12).unwrap_or_else(Vector3::x);
    let off = |spot, frame| deviation(solution, document, spot, frame, &way);
    let (cos, sin) = (from.normal.dot(&to.normal), from.normal.cross(&to.normal).norm());
    Measured {
        distance,
        distance_deviation: off(from, from_frame).hypot(off(to, to_frame)),
        heights: document.datum.floor.is_some().then_some([from.point.y, to.point.y]),
        angle_deg: sin.atan2(cos).to_degrees(),
    }
}
