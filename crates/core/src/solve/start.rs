//! A first small reconstruction, from nothing but tracks.

use super::Problem;
use super::bundle::{Bundle, BundleOptions, Move, Observation};
use super::pair::{Pair, best_pairs};
use super::release::{gain_of, zoom_range};
use super::resect;
use super::state::Scene;
use crate::geometry::{Lens, Pose, parallax_rad, triangulate};
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

/// Focal lengths tried, in picture widths: 20 mm to 110 mm on a sensor 36 mm wide.
pub const FOCAL_STARTS: [f64; 6] = [0.5, 0.7, 0.95, 1.3, 1.9, 3.0];
/// How many of them are tried for a zoom of which the focal length is known roughly.
const ZOOM_STARTS: usize = 3;
/// Logarithm of the longest focal length over the shortest from which a zoom is one.
const LEAST_RANGE: f64 = 0.05;
/// Steps in which, and tracks on which, a zoom shows what it is worth.
const GAIN_STEPS: usize = 12;
const GAIN_TRACKS: usize = 300;
/// Starts of which it is found out how well they settle.
const SETTLED_STARTS: usize = 3;
const SETTLED_ZOOMS: usize = 2;
/// Angle between rays from which a point is taken in, degrees.
pub(super) const MIN_PARALLAX_DEG: f64 = 0.7;
/// Zooms against its neighbours that are tried for a frame, logarithms.
const FRAME_ZOOMS: [f64; 7] = [0.0, -0.025, 0.025, -0.06, 0.06, -0.12, 0.12];
/// Angle from which a point may help to reach the next frame where there are few, degrees.
pub(super) const BRIDGE_PARALLAX_DEG: f64 = 0.2;
/// Most rounds, and steps of each, in which a scene settles, and the change of the focal length that ends them.
const SETTLE_ROUNDS: usize = 8;
const SETTLE_STEPS: usize = 16;
/// Steps at the end of growing.
const GROWN_STEPS: usize = 12;
const GROWN_ZOOM_STEPS: usize = 24;
const ROUGH_STEPS: usize = 9;
const ROUGH_ZOOM_STEPS: usize = 14;
/// Keyframes from which more of them are added between two adjustments.
const MANY: usize = 20;
const ZOOM_ROUNDS: usize = 10;
const ROUGH_ROUNDS: usize = 3;
const ZOOM_STEPS: usize = 30;
const SETTLED: f64 = 1e-3;
/// Where a point is dropped and where its weight has fallen to a half, in medians of all misses.
const SETTLE_LIMIT: f64 = 4.0;
const SETTLE_LOSS: f64 = 1.5;
/// Miss, px of a picture 1280 wide, from which a start explains nothing.
const EXPLAINED_PX: f64 = 1.5;
/// Part of all that is left unexplained from which every start is settled.
const CROWDED: f64 = 0.3;
/// Starts that are grown over all keyframes then, how much more than the best each may leave unexplained, and the logarithm
/// of the focal lengths within which two are the same.
const MOST_RIVALS: usize = 4;
const RIVAL: f64 = 1.2;
const ALIKE: f64 = 0.02;
/// Where a settled start explains nothing more, in medians of the misses of the calmest, and at least, px of a picture 1280 wide.
const TIGHT: f64 = 3.0;
const LEAST_TIGHT_PX: f64 = 0.25;
/// Keyframes that the start is grown over.
const WINDOW: usize = 14;
/// Miss, px of a picture 1280 wide, within which a point agrees while the lens is still rough.
const ROUGH_PX: f64 = 5.0;

/// Up to `limit` tracks that are seen on the most keyframes, spread over the clip.
pub fn pick_tracks(problem: &Problem, keyframes: &[u32], limit: usize) -> Vec<usize> {
    let mut counted: Vec<(usize, usize)> = (0..problem.tracks.len())
        .map(|t| (keyframes.iter().filter(|&&f| problem.at(t, f).is_some()).count(), t))
        .filter(|&(n, _)| n >= 2)
        .collect();
    counted.sort_by_key(|&(n, t)| (std::cmp::Reverse(n), t));
    // Long tracks alone may leave a part of the clip bare: each keyframe gets its share first.
    let share = limit / keyframes.len().max(1);
    let mut room = vec![share.max(12); keyframes.len()];
    let mut chosen = Vec::new();
    for &(_, t) in &counted {
        let seen: Vec<usize> = (0..keyframes.len()).filter(|&k| problem.at(t, keyframes[k]).is_some()).collect();
        if chosen.len() < limit || seen.iter().any(|&k| room[k] > 0) {
            seen.iter().for_each(|&k| room[k] = room[k].saturating_sub(1));
            chosen.push(t);
        }
    }
    chosen.sort_unstable();
    chosen
}

/// What a start is looked for with.
#[derive(Debug, Clone, Copy)]
pub struct StartWith {
    /// The focal length, px, where it is given.
    pub focal_px: Option<f64>,
    /// A focal length, px, that is tried besides the usual ones; with a zoom only what lies near it is.
    pub hint_px: Option<f64>,
    /// Whether every frame has a focal length of its own.
    pub zooms: bool,
    /// Whether the scene is near-planar.
    pub flat: bool,
}

/// Tries all starting focal lengths on a window of keyframes. Hands back the scene that explains the most; where much of
/// what there is to explain moves on its own, rivals that explain nearly as much come behind it.
///
/// # Errors
/// Tells in words what was missing.
pub fn find_start(problem: &Problem, keyframes: &[u32], with: StartWith) -> Result<Vec<Scene>, String> {
    let StartWith { focal_px: given_focal_px, hint_px, zooms, .. } = with;
    let mut usual = FOCAL_STARTS.map(|w| w * f64::from(problem.width.max(problem.height)));
    let mut tried = usual.len();
    if let Some(hint_px) = hint_px.filter(|_| zooms) {
        // Each start of a zoom costs several times that of a fixed lens.
        usual.sort_by(|a, b| (a / hint_px).ln().abs().total_cmp(&(b / hint_px).ln().abs()));
        tried = ZOOM_STARTS;
    }
    let starts: Vec<f64> = match given_focal_px {
        Some(f) => vec![f],
        None => hint_px.into_iter().filter(|_| !zooms).chain(usual.into_iter().take(tried)).collect(),
    };
    let free_focal = given_focal_px.is_none();
    let tracks = pick_tracks(problem, keyframes, 400);
    let grown: Vec<Option<Start>> = starts.par_iter().map(|&focal_px| grow_start(problem, keyframes, &tracks, focal_px, with)).collect();
    let mut grown: Vec<Start> = grown.into_iter().flatten().collect();
    // Settling is what takes long; what explains little before it does not win by it, unless much of what there is to
    // explain moves on its own.
    grown.sort_by(|a, b| a.unexplained.total_cmp(&b.unexplained));
    let crowded = grown.first().is_some_and(|best| best.unexplained > CROWDED * (EXPLAINED_PX * problem.scale()).powi(2));
    if zooms || !crowded {
        grown.truncate(if zooms { SETTLED_ZOOMS } else { SETTLED_STARTS });
    }
    grown.par_iter_mut().for_each(|Start { scene, window, .. }| settle(problem, scene, &tracks, window, free_focal, true));
    let settled = ranked(problem, &tracks, grown.into_iter().map(|start| (start.window, start.scene)).collect());
    let Some(&(least, _)) = settled.first() else {
        return Err("no two frames share enough points that agree on one motion".to_owned());
    };
    let mut chosen: Vec<Scene> = Vec::new();
    for (unexplained, scene) in settled {
        let is_rival = crowded && !zooms && unexplained < RIVAL * least && chosen.len() < MOST_RIVALS;
        let alike = |other: &Scene| (scene.lens.focal_px / other.lens.focal_px).ln().abs() < ALIKE;
        if chosen.is_empty() || (is_rival && !chosen.iter().any(alike)) {
            chosen.push(scene);
        }
    }
    Ok(chosen)
}

/// Settled scenes with what each leaves unexplained at some keyframes (mean loss, px^2), from the least to the most.
///
/// Things on the move are explained within loose limits by a camera that is bent to them, and may be more than what stands
/// still; that alone is explained within the noise. So the calmest scene sets the limit for all.
pub fn ranked<F: AsRef<[u32]>>(problem: &Problem, tracks: &[usize], scenes: Vec<(F, Scene)>) -> Vec<(f64, Scene)> {
    let noise = scenes.iter().map(|(_, scene)| scene.noise_px).fold(f64::INFINITY, f64::min);
    let cap = (TIGHT * noise).clamp(LEAST_TIGHT_PX * problem.scale(), EXPLAINED_PX * problem.scale());
    let mut ranked: Vec<(f64, Scene)> =
        scenes.into_iter().map(|(frames, scene)| (unexplained(problem, frames.as_ref(), tracks, &scene, cap), scene)).collect();
    ranked.sort_by(|a, b| a.0.total_cmp(&b.0));
    ranked
}

/// A scene that grew from one focal length, not settled yet.
struct Start {
    scene: Scene,
    /// The keyframes that it was grown over.
    window: Vec<u32>,
    /// Mean loss of what it leaves unexplained.
    unexplained: f64,
}

fn grow_start(problem: &Problem, keyframes: &[u32], tracks: &[usize], focal_px: f64, with: StartWith) -> Option<Start> {
    let lens = problem.lens(focal_px);
    let pairs = best_pairs(problem, keyframes, tracks, &lens, with.zooms, with.flat);
    let grown = pairs.iter().filter_map(|pair| {
        let window = window_around(keyframes, pair.a, pair.b);
        let scene = grow_from_pair(problem, &window, tracks, &lens, pair, with.focal_px.is_none(), with.zooms)?;
        let unexplained = unexplained(problem, &window, tracks, &scene, EXPLAINED_PX * problem.scale());
        Some(Start { scene, window, unexplained })
    });
    grown.min_by(|a, b| a.unexplained.total_cmp(&b.unexplained))
}

fn window_around(keyframes: &[u32], a: u32, b: u32) -> Vec<u32> {
    let (ia, ib) = (keyframes.partition_point(|&f| f < a), keyframes.partition_point(|&f| f < b));
    let spare = WINDOW.saturating_sub(ib - ia + 1);
    let from = ia.saturating_sub(spare / 2);
    let to = (from + WINDOW.max(ib - ia + 1)).min(keyframes.len());
    keyframes[to.saturating_sub(WINDOW.max(ib - ia + 1))..to].to_vec()
}

/// Mean loss per observation, capped by the square of `cap` (px); what has no pose or point costs that.
pub fn unexplained(problem: &Problem, keyframes: &[u32], tracks: &[usize], scene: &Scene, cap: f64) -> f64 {
    let (mut sum, mut n) = (0.0, 0.0);
    for &t in tracks {
        for &f in keyframes {
            let Some(pixel) = problem.at(t, f) else { continue };
            let miss = scene.points[t].and_then(|point| scene.miss(f, &pixel, &point)).unwrap_or(cap);
            sum += miss.min(cap).powi(2);
            n += 1.0;
        }
    }
    sum / f64::max(n, 1.0)
}

fn grow_from_pair(
    problem: &Problem,
    window: &[u32],
    tracks: &[usize],
    lens: &Lens,
    pair: &Pair,
    free_focal: bool,
    zooms: bool,
) -> Option<Scene> {
    let mut scene = Scene::new(Move::Free, problem, *lens, zooms);
    if zooms {
        scene.zoom[pair.b as usize] = pair.zoom;
    }
    scene.poses[pair.a as usize] = Some(Pose::identity());
    scene.poses[pair.b as usize] = Some(pair.pose);
    add_points(problem, &mut scene, &pair.inliers, 3.0 * problem.scale());
    adjust_scene(problem, &mut scene, tracks, &[pair.a, pair.b], Release::Nothing, 2.0, 8);
    add_keyframes(problem, &mut scene, tracks, window, free_focal, true);
    (scene.poses.iter().flatten().count() >= 3.min(window.len())).then_some(scene)
}

/// Which lens terms an adjustment moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Release {
    /// None.
    Nothing,
    /// The focal length.
    Focal,
    /// k1 alone, for a focal length that is given.
    K1,
    /// Focal length and k1.
    FocalK1,
    /// Focal length, k1 and k2.
    FocalK1K2,
}

impl Release {
    /// Focal length, k1, k2.
    pub fn flags(self) -> (bool, bool, bool) {
        match self {
            Self::Nothing => (false, false, false),
            Self::Focal => (true, false, false),
            Self::K1 => (false, true, false),
            Self::FocalK1 => (true, true, false),
            Self::FocalK1K2 => (true, true, true),
        }
    }
}

/// Adds the keyframes one by one, the one with the most known points first, with an adjustment after
/// each few and points dropped and taken in on the way.
///
/// While starts are still compared a `rough` end will do.
pub fn add_keyframes(problem: &Problem, scene: &mut Scene, tracks: &[usize], keyframes: &[u32], free_focal: bool, rough: bool) {
    let mut failed: Vec<u32> = Vec::new();
    let mut since = 0;
    loop {
        let next = keyframes
            .iter()
            .copied()
            .filter(|&f| scene.poses[f as usize].is_none() && !failed.contains(&f))
            .map(|f| (tracks.iter().filter(|&&t| scene.points[t].is_some() && problem.at(t, f).is_some()).count(), f))
            .max_by_key(|&(n, f)| (n, std::cmp::Reverse(f)));
        let rough = ROUGH_PX * problem.scale();
        let Some((known, frame)) = next else { break };
        if known < 10 || !add_frame(problem, scene, tracks, frame, rough) {
            // Where tracks are short, few of their points have much parallax; they still hold the turn.
            add_points_from(problem, scene, tracks, rough, BRIDGE_PARALLAX_DEG);
            if !add_frame(problem, scene, tracks, frame, rough) {
                failed.push(frame);
                continue;
            }
        }
        since += 1;
        let posed: Vec<u32> = keyframes.iter().copied().filter(|&f| scene.poses[f as usize].is_some()).collect();
        add_points(problem, scene, tracks, rough);
        if posed.len() <= 6 || since >= if posed.len() < MANY { 3 } else { 6 } {
            since = 0;
            // A frame that failed may succeed once more points are known.
            failed.clear();
            adjust_scene(problem, scene, tracks, &posed, release(posed.len(), free_focal), 2.0, 6);
            drop_points(problem, scene, tracks, &posed, rough);
        }
        if failed.len() > keyframes.len() {
            break;
        }
    }
    let posed: Vec<u32> = keyframes.iter().copied().filter(|&f| scene.poses[f as usize].is_some()).collect();
    for limit in [ROUGH_PX * problem.scale(), 2.5 * problem.scale()] {
        // Focal length and depth trade places along a flat valley; it takes many small steps.
        let steps = match (scene.zooms(), rough) {
            (false, true) => ROUGH_STEPS,
            (false, false) => GROWN_STEPS,
            (true, true) => ROUGH_ZOOM_STEPS,
            (true, false) => GROWN_ZOOM_STEPS,
        };
        adjust_scene(problem, scene, tracks, &posed, release(posed.len(), free_focal), 1.0, steps);
        drop_points(problem, scene, tracks, &posed, limit);
        add_points(problem, scene, tracks, limit);
    }
}

/// Adjusts and drops what does not agree, ever closer to the noise, until the focal length holds still: things that
/// move on their own explain themselves well enough within loose limits, and bend the camera to it.
///
/// While starts are still compared a `rough` settling will do.
pub fn settle(problem: &Problem, scene: &mut Scene, tracks: &[usize], keyframes: &[u32], free_focal: bool, rough: bool) {
    let posed: Vec<u32> = keyframes.iter().copied().filter(|&f| scene.poses[f as usize].is_some()).collect();
    let posed = posed.as_slice();
    if posed.len() < 4 {
        return;
    }
    let scale = problem.scale();
    // Zoom, travel and depth trade places along a valley that is flatter still.
    let (rounds, steps) = match (scene.zooms(), rough) {
        (false, _) => (SETTLE_ROUNDS, SETTLE_STEPS),
        (true, true) => (ROUGH_ROUNDS, ZOOM_STEPS),
        (true, false) => (ZOOM_ROUNDS, ZOOM_STEPS),
    };
    for _ in 0..rounds {
        let noise = noise_px(problem, scene, tracks, posed).unwrap_or(scale);
        let limit = (SETTLE_LIMIT * noise).clamp(0.5 * scale, 2.5 * scale);
        let before: Vec<f64> = posed.iter().map(|&f| scene.lens_at(f).focal_px).collect();
        let loss = (SETTLE_LOSS * noise / scale).clamp(0.1, 1.0);
        adjust_scene(problem, scene, tracks, posed, release(posed.len(), free_focal), loss, steps);
        drop_points(problem, scene, tracks, posed, limit);
        add_points(problem, scene, tracks, limit);
        let change = posed.iter().zip(&before).map(|(&f, b)| (scene.lens_at(f).focal_px / b).ln().abs()).fold(0.0, f64::max);
        let calmer = noise_px(problem, scene, tracks, posed).unwrap_or(scale);
        if change < SETTLED && calmer > 0.95 * noise {
            break;
        }
    }
    scene.noise_px = noise_px(problem, scene, tracks, posed).unwrap_or(scale);
}

/// Median miss of the points that are placed, px.
fn noise_px(problem: &Problem, scene: &Scene, tracks: &[usize], frames: &[u32]) -> Option<f64> {
    let misses: Vec<f64> = tracks
        .iter()
        .filter_map(|&t| Some((t, scene.points[t]?)))
        .flat_map(|(t, point)| frames.iter().filter_map(move |&f| scene.miss(f, &problem.at(t, f)?, &point)))
        .collect();
    super::report::median(&misses)
}

fn release(cameras: usize, free_focal: bool) -> Release {
    match (cameras, free_focal) {
        (..=2, _) | (3..=4, false) => Release::Nothing,
        (3..=4, true) => Release::Focal,
        (_, true) => Release::FocalK1,
        (_, false) => Release::K1,
    }
}

/// Poses `frame` from known points; `false` when they do not agree on a pose.
pub fn add_frame(problem: &Problem, scene: &mut Scene, tracks: &[usize], frame: u32, limit_px: f64) -> bool {
    let sights: Vec<resect::Sight> = tracks.iter().filter_map(|&t| Some((problem.at(t, frame)?, scene.points[t]?))).collect();
    if sights.len() < 8 {
        return false;
    }
    scene.guess_zoom(frame);
    let middle = scene.lens_at(frame);
    let tries: &[f64] = if scene.zooms() { &FRAME_ZOOMS } else { &[0.0] };
    let best = tries
        .iter()
        .filter_map(|zoom| {
            let lens = Lens { focal_px: middle.focal_px * zoom.exp(), ..middle };
            let (pose, within) = resect::from_scratch(&sights, &lens, limit_px, u64::from(frame) + 1)?;
            if !scene.zooms() {
                return Some((within, pose, lens));
            }
            let (pose, lens) = resect::refine_loose(pose, &sights, &lens, 0.5 * limit_px, resect::Loose { shift: true, focal: true });
            Some((resect::count_within(&pose, &sights, &lens, limit_px), pose, lens))
        })
        .max_by_key(|t| t.0);
    match best {
        Some((within, pose, lens)) if within >= 8 && within * 10 >= sights.len() * 3 => {
            scene.pose_frame(frame, pose, &lens);
            true
        }
        _ => false,
    }
}

/// Triangulates the tracks that have no position yet; robust against strays among the views.
pub fn add_points(problem: &Problem, scene: &mut Scene, tracks: &[usize], limit_px: f64) {
    add_points_from(problem, scene, tracks, limit_px, MIN_PARALLAX_DEG);
}

/// The same with a parallax of one's own, degrees.
pub fn add_points_from(problem: &Problem, scene: &mut Scene, tracks: &[usize], limit_px: f64, min_deg: f64) {
    let found: Vec<Option<Vector3<f64>>> = tracks
        .par_iter()
        .map(|&t| if scene.points[t].is_some() { None } else { place_track(problem, scene, t, limit_px, min_deg) })
        .collect();
    for (&t, point) in tracks.iter().zip(found) {
        if point.is_some() {
            scene.points[t] = point;
        }
    }
}

/// The position of one track from all frames that have poses, if it has parallax of `min_deg` and
/// its views agree. Of a nodal move it is the direction.
pub fn place_track(problem: &Problem, scene: &Scene, track: usize, limit_px: f64, min_deg: f64) -> Option<Vector3<f64>> {
    let views: Vec<(Pose, Vector2<f64>, u32, Vector2<f64>)> = problem.tracks[track]
        .iter()
        .filter_map(|&(f, pixel)| Some((scene.pose_at(f, pixel.y)?, scene.lens_at(f).normalise(pixel), f, pixel)))
        .collect();
    if views.len() < 2 {
        return None;
    }
    let agrees = |point: &Vector3<f64>| {
        let within = views.iter().filter(|v| scene.miss(v.2, &v.3, point).is_some_and(|m| m < limit_px)).count();
        within * 10 >= views.len() * 8
    };
    if scene.motion == Move::Nodal {
        let sum: Vector3<f64> = views.iter().map(|v| v.0.rotation.inverse() * Vector3::new(v.1.x, v.1.y, 1.0).normalize()).sum();
        return sum.try_normalize(1e-9).filter(agrees);
    }
    let centres: Vec<_> = views.iter().map(|v| v.0.centre()).collect();
    let point = triangulate(&views.iter().map(|v| (v.0, v.1)).collect::<Vec<_>>())?;
    (agrees(&point) && parallax_rad(point, &centres).to_degrees() >= min_deg).then_some(point)
}

/// Forgets points whose views do not agree within `limit_px` (RMS), or that lost their parallax.
pub fn drop_points(problem: &Problem, scene: &mut Scene, tracks: &[usize], frames: &[u32], limit_px: f64) {
    for &t in tracks {
        let Some(point) = scene.points[t] else { continue };
        let (mut sum, mut n, mut behind) = (0.0, 0usize, false);
        let mut centres = Vec::new();
        for &f in frames {
            if let (Some(pixel), Some(pose)) = (problem.at(t, f), &scene.poses[f as usize]) {
                match scene.miss(f, &pixel, &point) {
                    Some(m) => sum += m * m,
                    None => behind = true,
                }
                centres.push(pose.centre());
                n += 1;
            }
        }
        let bad = behind || n < 2 || (sum / n as f64).sqrt() > limit_px;
        if bad || parallax_rad(point, &centres).to_degrees() < 0.5 * MIN_PARALLAX_DEG {
            scene.points[t] = None;
        }
    }
}

/// The bundle of those frames and tracks that are placed, with their numbers.
fn gather(problem: &Problem, scene: &Scene, tracks: &[usize], frames: &[u32]) -> (Bundle, Vec<u32>, Vec<usize>) {
    let cameras: Vec<u32> = frames.iter().copied().filter(|&f| scene.poses[f as usize].is_some()).collect();
    let mut bundle = scene.bundle(&cameras);
    let mut used = Vec::new();
    for &t in tracks {
        let Some(point) = scene.points[t] else { continue };
        let seen: Vec<Observation> =
            cameras.iter().enumerate().filter_map(|(i, &f)| Some(Observation { camera: i as u32, pixel: problem.at(t, f)? })).collect();
        if seen.len() >= 2 {
            used.push(t);
            bundle.points.push(point);
            bundle.observations.push(seen);
        }
    }
    (bundle, cameras, used)
}

/// Part of the cost at the keyframes that a focal length of its own for each of them takes away, where those differ by
/// enough for a zoom.
pub fn zoom_gain(problem: &Problem, scene: &Scene, keyframes: &[u32]) -> f64 {
    let placed: Vec<usize> = (0..problem.tracks.len()).filter(|&t| scene.points[t].is_some()).collect();
    let tracks: Vec<usize> = placed.iter().copied().step_by(placed.len().div_ceil(GAIN_TRACKS).max(1)).collect();
    let (start, ..) = gather(problem, scene, &tracks, keyframes);
    let loss_px = (SETTLE_LIMIT * scene.noise_px).clamp(0.3 * problem.scale(), 2.0 * problem.scale());
    let base = BundleOptions { motion: scene.motion, loss_px, max_steps: GAIN_STEPS, tolerance: 1e-6, ..BundleOptions::default() };
    let with = BundleOptions { focal: false, zoom: true, ..base };
    // A principal point off the middle asks for a trace of a zoom.
    gain_of(&start, &base, &with).filter(|(_, zoomed)| zoom_range(&zoomed.zoom) > LEAST_RANGE).map_or(0.0, |g| g.0)
}

/// Bundle adjustment of the given frames and tracks, written back to the scene.
pub fn adjust_scene(
    problem: &Problem,
    scene: &mut Scene,
    tracks: &[usize],
    frames: &[u32],
    release: Release,
    loss_px: f64,
    max_steps: usize,
) {
    let (mut bundle, cameras, used) = gather(problem, scene, tracks, frames);
    let (focal, k1, k2) = release.flags();
    let options = BundleOptions {
        motion: scene.motion,
        focal: focal && !scene.zooms(),
        zoom: focal && scene.zooms(),
        k1,
        k2,
        readout: false,
        centre: false,
        loss_px: loss_px * problem.scale(),
        curved: false,
        bent: false,
        max_steps,
        tolerance: if scene.zooms() && max_steps > ROUGH_ZOOM_STEPS { 1e-7 } else { 1e-4 },
    };
    bundle.adjust(&options, |_| true);
    scene.take(&bundle, &cameras);
    for (&t, point) in used.iter().zip(&bundle.points) {
        scene.points[t] = Some(*point);
    }
}
