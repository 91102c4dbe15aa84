//! Points from the frames that have poses.

use crate::geometry::{Pose, parallax_rad, triangulate};
use crate::solve::bundle::state::Move;
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

/// Angle between rays from which a point is taken in, degrees.
pub const MIN_PARALLAX_DEG: f64 = 0.7;
/// Angle from which a point may help to reach the next frame where there are few, degrees.
pub const BRIDGE_PARALLAX_DEG: f64 = 0.2;

/// Triangulates the tracks that have no position yet; robust against outliers among the views.
pub fn add_points(problem: &Problem, scene: &mut Scene, tracks: &[usize], limit_px: f64) {
    add_points_from(problem, scene, tracks, limit_px, MIN_PARALLAX_DEG);
}

/// The same with a parallax of one's own, degrees.
pub fn add_points_from(problem: &Problem, scene: &mut Scene, tracks: &[usize], limit_px: f64, min_deg: f64) {
    let found: Vec<Option<Vector3<f64>>> = tracks
        .par_iter()
        .map(|&t| if scene.points[t].is_some() { None } else { place_track(problem, scene, t, limit_px, min_deg) })
        .collect();
    for (&t, point) in tracks.iter().zip(found) {
        if point.is_some() {
            scene.points[t] = point;
        }
    }
}

/// The position of one track from all frames that have poses, if it has parallax of `min_deg` and
/// its views agree. Of a nodal move it is the direction.
pub fn place_track(
    problem: &Problem,
    scene: &Scene,
    track: usize,
    limit_px: f64,
    min_deg: f64,
) -> Option<Vector3<f64>> {
    let views: Vec<(Pose, Vector2<f64>, u32, Vector2<f64>)> = problem.tracks[track]
        .iter()
        .filter_map(|&(f, pixel)| Some((scene.pose_at(f, pixel.y)?, scene.lens_at(f).unproject(pixel), f, pixel)))
        .collect();
    if views.len() < 2 {
        return None;
    }
    let agrees = |point: &Vector3<f64>| {
        let within =
            views.iter().filter(|v| scene.reprojection_error(v.2, &v.3, point).is_some_and(|m| m < limit_px)).count();
        within * 10 >= views.len() * 8
    };
    if scene.motion == Move::Nodal {
        let sum: Vector3<f64> =
            views.iter().map(|v| v.0.rotation.inverse() * Vector3::new(v.1.x, v.1.y, 1.0).normalize()).sum();
        return sum.try_normalize(1e-9).filter(agrees);
    }
    let centres: Vec<_> = views.iter().map(|v| v.0.centre()).collect();
    let point = triangulate(&views.iter().map(|v| (v.0, v.1)).collect::<Vec<_>>())?;
    (agrees(&point) && parallax_rad(point, &centres).to_degrees() >= min_deg).then_some(point)
}

/// Forgets points whose views do not agree within `limit_px` (RMS), or that lost their parallax.
pub fn drop_points(problem: &Problem, scene: &mut Scene, tracks: &[usize], frames: &[u32], limit_px: f64) {
    for &t in tracks {
        let Some(point) = scene.points[t] else { continue };
        let (mut sum, mut n, mut behind) = (0.0, 0usize, false);
        let mut centres = Vec::new();
        for &f in frames {
            if let (Some(pixel), Some(pose)) = (problem.at(t, f), &scene.poses[f as usize]) {
                match scene.reprojection_error(f, &pixel, &point) {
                    Some(m) => sum += m * m,
                    None => behind = true,
                }
                centres.push(pose.centre());
                n += 1;
            }
        }
        let bad = behind || n < 2 || (sum / n as f64).sqrt() > limit_px;
        if bad || parallax_rad(point, &centres).to_degrees() < 0.5 * MIN_PARALLAX_DEG {
            scene.points[t] = None;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::synthetic::{Making, walk};

    #[test]
    fn a_track_is_placed_where_its_views_agree_and_have_parallax() {
        let walk = walk(&Making { movers: 5, ..Making::default() });
        let all: Vec<u32> = (0..40).collect();
        let mut scene = walk.scene(&all);
        let at = |scene: &Scene, track: usize, deg: f64| place_track(&walk.problem, scene, track, 1.0, deg);
        let off = (at(&scene, 7, MIN_PARALLAX_DEG).unwrap() - walk.points[7]).norm();
        assert!(off < 0.02, "{off} m");
        assert!(at(&scene, 7, 80.0).is_none(), "that much parallax it has not");
        assert!(at(&scene, 5, MIN_PARALLAX_DEG).is_none(), "it moves on its own");
        assert!(at(&walk.scene(&[3]), 7, 0.0).is_none(), "one view is none");
        add_points(&walk.problem, &mut scene, &walk.all(), 1.0);
        let placed = scene.points.iter().flatten().count();
        assert!((115..=128).contains(&placed), "{placed} of 160, of which 32 move");
    }

    #[test]
    fn points_that_do_not_agree_or_lost_their_parallax_are_forgotten() {
        let walk = walk(&Making::default());
        let frames: Vec<u32> = (0..40).step_by(3).collect();
        let mut scene = walk.scene(&frames);
        scene.points = walk.points.iter().map(|p| Some(*p)).collect();
        scene.points[3] = Some(walk.points[3] + Vector3::new(0.5, 0.0, 0.0));
        scene.points[9] = Some(Vector3::new(0.0, 1.0, 40.0));
        scene.points[11] = None;
        drop_points(&walk.problem, &mut scene, &walk.all(), &frames, 1.0);
        let gone: Vec<usize> = (0..160).filter(|&t| scene.points[t].is_none()).collect();
        assert_eq!(gone, [3, 9, 11]);
        drop_points(&walk.problem, &mut scene, &walk.all(), &[0, 1], 1.0);
        assert!(
            scene.points.iter().flatten().count() < 157,
            "from two frames near each other some have too little parallax"
        );
    }

    #[test]
    fn of_a_camera_that_turns_a_track_is_a_direction() {
        let walk = walk(&Making::default());
        let mut scene = Scene::new(Move::Nodal, &walk.problem, walk.lens, false);
        scene.poses[10] = Some(Pose { translation: Vector3::zeros(), ..walk.poses[10] });
        scene.poses[11] = scene.poses[10];
        let direction = place_track(&walk.problem, &scene, 2, 60.0, 0.0).unwrap();
        let right = (walk.points[2] - walk.poses[10].centre()).normalize();
        assert!((direction.norm() - 1.0).abs() < 1e-12 && direction.dot(&right) > 0.999, "{direction}");
    }
}
