//! The way of a camera that travels.

use crate::solve::failure::{SolveFailure, StartError};
use crate::solve::pipeline::finish::{Ended, adjust_to_end};
use crate::solve::pipeline::frames::fill_frames;
use crate::solve::pipeline::input::{Input, Tell};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::add_points;
use crate::solve::report::verdict::verdict;
use crate::solve::rotation::model_selection::{TURNING_PX, TURNING_WHEN_LOST_PX, ZOOM_RATIO};
use crate::solve::rotation::nodal::{self, NodalFit};
use crate::solve::settings::{CentreChoice, LensChoice, MotionChoice};
use crate::solve::solution::Solution;
use crate::solve::start::hypotheses::{StartWith, find_start, place_rest, ranked};
use crate::solve::start::incremental::{add_keyframes, settle, zoom_gain};
use crate::solve::start::keyframes;
use crate::solve::start::seed_tracks::{SeedTracks, select_tracks};
use rayon::prelude::*;

/// RMS above which a fixed lens is doubted, px of a picture 1280 wide.
const DOUBTFUL_PX: f64 = 0.6;
/// Median reprojection error of a camera that only turns, px of a picture 1280 wide, within which a zoom that travels
/// is not looked for besides, where turning already explains more than a fixed lens that travels.
const NEARLY_TURNING_PX: f64 = 0.5;
/// Part of the cost at the keyframes that a zoom takes away, from which it is tried before a fixed lens.
const ZOOM_FIRST_GAIN: f64 = 0.15;
/// RMS with a zoom over that without, below which a suspected zoom is believed.
const SUSPECTED_RATIO: f64 = 0.97;
/// Tracks that the scene is grown with over the keyframes.
const GROWN_TRACKS: usize = 600;
/// Keyframes that it is grown over, about: what a point seen on all of them costs grows with their square.
const GROWN_KEYS: usize = 24;
/// A free camera with what the test against a turning one needs.
pub struct Moving {
    pub solution: Solution,
    pub zoom_suspected: bool,
    pub errors_px: Vec<f64>,
    pub points: usize,
}

/// A free move, with a fixed lens unless the settings or the tracks ask for a zoom.
pub fn solve_moving(input: &Input, keys: &[u32], few: &[u32], tell: &mut Tell) -> Result<Moving, SolveFailure> {
    let Input { problem, settings, .. } = *input;
    if settings.lens == LensChoice::Zoom {
        return move_with(input, keys, few, true, None, tell);
    }
    let fixed = match solve_likeliest(input, keys, few, tell) {
        Ok(Likeliest::Zoom(zoomed)) => return Ok(zoomed),
        Ok(Likeliest::Fixed(fixed)) => Ok(fixed),
        Err(why) => Err(why),
    };
    let doubtful = match &fixed {
        Ok(found) => {
            found.zoom_suspected
                || found.solution.frames.len() < problem.frames
                || found.solution.rms_px > DOUBTFUL_PX * problem.scale()
        }
        Err(SolveFailure::Stopped) => false,
        Err(_) => true,
    };
    let nearly = input.turning.filter(|fit| fit.median_px < NEARLY_TURNING_PX * problem.scale());
    let turns = nearly.is_some_and(|fit| turns_rather(problem, fit, &fixed, few.len()));
    if !doubtful || turns || settings.lens == LensChoice::Fixed {
        return fixed;
    }
    let fixed_px = fixed.as_ref().ok().and_then(|found| found.solution.frames.first()).map(|f| f.lens.focal_px);
    let zoomed = move_with(input, keys, few, true, fixed_px, tell);
    match (fixed, zoomed) {
        (Ok(f), Ok(z)) => {
            // Where the fixed lens itself asked for a zoom, as much less error will do as made it ask.
            let ratio = if f.zoom_suspected { SUSPECTED_RATIO } else { ZOOM_RATIO };
            let explained = |m: &Moving| m.solution.frames.len() * m.solution.points.len();
            let better = explained(&z) * 10 > explained(&f) * 11
                || (explained(&z) * 10 > explained(&f) * 9 && z.solution.rms_px < ratio * f.solution.rms_px);
            let mut chosen = if better { z } else { f };
            if !better {
                // The zoom was tried, and is no better.
                chosen.solution.asked.zoom_gain = None;
                chosen.solution.verdict = verdict(&chosen.solution, problem.scale());
            }
            Ok(chosen)
        }
        (_, Err(SolveFailure::Stopped)) => Err(SolveFailure::Stopped),
        (Ok(f), Err(_)) => Ok(f),
        (Err(_), Ok(z)) => Ok(z),
        (Err(why), Err(_)) => Err(why),
    }
}

/// A camera that travels with the lens that is gone through with first.
enum Likeliest {
    /// A zoom that explains the clip so well that no fixed lens need be tried.
    Zoom(Moving),
    Fixed(Moving),
}

/// A fixed lens, unless its beginning already asks for a zoom and that is convincing.
fn solve_likeliest(input: &Input, keys: &[u32], few: &[u32], tell: &mut Tell) -> Result<Likeliest, SolveFailure> {
    let Input { problem, settings, .. } = *input;
    // A principal point that is not known yet looks like a zoom.
    let may_zoom =
        settings.lens == LensChoice::Auto && settings.focal_px.is_none() && settings.centre != CentreChoice::Found;
    let asks = |scene: &Scene| may_zoom && zoom_gain(problem, scene, keys) > ZOOM_FIRST_GAIN;
    let try_zoom =
        |scene: &Scene, tell: &mut Tell| match move_with(input, keys, few, true, Some(scene.lens.focal_px), tell) {
            Ok(zoomed) => Ok(Some(zoomed).filter(|z| is_convincing(&z.solution, problem))),
            Err(SolveFailure::Stopped) => Err(SolveFailure::Stopped),
            Err(_) => Ok(None),
        };
    let begun = begin(input, keys, false, None, tell)?;
    let early = begun.first().map(|(_, scene)| scene).filter(|scene| asks(scene));
    if let Some(scene) = early
        && let Some(zoomed) = try_zoom(scene, tell)?
    {
        return Ok(Likeliest::Zoom(zoomed));
    }
    let tried = early.is_some();
    let scene = grow(input, keys, begun, tell)?;
    if !tried
        && asks(&scene)
        && let Some(zoomed) = try_zoom(&scene, tell)?
    {
        return Ok(Likeliest::Zoom(zoomed));
    }
    carry_through(input, few, scene, tell).map(Likeliest::Fixed)
}

/// `hint_px` is a focal length near which it lies.
fn move_with(
    input: &Input,
    keys: &[u32],
    few: &[u32],
    zooms: bool,
    hint_px: Option<f64>,
    tell: &mut Tell,
) -> Result<Moving, SolveFailure> {
    let begun = begin(input, keys, zooms, hint_px, tell)?;
    let scene = grow(input, keys, begun, tell)?;
    carry_through(input, few, scene, tell)
}

/// Whether a zoom that was tried first explains the clip so well that a fixed lens need not be tried. Where it needs a
/// rolling shutter besides, the zoom may be but a trace of that.
fn is_convincing(zoomed: &Solution, problem: &Problem) -> bool {
    zoomed.rms_px < DOUBTFUL_PX * problem.scale() && zoomed.frames.len() == problem.frames && zoomed.readout == 0.0
}

/// Cameras for some of the keyframes, the likeliest first.
fn begin(
    input: &Input,
    keys: &[u32],
    zooms: bool,
    hint_px: Option<f64>,
    tell: &mut Tell,
) -> Result<Vec<(SeedTracks, Scene)>, SolveFailure> {
    let Input { problem, settings, .. } = *input;
    tell(if zooms { "finding a start with a zoom" } else { "finding a start" }, 0.12)?;
    let with = StartWith {
        focal_px: settings.focal_px,
        hint_px: hint_px.or(settings.focal_hint_px),
        zooms,
        flat: settings.motion == MotionChoice::Planar,
    };
    let started = match find_start(problem, keys, with) {
        // Points of a plane leave little to choose five from; a homography may still be found.
        Err(_) if settings.motion == MotionChoice::Auto => find_start(problem, keys, StartWith { flat: true, ..with }),
        started => started,
    };
    started.map_err(|why| SolveFailure::NoStart { why })
}

/// A camera for all keyframes, from those that it may begin with.
fn grow(
    input: &Input,
    keys: &[u32],
    mut begun: Vec<(SeedTracks, Scene)>,
    tell: &mut Tell,
) -> Result<Scene, SolveFailure> {
    let problem = input.problem;
    tell("growing over the keyframes", 0.3)?;
    let free_focal = input.settings.focal_px.is_none();
    let keys = keyframes::thinned(problem, keys, GROWN_KEYS);
    let keys = keys.as_slice();
    let all = select_tracks(problem, keys, GROWN_TRACKS);
    begun.par_iter_mut().for_each(|(seed, scene)| {
        let tracks = if *seed == SeedTracks::Lasting { seed.tracks(problem, keys) } else { all.clone() };
        add_points(problem, scene, &tracks, 3.0 * problem.scale());
        add_keyframes(problem, scene, &tracks, keys, free_focal, false);
        settle(problem, scene, &tracks, keys, free_focal, false);
        place_rest(problem, scene, *seed, &all);
        if *seed == SeedTracks::Lasting {
            settle(problem, scene, &all, keys, free_focal, false);
        }
    });
    let grown = ranked(problem, &all, begun.into_iter().map(|begun| (keys, begun)).collect());
    grown.into_iter().next().map(|best| best.1.1).ok_or(SolveFailure::NoStart { why: StartError::NoneHolds })
}

/// From the keyframes to every frame and the verdict.
fn carry_through(input: &Input, few: &[u32], mut scene: Scene, tell: &mut Tell) -> Result<Moving, SolveFailure> {
    let problem = input.problem;
    tell("placing every frame", 0.5)?;
    fill_frames(problem, &mut scene);
    let Ended { solution, adjusted, zoom_suspected } = adjust_to_end(input, scene, 0.55, tell)?;
    let (errors_px, points) = adjusted.errors(few);
    Ok(Moving { solution, zoom_suspected, errors_px, points })
}

/// Whether a camera that only turns is a better account of the tracks than what was found of one that travels.
pub fn turns_rather(problem: &Problem, fit: &NodalFit, moving: &Result<Moving, SolveFailure>, keys: usize) -> bool {
    match moving {
        Ok(found) => {
            let noise_px = found.solution.median_px.max(0.05 * problem.scale());
            fit.median_px < TURNING_PX * problem.scale()
                || nodal::explains_better(fit, &found.errors_px, found.points, keys, noise_px)
        }
        Err(SolveFailure::Stopped) => false,
        Err(_) => fit.median_px < TURNING_WHEN_LOST_PX * problem.scale(),
    }
}
