//! Going on from a camera that was solved before.

use crate::solve::choice::TrackChoice;
use crate::solve::failure::SolveFailure;
use crate::solve::pipeline::finish::weighed;
use crate::solve::pipeline::frames::fill_frames;
use crate::solve::pipeline::input::{Input, MIN_LENGTH, SolveStep, telling};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::refine::anneal::anneal;
use crate::solve::refine::inlier_gates::InlierGate;
use crate::solve::refine::rounds::Refinement;
use crate::solve::report::checks::check_input;
use crate::solve::settings::SolveSettings;
use crate::solve::solution::Solution;
use crate::track::TrackSet;
use std::ops::ControlFlow;

/// Goes on from a camera that was solved before: its poses, lens and points are adjusted to the tracks as they are
/// chosen now. Much quicker than [`crate::solve::solve_camera`], and meant for tracks dropped or taken back.
///
/// # Errors
/// [`SolveFailure`] tells why there is no camera; [`SolveFailure::OtherMove`] where the settings now ask for another
/// kind of move or lens.
pub fn solve_on(
    set: &TrackSet,
    choice: &TrackChoice,
    settings: &SolveSettings,
    from: &Solution,
    on_step: impl FnMut(SolveStep) -> ControlFlow<()>,
) -> Result<Solution, SolveFailure> {
    let mut tell = telling(on_step);
    tell("taking up the camera", 0.0)?;
    let problem = Problem::new(set, MIN_LENGTH, choice, settings.centre);
    check_input(set, &problem)?;
    let mut scene = Scene::resumed(&problem, from, settings).ok_or(SolveFailure::OtherMove)?;
    fill_frames(&problem, &mut scene);
    let input = Input { set, choice, problem: &problem, settings, turning_px: from.turning_px, turning: None };
    let mut adjusted = Refinement::new(&problem, &scene, settings);
    tell("adjusting everything together", 0.1)?;
    let loose = InlierGate::loose(scene.noise_px, problem.scale());
    adjusted.round(&mut scene, loose, 4);
    tell("adjusting everything together", 0.45)?;
    anneal(&mut adjusted, &mut scene);
    adjusted.last_round(&mut scene);
    adjusted.hear(&scene, settings);
    weighed(&input, &adjusted, &scene)
}
