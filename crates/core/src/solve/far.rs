//! Points so far off that next to no parallax is seen of them.
//!
//! They hold the turn of the camera and the lens as firmly as any other, and tell how far off they are hardly at all.
//! Such a point is kept as a ray from an anchor and an inverse distance along it (Civera, Davison & Montiel, "Inverse
//! depth parametrization for monocular SLAM", 2008), which stays a plain number where the distance passes through
//! infinity: beyond it the point comes to lie behind the cameras on the same lines of sight. Noise takes as many there
//! as it leaves in front, so neither is cut off; taking all of them for infinitely far would bend the lens wherever
//! they are not.

use super::Problem;
use super::astray::{posed_views, stands_still};
use super::bundle::{MIN_DEPTH, Move};
use super::state::Scene;
use crate::geometry::Pose;
use nalgebra::{Matrix2x3, Matrix3, SMatrix, Vector2, Vector3};

/// Views from which a far track is told from one that merely moved little.
pub(super) const FAR_VIEWS: usize = 8;
/// The farthest a point may lie from its anchor, in reaches of the camera's path.
const FARTHEST: f64 = 1e5;
/// Steps of the placing.
const STEPS: usize = 4;
/// Damping along the ray that is kept for the sake of the arithmetic, as a part of the curvature across it.
const LEAST_DAMPING: f64 = 1e-14;

/// A point that is far off.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct FarPoint {
    /// Where it lies, world frame; behind the cameras where noise takes it beyond infinity.
    pub position: Vector3<f64>,
    /// The centre of the camera from which its ray is reckoned.
    pub anchor: Vector3<f64>,
}

/// The farthest that a point may lie from a camera with such a path, world units.
pub(super) fn farthest(centres: impl Iterator<Item = Vector3<f64>>) -> f64 {
    let mut centres = centres.peekable();
    let first = centres.peek().copied().unwrap_or_default();
    FARTHEST * centres.map(|c| (c - first).norm()).fold(0.0, f64::max).max(1e-9)
}

/// A point as a camera meets it: one that lies behind, on the other end of its line of sight.
pub(super) fn facing(pose: &Pose, position: &Vector3<f64>) -> Vector3<f64> {
    if pose.to_camera(*position).z < 0.0 { pose.centre() * 2.0 - position } else { *position }
}

/// Distance in px between where a far point is seen and where it should be.
pub(super) fn miss(scene: &Scene, frame: u32, pixel: &Vector2<f64>, position: &Vector3<f64>) -> Option<f64> {
    let facing = facing(&scene.pose_at(frame, pixel.y)?, position);
    scene.miss(frame, pixel, &facing)
}

/// Where direction and inverse distance fit the views of a track best, in least squares of the pixels, and the place in
/// the same direction at the distance of `farthest`, which bounds both. Nothing for tracks that could as well be a mark
/// on the lens, or of which too little is seen.
pub(super) fn place(problem: &Problem, scene: &Scene, track: usize, farthest: f64) -> Option<(FarPoint, Vector3<f64>)> {
    let views = posed_views(problem, scene, track);
    if scene.motion == Move::Nodal || views.len() < FAR_VIEWS || stands_still(problem, scene, &views) {
        return None;
    }
    let rays =
        views.iter().filter_map(|(f, pixel)| Some((*f, *pixel, scene.pose_at(*f, pixel.y)?))).collect::<Vec<_>>();
    let anchor = rays.get(rays.len() / 2)?.2.centre();
    let along = |(f, pixel, pose): &(u32, Vector2<f64>, Pose)| {
        let n = scene.lens_at(*f).normalise(*pixel);
        pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0).normalize()
    };
    let mut direction = rays.iter().map(along).sum::<Vector3<f64>>().try_normalize(1e-9)?;
    let mut inverse = 0.0f64;
    for _ in 0..STEPS {
        let (a, b) = across(&direction);
        let mut normal = Matrix3::zeros();
        let mut right = Vector3::zeros();
        for (f, pixel, pose) in &rays {
            let offset = anchor - pose.centre();
            let c = pose.rotation * (direction + offset * inverse);
            if c.z <= MIN_DEPTH {
                return None;
            }
            let n = Vector2::new(c.x / c.z, c.y / c.z);
            let (seen, slope) = scene.lens_at(*f).pixel_with_slope(n);
            let divide = Matrix2x3::new(1.0 / c.z, 0.0, -n.x / c.z, 0.0, 1.0 / c.z, -n.y / c.z);
            let moves = Matrix3::from_columns(&[a, b, offset]);
            let j: SMatrix<f64, 2, 3> = slope * divide * pose.rotation.matrix() * moves;
            normal += j.transpose() * j;
            right += j.transpose() * (pixel - seen);
        }
        let step = normal.cholesky()?.solve(&right);
        direction = (direction + a * step.x + b * step.y).normalize();
        inverse += step.z;
    }
    let inverse = away_from_zero(inverse, 1.0 / farthest);
    let position = anchor + direction / inverse;
    position.iter().all(|v| v.is_finite()).then_some((FarPoint { position, anchor }, anchor + direction * farthest))
}

/// Where a far point goes by a step that is straight in the world: what it takes along the ray changes the inverse
/// distance.
pub(super) fn moved(point: FarPoint, by: &Vector3<f64>, farthest: f64) -> Vector3<f64> {
    let ray = point.position - point.anchor;
    let distance = ray.norm().max(1e-12);
    let ahead = ray / distance;
    let along = ahead.dot(by);
    let direction = (ahead + (by - ahead * along) / distance).normalize();
    let inverse = away_from_zero((1.0 - along / distance) / distance, 1.0 / farthest);
    point.anchor + direction / inverse
}

fn away_from_zero(v: f64, least: f64) -> f64 {
    if v.abs() >= least { v } else { least.copysign(v) }
}

/// The inverse of a far point's 3x3 block `v`, damped along the ray as much as across it: each by its own curvature,
/// which differ by the square of the parallax.
pub(super) fn damped_inverse(v: &Matrix3<f64>, point: FarPoint, damping: f64) -> Option<Matrix3<f64>> {
    let ahead = (point.position - point.anchor).try_normalize(1e-12)?;
    let along = ahead.dot(&(v * ahead)).max(0.0);
    let across = 0.5 * (v.trace() - along).max(0.0);
    let ray = ahead * ahead.transpose();
    let damped =
        v + (Matrix3::identity() - ray) * (damping * across) + ray * (damping * along).max(LEAST_DAMPING * across);
    damped.try_inverse()
}

/// Two directions at right angles to one another and to a third.
fn across(direction: &Vector3<f64>) -> (Vector3<f64>, Vector3<f64>) {
    let other = if direction.x.abs() < 0.7 { Vector3::x() } else { Vector3::y() };
    let a = direction.cross(&other).normalize();
    (a, direction.cross(&a))
}

#[cfg(test)]
mod tests {
    use super::super::bundle::tests::{disturb, truth};
    use super::super::bundle::{BundleOptions, Observation};
    use super::*;
    use crate::track::TrackId;
    use proptest::prelude::*;

    const CAMERAS: usize = 12;

    proptest! {
        #[test]
        fn a_small_step_is_straight_and_one_back_undoes_it(x in -1.0f64..1.0, y in -1.0f64..1.0, far in 50.0f64..5e3, beyond: bool) {
            let anchor = Vector3::new(0.5, -0.2, 0.1);
            let ray = Vector3::new(x, y, 2.0).normalize() * if beyond { -far } else { far };
            let point = FarPoint { position: anchor + ray, anchor };
            let by = Vector3::new(y, 0.3, x) * (1e-4 * far);
            let there = moved(point, &by, 1e9);
            prop_assert!((there - point.position - by).norm() < 1e-6 * far);
            let back = moved(FarPoint { position: there, anchor }, &-by, 1e9);
            prop_assert!((back - point.position).norm() < 1e-6 * far);
        }

        #[test]
        fn undamped_it_is_the_inverse_and_damped_it_is_smaller(far in 50.0f64..5e3, parallax in 1e-3f64..1e-2, damping in 1e-6f64..1e-1) {
            let point = FarPoint { position: Vector3::new(0.3, 0.1, 1.0).normalize() * far, anchor: Vector3::zeros() };
            let ahead = point.position.normalize();
            let (a, b) = across(&ahead);
            let v = (a * a.transpose() * 3.0 + b * b.transpose() * 2.0 + ahead * ahead.transpose() * (parallax * parallax)) * 40.0;
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
            (moved(point, &Vector3::new(0.0, 0.0, -100.0), 1e6).z - 50.0).abs() < 1e-9,
            "twice the inverse distance"
        );
        assert!(
            (moved(point, &Vector3::new(0.0, 0.0, 200.0), 1e6).z + 100.0).abs() < 1e-9,
            "as far beyond as it was in front"
        );
        assert!(
            (moved(point, &Vector3::new(0.0, 0.0, 100.0), 1e6).z.abs() - 1e6).abs() < 1e-3,
            "no farther than is allowed"
        );
    }

    #[test]
    fn a_point_behind_is_met_on_its_line_of_sight() {
        let pose = Pose::look_at(Vector3::new(1.0, 2.0, 8.0), Vector3::zeros(), Vector3::y()).unwrap();
        let behind = pose.centre() * 2.0 - Vector3::new(0.3, 0.2, -40.0);
        assert!((facing(&pose, &behind) - Vector3::new(0.3, 0.2, -40.0)).norm() < 1e-9);
        assert_eq!(facing(&pose, &Vector3::new(0.0, 0.0, -5.0)), Vector3::new(0.0, 0.0, -5.0));
    }

    /// Directions in which the cameras of [`truth`] look, and inverse distances of what stands there.
    fn far_off() -> Vec<(Vector3<f64>, f64)> {
        (0..24)
            .map(|i| {
                let (a, b) = (f64::from(i % 6) / 6.0 - 0.4, f64::from(i / 6) / 8.0 - 0.4);
                (Vector3::new(a, b, -1.0).normalize(), [0.0, 1e-4, 4e-4, 1e-3][i as usize % 4])
            })
            .collect()
    }

    #[test]
    fn far_points_come_home_from_wherever_they_start_even_beyond_infinity() {
        let mut bundle = truth(CAMERAS, 80, 0.0);
        let near = bundle.points.len();
        let anchor = bundle.poses[CAMERAS / 2].centre();
        bundle.anchors = vec![None; near];
        for (i, (direction, inverse)) in far_off().into_iter().enumerate() {
            let seen: Vec<Observation> = (0..CAMERAS)
                .map(|c| {
                    let q = bundle.poses[c].rotation * (direction + (anchor - bundle.poses[c].centre()) * inverse);
                    Observation { camera: c as u32, pixel: bundle.lens.pixel(Vector2::new(q.x / q.z, q.y / q.z)) }
                })
                .collect();
            let start = if i % 2 == 0 { 3e-4 } else { -3e-4 };
            bundle.points.push(anchor + direction / start);
            bundle.anchors.push(Some(anchor));
            bundle.observations.push(seen);
        }
        let truth = bundle.clone();
        disturb(&mut bundle);
        bundle.points[near..].copy_from_slice(&truth.points[near..]);
        let done =
            bundle.adjust(&BundleOptions { max_steps: 60, tolerance: 1e-12, ..BundleOptions::default() }, |_| true);
        assert!(done.cost_last < 1e-3, "{done:?}");
        assert!((bundle.lens.focal_px - 950.0).abs() < 0.1, "{:?}", bundle.lens);
    }

    #[test]
    fn direction_and_inverse_distance_are_read_off_the_views_and_a_mark_on_the_lens_is_none() {
        let bundle = truth(CAMERAS, 80, 0.0);
        let anchor = bundle.poses[CAMERAS / 2].centre();
        let far = far_off();
        let mut tracks: Vec<Vec<(u32, Vector2<f64>)>> = far
            .iter()
            .map(|(direction, inverse)| {
                let seen = |c: usize| {
                    let q = bundle.poses[c].rotation * (direction + (anchor - bundle.poses[c].centre()) * *inverse);
                    (c as u32, bundle.lens.pixel(Vector2::new(q.x / q.z, q.y / q.z)))
                };
                (0..CAMERAS).map(seen).collect()
            })
            .collect();
        tracks.push((0..CAMERAS as u32).map(|c| (c, Vector2::new(200.0, 150.0))).collect());
        for seen in &bundle.observations {
            tracks.push(seen.iter().map(|o| (o.camera, o.pixel)).collect());
        }
        let problem = Problem {
            width: 1280,
            height: 720,
            frames: CAMERAS,
            ids: (0..tracks.len() as u32).map(TrackId).collect(),
            trusted: vec![false; tracks.len()],
            tracks,
            centre_px: [639.5, 359.5],
        };
        let mut scene = Scene::new(Move::Free, &problem, bundle.lens, false);
        (0..CAMERAS).for_each(|c| scene.poses[c] = Some(bundle.poses[c]));
        (far.len() + 1..problem.tracks.len()).for_each(|t| scene.points[t] = Some(bundle.points[t - far.len() - 1]));
        for (t, (direction, inverse)) in far.iter().enumerate() {
            let (found, infinite) = place(&problem, &scene, t, 1e7).unwrap();
            let ray = found.position - found.anchor;
            let sign = ray.dot(&(infinite - found.anchor)).signum();
            assert!((ray.normalize() * sign - direction).norm() < 1e-6, "{t}");
            assert!((sign / ray.norm() - inverse).abs() < 2e-7, "{t}: {} for {inverse}", sign / ray.norm());
            assert!(
                problem.tracks[t].iter().all(|(f, px)| miss(&scene, *f, px, &found.position).unwrap() < 1e-2),
                "{t}"
            );
        }
        assert_eq!(place(&problem, &scene, far.len(), 1e7), None, "it stands still on the frame");
    }
}
