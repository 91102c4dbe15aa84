//! A camera that only turns: does it explain the tracks?

use crate::geometry::{Lens, Pose, nearest_rotation};
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Move, Observation};
use crate::solve::problem::Problem;
use nalgebra::{Matrix3, Rotation3, Vector3};
use rayon::prelude::*;

/// Focal lengths tried, in picture widths.
const STARTS: [f64; 4] = [0.6, 0.9, 1.4, 2.4];
/// Tracks that are enough for the test.
const MAX_TRACKS: usize = 180;
/// Median reprojection errors of the turning camera over those of the free one, below which it explains all.
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
    pub errors_px: Vec<f64>,
    /// Number of points.
    pub points: usize,
}

/// What is known of the focal length of the first keyframe.
#[derive(Debug, Clone, Copy)]
pub enum FocalStart {
    /// Nothing; several are tried.
    Nothing,
    /// About how long it is, px.
    Near(f64),
    /// It is given, px, and held.
    Given(f64),
}

/// Fits rotations, one focal length (or one a keyframe, with `zooms`) and k1 to the tracks at the keyframes. `None`
/// when no chain of keyframes shares enough points.
pub fn fit(problem: &Problem, keyframes: &[u32], from: FocalStart, zooms: bool) -> Option<NodalFit> {
    let tracks = crate::solve::start::seed_tracks::select_tracks(problem, keyframes, MAX_TRACKS);
    let starts: Vec<f64> = match from {
        FocalStart::Near(f) | FocalStart::Given(f) => vec![f],
        FocalStart::Nothing => STARTS.iter().map(|widths| widths * f64::from(problem.width)).collect(),
    };
    let hold = matches!(from, FocalStart::Given(_));
    let begun: Vec<Option<Bundle>> =
        starts.par_iter().map(|&focal_px| begin_from(problem, keyframes, &tracks, focal_px, hold, zooms)).collect();
    // A rough fit tells which of the starts are worth a fine one.
    let mut begun: Vec<(f64, Bundle)> =
        begun.into_iter().flatten().filter_map(|b| Some((median_error(&b)?, b))).collect();
    begun.sort_by(|a, b| a.0.total_cmp(&b.0));
    // What a rough fit is off by far, a fine one is off by less, but still by far: how far is all that is asked then.
    let hopeless = begun.first().is_some_and(|b| b.0 > HOPELESS_PX * problem.scale());
    begun.truncate(if hopeless { 1 } else { FINE_STARTS });
    let steps = if hopeless { HOPELESS_STEPS } else { FINE_STEPS };
    let fits: Vec<Option<NodalFit>> =
        begun.into_par_iter().map(|(_, bundle)| finish(bundle, problem.scale(), steps, (hold, zooms))).collect();
    fits.into_iter().flatten().min_by(|a, b| a.median_px.total_cmp(&b.median_px))
}

/// Whether frames that follow one another share points enough for a fit to be trusted.
pub fn is_chained(problem: &Problem, keyframes: &[u32]) -> bool {
    let shared =
        |a, b| (0..problem.tracks.len()).filter(|&t| problem.at(t, a).is_some() && problem.at(t, b).is_some()).count();
    keyframes.windows(2).all(|pair| shared(pair[0], pair[1]) >= CHAINED)
}

/// Points that make a link of a chain of frames.
const CHAINED: usize = 60;
/// Starts that are fitted finely, and the steps of that: with a loose loss and a tight one.
const FINE_STARTS: usize = 2;
const FINE_STEPS: [usize; 2] = [15, 25];
/// Steps of a rough fit.
const ROUGH_STEPS: usize = 9;
/// Median reprojection error of a rough fit, px of a picture 1280 wide, from which no fine one makes a camera of it,
/// and the steps that tell by how much it is off.
const HOPELESS_PX: f64 = 6.0;
const HOPELESS_STEPS: [usize; 2] = [5, 10];
/// Tracks that tell which of the zooms from one keyframe to the next suits best.
const STEP_TRACKS: usize = 60;
/// Zooms from keyframe to keyframe that are tried, logarithms.
const STEP_ZOOMS: [f64; 13] = [0.0, -0.01, 0.01, -0.02, 0.02, -0.035, 0.035, -0.055, 0.055, -0.09, 0.09, -0.15, 0.15];

/// A rough fit from one focal length.
fn begin_from(
    problem: &Problem,
    keyframes: &[u32],
    tracks: &[usize],
    focal_px: f64,
    hold: bool,
    zooms: bool,
) -> Option<Bundle> {
    let lens = problem.lens(focal_px);
    let ray = |t: usize, frame: u32, zoom: f64| {
        let zoomed = Lens { focal_px: lens.focal_px * zoom.exp(), ..lens };
        let n = zoomed.unproject(problem.at(t, frame)?);
        Some(Vector3::new(n.x, n.y, 1.0).normalize())
    };
    let mut rotation = Rotation3::identity();
    let mut poses = vec![Pose::identity()];
    let mut zoom = vec![0.0f64];
    for pair in keyframes.windows(2) {
        let from = zoom.last().copied().unwrap_or(0.0);
        let shared: Vec<usize> = tracks
            .iter()
            .copied()
            .filter(|&t| problem.at(t, pair[0]).is_some() && problem.at(t, pair[1]).is_some())
            .collect();
        let turned = |step: f64, stride: usize| {
            let rays: Vec<_> = shared
                .iter()
                .step_by(stride)
                .filter_map(|&t| Some((ray(t, pair[0], from)?, ray(t, pair[1], from + step)?)))
                .collect();
            turn_between(&rays)
        };
        let mut step = 0.0;
        if zooms {
            // A part of the tracks tells which one suits best.
            let stride = (shared.len() / STEP_TRACKS).max(1);
            let errors = STEP_ZOOMS.into_iter().filter_map(|step| Some((turned(step, stride)?.1, step)));
            step = errors.min_by(|a, b| a.0.total_cmp(&b.0))?.1;
        }
        let (turn, _) = turned(step, 1)?;
        let at = from + step;
        rotation = turn * rotation;
        poses.push(Pose { rotation, translation: Vector3::zeros() });
        zoom.push(at);
    }
    let mut bundle = Bundle::new(poses, keyframes.iter().map(|&f| f64::from(f)).collect(), lens);
    if zooms {
        bundle.zoom = zoom;
    }
    for &t in tracks {
        let seen: Vec<_> = keyframes
            .iter()
            .enumerate()
            .filter_map(|(k, &f)| Some(Observation { camera: k as u32, pixel: problem.at(t, f)? }))
            .collect();
        if seen.len() < 2 {
            continue;
        }
        let middle = seen[seen.len() / 2];
        let n = bundle.lens_of(middle.camera as usize).unproject(middle.pixel);
        let direction = bundle.poses[middle.camera as usize].rotation.inverse() * Vector3::new(n.x, n.y, 1.0);
        bundle.points.push(direction.normalize());
        bundle.observations.push(seen);
    }
    adjust(&mut bundle, 20.0 * problem.scale(), false, ROUGH_STEPS, (hold, zooms));
    Some(bundle)
}

fn adjust(bundle: &mut Bundle, loss_px: f64, k1: bool, max_steps: usize, (hold, zooms): (bool, bool)) {
    let (motion, focal) = (Move::Nodal, !zooms && !hold);
    let options = BundleOptions {
        motion,
        focal,
        zoom: zooms,
        k1,
        loss_px,
        max_steps,
        tolerance: 1e-5,
        ..BundleOptions::default()
    };
    bundle.adjust(&options, |_| true);
}

fn median_error(bundle: &Bundle) -> Option<f64> {
    crate::solve::stats::median(&errors_px(bundle))
}

/// The reprojection error of every point, px; one behind the camera counts as far off.
fn errors_px(bundle: &Bundle) -> Vec<f64> {
    bundle.residuals().into_iter().flatten().map(|r| r.map_or(1e3, |r| r.norm())).collect()
}

/// The fine fit.
fn finish(mut bundle: Bundle, scale: f64, steps: [usize; 2], known: (bool, bool)) -> Option<NodalFit> {
    adjust(&mut bundle, 4.0 * scale, true, steps[0], known);
    adjust(&mut bundle, scale, true, steps[1], known);
    let errors_px = errors_px(&bundle);
    let median_px = crate::solve::stats::median(&errors_px)?;
    Some(NodalFit {
        points: bundle.points.len(),
        poses: bundle.poses,
        lens: bundle.lens,
        zoom: bundle.zoom,
        median_px,
        errors_px,
    })
}

/// The turn that takes the first rays onto the second (Kabsch 1976), with Cauchy weights, and the median distance that
/// is left between them.
pub fn turn_between(rays: &[(Vector3<f64>, Vector3<f64>)]) -> Option<(Rotation3<f64>, f64)> {
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
        let errors: Vec<f64> = rays.iter().map(|(a, b)| (rotation * a - b).norm()).collect();
        middle = crate::solve::stats::median(&errors)?;
        scale = (1.5 * middle).max(1e-5);
    }
    Some((rotation, middle))
}

/// Whether turning alone is the better account of the motion.
///
/// Yes, when it leaves hardly more than the noise `noise_px` (median reprojection error) that the free fit leaves: a
/// free camera then only bends itself round that noise. Yes too by Torr's GRIC ("Bayesian Model
/// Estimation and Selection for Epipolar Geometry", 2002) of points with two unknowns each and
/// cameras with three, against three and six.
pub fn explains_better(
    nodal: &NodalFit,
    free_misses_px: &[f64],
    free_points: usize,
    keyframes: usize,
    noise_px: f64,
) -> bool {
    if nodal.median_px < NOISE_RATIO * noise_px {
        return true;
    }
    let sigma_px = noise_px / 1.1774;
    let score = |errors: &[f64], points: usize, dof_point: f64, parameters: f64| -> f64 {
        let views = errors.len() as f64 / points.max(1) as f64;
        let dimension = 2.0 * views;
        let limit = 2.0 * (dimension - dof_point).max(1.0);
        let misfit: f64 = errors.iter().map(|m| (m * m / (sigma_px * sigma_px)).min(limit)).sum();
        misfit + dimension.ln() * dof_point * points as f64 + (dimension * points as f64).ln() * parameters
    };
    let turning = score(&nodal.errors_px, nodal.points, 2.0, 3.0 * nodal.poses.len() as f64 + 2.0);
    let free = score(free_misses_px, free_points, 3.0, 6.0 * keyframes as f64 + 2.0 - 7.0);
    // The two fits may use different points; compare what one observation costs.
    turning / (nodal.errors_px.len().max(1) as f64) < free / (free_misses_px.len().max(1) as f64)
}

#[cfg(test)]
pub mod tests {
    use super::*;
    use crate::random::SplitMix64;
    use crate::track::TrackId;
    use nalgebra::Vector2;

    fn unit(random: &mut SplitMix64) -> f64 {
        random.below(1_000_000) as f64 / 500_000.0 - 1.0
    }

    /// A pan over points all round, seen with noise; `step` is how far the camera goes aside from frame to frame.
    pub fn pan(zoom: impl Fn(u32) -> f64, step: f64, noise_px: f64) -> Problem {
        let mut random = SplitMix64::new(8);
        let lens = Lens { k1: -0.02, ..Lens::centred(1100.0, 1280, 720) };
        let mut problem = Problem {
            width: 1280,
            height: 720,
            frames: 25,
            tracks: Vec::new(),
            ids: Vec::new(),
            trusted: Vec::new(),
            centre_px: lens.centre_px,
        };
        for id in 0..260 {
            let distance = 5.0 + 4.0 * unit(&mut random);
            let point = Vector3::new(1.4 * unit(&mut random), 0.5 * unit(&mut random), 1.0) * distance;
            let mut seen = Vec::new();
            for frame in 0..25u32 {
                let turn = Rotation3::from_euler_angles(0.002 * f64::from(frame), 0.025 * f64::from(frame) - 0.3, 0.0);
                let c = turn * (point - Vector3::x() * (step * f64::from(frame)));
                let zoomed = Lens { focal_px: lens.focal_px * zoom(frame).exp(), ..lens };
                let pixel = zoomed.project(Vector2::new(c.x / c.z, c.y / c.z));
                if c.z > 0.1 && (0.0..1280.0).contains(&pixel.x) && (0.0..720.0).contains(&pixel.y) {
                    seen.push((frame, pixel + Vector2::new(random.normal(), random.normal()) * noise_px));
                }
            }
            if seen.len() > 3 {
                problem.tracks.push(seen);
                problem.ids.push(TrackId(id));
                problem.trusted.push(false);
            }
        }
        problem
    }

    const KEYS: [u32; 9] = [0, 3, 6, 9, 12, 15, 18, 21, 24];

    #[test]
    fn a_turn_is_found_among_four_in_ten_strays() {
        let mut random = SplitMix64::new(2);
        let right = Rotation3::from_euler_angles(0.05, -0.2, 0.02);
        let rays: Vec<_> = (0..60)
            .map(|i| {
                let a = Vector3::new(unit(&mut random), unit(&mut random), 2.0).normalize();
                let b = if i % 5 < 2 {
                    Vector3::new(unit(&mut random), unit(&mut random), 2.0).normalize()
                } else {
                    right * a
                };
                (a, b)
            })
            .collect();
        let (found, error) = turn_between(&rays).unwrap();
        let off = crate::geometry::log_so3(&(found * right.inverse())).norm();
        assert!(off < 2e-3 && error < 2e-3, "{off} {error}");
        assert!(turn_between(&rays[..7]).is_none(), "seven rays are too few");
    }

    #[test]
    fn the_focal_length_of_a_pan_is_found_and_held_where_it_is_given() {
        let problem = pan(|_| 0.0, 0.0, 0.1);
        let found = fit(&problem, &KEYS, FocalStart::Nothing, false).unwrap();
        assert!(
            (found.lens.focal_px / 1100.0 - 1.0).abs() < 0.01 && found.median_px < 0.2,
            "{} {}",
            found.lens.focal_px,
            found.median_px
        );
        assert_eq!((found.poses.len(), found.zoom.len()), (9, 0));
        let held = fit(&problem, &KEYS, FocalStart::Given(1300.0), false).unwrap();
        assert!(held.lens.focal_px == 1300.0 && held.median_px > 2.0 * found.median_px, "{}", held.median_px);
    }

    #[test]
    fn a_pan_that_zooms_needs_its_zoom() {
        let problem = pan(|f| 0.015 * f64::from(f), 0.0, 0.1);
        let (fixed, zoomed) = (
            fit(&problem, &KEYS, FocalStart::Nothing, false).unwrap(),
            fit(&problem, &KEYS, FocalStart::Nothing, true).unwrap(),
        );
        assert!(
            zoomed.median_px < 0.25 && zoomed.median_px < 0.3 * fixed.median_px,
            "{} {}",
            zoomed.median_px,
            fixed.median_px
        );
        let range = zoomed.zoom[8] - zoomed.zoom[0];
        assert!((range - 0.36).abs() < 0.02, "{range}");
    }

    #[test]
    fn turning_explains_a_pan_but_no_travel() {
        let (still, moving) = (
            fit(&pan(|_| 0.0, 0.0, 0.1), &KEYS, FocalStart::Nothing, false).unwrap(),
            fit(&pan(|_| 0.0, 0.05, 0.1), &KEYS, FocalStart::Nothing, false).unwrap(),
        );
        // What a free camera leaves: the noise.
        let mut random = SplitMix64::new(6);
        let free: Vec<f64> = (0..still.errors_px.len()).map(|_| 0.1 * random.normal().hypot(random.normal())).collect();
        assert!(explains_better(&still, &free, still.points, KEYS.len(), 0.12));
        assert!(
            moving.median_px > 1.0 && !explains_better(&moving, &free, still.points, KEYS.len(), 0.12),
            "{}",
            moving.median_px
        );
    }

    #[test]
    fn keyframes_that_share_no_points_make_no_chain() {
        let mut problem = pan(|_| 0.0, 0.0, 0.1);
        problem.tracks.iter_mut().for_each(|t| t.retain(|(f, _)| *f < 10 || *f > 13));
        assert!(fit(&problem, &[0, 11, 24], FocalStart::Nothing, false).is_none());
    }
}
