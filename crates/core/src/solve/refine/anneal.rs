//! Bringing home a camera that is bent to things on the move.
//!
//! Such a camera keeps out part of what stands still, and explains part of what does not. Within looser limits both
//! come in, and what stands still, which agrees with itself, pulls the camera back a little; within the limits of the
//! noise what does not agree goes out again. So limits are loosened and tightened in turn until the focal length holds
//! still. Each turn goes about the same part of the way that is left, so that its end is foretold from three of them
//! (Aitken, "On Bernoulli's numerical solution of algebraic equations", 1926) and tried with the focal length held
//! there.

use crate::solve::reconstruction::scene::Scene;
use crate::solve::refine::inlier_gates::InlierGate;
use crate::solve::refine::rounds::Refinement;

/// Part of all views that are of tracks that follow the camera from which there is nothing to bring home.
const CALM_FOLLOWING: f64 = 0.65;
/// Most turns, and the change of the logarithm of the focal length within which it holds still.
const MOST_TURNS: usize = 10;
const AT_REST: f64 = 4e-4;
/// Parts of the way left between which a turn may leave for its end to be foretold.
const FORETOLD: std::ops::Range<f64> = 0.2..0.9;
/// Every how many frames take part in a turn.
const SKIPPED: usize = 4;
/// Steps within loose and within tight limits.
const LOOSE_STEPS: usize = 4;
const TIGHT_STEPS: usize = 10;

/// Loosens and tightens in turn where much moves on its own.
pub fn anneal(adjusted: &mut Refinement, scene: &mut Scene) {
    if adjusted.following() > CALM_FOLLOWING || !adjusted.adjusts_focal() {
        return;
    }
    adjusted.skip_frames(SKIPPED);
    adjusted.round(scene, adjusted.tight(), TIGHT_STEPS);
    let mut before: Option<f64> = None;
    for _ in 0..MOST_TURNS {
        let from = scene.lens.focal_px.ln();
        let loose = InlierGate::loose(adjusted.median_px(), adjusted.problem.scale());
        adjusted.round(scene, loose, LOOSE_STEPS);
        adjusted.round(scene, adjusted.tight(), TIGHT_STEPS);
        let change = scene.lens.focal_px.ln() - from;
        if change.abs() < AT_REST {
            return;
        }
        let left = before.replace(change).map(|b| change / b).filter(|left| FORETOLD.contains(left));
        if let Some(left) = left {
            scene.lens.focal_px *= (change * left / (1.0 - left)).exp();
            adjusted.round_held(scene, loose, LOOSE_STEPS);
            adjusted.round_held(scene, adjusted.tight(), TIGHT_STEPS);
            before = None;
        }
    }
}
