//! From a pose for every frame to the verdict.

use crate::solve::choice::TrackChoice;
use crate::solve::failure::SolveFailure;
use crate::solve::outlier::{Outlier, OutlierReason};
use crate::solve::pipeline::input::{Input, MIN_LENGTH, Tell};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::refine::anneal::anneal;
use crate::solve::refine::inlier_gates::InlierGate;
use crate::solve::refine::rounds::Refinement;
use crate::solve::refine::unlock::Unlocked;
use crate::solve::report::checks::check_trust;
use crate::solve::report::verdict::verdict;
use crate::solve::settings::{ReadoutChoice, SolveSettings};
use crate::solve::solution::Solution;
use crate::track::TrackId;
use std::collections::BTreeSet;

/// A camera that can be trusted, and what it comes from.
pub struct Ended<'a> {
    pub solution: Solution,
    pub adjusted: Refinement<'a>,
    pub zoom_suspected: bool,
}

/// From a pose for every frame to the verdict.
pub fn adjust_to_end<'a>(
    input: &Input<'a>,
    mut scene: Scene,
    from: f64,
    tell: &mut Tell,
) -> Result<Ended<'a>, SolveFailure> {
    let Input { problem, settings, .. } = *input;
    if let ReadoutChoice::Given(readout) = settings.readout {
        scene.readout = readout;
    }
    let mut adjusted = Refinement::new(problem, &scene, settings);
    let zoom_suspected = adjust_all(&mut adjusted, &mut scene, settings, from, tell)?;
    let solution = weighed(input, &adjusted, &scene)?;
    Ok(Ended { solution, adjusted, zoom_suspected })
}

/// What came out, if it can be trusted at all, with its verdict.
pub fn weighed(input: &Input, adjusted: &Refinement, scene: &Scene) -> Result<Solution, SolveFailure> {
    let Input { set, choice, problem, settings, turning_px, .. } = *input;
    let mut solution = adjusted.solution(scene);
    solution.turning_px = turning_px;
    check_trust(problem, &solution)?;
    let known: BTreeSet<TrackId> = problem.ids.iter().copied().collect();
    let short = set.tracks.iter().filter(|t| !known.contains(&t.id) && !choice.left_out.contains(&t.id));
    solution.outliers.extend(short.map(|t| Outlier { id: t.id, reason: OutlierReason::Short, error_px: None }));
    solution.outliers.sort_by_key(|a| a.id);
    if !choice.left_out.is_empty() {
        // Every track but those that are in use: only what was left out.
        let used = set.tracks.iter().map(|t| t.id).filter(|id| !choice.left_out.contains(id)).collect();
        let left = Problem::new(set, MIN_LENGTH, &TrackChoice { left_out: used, ..choice.clone() }, settings.centre);
        solution.agreeing_again = adjusted.agree_with(&left, scene);
    }
    solution.verdict = verdict(&solution, problem.scale());
    Ok(solution)
}

/// Adjusts everything round by round, ever stricter, and unlocks what the tracks ask for on the way. Hands back
/// whether a zoom is suspected that was not unlocked.
fn adjust_all(
    adjusted: &mut Refinement,
    scene: &mut Scene,
    settings: &SolveSettings,
    from: f64,
    tell: &mut Tell,
) -> Result<bool, SolveFailure> {
    let scale = adjusted.problem.scale();
    let done = |part: f64| from + (0.97 - from) * part;
    tell("adjusting everything together", done(0.0))?;
    let loose = InlierGate::loose(scene.noise_px, scale);
    let closer = InlierGate { loss_px: 0.4 * scale, most_px: 1.2 * scale };
    adjusted.round(scene, loose, 4);
    tell("adjusting everything together", done(0.25))?;
    adjusted.round(scene, loose.within(closer), 4);
    tell("trying a zoom and a rolling shutter", done(0.5))?;
    let unlocked = adjusted.unlock(scene, settings);
    if unlocked == Unlocked::Something {
        tell("adjusting everything together", done(0.6))?;
        adjusted.round(scene, InlierGate { loss_px: scale, most_px: 3.0 * scale }, 4);
        adjusted.round(scene, closer, 4);
    }
    tell("adjusting everything together", done(0.7))?;
    anneal(adjusted, scene);
    adjusted.last_round(scene);
    tell("weighing the result", 0.97)?;
    adjusted.hear(scene, settings);
    Ok(unlocked == Unlocked::ZoomSuspected)
}
