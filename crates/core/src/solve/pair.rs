//! Two frames to start from, and the motion between them.

use super::Problem;
use super::start::MIN_PARALLAX_DEG;
use crate::geometry::{
    Lens, Pose, decompose_essential, decompose_homography, essential_from_five, homography, parallax_rad, sampson_squared,
    transfer_squared, triangulate,
};
use crate::random::SplitMix64;
use nalgebra::{Matrix3, Vector2, Vector3};

/// Draws of points for each pair of frames, at least and at most, and how surely one of them is to be of points
/// that all follow the camera.
const LEAST_DRAWS: usize = 20;
const DRAWS: usize = 120;
const SURELY: f64 = 0.999;
/// Points that two frames must share to be a pair.
const MIN_SHARED: usize = 30;
/// Inliers that a start needs.
const MIN_INLIERS: usize = 25;
/// Angle beyond which more parallax of a pair counts for nothing, degrees.
const ENOUGH_PARALLAX_DEG: f64 = 5.0;
/// Zooms between the two frames of a pair that are tried, logarithms.
const PAIR_ZOOMS: [f64; 5] = [0.0, -0.06, 0.06, -0.14, 0.14];
/// How much further a point of a near-planar scene may miss than one of any other.
const FLAT_LIMIT: f64 = 2.0;

/// Two frames and the motion between them.
pub(super) struct Pair {
    pub a: u32,
    pub b: u32,
    /// Logarithm of the focal length at b over that at a.
    pub zoom: f64,
    pub pose: Pose,
    pub inliers: Vec<usize>,
    score: f64,
}

/// The pair of keyframes that is best to start from. Where a `flat` scene leaves two motions open, both of them.
pub(super) fn best_pairs(problem: &Problem, keyframes: &[u32], tracks: &[usize], lens: &Lens, zooms: bool, flat: bool) -> Vec<Pair> {
    let n = keyframes.len();
    let mut candidates = Vec::new();
    // With a zoom every pair is tried with several.
    let starts: &[usize] = if zooms { &[0, 2] } else { &[0, 1, 2, 3] };
    for start in starts.iter().map(|k| k * n / 5) {
        for gap in [1, 2, 3, 5, 8, 12] {
            if start + gap < n {
                candidates.push((keyframes[start], keyframes[start + gap]));
            }
        }
    }
    candidates.sort_unstable();
    candidates.dedup();
    let ratios: &[f64] = if zooms { &PAIR_ZOOMS } else { &[0.0] };
    candidates
        .into_iter()
        .flat_map(|(a, b)| ratios.iter().map(move |&zoom| (a, b, zoom)))
        .map(|(a, b, zoom)| relate(problem, (a, b), tracks, lens, zoom, flat))
        .max_by(|x, y| score(x).total_cmp(&score(y)))
        .unwrap_or_default()
}

fn score(pairs: &[Pair]) -> f64 {
    pairs.iter().map(|p| p.score).fold(f64::NEG_INFINITY, f64::max)
}

/// A track that two frames share, and where each of them sees it, normalised.
type Shared = (usize, Vector2<f64>, Vector2<f64>);

/// The motions between two frames that their shared points allow: one, or for a plane two.
fn relate(problem: &Problem, (a, b): (u32, u32), tracks: &[usize], lens: &Lens, zoom: f64, flat: bool) -> Vec<Pair> {
    let zoomed = Lens { focal_px: lens.focal_px * zoom.exp(), ..*lens };
    let shared: Vec<Shared> =
        tracks.iter().filter_map(|&t| Some((t, lens.normalise(problem.at(t, a)?), zoomed.normalise(problem.at(t, b)?)))).collect();
    if shared.len() < MIN_SHARED {
        return Vec::new();
    }
    // Strict enough that a wrong focal length loses points, loose enough for distortion not yet known.
    let limit = (1.5 * problem.scale() / lens.focal_px).powi(2);
    let random = SplitMix64::new(u64::from(a) << 32 | u64::from(b));
    let (poses, agreeing) = if flat { by_homography(&shared, limit, random) } else { by_essential(&shared, limit, random) };
    let of = |pose: &Pose| {
        let (mut angles, mut inliers) = (Vec::new(), Vec::new());
        for (t, p, q) in &agreeing {
            if let Some(x) = triangulate(&[(Pose::identity(), *p), (*pose, *q)]) {
                angles.push(parallax_rad(x, &[Vector3::zeros(), pose.centre()]).to_degrees());
                inliers.push(*t);
            }
        }
        if inliers.len() < MIN_INLIERS {
            return None;
        }
        let angle = super::report::median(&angles)?;
        let share = inliers.len() as f64 / shared.len() as f64;
        let score = angle.min(ENOUGH_PARALLAX_DEG) * share * (inliers.len() as f64).sqrt();
        (angle > MIN_PARALLAX_DEG).then_some(Pair { a, b, zoom, pose: *pose, inliers, score })
    };
    poses.iter().filter_map(of).collect()
}

/// The model under which the points cost least, each up to one: `draw` makes models of `N` points, `cost` is in parts of
/// the limit.
fn best_model<const N: usize>(
    shared: &[Shared],
    mut random: SplitMix64,
    draw: impl Fn(&[Shared; N]) -> Vec<Matrix3<f64>>,
    cost: impl Fn(&Matrix3<f64>, &Shared) -> f64,
) -> Option<Matrix3<f64>> {
    let mut best: Option<(f64, Matrix3<f64>)> = None;
    let mut draws = DRAWS;
    let mut drawn = 0;
    while drawn < draws {
        drawn += 1;
        let pick = random.distinct::<N>(shared.len())?;
        for model in draw(&pick.map(|i| shared[i])) {
            // What has cost more than the best so far need not be summed to its end.
            let least = best.map_or(f64::INFINITY, |b| b.0);
            let mut sum = 0.0;
            for some in shared.chunks(16) {
                sum += some.iter().map(|s| cost(&model, s).min(1.0)).sum::<f64>();
                if sum >= least {
                    break;
                }
            }
            if sum < least {
                best = Some((sum, model));
                draws = draws_for(1.0 - sum / shared.len() as f64, N);
            }
        }
    }
    best.map(|b| b.1)
}

fn by_essential(shared: &[Shared], limit: f64, random: SplitMix64) -> (Vec<Pose>, Vec<Shared>) {
    let draw = |s: &[Shared; 5]| essential_from_five(&s.map(|s| s.1), &s.map(|s| s.2));
    let cost = |e: &Matrix3<f64>, s: &Shared| sampson_squared(e, &s.1, &s.2) / limit;
    let Some(e) = best_model(shared, random, draw, cost) else { return (Vec::new(), Vec::new()) };
    let agreeing: Vec<Shared> = shared.iter().filter(|s| cost(&e, s) < 1.0).copied().collect();
    let pairs: Vec<_> = agreeing.iter().map(|s| (s.1, s.2)).collect();
    (decompose_essential(&e, &pairs).map(|d| d.0).into_iter().collect(), agreeing)
}

fn by_homography(shared: &[Shared], limit: f64, random: SplitMix64) -> (Vec<Pose>, Vec<Shared>) {
    // A scene is never quite flat, and distortion bends it.
    let limit = FLAT_LIMIT * FLAT_LIMIT * limit;
    let draw = |s: &[Shared; 4]| homography(&s.map(|s| (s.1, s.2))).into_iter().collect();
    let cost = |h: &Matrix3<f64>, s: &Shared| transfer_squared(h, &s.1, &s.2) / limit;
    let Some(h) = best_model(shared, random, draw, cost) else { return (Vec::new(), Vec::new()) };
    let pairs: Vec<_> = shared.iter().filter(|s| cost(&h, s) < 1.0).map(|s| (s.1, s.2)).collect();
    let h = homography(&pairs).unwrap_or(h);
    let agreeing: Vec<Shared> = shared.iter().filter(|s| cost(&h, s) < 1.0).copied().collect();
    let pairs: Vec<_> = agreeing.iter().map(|s| (s.1, s.2)).collect();
    (decompose_homography(&h, &pairs), agreeing)
}

/// Draws of `n` points after which one is surely of points that agree, where this part of all do (Fischler & Bolles 1981).
fn draws_for(part: f64, n: usize) -> usize {
    let needed = (1.0 - SURELY).ln() / (-part.clamp(0.0, 1.0 - 1e-9).powi(n as i32)).ln_1p();
    if needed.is_finite() { (needed.ceil() as usize).clamp(LEAST_DRAWS, DRAWS) } else { DRAWS }
}
