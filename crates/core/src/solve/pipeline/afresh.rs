//! From tracks to a camera: what kind of move it is, and the way for each.

use crate::solve::choice::TrackChoice;
use crate::solve::failure::{SolveFailure, StartError};
use crate::solve::pipeline::input::{Input, MIN_LENGTH, SolveStep, telling};
use crate::solve::pipeline::moving::{solve_moving, turns_rather};
use crate::solve::pipeline::turning::solve_turning;
use crate::solve::problem::Problem;
use crate::solve::report::checks::{check_input, check_motion};
use crate::solve::rotation::model_selection::{every_few, fit_turning, surely_turning};
use crate::solve::settings::{MotionChoice, SolveSettings};
use crate::solve::solution::Solution;
use crate::solve::start::keyframes;
use crate::track::TrackSet;
use std::ops::ControlFlow;

/// Keyframes that the test of a turning camera looks at.
const TURNING_KEYS: usize = 24;

/// Solves the camera of a track run.
///
/// What a person chose among the tracks is kept to. What the settings leave open is decided from the tracks. `on_step`
/// hears of progress and may stop the solve.
///
/// # Errors
/// [`SolveFailure`] tells why there is no camera.
pub fn solve_camera(
    set: &TrackSet,
    choice: &TrackChoice,
    settings: &SolveSettings,
    on_step: impl FnMut(SolveStep) -> ControlFlow<()>,
) -> Result<Solution, SolveFailure> {
    let mut tell = telling(on_step);
    tell("looking at the tracks", 0.0)?;
    let problem = Problem::new(set, MIN_LENGTH, choice, settings.centre);
    check_input(set, &problem)?;
    let keys = keyframes::select(&problem);
    check_motion(&problem, &keys)?;

    tell("trying a camera that only turns", 0.04)?;
    let few = every_few(&keys, TURNING_KEYS);
    let turning = fit_turning(&problem, &few, settings);
    let turning_px = turning.as_ref().map(|fit| fit.median_px);
    let input = Input { set, choice, problem: &problem, settings, turning_px, turning: turning.as_ref() };
    if settings.motion == MotionChoice::Nodal
        || (settings.motion == MotionChoice::Auto && surely_turning(&problem, turning.as_ref()))
    {
        let fit = turning.as_ref().ok_or(SolveFailure::NoStart { why: StartError::NoChain })?;
        return solve_turning(&input, &few, fit, &mut tell);
    }
    let moving = solve_moving(&input, &keys, &few, &mut tell);
    let Some(fit) = &turning else { return moving.map(|m| m.solution) };
    let turns = turns_rather(&problem, fit, &moving, few.len());
    match (turns, settings.motion) {
        (false, _) => moving.map(|m| m.solution),
        (true, MotionChoice::Free | MotionChoice::Planar) => {
            Err(SolveFailure::PureRotation { nodal_px: fit.median_px })
        }
        (true, _) => solve_turning(&input, &few, fit, &mut tell),
    }
}
