//! Points so far off that next to no parallax is seen of them.
//!
//! They hold the turn of the camera and the lens as firmly as any other, and tell how far off they are hardly at all.
//! Such a point is kept as a ray from an anchor and an inverse distance along it (Civera, Davison & Montiel, "Inverse
//! depth parametrization for monocular SLAM", 2008), which stays a plain number where the distance passes through
//! infinity: beyond it the point comes to lie behind the cameras on the same lines of sight. Noise takes as many there
//! as it leaves in front, so neither is cut off; taking all of them for infinitely far would bend the lens wherever
//! they are not.

use crate::geometry::Pose;
use nalgebra::{Matrix3, Vector3};

/// The farthest a point may lie from its anchor, in reaches of the camera's path.
const FARTHEST: f64 = 1e5;
/// Damping along the ray that is kept for the sake of the arithmetic, as a part of the curvature across it.
const LEAST_DAMPING: f64 = 1e-14;

/// A point that is far off.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FarPoint {
    /// Where it lies, world frame; behind the cameras where noise takes it beyond infinity.
    pub position: Vector3<f64>,
    /// The centre of the camera from which its ray is reckoned.
    pub anchor: Vector3<f64>,
}

/// The farthest that a point may lie from a camera with such a path, world units.
pub fn farthest(centres: impl Iterator<Item = Vector3<f64>>) -> f64 {
    let mut centres = centres.peekable();
    let first = centres.peek().copied().unwrap_or_default();
    FARTHEST * centres.map(|c| (c - first).norm()).fold(0.0, f64::max).max(1e-9)
}

/// A point as a camera meets it: one that lies behind, on the other end of its line of sight.
pub fn facing(pose: &Pose, position: &Vector3<f64>) -> Vector3<f64> {
    if pose.to_camera(*position).z < 0.0 { pose.centre() * 2.0 - position } else { *position }
}

/// Where a far point goes by a step that is straight in the world: what it takes along the ray changes the inverse
/// distance.
pub fn retract(point: FarPoint, by: &Vector3<f64>, farthest: f64) -> Vector3<f64> {
    let ray = point.position - point.anchor;
    let distance = ray.norm().max(1e-12);
    let ahead = ray / distance;
    let along = ahead.dot(by);
    let direction = (ahead + (by - ahead * along) / distance).normalize();
    let inverse = away_from_zero((1.0 - along / distance) / distance, 1.0 / farthest);
    point.anchor + direction / inverse
}

/// The same number, but no nearer to zero than `least`.
pub fn away_from_zero(v: f64, least: f64) -> f64 {
    if v.abs() >= least { v } else { least.copysign(v) }
}

/// The inverse of a far point's 3x3 block `v`, damped along the ray as much as across it: each by its own curvature,
/// which differ by the square of the parallax.
pub fn damped_inverse(v: &Matrix3<f64>, point: FarPoint, damping: f64) -> Option<Matrix3<f64>> {
    let ahead = (point.position - point.anchor).try_normalize(1e-12)?;
    let along = ahead.dot(&(v * ahead)).max(0.0);
    let across = 0.5 * (v.trace() - along).max(0.0);
    let ray = ahead * ahead.transpose();
    let damped =
        v + (Matrix3::identity() - ray) * (damping * across) + ray * (damping * along).max(LEAST_DAMPING * across);
    damped.try_inverse()
}

/// Two directions at right angles to one another and to a third.
pub fn across(direction: &Vector3<f64>) -> (Vector3<f64>, Vector3<f64>) {
    let other = if direction.x.abs() < 0.7 { Vector3::x() } else { Vector3::y() };
    let a = direction.cross(&other).normalize();
    (a, direction.cross(&a))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_small_step_is_straight_and_one_back_undoes_it(x in -1.0f64..1.0, y in -1.0f64..1.0, far in 50.0f64..5e3,
            beyond: bool) {
            let anchor = Vector3::new(0.5, -0.2, 0.1);
            let ray = Vector3::new(x, y, 2.0).normalize() * if beyond { -far } else { far };
            let point = FarPoint { position: anchor + ray, anchor };
            let by = Vector3::new(y, 0.3, x) * (1e-4 * far);
            let there = retract(point, &by, 1e9);
            prop_assert!((there - point.position - by).norm() < 1e-6 * far);
            let back = retract(FarPoint { position: there, anchor }, &-by, 1e9);
            prop_assert!((back - point.position).norm() < 1e-6 * far);
        }

        #[test]
        fn undamped_it_is_the_inverse_and_damped_it_is_smaller(far in 50.0f64..5e3, parallax in 1e-3f64..1e-2,
            damping in 1e-6f64..1e-1) {
            let point = FarPoint { position: Vector3::new(0.3, 0.1, 1.0).normalize() * far, anchor: Vector3::zeros() };
            let ahead = point.position.normalize();
            let (a, b) = across(&ahead);
            let v = (a * a.transpose() * 3.0 + b * b.transpose() * 2.0
                + ahead * ahead.transpose() * (parallax * parallax)) * 40.0;
            let plain = damped_inverse(&v, point, 0.0).unwrap();
            prop_assert!((plain * v - Matrix3::identity()).norm() < 1e-6);
            let damped = damped_inverse(&v, point, damping).unwrap();
            // Along the ray by the curvature there, however little it is.
            let ratio = ahead.dot(&(damped * ahead)) / ahead.dot(&(plain * ahead));
            prop_assert!((ratio - 1.0 / (1.0 + damping)).abs() < 1e-6, "{ratio}");
        }
    }

    #[test]
    fn a_step_may_pass_through_infinity_and_ends_short_of_it() {
        let point = FarPoint { position: Vector3::new(0.0, 0.0, 100.0), anchor: Vector3::zeros() };
        assert!(
            (retract(point, &Vector3::new(0.0, 0.0, -100.0), 1e6).z - 50.0).abs() < 1e-9,
            "twice the inverse distance"
        );
        assert!(
            (retract(point, &Vector3::new(0.0, 0.0, 200.0), 1e6).z + 100.0).abs() < 1e-9,
            "as far beyond as it was in front"
        );
        assert!(
            (retract(point, &Vector3::new(0.0, 0.0, 100.0), 1e6).z.abs() - 1e6).abs() < 1e-3,
            "no farther than is allowed"
        );
    }

    proptest! {
        /// It lies before the camera, on the line through the centre and the point, and is as far off.
        #[test]
        fn a_point_behind_is_met_on_its_line_of_sight(
            eye in prop::array::uniform3(-9.0f64..9.0), at in prop::array::uniform3(-200.0f64..200.0),
        ) {
            let (eye, at) = (Vector3::from(eye), Vector3::from(at));
            prop_assume!(eye.norm() > 0.5);
            let pose = Pose::look_at(eye, Vector3::zeros(), Vector3::new(0.1, 1.0, 0.2)).unwrap();
            let depth = (at - eye).dot(&-eye.normalize());
            prop_assume!(depth.abs() > 1e-3);
            let met = facing(&pose, &at);
            let (ray, seen) = (at - eye, met - eye);
            prop_assert!(seen.dot(&-eye) > 0.0, "before the camera");
            prop_assert!(ray.cross(&seen).norm() < 1e-6 * ray.norm_squared(), "on the line of sight");
            prop_assert!((seen.norm() - ray.norm()).abs() < 1e-6 * ray.norm());
            prop_assert_eq!(met == at, depth > 0.0, "what lies in front stays where it is");
        }
    }
}
