//! Growing a scene over keyframes, and settling it.

use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Observation};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::registration::add_frame;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::{BRIDGE_PARALLAX_DEG, add_points, add_points_from, drop_points};
use crate::solve::refine::unlock::{gain_of, zoom_range};

/// Logarithm of the longest focal length over the shortest from which a zoom is one.
const LEAST_RANGE: f64 = 0.05;
/// Steps in which, and tracks on which, a zoom shows what it is worth.
const GAIN_STEPS: usize = 12;
const GAIN_TRACKS: usize = 300;
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
/// Where a point is dropped and where its weight has fallen to a half, in medians of all reprojection errors.
pub const SETTLE_LIMIT: f64 = 4.0;
const SETTLE_LOSS: f64 = 1.5;
/// Miss, px of a picture 1280 wide, within which a point agrees while the lens is still rough.
const ROUGH_PX: f64 = 5.0;

/// Which lens terms an adjustment moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unlock {
    /// None.
    Nothing,
    /// The focal length.
    Focal,
    /// k1 alone, for a focal length that is given.
    K1,
    /// Focal length and k1.
    FocalK1,
}

impl Unlock {
    /// Focal length, k1.
    fn flags(self) -> (bool, bool) {
        match self {
            Self::Nothing => (false, false),
            Self::Focal => (true, false),
            Self::K1 => (false, true),
            Self::FocalK1 => (true, true),
        }
    }
}

/// Adds the keyframes one by one, the one with the most known points first, with an adjustment after
/// each few and points dropped and taken in on the way.
///
/// While starts are still compared a `rough` end will do.
pub fn add_keyframes(
    problem: &Problem,
    scene: &mut Scene,
    tracks: &[usize],
    keyframes: &[u32],
    free_focal: bool,
    rough: bool,
) {
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
            adjust_scene(problem, scene, tracks, &posed, unlock(posed.len(), free_focal), 2.0, 6);
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
        adjust_scene(problem, scene, tracks, &posed, unlock(posed.len(), free_focal), 1.0, steps);
        drop_points(problem, scene, tracks, &posed, limit);
        add_points(problem, scene, tracks, limit);
    }
}

/// Adjusts and drops what does not agree, ever closer to the noise, until the focal length holds still: things that
/// move on their own explain themselves well enough within loose limits, and bend the camera to it.
///
/// While starts are still compared a `rough` settling will do.
pub fn settle(
    problem: &Problem,
    scene: &mut Scene,
    tracks: &[usize],
    keyframes: &[u32],
    free_focal: bool,
    rough: bool,
) {
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
        adjust_scene(problem, scene, tracks, posed, unlock(posed.len(), free_focal), loss, steps);
        drop_points(problem, scene, tracks, posed, limit);
        add_points(problem, scene, tracks, limit);
        let change =
            posed.iter().zip(&before).map(|(&f, b)| (scene.lens_at(f).focal_px / b).ln().abs()).fold(0.0, f64::max);
        let calmer = noise_px(problem, scene, tracks, posed).unwrap_or(scale);
        if change < SETTLED && calmer > 0.95 * noise {
            break;
        }
    }
    scene.noise_px = noise_px(problem, scene, tracks, posed).unwrap_or(scale);
}

/// Median reprojection error of the points that are placed, px.
fn noise_px(problem: &Problem, scene: &Scene, tracks: &[usize], frames: &[u32]) -> Option<f64> {
    let errors: Vec<f64> = tracks
        .iter()
        .filter_map(|&t| Some((t, scene.points[t]?)))
        .flat_map(|(t, point)| {
            frames.iter().filter_map(move |&f| scene.reprojection_error(f, &problem.at(t, f)?, &point))
        })
        .collect();
    crate::solve::stats::median(&errors)
}

fn unlock(cameras: usize, free_focal: bool) -> Unlock {
    match (cameras, free_focal) {
        (..=2, _) | (3..=4, false) => Unlock::Nothing,
        (3..=4, true) => Unlock::Focal,
        (_, true) => Unlock::FocalK1,
        (_, false) => Unlock::K1,
    }
}

/// The bundle of those frames and tracks that are placed, with their numbers.
fn gather(problem: &Problem, scene: &Scene, tracks: &[usize], frames: &[u32]) -> (Bundle, Vec<u32>, Vec<usize>) {
    let cameras: Vec<u32> = frames.iter().copied().filter(|&f| scene.poses[f as usize].is_some()).collect();
    let mut bundle = scene.bundle(&cameras);
    let mut used = Vec::new();
    for &t in tracks {
        let Some(point) = scene.points[t] else { continue };
        let seen: Vec<Observation> = cameras
            .iter()
            .enumerate()
            .filter_map(|(i, &f)| Some(Observation { camera: i as u32, pixel: problem.at(t, f)? }))
            .collect();
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
    let base = BundleOptions {
        motion: scene.motion,
        loss_px,
        max_steps: GAIN_STEPS,
        tolerance: 1e-6,
        ..BundleOptions::default()
    };
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
    unlock: Unlock,
    loss_px: f64,
    max_steps: usize,
) {
    let (mut bundle, cameras, used) = gather(problem, scene, tracks, frames);
    let (focal, k1) = unlock.flags();
    let options = BundleOptions {
        motion: scene.motion,
        focal: focal && !scene.zooms(),
        zoom: focal && scene.zooms(),
        k1,
        k2: false,
        readout: false,
        centre: false,
        loss_px: loss_px * problem.scale(),
        curved: false,
        accelerated: false,
        max_steps,
        tolerance: if scene.zooms() && max_steps > ROUGH_ZOOM_STEPS { 1e-7 } else { 1e-4 },
    };
    bundle.adjust(&options, |_| true);
    scene.take(&bundle, &cameras);
    for (&t, point) in used.iter().zip(&bundle.points) {
        scene.points[t] = Some(*point);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::reconstruction::triangulation::add_points;
    use crate::solve::synthetic::{Making, walk};

    const KEYS: [u32; 9] = [0, 5, 10, 15, 20, 25, 30, 35, 39];

    #[test]
    fn a_scene_grows_from_two_frames_over_all_keyframes() {
        let walk = walk(&Making { movers: 6, ..Making::default() });
        let mut scene = walk.scene(&[10, 20]);
        scene.lens.focal_px = 1000.0;
        scene.lens.k1 = 0.0;
        add_points(&walk.problem, &mut scene, &walk.all(), 5.0);
        add_keyframes(&walk.problem, &mut scene, &walk.all(), &KEYS, true, false);
        settle(&walk.problem, &mut scene, &walk.all(), &KEYS, true, false);
        assert_eq!(scene.posed(), KEYS);
        assert!((scene.lens.focal_px / 940.0 - 1.0).abs() < 0.01, "{:?}", scene.lens);
        assert!(scene.noise_px < 0.2, "{} px", scene.noise_px);
        assert!((0..160).step_by(6).all(|t| scene.points[t].is_none()), "what moves is no part of it");
    }

    #[test]
    fn a_given_focal_length_is_held() {
        let walk = walk(&Making::default());
        let mut scene = walk.scene(&[10, 20]);
        add_points(&walk.problem, &mut scene, &walk.all(), 5.0);
        add_keyframes(&walk.problem, &mut scene, &walk.all(), &KEYS, false, true);
        settle(&walk.problem, &mut scene, &walk.all(), &KEYS, false, true);
        assert!(scene.lens.focal_px == 940.0 && scene.posed() == KEYS, "{:?}", scene.lens);
    }

    #[test]
    fn keyframes_without_known_points_are_left_out() {
        let mut walk = walk(&Making::default());
        walk.problem.tracks.iter_mut().for_each(|t| t.retain(|(f, _)| *f < 30));
        let mut scene = walk.scene(&[10, 20]);
        add_points(&walk.problem, &mut scene, &walk.all(), 5.0);
        add_keyframes(&walk.problem, &mut scene, &walk.all(), &KEYS, true, false);
        assert_eq!(scene.posed(), [0, 5, 10, 15, 20, 25]);
    }

    #[test]
    fn a_zoom_is_asked_for_by_what_zooms_alone() {
        let gain = |zoom: fn(f64) -> f64| {
            let walk = walk(&Making { zoom, ..Making::default() });
            let mut scene = walk.scene(&KEYS);
            scene.points = walk.points.iter().map(|p| Some(*p)).collect();
            adjust_scene(&walk.problem, &mut scene, &walk.all(), &KEYS, Unlock::FocalK1, 2.0, 30);
            scene.noise_px = noise_px(&walk.problem, &scene, &walk.all(), &KEYS).unwrap();
            zoom_gain(&walk.problem, &scene, &KEYS)
        };
        let (fixed, zoomed) = (gain(|_| 0.0), gain(|f| 0.2 * (0.08 * f).sin()));
        assert!(fixed < 0.05 && zoomed > 0.3, "{fixed} {zoomed}");
    }

    #[test]
    fn lens_terms_are_released_as_cameras_come_in() {
        let of = |cameras| (unlock(cameras, true), unlock(cameras, false));
        assert_eq!(of(2), (Unlock::Nothing, Unlock::Nothing));
        assert_eq!(of(4), (Unlock::Focal, Unlock::Nothing));
        assert_eq!(of(5), (Unlock::FocalK1, Unlock::K1));
    }
}
