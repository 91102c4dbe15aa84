//! Directions from lines drawn over the picture: through their vanishing points, in whatever frames they were drawn.
//!
//! A line of the picture and the eye span a plane; a direction of the scene that runs along the line lies in it. Lines
//! that run the same way give that way as what lies in all their planes (Barnard, "Interpreting Perspective Images",
//! 1983), here by least squares weighed by how firmly each line is drawn.

use crate::camera::Camera;
use crate::geometry::ascending_eigen;
use nalgebra::{Matrix3, Vector2, Vector3};

/// How far the ends of a line are off as people draw it, px.
pub const DRAWN_PX: f64 = 1.0;
/// And where the picture's own edge was found.
pub const EDGE_PX: f64 = 0.3;
/// How far what is up now is trusted before anything is drawn, degrees.
const BEFORE_DEG: f64 = 3.0;
/// Beyond this a direction is not known, degrees.
pub const OPEN_DEG: f64 = 2.5;

/// A line as the camera sees it, in the camera's world.
#[derive(Debug, Clone, Copy)]
pub struct Sighted {
    /// Unit normal of the plane through the eye and the line.
    normal: Vector3<f64>,
    /// Unit direction of the line's middle.
    middle: Vector3<f64>,
    /// Deviation of that normal about the line's middle, radians.
    deviation: f64,
    /// The same across the line: both ends off to one side.
    sideways: f64,
}

impl Sighted {
    /// A line between two px, whose ends are off by `end_px`; `None` where they are one.
    pub fn of(camera: &Camera, [from, to]: [Vector2<f64>; 2], end_px: f64) -> Option<Self> {
        let (a, b) = (camera.ray(from).along, camera.ray(to).along);
        let normal = a.cross(&b).try_normalize(1e-9)?;
        let off = end_px / camera.lens.focal_px;
        Some(Self {
            normal,
            middle: (a + b).normalize(),
            deviation: off * std::f64::consts::SQRT_2 / a.angle(&b).max(1e-9),
            sideways: off * std::f64::consts::FRAC_1_SQRT_2,
        })
    }

    /// How far off a direction lies from running along it, as the turn of the line in the picture, degrees.
    pub fn lean_deg(&self, way: &Vector3<f64>) -> f64 {
        // Within the picture the direction is seen across the sight.
        let seen = way - self.middle * way.dot(&self.middle);
        let length = seen.norm();
        if length < 1e-9 { 0.0 } else { (self.normal.dot(way) / length).clamp(-1.0, 1.0).asin().to_degrees().abs() }
    }

    /// Deviation of `normal . way` for a direction, radians.
    fn error(&self, way: &Vector3<f64>) -> f64 {
        // The plane may turn about the line's middle, and about the line itself.
        let along = self.normal.cross(&self.middle);
        (self.deviation * along.dot(way)).hypot(self.sideways * self.middle.dot(way)).max(1e-6)
    }
}

/// The direction nearest to `before` that the conditions allow: `rows . way = 0`, each with its deviation.
fn solved(rows: &[(Vector3<f64>, f64)], before: Vector3<f64>, trusted_deg: f64) -> (Vector3<f64>, f64) {
    let mut way = before;
    let mut deviation = f64::INFINITY;
    for _ in 0..5 {
        // Two unknowns: turns about two directions across the one that is known.
        let side = if way.x.abs() < 0.7 { Vector3::x() } else { Vector3::z() };
        let a = (side - way * way.dot(&side)).normalize();
        let b = way.cross(&a);
        let trust = trusted_deg.to_radians().powi(-2);
        let mut matrix = nalgebra::Matrix2::identity() * trust;
        let mut right = Vector2::new(trust * a.dot(&before), trust * b.dot(&before));
        for (row, s) in rows {
            let slope = Vector2::new(row.dot(&a), row.dot(&b)) / *s;
            matrix += slope * slope.transpose();
            right -= slope * (row.dot(&way) / *s);
        }
        let Some(inverse) = matrix.try_inverse() else { break };
        let step = inverse * right;
        deviation = inverse.trace().max(0.0).sqrt().to_degrees();
        way = (way + a * step.x + b * step.y).normalize();
        if step.norm() < 1e-12 {
            break;
        }
    }
    (way, deviation)
}

/// The upright that lines along uprights and along the horizon tell, near `before`, and its deviation, degrees.
pub fn upright(uprights: &[Sighted], horizons: &[Sighted], before: Vector3<f64>) -> (Vector3<f64>, f64) {
    let start = directly(uprights, before);
    let mut rows: Vec<(Vector3<f64>, f64)> = uprights.iter().map(|l| (l.normal, l.error(&start))).collect();
    for h in horizons {
        // What is up stands across the plane through the eye and the horizon: across the two sights along it.
        let along = h.normal.cross(&h.middle);
        rows.push((h.middle, h.sideways));
        rows.push((along, h.deviation));
    }
    let turned = start.angle(&before).to_degrees();
    solved(&rows, if turned > BEFORE_DEG { start } else { before }, BEFORE_DEG)
}

/// The level direction that lines along level edges tell, and its deviation, degrees.
pub fn level(edges: &[Sighted], up: Vector3<f64>) -> (Vector3<f64>, f64) {
    // Level and in the plane of the eye and the line.
    let ways: Vec<Vector3<f64>> = edges.iter().filter_map(|l| l.normal.cross(&up).try_normalize(1e-6)).collect();
    let Some(first) = ways.first() else { return (Vector3::z(), f64::INFINITY) };
    let start = ways.iter().map(|w| if w.dot(first) < 0.0 { -w } else { *w }).sum::<Vector3<f64>>().normalize();
    let mut rows: Vec<(Vector3<f64>, f64)> = edges.iter().map(|l| (l.normal, l.error(&start))).collect();
    rows.push((up, 1e-6));
    let (way, deviation) = solved(&rows, start, 45.0);
    let way = (way - up * way.dot(&up)).normalize();
    // The way the cameras look, not the way back.
    let ahead = edges.iter().map(|l| l.middle).sum::<Vector3<f64>>();
    (if way.dot(&ahead) < 0.0 { -way } else { way }, deviation)
}

/// The direction in which two or more lines meet, on the side of `before`; `before` where they do not tell.
fn directly(lines: &[Sighted], before: Vector3<f64>) -> Vector3<f64> {
    if lines.len() < 2 {
        return before;
    }
    let matrix = lines.iter().fold(Matrix3::zeros(), |m, l| m + l.normal * l.normal.transpose() / l.deviation.powi(2));
    let Some([(_, way), (middle, _), _]) = ascending_eigen(matrix) else { return before };
    // Open by more than some degrees: what is up now says more.
    if middle.max(1e-12).sqrt().recip().to_degrees() > BEFORE_DEG {
        return before;
    }
    if way.dot(&before) < 0.0 { -way } else { way }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use proptest::prelude::*;

    fn camera(x: f64, z: f64) -> Camera {
        let pose = Pose::look_at(Vector3::new(x, 1.7, z), Vector3::new(0.0, 1.2, -6.0), Vector3::y()).unwrap();
        Camera::new(pose, Lens { k1: -0.03, ..Lens::centred(1000.0, 1280, 720) }, 720)
    }

    proptest! {
        /// The figure that is asked for: uprights with 1 px of jitter at their ends, within 0.3 degrees.
        #[test]
        fn uprights_with_a_px_of_jitter_tell_the_vertical(
            seed in any::<u64>(), tilt in -6f64..6.0, roll in -6f64..6.0,
        ) {
            let mut random = crate::random::SplitMix64::new(seed);
            let mut lines = Vec::new();
            for (x, z, eye) in [(-2.6, -6.0, -1.0), (2.8, -7.0, -1.0), (-1.0, -5.0, 2.0), (3.0, -6.0, 2.0)] {
                let camera = camera(eye, 4.0);
                let end = |y: f64, r: &mut crate::random::SplitMix64| {
                    camera.project(Vector3::new(x, y, z)).unwrap() + Vector2::new(r.normal(), r.normal())
                };
                let (from, to) = (end(0.0, &mut random), end(3.2, &mut random));
                lines.push(Sighted::of(&camera, [from, to], 1.0).unwrap());
            }
            // Begun from a datum that leans.
            let before = nalgebra::Rotation3::from_euler_angles(tilt.to_radians(), 0.0, roll.to_radians()) * Vector3::y();
            let (up, deviation) = upright(&lines, &[], before);
            let off = up.angle(&Vector3::y()).to_degrees();
            prop_assert!(off < 4.0 * deviation + 0.02, "{off} deg off, said {deviation}");
            prop_assert!(deviation < 0.8, "{deviation}");
        }
    }

    #[test]
    fn a_horizon_and_level_edges_tell_up_and_ahead() {
        let camera = camera(0.5, 5.0);
        let far = |bearing: f64| camera.project(Vector3::new(1e5 * bearing.sin(), 1.7, -1e5 * bearing.cos())).unwrap();
        let horizon = Sighted::of(&camera, [far(-0.4), far(0.5)], 1.0).unwrap();
        let (up, deviation) = upright(&[], &[horizon], Vector3::new(0.03, 1.0, -0.02).normalize());
        assert!(up.angle(&Vector3::y()).to_degrees() < 0.02 && deviation < 0.2, "{up} {deviation}");
        let edge = |x: f64| {
            let at = |z: f64| camera.project(Vector3::new(x, 0.0, z)).unwrap();
            Sighted::of(&camera, [at(-2.0), at(-12.0)], 1.0).unwrap()
        };
        let (way, deviation) = level(&[edge(-1.5), edge(2.0)], Vector3::y());
        assert!((way + Vector3::z()).norm() < 1e-3 && deviation < 0.3, "{way} {deviation}");
        assert!(edge(-1.5).lean_deg(&-Vector3::z()) < 0.05, "the lens bends it a little");
    }
}
