//! What the solved frames see of a track.

use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::stats::median;
use nalgebra::Vector2;
use rayon::prelude::*;

/// How far something that stands still on the frame may stray there, px of a picture 1280 wide.
const STILL_PX: f64 = 1.6;
/// How much more the picture must move meanwhile for that to mean anything.
const STILL_AGAINST: f64 = 5.0;

/// The views of a track on frames that have poses.
pub fn posed_views(problem: &Problem, scene: &Scene, track: usize) -> Vec<(u32, Vector2<f64>)> {
    problem.tracks[track].iter().filter(|(f, _)| scene.poses[*f as usize].is_some()).copied().collect()
}

/// Whether the pixels stay where they are while the scene moves past: its points are carried off meanwhile.
pub fn is_image_static(problem: &Problem, scene: &Scene, views: &[(u32, Vector2<f64>)]) -> bool {
    let limit = STILL_PX * problem.scale();
    let middle = views[views.len() / 2].1;
    if views.iter().any(|(_, p)| (p - middle).norm() > limit) {
        return false;
    }
    let (Some((a, _)), Some((b, _))) = (views.first(), views.last()) else { return false };
    let moved: Vec<f64> = (0..problem.tracks.len())
        .into_par_iter()
        .filter(|&t| scene.points[t].is_some())
        .filter_map(|t| Some((problem.at(t, *b)? - problem.at(t, *a)?).norm()))
        .collect();
    median(&moved).is_some_and(|m| m > STILL_AGAINST * limit)
}
