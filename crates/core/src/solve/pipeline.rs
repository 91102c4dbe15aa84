//! The solve, from tracks to a reported camera: what kind of move it is, and the way for each.

use super::adjusting::{Adjusting, MIN_FRAME_POINTS};
use super::anneal::anneal;
use super::astray::{Astray, AstrayTrack};
use super::basis::{Basis, pick_tracks};
use super::bundle::Move;
use super::checks::{check_input, check_motion, check_trust};
use super::choice::TrackChoice;
use super::growing::{add_keyframes, settle, zoom_gain};
use super::limits::Limits;
use super::nodal::{self, NodalFit};
use super::placing::{BRIDGE_PARALLAX_DEG, add_frame, add_points, add_points_from};
use super::release::Released;
use super::report::{Solution, SolveFailure};
use super::settings::{CentreChoice, LensChoice, MotionChoice, ReadoutChoice, SolveSettings};
use super::start::{StartWith, find_start, place_rest, ranked};
use super::state::Scene;
use super::turning::{TURNING_PX, TURNING_WHEN_LOST_PX, ZOOM_RATIO, every_few, fit_turning, surely_turning};
use super::verdict::verdict;
use super::{Problem, keyframes, resect};
use crate::geometry::{Lens, Pose};
use crate::track::{TrackId, TrackSet};
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::ops::ControlFlow;

/// Frames that a track must last to be used.
const MIN_LENGTH: usize = 4;
/// RMS above which a fixed lens is doubted, px of a picture 1280 wide.
const DOUBTFUL_PX: f64 = 0.6;
/// Median miss of a camera that only turns, px of a picture 1280 wide, within which a zoom that travels is not looked
/// for besides, where turning already explains more than a fixed lens that travels.
const NEARLY_TURNING_PX: f64 = 0.5;
/// Part of the cost at the keyframes that a zoom takes away, from which it is tried before a fixed lens.
const ZOOM_FIRST_GAIN: f64 = 0.15;
/// RMS with a zoom over that without, below which a suspected zoom is believed.
const SUSPECTED_RATIO: f64 = 0.97;
/// Tracks that the scene is grown with over the keyframes.
const GROWN_TRACKS: usize = 600;
/// Keyframes that it is grown over, about: what a point seen on all of them costs grows with their square.
const GROWN_KEYS: usize = 24;
/// Keyframes that the test of a turning camera looks at.
const TURNING_KEYS: usize = 24;

/// Where a solve has got to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SolveStep {
    /// What is being done.
    pub stage: &'static str,
    /// 0 to 1.
    pub fraction: f64,
}

type Tell<'a> = dyn FnMut(&'static str, f64) -> Result<(), SolveFailure> + 'a;

/// Progress told to the caller, whose wish to stop ends the solve.
fn telling(
    mut on_step: impl FnMut(SolveStep) -> ControlFlow<()>,
) -> impl FnMut(&'static str, f64) -> Result<(), SolveFailure> {
    move |stage, fraction| match on_step(SolveStep { stage, fraction }) {
        ControlFlow::Continue(()) => Ok(()),
        ControlFlow::Break(()) => Err(SolveFailure::Stopped),
    }
}

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
        let fit = turning
            .as_ref()
            .ok_or_else(|| SolveFailure::NoStart { why: "no chain of frames shares enough points".to_owned() })?;
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

/// Whether a camera that only turns is a better account of the tracks than what was found of one that travels.
fn turns_rather(problem: &Problem, fit: &NodalFit, moving: &Result<Moving, SolveFailure>, keys: usize) -> bool {
    match moving {
        Ok(found) => {
            let noise_px = found.solution.median_px.max(0.05 * problem.scale());
            fit.median_px < TURNING_PX * problem.scale()
                || nodal::explains_better(fit, &found.misses_px, found.points, keys, noise_px)
        }
        Err(SolveFailure::Stopped) => false,
        Err(_) => fit.median_px < TURNING_WHEN_LOST_PX * problem.scale(),
    }
}

/// What a solve starts from.
#[derive(Clone, Copy)]
struct Input<'a> {
    set: &'a TrackSet,
    choice: &'a TrackChoice,
    problem: &'a Problem,
    settings: &'a SolveSettings,
    /// Median miss of the best camera that only turns, px, where one could be fitted.
    turning_px: Option<f64>,
    /// That camera.
    turning: Option<&'a NodalFit>,
}

/// Goes on from a camera that was solved before: its poses, lens and points are adjusted to the tracks as they are
/// chosen now. Much quicker than [`solve_camera`], and meant for tracks dropped or taken back.
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
    let mut adjusted = Adjusting::new(&problem, &scene, settings);
    tell("adjusting everything together", 0.1)?;
    let loose = Limits::loose(scene.noise_px, problem.scale());
    adjusted.round(&mut scene, loose, 4);
    tell("adjusting everything together", 0.45)?;
    anneal(&mut adjusted, &mut scene);
    adjusted.last_round(&mut scene);
    adjusted.hear(&scene, settings);
    weighed(&input, &adjusted, &scene)
}

// --- a camera that turns on the spot ---------------------------------------------------------------------------

fn solve_turning(input: &Input, few: &[u32], fit: &NodalFit, tell: &mut Tell) -> Result<Solution, SolveFailure> {
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

// --- a camera that travels -------------------------------------------------------------------------------------

/// A free camera with what the test against a turning one needs.
struct Moving {
    solution: Solution,
    zoom_suspected: bool,
    misses_px: Vec<f64>,
    points: usize,
}

/// A free move, with a fixed lens unless the settings or the tracks ask for a zoom.
fn solve_moving(input: &Input, keys: &[u32], few: &[u32], tell: &mut Tell) -> Result<Moving, SolveFailure> {
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
) -> Result<Vec<(Basis, Scene)>, SolveFailure> {
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
fn grow(input: &Input, keys: &[u32], mut begun: Vec<(Basis, Scene)>, tell: &mut Tell) -> Result<Scene, SolveFailure> {
    let problem = input.problem;
    tell("growing over the keyframes", 0.3)?;
    let free_focal = input.settings.focal_px.is_none();
    let keys = keyframes::thinned(problem, keys, GROWN_KEYS);
    let keys = keys.as_slice();
    let all = pick_tracks(problem, keys, GROWN_TRACKS);
    begun.par_iter_mut().for_each(|(basis, scene)| {
        let tracks = if *basis == Basis::Lasting { basis.tracks(problem, keys) } else { all.clone() };
        add_points(problem, scene, &tracks, 3.0 * problem.scale());
        add_keyframes(problem, scene, &tracks, keys, free_focal, false);
        settle(problem, scene, &tracks, keys, free_focal, false);
        place_rest(problem, scene, *basis, &all);
        if *basis == Basis::Lasting {
            settle(problem, scene, &all, keys, free_focal, false);
        }
    });
    let grown = ranked(problem, &all, begun.into_iter().map(|begun| (keys, begun)).collect());
    grown
        .into_iter()
        .next()
        .map(|best| best.1.1)
        .ok_or_else(|| SolveFailure::NoStart { why: "no start holds".to_owned() })
}

/// From the keyframes to every frame and the verdict.
fn carry_through(input: &Input, few: &[u32], mut scene: Scene, tell: &mut Tell) -> Result<Moving, SolveFailure> {
    let problem = input.problem;
    tell("placing every frame", 0.5)?;
    fill_frames(problem, &mut scene);
    let Ended { solution, adjusted, zoom_suspected } = adjust_to_end(input, scene, 0.55, tell)?;
    let (misses_px, points) = adjusted.misses(few);
    Ok(Moving { solution, zoom_suspected, misses_px, points })
}

// --- what both have in common ----------------------------------------------------------------------------------

/// A camera that can be trusted, and what it comes from.
struct Ended<'a> {
    solution: Solution,
    adjusted: Adjusting<'a>,
    zoom_suspected: bool,
}

/// From a pose for every frame to the verdict.
fn adjust_to_end<'a>(
    input: &Input<'a>,
    mut scene: Scene,
    from: f64,
    tell: &mut Tell,
) -> Result<Ended<'a>, SolveFailure> {
    let Input { problem, settings, .. } = *input;
    if let ReadoutChoice::Given(readout) = settings.readout {
        scene.readout = readout;
    }
    let mut adjusted = Adjusting::new(problem, &scene, settings);
    let zoom_suspected = adjust_all(&mut adjusted, &mut scene, settings, from, tell)?;
    let solution = weighed(input, &adjusted, &scene)?;
    Ok(Ended { solution, adjusted, zoom_suspected })
}

/// What came out, if it can be trusted at all, with its verdict.
fn weighed(input: &Input, adjusted: &Adjusting, scene: &Scene) -> Result<Solution, SolveFailure> {
    let Input { set, choice, problem, settings, turning_px, .. } = *input;
    let mut solution = adjusted.solution(scene);
    solution.turning_px = turning_px;
    check_trust(problem, &solution)?;
    let known: BTreeSet<TrackId> = problem.ids.iter().copied().collect();
    let short = set.tracks.iter().filter(|t| !known.contains(&t.id) && !choice.left_out.contains(&t.id));
    solution.astray.extend(short.map(|t| AstrayTrack { id: t.id, why: Astray::Short, miss_px: None }));
    solution.astray.sort_by_key(|a| a.id);
    if !choice.left_out.is_empty() {
        // Every track but those that are in use: only what was left out.
        let used = set.tracks.iter().map(|t| t.id).filter(|id| !choice.left_out.contains(id)).collect();
        let left = Problem::new(set, MIN_LENGTH, &TrackChoice { left_out: used, ..choice.clone() }, settings.centre);
        solution.agreeing_again = adjusted.agree_with(&left, scene);
    }
    solution.verdict = verdict(&solution, problem.scale());
    Ok(solution)
}

/// Adjusts everything round by round, ever stricter, and releases what the tracks ask for on the way. Hands back
/// whether a zoom is suspected that was not released.
fn adjust_all(
    adjusted: &mut Adjusting,
    scene: &mut Scene,
    settings: &SolveSettings,
    from: f64,
    tell: &mut Tell,
) -> Result<bool, SolveFailure> {
    let scale = adjusted.problem.scale();
    let done = |part: f64| from + (0.97 - from) * part;
    tell("adjusting everything together", done(0.0))?;
    let loose = Limits::loose(scene.noise_px, scale);
    let closer = Limits { loss_px: 0.4 * scale, most_px: 1.2 * scale };
    adjusted.round(scene, loose, 4);
    tell("adjusting everything together", done(0.25))?;
    adjusted.round(scene, loose.within(closer), 4);
    tell("trying a zoom and a rolling shutter", done(0.5))?;
    let released = adjusted.release(scene, settings);
    if released == Released::Something {
        tell("adjusting everything together", done(0.6))?;
        adjusted.round(scene, Limits { loss_px: scale, most_px: 3.0 * scale }, 4);
        adjusted.round(scene, closer, 4);
    }
    tell("adjusting everything together", done(0.7))?;
    anneal(adjusted, scene);
    adjusted.last_round(scene);
    tell("weighing the result", 0.97)?;
    adjusted.hear(scene, settings);
    Ok(released == Released::ZoomSuspected)
}

/// A pose for every frame between and around those that have one, as far as enough points agree: what a frame
/// adds may reach the next.
fn fill_frames(problem: &Problem, scene: &mut Scene) {
    let all: Vec<usize> = (0..problem.tracks.len()).collect();
    let limit = Limits::loose(scene.noise_px, problem.scale()).most_px;
    add_points(problem, scene, &all, limit);
    let mut before = 0;
    loop {
        fill_once(problem, scene, &all, limit);
        let now = scene.posed().len();
        if now == problem.frames || now <= before {
            return;
        }
        before = now;
        add_points_from(problem, scene, &all, limit, BRIDGE_PARALLAX_DEG);
    }
}

fn fill_once(problem: &Problem, scene: &mut Scene, all: &[usize], limit: f64) {
    let posed = scene.posed();
    let missing: Vec<u32> = (0..problem.frames as u32).filter(|&f| scene.poses[f as usize].is_none()).collect();
    missing.iter().for_each(|&f| scene.guess_zoom(f));
    let loose = resect::Loose { shift: scene.motion == Move::Free, focal: scene.zooms() };
    let found: Vec<(u32, Option<(Pose, Lens)>)> = missing
        .into_par_iter()
        .map(|frame| {
            let sights: Vec<resect::Sight> =
                all.iter().filter_map(|&t| Some((problem.at(t, frame)?, scene.points[t]?))).collect();
            let after = posed.partition_point(|&f| f < frame);
            let guess = match (after.checked_sub(1).map(|i| posed[i]), posed.get(after)) {
                (Some(a), Some(&b)) => {
                    let t = f64::from(frame - a) / f64::from(b - a);
                    scene.poses[a as usize].zip(scene.poses[b as usize]).map(|(p, q)| p.between(&q, t))
                }
                (Some(a), None) => scene.poses[a as usize],
                (None, Some(&b)) => scene.poses[b as usize],
                (None, None) => None,
            };
            let lens = scene.lens_at(frame);
            let good = |(pose, lens): &(Pose, Lens)| {
                let within = resect::count_within(pose, &sights, lens, limit);
                within >= MIN_FRAME_POINTS && within * 2 >= sights.len()
            };
            let near = guess.map(|g| resect::refine_loose(g, &sights, &lens, 0.5 * limit, loose)).filter(good);
            let turned = || {
                let pose = turn_onto(&sights, &lens).filter(|_| scene.motion == Move::Nodal)?;
                Some(resect::refine_loose(pose, &sights, &lens, 0.5 * limit, loose)).filter(good)
            };
            (frame, near.or_else(turned))
        })
        .collect();
    for (frame, found) in found {
        match found {
            Some((pose, lens)) => {
                scene.pose_frame(frame, pose, &lens);
            }
            None if scene.motion == Move::Free => {
                add_frame(problem, scene, all, frame, limit);
            }
            None => {}
        }
    }
}

/// The turn that takes directions of the world onto what is seen of them.
fn turn_onto(sights: &[resect::Sight], lens: &Lens) -> Option<Pose> {
    let ray = |pixel: &Vector2<f64>| {
        let n = lens.normalise(*pixel);
        Vector3::new(n.x, n.y, 1.0).normalize()
    };
    let rays: Vec<_> = sights.iter().map(|(pixel, direction)| (*direction, ray(pixel))).collect();
    nodal::turn_between(&rays).map(|(rotation, _)| Pose { rotation, translation: Vector3::zeros() })
}
