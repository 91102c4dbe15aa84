//! What every way of solving starts from, and how it tells of its progress.

use crate::solve::choice::TrackChoice;
use crate::solve::failure::SolveFailure;
use crate::solve::problem::Problem;
use crate::solve::rotation::nodal::NodalFit;
use crate::solve::settings::SolveSettings;
use crate::track::TrackSet;
use std::ops::ControlFlow;

/// Frames that a track must last to be used.
pub const MIN_LENGTH: usize = 4;

/// Where a solve has got to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SolveStep {
    /// What is being done.
    pub stage: &'static str,
    /// 0 to 1.
    pub fraction: f64,
}

/// Tells how far a solve is; an error is the wish to stop.
pub type Tell<'a> = dyn FnMut(&'static str, f64) -> Result<(), SolveFailure> + 'a;

/// Progress told to the caller, whose wish to stop ends the solve.
pub fn telling(
    mut on_step: impl FnMut(SolveStep) -> ControlFlow<()>,
) -> impl FnMut(&'static str, f64) -> Result<(), SolveFailure> {
    move |stage, fraction| match on_step(SolveStep { stage, fraction }) {
        ControlFlow::Continue(()) => Ok(()),
        ControlFlow::Break(()) => Err(SolveFailure::Stopped),
    }
}

/// What a solve starts from.
#[derive(Clone, Copy)]
pub struct Input<'a> {
    pub set: &'a TrackSet,
    pub choice: &'a TrackChoice,
    pub problem: &'a Problem,
    pub settings: &'a SolveSettings,
    /// Median reprojection error of the best camera that only turns, px, where one could be fitted.
    pub turning_px: Option<f64>,
    /// That camera.
    pub turning: Option<&'a NodalFit>,
}
