//! Points so far off that next to no parallax is seen of them, found from the frames that have poses.

use crate::geometry::Pose;
use crate::solve::bundle::inverse_depth::{FarPoint, across, away_from_zero, facing};
use crate::solve::bundle::state::{MIN_DEPTH, Move};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::views::{is_image_static, posed_views};
use nalgebra::{Matrix2x3, Matrix3, SMatrix, Vector2, Vector3};

/// Views from which a far track is told from one that merely moved little.
pub const FAR_VIEWS: usize = 8;
/// Steps of the placing.
const STEPS: usize = 4;

/// Distance in px between where a far point is seen and where it should be.
pub fn reprojection_error(scene: &Scene, frame: u32, pixel: &Vector2<f64>, position: &Vector3<f64>) -> Option<f64> {
    let facing = facing(&scene.pose_at(frame, pixel.y)?, position);
    scene.reprojection_error(frame, pixel, &facing)
}

/// Where direction and inverse distance fit the views of a track best, in least squares of the pixels, and the place in
/// the same direction at the distance of `farthest`, which bounds both. Nothing for tracks that could as well be a mark
/// on the lens, or of which too little is seen.
pub fn place(problem: &Problem, scene: &Scene, track: usize, farthest: f64) -> Option<(FarPoint, Vector3<f64>)> {
    let views = posed_views(problem, scene, track);
    if scene.motion == Move::Nodal || views.len() < FAR_VIEWS || is_image_static(problem, scene, &views) {
        return None;
    }
    let rays =
        views.iter().filter_map(|(f, pixel)| Some((*f, *pixel, scene.pose_at(*f, pixel.y)?))).collect::<Vec<_>>();
    let anchor = rays.get(rays.len() / 2)?.2.centre();
    let along = |(f, pixel, pose): &(u32, Vector2<f64>, Pose)| {
        let n = scene.lens_at(*f).unproject(*pixel);
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
            let (seen, slope) = scene.lens_at(*f).project_with_jacobian(n);
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::bundle::synthetic::{far_off, truth};
    use crate::track::TrackId;

    const CAMERAS: usize = 12;

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
                    (c as u32, bundle.lens.project(Vector2::new(q.x / q.z, q.y / q.z)))
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
                problem.tracks[t]
                    .iter()
                    .all(|(f, px)| reprojection_error(&scene, *f, px, &found.position).unwrap() < 1e-2),
                "{t}"
            );
        }
        assert_eq!(place(&problem, &scene, far.len(), 1e7), None, "it stands still on the frame");
    }
}
