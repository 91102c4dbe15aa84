//! Why tracks have no place in the scene.

use crate::solve::bundle::state::Move;
use crate::solve::outlier::{Outlier, OutlierReason};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::far_points::FAR_VIEWS;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::place_track;
use crate::solve::reconstruction::views::{is_image_static, posed_views};
use nalgebra::{Vector2, Vector3};

/// Part of its views that must agree with a point, or with a direction, for it to be one.
const MOST_VIEWS: f64 = 0.75;
/// Part of the views from which a track agrees now and then.
const SOME_VIEWS: f64 = 0.3;

/// Says why a track of the problem is not used, where points agree within `limit_px`.
pub fn reason(problem: &Problem, scene: &Scene, track: usize, limit_px: f64) -> Outlier {
    let id = problem.ids[track];
    let views = posed_views(problem, scene, track);
    let say = |reason, error_px| Outlier { id, reason, error_px };
    if views.len() < 3 {
        return say(OutlierReason::Short, None);
    }
    let errors = |seen: &dyn Fn(u32, &Vector2<f64>) -> Option<f64>| -> Vec<f64> {
        let mut m: Vec<f64> = views.iter().map(|(f, pixel)| seen(*f, pixel).unwrap_or(f64::INFINITY)).collect();
        m.sort_by(f64::total_cmp);
        m
    };
    let within = |m: &[f64]| m.iter().filter(|v| **v < limit_px).count() as f64 / m.len() as f64;
    let of_point = |point: Vector3<f64>| errors(&|f, pixel| scene.reprojection_error(f, pixel, &point));
    let of_direction = direction(scene, &views).map(|d| errors(&|f, pixel| error_of_direction(scene, f, pixel, &d)));
    let far = of_direction.as_ref().is_some_and(|m| within(m) >= MOST_VIEWS);
    let placed = place_track(problem, scene, track, f64::INFINITY, 0.0).map(of_point);
    let middle = |m: &Option<Vec<f64>>| m.as_ref().map(|m| m[m.len() / 2]).filter(|m| m.is_finite());
    let error_px = middle(&placed).or_else(|| middle(&of_direction));
    if is_image_static(problem, scene, &views) {
        return say(OutlierReason::ImageStatic, error_px);
    }
    if far || placed.as_ref().is_some_and(|m| within(m) >= MOST_VIEWS) {
        // Where the camera only turns, all that is used is as far off.
        let far = if scene.motion == Move::Nodal { OutlierReason::PartialInlier } else { OutlierReason::Far };
        return say(if views.len() < FAR_VIEWS { OutlierReason::Short } else { far }, error_px);
    }
    let some = placed.as_ref().is_some_and(|m| within(m) >= SOME_VIEWS);
    say(if some { OutlierReason::PartialInlier } else { OutlierReason::IndependentMotion }, error_px)
}

/// The mean direction of the rays in the world.
fn direction(scene: &Scene, views: &[(u32, Vector2<f64>)]) -> Option<Vector3<f64>> {
    let ray = |(f, pixel): &(u32, Vector2<f64>)| {
        let n = scene.lens_at(*f).unproject(*pixel);
        Some(scene.pose_at(*f, pixel.y)?.rotation.inverse() * Vector3::new(n.x, n.y, 1.0).normalize())
    };
    views.iter().filter_map(ray).sum::<Vector3<f64>>().try_normalize(1e-9)
}

fn error_of_direction(scene: &Scene, frame: u32, pixel: &Vector2<f64>, direction: &Vector3<f64>) -> Option<f64> {
    let c = scene.pose_at(frame, pixel.y)?.rotation * direction;
    (c.z > 1e-6).then(|| (scene.lens_at(frame).project(Vector2::new(c.x / c.z, c.y / c.z)) - pixel).norm())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::track::TrackId;

    const FRAMES: u32 = 40;

    /// A camera that goes aside and tilts past a scene of forty points, and one more track.
    fn with(extra: impl Fn(u32, &Pose, &Lens) -> Option<Vector2<f64>>) -> (Problem, Scene) {
        let lens = Lens::centred(1000.0, 1280, 720);
        let poses: Vec<Pose> = (0..FRAMES)
            .map(|f| {
                Pose::identity().retract(Vector3::x() * (0.004 * f64::from(f)), Vector3::x() * (-0.05 * f64::from(f)))
            })
            .collect();
        let project = |pose: &Pose, point: Vector3<f64>| {
            let c = pose.to_camera(point);
            lens.project(Vector2::new(c.x / c.z, c.y / c.z))
        };
        let points: Vec<Vector3<f64>> = (0..40)
            .map(|i| Vector3::new(f64::from(i % 8) - 3.0, f64::from(i / 8) - 2.0, 8.0 + f64::from(i % 3)))
            .collect();
        let mut tracks: Vec<Vec<(u32, Vector2<f64>)>> =
            points.iter().map(|p| poses.iter().zip(0..).map(|(pose, f)| (f, project(pose, *p))).collect()).collect();
        tracks.push(poses.iter().zip(0..).filter_map(|(pose, f)| Some((f, extra(f, pose, &lens)?))).collect());
        let problem = Problem {
            width: 1280,
            height: 720,
            frames: FRAMES as usize,
            ids: (0..tracks.len() as u32).map(TrackId).collect(),
            trusted: vec![false; tracks.len()],
            tracks,
            centre_px: lens.centre_px,
        };
        let mut scene = Scene::new(Move::Free, &problem, lens, false);
        scene.poses = poses.into_iter().map(Some).collect();
        points.into_iter().enumerate().for_each(|(i, p)| scene.points[i] = Some(p));
        (problem, scene)
    }

    fn called((problem, scene): &(Problem, Scene)) -> Outlier {
        reason(problem, scene, 40, 0.5)
    }

    fn seen(pose: &Pose, lens: &Lens, point: Vector3<f64>) -> Vector2<f64> {
        let c = pose.to_camera(point);
        lens.project(Vector2::new(c.x / c.z, c.y / c.z))
    }

    #[test]
    fn each_kind_of_stray_goes_by_its_name() {
        // The camera goes 2 m aside; somebody walks up and down meanwhile.
        let walker =
            with(|f, pose, lens| Some(seen(pose, lens, Vector3::new(0.0, 0.8 * (0.4 * f64::from(f)).sin(), 7.0))));
        assert_eq!(called(&walker).reason, OutlierReason::IndependentMotion);
        assert!(called(&walker).error_px.is_some_and(|m| m > 5.0), "{:?}", called(&walker));
        assert_eq!(called(&with(|_, _, _| Some(Vector2::new(900.0, 80.0)))).reason, OutlierReason::ImageStatic);
        assert_eq!(
            called(&with(|_, pose, lens| Some(seen(pose, lens, Vector3::new(0.3e6, -0.1e6, 1e6))))).reason,
            OutlierReason::Far
        );
        // Every other view jumps up or down, as a glint does.
        let glint = with(|f, pose, lens| {
            let jump = [0.0, 4.0, 0.0, -4.0][f as usize % 4];
            Some(seen(pose, lens, Vector3::new(0.0, 0.0, 8.0)) + Vector2::y() * jump)
        });
        assert_eq!(called(&glint).reason, OutlierReason::PartialInlier);
        assert_eq!(
            called(&with(|f, pose, lens| (f < 2).then(|| seen(pose, lens, Vector3::new(0.0, 0.0, 8.0))))).reason,
            OutlierReason::Short
        );
    }

    #[test]
    fn a_mark_on_the_lens_is_only_told_while_the_picture_moves() {
        let (problem, mut scene) = with(|_, _, _| Some(Vector2::new(900.0, 80.0)));
        let views = posed_views(&problem, &scene, 40);
        assert!(is_image_static(&problem, &scene, &views));
        assert!(!is_image_static(&problem, &scene, &views[..2]), "one step moves the picture by too little");
        scene.points.iter_mut().for_each(|p| *p = None);
        assert!(!is_image_static(&problem, &scene, &views), "nothing is known to move");
    }

    #[test]
    fn frames_without_a_camera_tell_nothing() {
        let (problem, mut scene) = with(|_, pose, lens| Some(seen(pose, lens, Vector3::new(0.0, 0.0, 8.0))));
        scene.poses.iter_mut().skip(2).for_each(|p| *p = None);
        assert_eq!(
            reason(&problem, &scene, 40, 0.5),
            Outlier { id: TrackId(40), reason: OutlierReason::Short, error_px: None }
        );
    }
}
