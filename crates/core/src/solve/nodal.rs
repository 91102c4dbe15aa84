//! A camera that only turns: does it explain the tracks?

use super::Problem;
use super::bundle::{Bundle, BundleOptions, Move, Observation};
use crate::geometry::{Lens, Pose, nearest_rotation};
use nalgebra::{Matrix3, Rotation3, Vector3};
use rayon::prelude::*;

/// Focal lengths tried, in picture widths.
const STARTS: [f64; 4] = [0.6, 0.9, 1.4, 2.4];
/// Tracks that are enough for the test.
const MAX_TRACKS: usize = 300;
/// Median misses of the turning camera over those of the free one, below which it explains all.
const NOISE_RATIO: f64 = 2.0;

/// The best camera that only turns.
#[derive(Debug, Clone)]
pub struct NodalFit {
    /// Poses with zero translation, one per keyframe.
    pub poses: Vec<Pose>,
    /// Its lens.
    pub lens: Lens,
    /// Logarithm of each keyframe's focal length over that of the lens; empty without a zoom.
    pub zoom: Vec<f64>,
    /// Median distance between seen and projected points, px.
    pub median_px: f64,
    /// All those distances, px.
    pub misses_px: Vec<f64>,
    /// Number of points.
    pub points: usize,
}

/// Fits rotations, one focal length (or one a keyframe, with `zooms`) and k1 to the tracks at the keyframes. `None`
/// when no chain of keyframes shares enough points.
pub fn fit(problem: &Problem, keyframes: &[u32], given_focal_px: Option<f64>, zooms: bool) -> Option<NodalFit> {
    let tracks = super::start::pick_tracks(problem, keyframes, MAX_TRACKS);
    let starts: Vec<f64> = match given_focal_px {
        Some(f) => vec![f],
        None => STARTS.iter().map(|widths| widths * f64::from(problem.width)).collect(),
    };
    let hold = given_focal_px.is_some();
    let begun: Vec<Option<Bundle>> =
        starts.par_iter().map(|&focal_px| begin_from(problem, keyframes, &tracks, focal_px, hold, zooms)).collect();
    // A rough fit tells which of the starts are worth a fine one.
    let mut begun: Vec<(f64, Bundle)> = begun.into_iter().flatten().filter_map(|b| Some((median_miss(&b)?, b))).collect();
    begun.sort_by(|a, b| a.0.total_cmp(&b.0));
    // What a rough fit misses by far, a fine one misses by less, but still by far: how far is all that is asked then.
    let hopeless = begun.first().is_some_and(|b| b.0 > HOPELESS_PX * problem.scale());
    begun.truncate(if hopeless { 1 } else { FINE_STARTS });
    let steps = if hopeless { HOPELESS_STEPS } else { FINE_STEPS };
    let fits: Vec<Option<NodalFit>> =
        begun.into_par_iter().map(|(_, bundle)| finish(bundle, problem.scale(), steps, (hold, zooms))).collect();
    fits.into_iter().flatten().min_by(|a, b| a.median_px.total_cmp(&b.median_px))
}

/// Starts that are fitted finely, and the steps of that: with a loose loss and a tight one.
const FINE_STARTS: usize = 2;
const FINE_STEPS: [usize; 2] = [15, 25];
/// Steps of a rough fit.
const ROUGH_STEPS: usize = 9;
/// Median miss of a rough fit, px of a picture 1280 wide, from which no fine one makes a camera of it, and the steps that
/// tell by how much it misses.
const HOPELESS_PX: f64 = 6.0;
const HOPELESS_STEPS: [usize; 2] = [5, 10];
/// Zooms from keyframe to keyframe that are tried, logarithms.
const STEP_ZOOMS: [f64; 13] = [0.0, -0.01, 0.01, -0.02, 0.02, -0.035, 0.035, -0.055, 0.055, -0.09, 0.09, -0.15, 0.15];

/// A rough fit from one focal length.
fn begin_from(problem: &Problem, keyframes: &[u32], tracks: &[usize], focal_px: f64, hold: bool, zooms: bool) -> Option<Bundle> {
    let lens = problem.lens(focal_px);
    let ray = |t: usize, frame: u32, zoom: f64| {
        let zoomed = Lens { focal_px: lens.focal_px * zoom.exp(), ..lens };
        let n = zoomed.normalise(problem.at(t, frame)?);
        Some(Vector3::new(n.x, n.y, 1.0).normalize())
    };
    let mut rotation = Rotation3::identity();
    let mut poses = vec![Pose::identity()];
    let mut zoom = vec![0.0f64];
    let steps: &[f64] = if zooms { &STEP_ZOOMS } else { &[0.0] };
    for pair in keyframes.windows(2) {
        let from = zoom.last().copied().unwrap_or(0.0);
        let turned = steps.iter().filter_map(|step| {
            let rays: Vec<_> = tracks.iter().filter_map(|&t| Some((ray(t, pair[0], from)?, ray(t, pair[1], from + step)?))).collect();
            let (turn, miss) = turn_between(&rays)?;
            Some((turn, miss, from + step))
        });
        let (turn, _, at) = turned.min_by(|a, b| a.1.total_cmp(&b.1))?;
        rotation = turn * rotation;
        poses.push(Pose { rotation, translation: Vector3::zeros() });
        zoom.push(at);
    }
    let mut bundle = Bundle::new(poses, keyframes.iter().map(|&f| f64::from(f)).collect(), lens);
    if zooms {
        bundle.zoom = zoom;
    }
    for &t in tracks {
        let seen: Vec<_> =
            keyframes.iter().enumerate().filter_map(|(k, &f)| Some(Observation { camera: k as u32, pixel: problem.at(t, f)? })).collect();
        if seen.len() < 2 {
            continue;
        }
        let middle = seen[seen.len() / 2];
        let n = bundle.lens_of(middle.camera as usize).normalise(middle.pixel);
        let direction = bundle.poses[middle.camera as usize].rotation.inverse() * Vector3::new(n.x, n.y, 1.0);
        bundle.points.push(direction.normalize());
        bundle.observations.push(seen);
    }
    adjust(&mut bundle, 20.0 * problem.scale(), false, ROUGH_STEPS, (hold, zooms));
    Some(bundle)
}

fn adjust(bundle: &mut Bundle, loss_px: f64, k1: bool, max_steps: usize, (hold, zooms): (bool, bool)) {
    let (motion, focal) = (Move::Nodal, !zooms && !hold);
    let options = BundleOptions { motion, focal, zoom: zooms, k1, loss_px, max_steps, tolerance: 1e-5, ..BundleOptions::default() };
    bundle.adjust(&options, |_| true);
}

fn median_miss(bundle: &Bundle) -> Option<f64> {
    super::report::median(&misses_px(bundle))
}

/// How far every point misses where it was seen, px; one behind the camera counts as far off.
fn misses_px(bundle: &Bundle) -> Vec<f64> {
    bundle.residuals().into_iter().flatten().map(|r| r.map_or(1e3, |r| r.norm())).collect()
}

/// The fine fit.
fn finish(mut bundle: Bundle, scale: f64, steps: [usize; 2], known: (bool, bool)) -> Option<NodalFit> {
    adjust(&mut bundle, 4.0 * scale, true, steps[0], known);
    adjust(&mut bundle, scale, true, steps[1], known);
    let misses_px = misses_px(&bundle);
    let median_px = super::report::median(&misses_px)?;
    Some(NodalFit { points: bundle.points.len(), poses: bundle.poses, lens: bundle.lens, zoom: bundle.zoom, median_px, misses_px })
}

/// The turn that takes the first rays onto the second (Kabsch 1976), with Cauchy weights, and the median distance that
/// is left between them.
pub(super) fn turn_between(rays: &[(Vector3<f64>, Vector3<f64>)]) -> Option<(Rotation3<f64>, f64)> {
    if rays.len() < 8 {
        return None;
    }
    let mut rotation = Rotation3::identity();
    let mut scale = f64::INFINITY;
    let mut middle = f64::INFINITY;
    for _ in 0..8 {
        let cross = rays.iter().fold(Matrix3::zeros(), |m, (a, b)| {
            let weight = 1.0 / (1.0 + ((rotation * a - b).norm() / scale).powi(2));
            m + b * a.transpose() * weight
        });
        rotation = nearest_rotation(&cross)?;
        let misses: Vec<f64> = rays.iter().map(|(a, b)| (rotation * a - b).norm()).collect();
        middle = super::report::median(&misses)?;
        scale = (1.5 * middle).max(1e-5);
    }
    Some((rotation, middle))
}

/// Whether turning alone is the better account of the motion.
///
/// Yes, when it leaves hardly more than the noise `noise_px` (median miss) that the free fit leaves: a
/// free camera then only bends itself round that noise. Yes too by Torr's GRIC ("Bayesian Model
/// Estimation and Selection for Epipolar Geometry", 2002) of points with two unknowns each and
/// cameras with three, against three and six.
pub fn explains_better(nodal: &NodalFit, free_misses_px: &[f64], free_points: usize, keyframes: usize, noise_px: f64) -> bool {
    if nodal.median_px < NOISE_RATIO * noise_px {
        return true;
    }
    let sigma_px = noise_px / 1.1774;
    let score = |misses: &[f64], points: usize, dof_point: f64, parameters: f64| -> f64 {
        let views = misses.len() as f64 / points.max(1) as f64;
        let dimension = 2.0 * views;
        let limit = 2.0 * (dimension - dof_point).max(1.0);
        let misfit: f64 = misses.iter().map(|m| (m * m / (sigma_px * sigma_px)).min(limit)).sum();
        misfit + dimension.ln() * dof_point * points as f64 + (dimension * points as f64).ln() * parameters
    };
    let turning = score(&nodal.misses_px, nodal.points, 2.0, 3.0 * keyframes as f64 + 2.0);
    let free = score(free_misses_px, free_points, 3.0, 6.0 * keyframes as f64 + 2.0 - 7.0);
    // The two fits may use different points; compare what one observation costs.
    turning / (nodal.misses_px.len().max(1) as f64) < free / (free_misses_px.len().max(1) as f64)
}
