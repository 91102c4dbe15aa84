//! What must hold for there to be a camera: of the tracks beforehand, and of the solution afterwards.

use super::astray::Astray;
use super::report::{Motion, Solution, SolveFailure};
use super::{Problem, keyframes};
use crate::track::TrackSet;

/// Frames below which nothing can be said.
const MIN_FRAMES: usize = 8;
/// Tracks of useful length below which nothing can be said.
const MIN_TRACKS: usize = 30;
/// Median motion that the clip must show somewhere, px of a picture 1280 wide.
const STILL_PX: f64 = 1.5;
/// Median parallax below which depth is guesswork, degrees.
const HOPELESS_PARALLAX_DEG: f64 = 0.35;
/// Part of the usable tracks that must follow the camera.
const MIN_FOLLOWING: f64 = 0.3;
/// RMS above which a result is no camera, px of a picture 1280 wide.
const HOPELESS_PX: f64 = 2.5;

/// Whether there is enough to solve from.
pub(super) fn check_input(set: &TrackSet, problem: &Problem) -> Result<(), SolveFailure> {
    if problem.frames < MIN_FRAMES {
        return Err(SolveFailure::TooFewFrames { found: problem.frames, needed: MIN_FRAMES });
    }
    if let Some(&frame) = set.cuts.first() {
        return Err(SolveFailure::HardCut { frame });
    }
    let counts = set.counts();
    let (frame, there) = counts.iter().copied().enumerate().min_by_key(|&(_, c)| c).unwrap_or((0, 0));
    if problem.tracks.len() < MIN_TRACKS {
        return Err(SolveFailure::TooFewTracks { found: problem.tracks.len(), frame: frame as u32, there, needed: MIN_TRACKS });
    }
    Ok(())
}

/// Whether anything moves between the keyframes.
pub(super) fn check_motion(problem: &Problem, keys: &[u32]) -> Result<(), SolveFailure> {
    let mut largest = 0.0f64;
    for (i, &a) in keys.iter().enumerate() {
        for &b in keys.iter().skip(i + 1).step_by(1 + keys.len() / 8) {
            let (motion, shared) = keyframes::median_motion(problem, a, b);
            if shared >= 8 {
                largest = largest.max(motion);
            }
        }
    }
    if largest < STILL_PX * problem.scale() { Err(SolveFailure::Still { motion_px: largest }) } else { Ok(()) }
}

/// Whether what came out can be a camera at all.
pub(super) fn check_trust(problem: &Problem, solution: &Solution) -> Result<(), SolveFailure> {
    let fail = |why: String, advice: &str| Err(SolveFailure::NotTrustworthy { why, advice: advice.to_owned() });
    let scale = problem.scale();
    let solved = solution.frames.len();
    if solved * 2 < problem.frames {
        return fail(
            format!("only {solved} of {} frames could be solved", problem.frames),
            "Trim to the part that holds, or keep moving things out of the analysis",
        );
    }
    let far = solution.astray.iter().filter(|a| a.why == Astray::Far).count();
    let following = (solution.points.len() + far) as f64 / problem.tracks.len().max(1) as f64;
    if following < MIN_FOLLOWING {
        return fail(
            format!("only {:.0} % of the {} tracks follow one camera", 100.0 * following, problem.tracks.len()),
            "Things that move on their own fill the frame: keep them out of the analysis",
        );
    }
    if !(solution.rms_px <= HOPELESS_PX * scale) {
        return fail(
            format!("the reprojection error is {:.1} px", solution.rms_px),
            "Keep moving things out of the analysis, or choose a calmer part of the clip",
        );
    }
    if solution.motion != Motion::Nodal && !(solution.parallax_deg >= HOPELESS_PARALLAX_DEG) {
        return fail(
            format!("the parallax is only {:.2} degrees (median)", solution.parallax_deg),
            "The camera travels too little for the distance of the scene; choose a part in which it travels further",
        );
    }
    let widths = solution.frames.first().map_or(0.0, |f| f.lens.focal_px / f64::from(problem.width.max(problem.height)));
    if !(0.25..8.0).contains(&widths) {
        return fail(format!("the focal length came out at {widths:.2} picture widths"), "Give the focal length if it is known");
    }
    Ok(())
}
