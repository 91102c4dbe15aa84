//! Two frames to start from, and the motion between them.

use crate::geometry::{
    Lens, Pose, decompose_essential, decompose_homography, essential_from_five, homography, parallax_rad,
    sampson_squared, transfer_squared, triangulate,
};
use crate::random::SplitMix64;
use crate::solve::problem::Problem;
use crate::solve::reconstruction::triangulation::MIN_PARALLAX_DEG;
use nalgebra::{Matrix3, Vector2, Vector3};

/// Draws of points for each pair of frames, at least and at most, and how surely one of them is to be of points
/// that all follow the camera.
const LEAST_DRAWS: usize = 20;
const SAMPLES: usize = 120;
const SURELY: f64 = 0.999;
/// Points that two frames must share to be a pair.
const MIN_SHARED: usize = 30;
/// Inliers that a start needs.
const MIN_INLIERS: usize = 25;
/// Angle beyond which more parallax of a pair counts for nothing, degrees.
const ENOUGH_PARALLAX_DEG: f64 = 5.0;
/// Zooms between the two frames of a pair that are tried, logarithms.
const PAIR_ZOOMS: [f64; 5] = [0.0, -0.06, 0.06, -0.14, 0.14];
/// How much further a point of a near-planar scene may be off than one of any other.
const FLAT_LIMIT: f64 = 2.0;

/// Two frames and the motion between them.
pub struct Pair {
    pub a: u32,
    pub b: u32,
    /// Logarithm of the focal length at b over that at a.
    pub zoom: f64,
    pub pose: Pose,
    pub inliers: Vec<usize>,
    pub score: f64,
}

/// The pair of keyframes that is best to start from. Where a `flat` scene leaves two motions open, both of them.
pub fn best_pairs(
    problem: &Problem,
    keyframes: &[u32],
    tracks: &[usize],
    lens: &Lens,
    zooms: bool,
    flat: bool,
) -> Vec<Pair> {
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
    let shared: Vec<Shared> = tracks
        .iter()
        .filter_map(|&t| Some((t, lens.unproject(problem.at(t, a)?), zoomed.unproject(problem.at(t, b)?))))
        .collect();
    if shared.len() < MIN_SHARED {
        return Vec::new();
    }
    // Strict enough that a wrong focal length loses points, loose enough for distortion not yet known.
    let limit = (1.5 * problem.scale() / lens.focal_px).powi(2);
    let random = SplitMix64::new(u64::from(a) << 32 | u64::from(b));
    let (poses, agreeing) =
        if flat { by_homography(&shared, limit, random) } else { by_essential(&shared, limit, random) };
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
        let angle = crate::solve::stats::median(&angles)?;
        let share = inliers.len() as f64 / shared.len() as f64;
        let score = angle.min(ENOUGH_PARALLAX_DEG) * share * (inliers.len() as f64).sqrt();
        (angle > MIN_PARALLAX_DEG).then_some(Pair { a, b, zoom, pose: *pose, inliers, score })
    };
    poses.iter().filter_map(of).collect()
}

/// The model under which the points cost least, each up to one: `draw` makes models of `N` points, `cost` is in parts
/// of the limit.
fn best_model<const N: usize>(
    shared: &[Shared],
    mut random: SplitMix64,
    sample: impl Fn(&[Shared; N]) -> Vec<Matrix3<f64>>,
    cost: impl Fn(&Matrix3<f64>, &Shared) -> f64,
) -> Option<Matrix3<f64>> {
    let mut best: Option<(f64, Matrix3<f64>)> = None;
    let mut samples = SAMPLES;
    let mut sampled = 0;
    while sampled < samples {
        sampled += 1;
        let pick = random.distinct::<N>(shared.len())?;
        for model in sample(&pick.map(|i| shared[i])) {
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
                samples = draws_for(1.0 - sum / shared.len() as f64, N);
            }
        }
    }
    best.map(|b| b.1)
}

fn by_essential(shared: &[Shared], limit: f64, random: SplitMix64) -> (Vec<Pose>, Vec<Shared>) {
    let sample = |s: &[Shared; 5]| essential_from_five(&s.map(|s| s.1), &s.map(|s| s.2));
    let cost = |e: &Matrix3<f64>, s: &Shared| sampson_squared(e, &s.1, &s.2) / limit;
    let Some(e) = best_model(shared, random, sample, cost) else { return (Vec::new(), Vec::new()) };
    let agreeing: Vec<Shared> = shared.iter().filter(|s| cost(&e, s) < 1.0).copied().collect();
    let pairs: Vec<_> = agreeing.iter().map(|s| (s.1, s.2)).collect();
    (decompose_essential(&e, &pairs).map(|d| d.0).into_iter().collect(), agreeing)
}

fn by_homography(shared: &[Shared], limit: f64, random: SplitMix64) -> (Vec<Pose>, Vec<Shared>) {
    // A scene is never quite flat, and distortion bends it.
    let limit = FLAT_LIMIT * FLAT_LIMIT * limit;
    let sample = |s: &[Shared; 4]| homography(&s.map(|s| (s.1, s.2))).into_iter().collect();
    let cost = |h: &Matrix3<f64>, s: &Shared| transfer_squared(h, &s.1, &s.2) / limit;
    let Some(h) = best_model(shared, random, sample, cost) else { return (Vec::new(), Vec::new()) };
    let pairs: Vec<_> = shared.iter().filter(|s| cost(&h, s) < 1.0).map(|s| (s.1, s.2)).collect();
    let h = homography(&pairs).unwrap_or(h);
    let agreeing: Vec<Shared> = shared.iter().filter(|s| cost(&h, s) < 1.0).copied().collect();
    let pairs: Vec<_> = agreeing.iter().map(|s| (s.1, s.2)).collect();
    (decompose_homography(&h, &pairs), agreeing)
}

/// Draws of `n` points after which one is surely of points that agree, where this part of all do (Fischler & Bolles
/// 1981).
fn draws_for(part: f64, n: usize) -> usize {
    let needed = (1.0 - SURELY).ln() / (-part.clamp(0.0, 1.0 - 1e-9).powi(n as i32)).ln_1p();
    if needed.is_finite() { (needed.ceil() as usize).clamp(LEAST_DRAWS, SAMPLES) } else { SAMPLES }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::log_so3;
    use crate::track::TrackId;

    const KEYS: [u32; 4] = [0, 10, 20, 30];

    /// A camera that goes aside and turns a little, past points of which those that `outlier` picks jump about.
    fn passing(flat: bool, outlier: impl Fn(u32) -> bool) -> (Problem, Lens) {
        let lens = Lens::centred(1000.0, 1280, 720);
        let mut random = SplitMix64::new(12);
        let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
        let pose = |f: u32| {
            let t = f64::from(f) / 30.0;
            Pose::identity().retract(Vector3::new(0.02 * t, 0.1 * t, 0.0), Vector3::new(-1.2 * t, 0.1 * t, 0.2 * t))
        };
        let track = |id: u32| {
            let depth = if flat { 9.0 } else { 9.0 + 3.0 * unit() };
            let (x, y) = (4.0 * unit(), 2.0 * unit());
            let point = Vector3::new(x, y, depth + if flat { 0.3 * x } else { 0.0 });
            KEYS.iter()
                .map(|&f| {
                    let c = pose(f).to_camera(point);
                    let off = if outlier(id) {
                        Vector2::new(unit(), unit()) * 60.0
                    } else {
                        Vector2::new(unit(), unit()) * 0.1
                    };
                    (f, lens.project(Vector2::new(c.x / c.z, c.y / c.z)) + off)
                })
                .collect()
        };
        let tracks: Vec<Vec<(u32, Vector2<f64>)>> = (0..160).map(track).collect();
        let problem = Problem {
            width: 1280,
            height: 720,
            frames: 31,
            ids: (0..160).map(TrackId).collect(),
            trusted: vec![false; 160],
            tracks,
            centre_px: lens.centre_px,
        };
        (problem, lens)
    }

    fn off_deg(pair: &Pair) -> (f64, f64) {
        let at = |f: u32| {
            let t = f64::from(f) / 30.0;
            Pose::identity().retract(Vector3::new(0.02 * t, 0.1 * t, 0.0), Vector3::new(-1.2 * t, 0.1 * t, 0.2 * t))
        };
        let (a, b) = (at(pair.a), at(pair.b));
        let rotation = b.rotation * a.rotation.inverse();
        let shift = b.translation - rotation * a.translation;
        (
            log_so3(&(pair.pose.rotation * rotation.inverse())).norm().to_degrees(),
            pair.pose.translation.angle(&shift).to_degrees(),
        )
    }

    #[test]
    fn the_motion_of_a_pair_is_found_among_four_in_ten_strays() {
        let (problem, lens) = passing(false, |id| id % 5 < 2);
        let all: Vec<usize> = (0..160).collect();
        let pairs = best_pairs(&problem, &KEYS, &all, &lens, false, false);
        let (turn, shift) = off_deg(&pairs[0]);
        assert!(pairs.len() == 1 && turn < 0.5 && shift < 5.0, "{turn} {shift} degrees off");
        assert!(
            pairs[0].inliers.len() >= 80 && pairs[0].inliers.iter().filter(|t| *t % 5 < 2).count() < 12,
            "{:?}",
            pairs[0].inliers.len()
        );
    }

    #[test]
    fn of_a_plane_one_of_the_motions_that_are_left_open_is_right() {
        let (problem, lens) = passing(true, |_| false);
        let all: Vec<usize> = (0..160).collect();
        let pairs = best_pairs(&problem, &KEYS, &all, &lens, false, true);
        assert!((1..=2).contains(&pairs.len()));
        let best = pairs.iter().map(off_deg).fold((f64::INFINITY, f64::INFINITY), |a, b| if b.1 < a.1 { b } else { a });
        assert!(best.0 < 0.5 && best.1 < 5.0, "{best:?} degrees off");
    }

    #[test]
    fn too_few_shared_points_make_no_pair() {
        let (problem, lens) = passing(false, |_| false);
        let few: Vec<usize> = (0..MIN_SHARED - 1).collect();
        assert!(best_pairs(&problem, &KEYS, &few, &lens, false, false).is_empty());
        assert!(best_pairs(&problem, &KEYS[..1], &few, &lens, false, false).is_empty());
    }
}
