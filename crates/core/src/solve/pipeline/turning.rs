//! The way of a camera that turns on the spot.

use crate::solve::bundle::state::Move;
use crate::solve::failure::SolveFailure;
use crate::solve::pipeline::finish::adjust_to_end;
use crate::solve::pipeline::frames::fill_frames;
use crate::solve::pipeline::input::{Input, Tell};
use crate::solve::reconstruction::scene::Scene;
use crate::solve::rotation::nodal::NodalFit;
use crate::solve::solution::Solution;

/// Turns every frame, from the fit over `few` of them.
pub fn solve_turning(input: &Input, few: &[u32], fit: &NodalFit, tell: &mut Tell) -> Result<Solution, SolveFailure> {
    tell("turning every frame", 0.2)?;
    let problem = input.problem;
    let mut scene = Scene::new(Move::Nodal, problem, fit.lens, !fit.zoom.is_empty());
    for (k, &f) in few.iter().enumerate() {
        scene.poses[f as usize] = fit.poses.get(k).copied();
        if let Some(&zoom) = fit.zoom.get(k) {
            scene.zoom[f as usize] = zoom;
        }
    }
    fill_frames(problem, &mut scene);
    Ok(adjust_to_end(input, scene, 0.3, tell)?.solution)
}
