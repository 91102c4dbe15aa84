//! Poses of frames from the points that have positions.

use crate::geometry::{Lens, Pose};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::resection as resect;
use crate::solve::reconstruction::scene::Scene;

/// Zooms against its neighbours that are tried for a frame, logarithms.
const FRAME_ZOOMS: [f64; 7] = [0.0, -0.025, 0.025, -0.06, 0.06, -0.12, 0.12];

/// Poses `frame` from known points; `false` when they do not agree on a pose.
pub fn add_frame(problem: &Problem, scene: &mut Scene, tracks: &[usize], frame: u32, limit_px: f64) -> bool {
    let sights: Vec<resect::Sight> =
        tracks.iter().filter_map(|&t| Some((problem.at(t, frame)?, scene.points[t]?))).collect();
    if sights.len() < 8 {
        return false;
    }
    scene.guess_zoom(frame);
    let middle = scene.lens_at(frame);
    let tries: &[f64] = if scene.zooms() { &FRAME_ZOOMS } else { &[0.0] };
    let mut best: Option<(usize, Pose, Lens)> = None;
    for zoom in tries {
        let lens = Lens { focal_px: middle.focal_px * zoom.exp(), ..middle };
        let Some((pose, within)) = resect::from_scratch(&sights, &lens, limit_px, u64::from(frame) + 1) else {
            continue;
        };
        let found = if scene.zooms() {
            let (pose, lens) =
                resect::refine_loose(pose, &sights, &lens, 0.5 * limit_px, resect::Loose { shift: true, focal: true });
            (resect::count_within(&pose, &sights, &lens, limit_px), pose, lens)
        } else {
            (within, pose, lens)
        };
        if best.is_none_or(|(most, ..)| found.0 > most) {
            best = Some(found);
        }
        // With nearly all of them on one camera, other zooms lead to the same.
        if found.0 * 20 > sights.len() * 19 {
            break;
        }
    }
    match best {
        Some((within, pose, lens)) if within >= 8 && within * 10 >= sights.len() * 3 => {
            scene.pose_frame(frame, pose, &lens);
            true
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::bundle::state::Move;
    use crate::solve::synthetic::{Making, walk};

    #[test]
    fn a_frame_is_placed_by_points_and_refused_with_too_few() {
        let walk = walk(&Making { movers: 4, ..Making::default() });
        let mut scene = walk.scene(&[0]);
        scene.points = walk.points.iter().map(|p| Some(*p)).collect();
        assert!(
            add_frame(&walk.problem, &mut scene, &walk.all(), 20, 5.0),
            "a quarter of outliers among its sights does not keep it from its place"
        );
        let off = (scene.poses[20].unwrap().centre() - walk.poses[20].centre()).norm();
        assert!(off < 0.01, "{off} m");
        assert!(!add_frame(&walk.problem, &mut scene, &walk.all()[..7], 21, 5.0), "seven points are too few");
        assert!(scene.poses[21].is_none());
        // Points that are all wrong agree on no pose.
        scene.points.rotate_left(31);
        assert!(!add_frame(&walk.problem, &mut scene, &walk.all(), 22, 5.0));
    }

    #[test]
    fn a_frame_of_a_zoom_is_placed_with_its_own_focal_length() {
        let walk = walk(&Making { zoom: |f| 0.008 * f, ..Making::default() });
        let mut scene = Scene::new(Move::Free, &walk.problem, walk.lens, true);
        scene.poses[0] = Some(walk.poses[0]);
        scene.points = walk.points.iter().map(|p| Some(*p)).collect();
        assert!(add_frame(&walk.problem, &mut scene, &walk.all(), 12, 5.0));
        assert!((scene.zoom[12] - 0.096).abs() < 0.005, "{}", scene.zoom[12]);
    }
}
