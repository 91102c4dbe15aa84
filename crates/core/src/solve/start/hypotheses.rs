//! A first small reconstruction, from nothing but tracks.

use crate::geometry::{Lens, Pose};
use crate::solve::bundle::state::Move;
use crate::solve::failure::StartError;
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::add_points;
use crate::solve::start::incremental::{SETTLE_LIMIT, Unlock, add_keyframes, adjust_scene, settle};
use crate::solve::start::seed_tracks::{SeedTracks, select_tracks};
use crate::solve::start::two_view::{Pair, best_pairs};
use rayon::prelude::*;
use std::sync::Arc;

/// Focal lengths tried, in picture widths: 20 mm to 110 mm on a sensor 36 mm wide.
pub const FOCAL_STARTS: [f64; 6] = [0.5, 0.7, 0.95, 1.3, 1.9, 3.0];
/// How many of them are tried for a zoom of which the focal length is known roughly.
const ZOOM_STARTS: usize = 3;
/// Starts of which it is found out how well they settle.
const SETTLED_STARTS: usize = 2;
/// The same of those grown with the tracks that last longest, where much moves on its own.
const SETTLED_LASTING: usize = 3;
/// Reprojection error, px of a picture 1280 wide, from which a start explains nothing.
const EXPLAINED_PX: f64 = 1.5;
/// Part of all that is left unexplained from which every start that went on is settled.
const CROWDED: f64 = 0.3;
/// Starts that are grown over all keyframes then, how much more than the best each may leave unexplained, and the
/// logarithm of the focal lengths within which two are the same.
const MOST_HYPOTHESES: usize = 4;
const NEARLY: f64 = 1.2;
const ALIKE: f64 = 0.02;
/// Where a settled start explains nothing more, in medians of the reprojection errors of the calmest, and at least, px
/// of a picture 1280 wide.
const TIGHT: f64 = 3.0;
const LEAST_TIGHT_PX: f64 = 0.25;
/// Tracks that a start is grown with.
const START_TRACKS: usize = 400;
/// Keyframes that the start is grown over, and the first of them, over which all that is tried is grown before the most
/// promising go on.
const WINDOW: usize = 14;
const FIRST_KEYS: usize = 7;
/// So many of them; each start of a zoom costs several times that of a fixed lens, and of a plane there are two for
/// each.
const GROWN_STARTS: usize = 3;
const GROWN_ZOOMS: usize = 2;
const GROWN_PLANES: usize = 6;
/// Logarithm of the focal lengths within which two that begin alike end alike.
const TWINS: f64 = 2e-3;

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

/// Tries all starting focal lengths on a window of keyframes. Hands back the scene that explains the most; where much
/// of what there is to explain moves on its own, others that explain nearly as much come behind it. Each comes with
/// what it was grown with.
///
/// # Errors
/// [`StartError::NoSharedMotion`].
pub fn find_start(
    problem: &Problem,
    keyframes: &[u32],
    with: StartWith,
) -> Result<Vec<(SeedTracks, Scene)>, StartError> {
    let StartWith { focal_px: given_focal_px, hint_px, zooms, .. } = with;
    let mut usual = FOCAL_STARTS.map(|w| w * f64::from(problem.width.max(problem.height)));
    let mut tried = usual.len();
    if let Some(hint_px) = hint_px.filter(|_| zooms) {
        usual.sort_by(|a, b| (a / hint_px).ln().abs().total_cmp(&(b / hint_px).ln().abs()));
        tried = ZOOM_STARTS;
    }
    let starts: Vec<f64> = match given_focal_px {
        Some(f) => vec![f],
        None => hint_px.into_iter().filter(|_| !zooms).chain(usual.into_iter().take(tried)).collect(),
    };
    let begin = |seed: SeedTracks| -> Vec<Start> {
        let tracks: Arc<[usize]> = seed.tracks(problem, keyframes).into();
        let of = |&focal_px: &f64| begin_start(problem, keyframes, &tracks, focal_px, with, seed);
        let begun: Vec<Vec<Start>> = starts.par_iter().map(of).collect();
        best_first(begun.into_iter().flatten().collect())
    };
    let mut grown = begin(SeedTracks::All(START_TRACKS));
    grown.truncate(match (zooms, with.flat) {
        (true, _) => GROWN_ZOOMS,
        (false, true) => GROWN_PLANES,
        (false, false) => GROWN_STARTS,
    });
    let go_on = |mut starts: Vec<Start>| {
        starts.par_iter_mut().for_each(|start| start.grow(problem, given_focal_px.is_none()));
        best_first(starts)
    };
    grown = go_on(grown);
    // Settling is what takes long; what explains little before it does not win by it, unless much of what there is to
    // explain moves on its own.
    let crowded =
        grown.first().is_none_or(|best| best.unexplained > CROWDED * (EXPLAINED_PX * problem.scale()).powi(2));
    if zooms || !crowded {
        grown.truncate(SETTLED_STARTS);
    } else {
        grown.extend(go_on(begin(SeedTracks::Lasting)).into_iter().take(SETTLED_LASTING));
    }
    let all = select_tracks(problem, keyframes, START_TRACKS);
    grown.par_iter_mut().for_each(|Start { scene, window, seed, tracks, .. }| {
        settle(problem, scene, tracks, window, given_focal_px.is_none(), true);
        place_rest(problem, scene, *seed, &all);
    });
    let settled =
        ranked(problem, &all, grown.into_iter().map(|start| (start.window, (start.seed, start.scene))).collect());
    let Some(&(least, _)) = settled.first() else {
        return Err(StartError::NoSharedMotion);
    };
    let mut chosen: Vec<(SeedTracks, Scene)> = Vec::new();
    for (unexplained, (seed, scene)) in settled {
        let is_kept = crowded && !zooms && unexplained < NEARLY * least && chosen.len() < MOST_HYPOTHESES;
        let alike = |(_, other): &(SeedTracks, Scene)| (scene.lens.focal_px / other.lens.focal_px).ln().abs() < ALIKE;
        if chosen.is_empty() || (is_kept && !chosen.iter().any(alike)) {
            chosen.push((seed, scene));
        }
    }
    Ok(chosen)
}

/// Places the tracks that a scene was not grown with, where they agree with it within its noise.
pub fn place_rest(problem: &Problem, scene: &mut Scene, seed: SeedTracks, tracks: &[usize]) {
    if seed == SeedTracks::Lasting {
        add_points(
            problem,
            scene,
            tracks,
            (SETTLE_LIMIT * scene.noise_px).clamp(0.5 * problem.scale(), 2.5 * problem.scale()),
        );
    }
}

/// Settled scenes with what each leaves unexplained at some keyframes (mean loss, px^2), from the least to the most.
///
/// Things on the move are explained within loose limits by a camera that is bent to them, and may be more than what
/// stands still; that alone is explained within the noise. So the calmest scene sets the limit for all.
pub fn ranked<F: AsRef<[u32]>>(
    problem: &Problem,
    tracks: &[usize],
    scenes: Vec<(F, (SeedTracks, Scene))>,
) -> Vec<(f64, (SeedTracks, Scene))> {
    let noise = scenes.iter().map(|(_, (_, scene))| scene.noise_px).fold(f64::INFINITY, f64::min);
    let cap = (TIGHT * noise).clamp(LEAST_TIGHT_PX * problem.scale(), EXPLAINED_PX * problem.scale());
    let cost = |frames: &F, scene: &Scene| unexplained(problem, frames.as_ref(), tracks, scene, cap);
    let mut ranked: Vec<_> = scenes.into_iter().map(|(frames, begun)| (cost(&frames, &begun.1), begun)).collect();
    ranked.sort_by(|a, b| a.0.total_cmp(&b.0));
    ranked
}

/// A scene that grew from one focal length, not settled yet.
struct Start {
    scene: Scene,
    /// The keyframes that it is grown over in the end.
    window: Vec<u32>,
    /// Mean loss of what it leaves unexplained.
    unexplained: f64,
    /// What it was grown with.
    seed: SeedTracks,
    tracks: Arc<[usize]>,
}

impl Start {
    /// Goes on over all of its keyframes.
    fn grow(&mut self, problem: &Problem, free_focal: bool) {
        add_keyframes(problem, &mut self.scene, &self.tracks, &self.window, free_focal, true);
        self.unexplained =
            unexplained(problem, &self.window, &self.tracks, &self.scene, EXPLAINED_PX * problem.scale());
    }
}

/// What one focal length leads to over the first keyframes; for a plane there may be two.
fn begin_start(
    problem: &Problem,
    keyframes: &[u32],
    tracks: &Arc<[usize]>,
    focal_px: f64,
    with: StartWith,
    seed: SeedTracks,
) -> Vec<Start> {
    let lens = problem.lens(focal_px);
    let pairs = best_pairs(problem, keyframes, tracks, &lens, with.zooms, with.flat);
    let begun = pairs.iter().filter_map(|pair| {
        let window = window_around(keyframes, pair.a, pair.b);
        let near = nearest(&window, pair);
        let scene = grow_from_pair(problem, &near, tracks, &lens, pair, with.focal_px.is_none(), with.zooms)?;
        let unexplained = unexplained(problem, &near, tracks, &scene, EXPLAINED_PX * problem.scale());
        Some(Start { scene, window, unexplained, seed, tracks: Arc::clone(tracks) })
    });
    begun.collect()
}

/// The keyframes of a window that lie nearest to either frame of a pair, both of them included.
fn nearest(window: &[u32], pair: &Pair) -> Vec<u32> {
    let mut near = window.to_vec();
    near.sort_by_key(|&f| f.abs_diff(pair.a).min(f.abs_diff(pair.b)));
    near.truncate(FIRST_KEYS);
    near.sort_unstable();
    near
}

/// Starts from what explains the most to what explains the least, of which no two have all but the same focal length
/// over the same window: they would end alike.
fn best_first(mut starts: Vec<Start>) -> Vec<Start> {
    starts.sort_by(|a, b| a.unexplained.total_cmp(&b.unexplained));
    let mut kept: Vec<Start> = Vec::with_capacity(starts.len());
    for start in starts {
        let focal_px = |s: &Start| s.scene.lens_at(s.window[s.window.len() / 2]).focal_px;
        let alike =
            |other: &Start| other.window == start.window && (focal_px(other) / focal_px(&start)).ln().abs() < TWINS;
        if !kept.iter().any(alike) {
            kept.push(start);
        }
    }
    kept
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
            let error = scene.points[t].and_then(|point| scene.reprojection_error(f, &pixel, &point)).unwrap_or(cap);
            sum += error.min(cap).powi(2);
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
    adjust_scene(problem, &mut scene, tracks, &[pair.a, pair.b], Unlock::Nothing, 2.0, 8);
    add_keyframes(problem, &mut scene, tracks, window, free_focal, true);
    (scene.poses.iter().flatten().count() >= 3.min(window.len())).then_some(scene)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::synthetic::{Making, walk};

    const KEYS: [u32; 9] = [0, 5, 10, 15, 20, 25, 30, 35, 39];
    const OPEN: StartWith = StartWith { focal_px: None, hint_px: None, zooms: false, flat: false };

    #[test]
    fn a_start_is_found_from_tracks_alone() {
        let walk = walk(&Making { movers: 6, ..Making::default() });
        let found = find_start(&walk.problem, &KEYS, OPEN).unwrap();
        assert_eq!(found.len(), 1, "a sixth of strays makes no crowd");
        let (seed, scene) = &found[0];
        assert_eq!(*seed, SeedTracks::All(START_TRACKS));
        assert!((scene.lens.focal_px / 940.0 - 1.0).abs() < 0.05, "{:?}", scene.lens);
    }

    #[test]
    fn with_a_given_focal_length_no_other_is_tried() {
        let walk = walk(&Making::default());
        let found = find_start(&walk.problem, &KEYS, StartWith { focal_px: Some(940.0), ..OPEN }).unwrap();
        assert!(found[0].1.lens.focal_px == 940.0);
    }

    #[test]
    fn frames_that_share_nothing_give_no_start() {
        let mut walk = walk(&Making::default());
        for (t, seen) in walk.problem.tracks.iter_mut().enumerate() {
            let from = (t as u32 * 7) % 36;
            seen.retain(|(f, _)| (from..from + 4).contains(f));
        }
        assert!(find_start(&walk.problem, &KEYS, OPEN).is_err());
    }

    #[test]
    fn what_explains_more_within_the_noise_of_the_calmest_comes_first() {
        let walk = walk(&Making::default());
        let mut right = walk.scene(&KEYS);
        right.points = walk.points.iter().map(|p| Some(*p)).collect();
        right.noise_px = 0.1;
        // It explains as much within loose limits.
        let mut accelerated = right.clone();
        accelerated.lens.focal_px *= 1.002;
        accelerated.noise_px = 0.6;
        let tracks = walk.all();
        let seed = SeedTracks::All(400);
        let order = ranked(&walk.problem, &tracks, vec![(KEYS, (seed, accelerated)), (KEYS, (seed, right))]);
        assert!(order[0].0 < order[1].0 && order[0].1.1.noise_px == 0.1, "{} {}", order[0].0, order[1].0);
        assert!(
            (unexplained(&walk.problem, &KEYS, &tracks, &walk.scene(&KEYS), 0.5) - 0.25).abs() < 1e-12,
            "nothing is placed"
        );
    }

    #[test]
    fn the_rest_is_placed_within_the_noise_alone() {
        let walk = walk(&Making { movers: 4, ..Making::default() });
        let mut scene = walk.scene(&KEYS);
        scene.noise_px = 0.12;
        let mut grown = scene.clone();
        place_rest(&walk.problem, &mut grown, SeedTracks::All(400), &walk.all());
        assert_eq!(grown.points.iter().flatten().count(), 0, "it was grown with all of them");
        place_rest(&walk.problem, &mut scene, SeedTracks::Lasting, &walk.all());
        assert!(scene.points.iter().flatten().count() > 110 && (0..160).step_by(4).all(|t| scene.points[t].is_none()));
    }

    #[test]
    fn of_starts_that_are_all_but_the_same_the_better_one_goes_on() {
        let walk = walk(&Making::default());
        let start = |focal_px: f64, first: u32, unexplained: f64| {
            let mut scene = walk.scene(&KEYS);
            scene.lens.focal_px = focal_px;
            Start { scene, window: vec![first, 20, 39], unexplained, seed: SeedTracks::All(400), tracks: Arc::from([]) }
        };
        let starts = vec![start(1000.0, 0, 0.3), start(1000.5, 0, 0.2), start(1000.2, 5, 0.4), start(1100.0, 0, 0.1)];
        let kept: Vec<(f64, u32)> = best_first(starts).iter().map(|s| (s.scene.lens.focal_px, s.window[0])).collect();
        assert_eq!(kept, [(1100.0, 0), (1000.5, 0), (1000.2, 5)]);
    }

    #[test]
    fn what_is_tried_begins_with_the_keyframes_round_its_pair() {
        let keys: Vec<u32> = (0..14).map(|k| 3 * k).collect();
        let pair = |a, b| Pair { a, b, zoom: 0.0, pose: Pose::identity(), inliers: Vec::new(), score: 0.0 };
        assert_eq!(nearest(&keys, &pair(9, 12)), [0, 3, 6, 9, 12, 15, 18]);
        assert_eq!(nearest(&keys, &pair(3, 36)), [0, 3, 6, 9, 33, 36, 39]);
        assert_eq!(nearest(&keys[..4], &pair(0, 9)), keys[..4]);
    }

    #[test]
    fn a_window_lies_round_its_pair_and_within_the_clip() {
        let keys: Vec<u32> = (0..40).map(|k| 3 * k).collect();
        let spans = |a, b| {
            let window = window_around(&keys, a, b);
            assert!(window.contains(&a) && window.contains(&b), "{window:?}");
            (window.len(), window[0])
        };
        assert_eq!(spans(0, 3), (WINDOW, 0));
        assert_eq!(spans(114, 117), (WINDOW, 78));
        assert_eq!(spans(30, 90).0, 21);
    }
}
