//! How firmly cameras and points are known, from the final normal equations and the residuals.
//!
//! The covariance of everything is large, only parts of it are wanted, and the gauge (where the world lies, how it is
//! turned and how large it is) is nobody's business. So adjustments of the cameras and the lens are *sampled*
//! ([`super::cluster_robust`]); the points follow by back-substitution with noise of their own. Each sample is laid
//! over the solution by the similarity that fits best (Triggs et al. 1999, section 9: inner constraints), and what is
//! left is the uncertainty. How far points are off their pixels in a sample does not depend on the gauge at all.

use crate::geometry::Velocity;
use crate::geometry::hat;
use crate::random::SplitMix64;
use crate::solve::bundle::jacobian::{SHARED, by_unknowns, is_free, point_block, rows};
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Move};
use crate::solve::uncertainty::cluster_robust::{ClusterRobust, HARDLY, SAMPLES, Samples};
use nalgebra::{Matrix3, SMatrix, SVector, Vector3};
use rayon::prelude::*;

/// Where the noise of the points begins.
const SEED: u64 = 0x5EED_F1E1;

type Gauge = SVector<f64, 7>;

/// How firmly one camera is known.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CameraUncertainty {
    /// Covariance of its centre, world units^2.
    pub centre: Matrix3<f64>,
    /// Deviation of its turn, radians.
    pub turn_rad: f64,
    /// Deviation of where its points are seen, px, by what is not known of it and of them.
    pub error_px: f64,
}

/// How firmly everything is known.
#[derive(Debug, Clone)]
pub struct Uncertainty {
    /// In the order of the bundle.
    pub cameras: Vec<CameraUncertainty>,
    /// Covariances, world units^2, in the order of the bundle.
    pub points: Vec<Matrix3<f64>>,
    /// Variance of the logarithm of the focal length, where it was adjusted.
    pub focal_variance: Option<f64>,
}

/// What one point contributes.
struct PointSamples {
    moves: Vec<Vector3<f64>>,
    weight: f64,
    /// Camera and sum of the squared errors over the samples, px^2.
    errors: Vec<(usize, f64)>,
}

/// Draws adjustments; `None` when the equations determine nothing.
pub fn uncertainty_of(bundle: &Bundle, options: &BundleOptions) -> Option<Uncertainty> {
    by_unknowns!(options, sampled_uncertainty(bundle, options))
}

fn sampled_uncertainty<const C: usize>(bundle: &Bundle, options: &BundleOptions) -> Option<Uncertainty> {
    let cluster_robust = ClusterRobust::<C>::of(bundle, options)?;
    let sampled = cluster_robust.samples();
    let focal_variance = cluster_robust.focal_variance(bundle, sampled.noise_px);
    let options = &cluster_robust.options;
    let velocities = bundle.velocities(options.readout);
    let points: Vec<PointSamples> = (0..bundle.points.len())
        .into_par_iter()
        .with_min_len(32)
        .map(|p| sample_point::<C>(bundle, options, &velocities, p, &sampled))
        .collect();
    let gauges = fit_gauges(bundle, options.motion, &points)?;
    let cameras = sample_cameras::<C>(bundle, &sampled.unknowns, &gauges, &points);
    let points = points
        .iter()
        .zip(&bundle.points)
        .map(|(of, at)| covariance(of.moves.iter().zip(&gauges).map(|(m, g)| m - gauge_jacobian(at) * g)))
        .collect();
    Some(Uncertainty { cameras, points, focal_variance })
}

fn covariance(moves: impl Iterator<Item = Vector3<f64>>) -> Matrix3<f64> {
    moves.map(|m| m * m.transpose()).sum::<Matrix3<f64>>() / SAMPLES as f64
}

fn sample_point<const C: usize>(
    bundle: &Bundle,
    options: &BundleOptions,
    velocities: &[Velocity],
    p: usize,
    sampled: &Samples,
) -> PointSamples {
    let at = bundle.points[p];
    let rows: Vec<_> = rows::<C>(bundle, p, options, velocities).collect();
    let inverse = bundle.damped_inverse(p, &point_block(&rows), HARDLY).unwrap_or_else(Matrix3::zeros);
    let root = inverse.cholesky().map_or_else(Matrix3::zeros, |c| c.l());
    let mut random = SplitMix64::new(SEED ^ (p as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15));
    let mut errors: Vec<(usize, f64)> = rows.iter().map(|(camera, _)| (*camera, 0.0)).collect();
    let mut moves = Vec::with_capacity(SAMPLES);
    for x in &sampled.unknowns {
        let shared = SVector::<f64, SHARED>::from_column_slice(&x[x.len() - SHARED..]);
        let by_cameras: Vec<_> = rows
            .iter()
            .map(|(camera, r)| {
                r.camera * SVector::<f64, C>::from_column_slice(&x[camera * C..(camera + 1) * C]) + r.shared * shared
            })
            .collect();
        let score: Vector3<f64> = rows.iter().zip(&by_cameras).map(|((_, r), c)| r.point.transpose() * c).sum();
        let own = Vector3::new(random.normal(), random.normal(), random.normal()) * sampled.noise_px;
        let mut by = root * own - inverse * score;
        if options.motion == Move::Nodal {
            // A direction has no length to be uncertain of.
            by -= at * at.dot(&by);
        }
        for (((_, r), c), error) in rows.iter().zip(&by_cameras).zip(&mut errors) {
            error.1 += (c + r.point * by).norm_squared();
        }
        moves.push(by);
    }
    PointSamples { moves, weight: 1.0 / inverse.trace().max(1e-300), errors }
}

/// How a point moves with the gauge: turn, shift, growth.
fn gauge_jacobian(at: &Vector3<f64>) -> SMatrix<f64, 3, 7> {
    let mut b = SMatrix::<f64, 3, 7>::zeros();
    b.fixed_view_mut::<3, 3>(0, 0).copy_from(&-hat(at));
    b.fixed_view_mut::<3, 3>(0, 3).copy_from(&Matrix3::identity());
    b.set_column(6, at);
    b
}

/// For each sample the change of gauge that explains the most of it.
fn fit_gauges(bundle: &Bundle, motion: Move, points: &[PointSamples]) -> Option<Vec<Gauge>> {
    // Directions can only be turned.
    let free = if motion == Move::Nodal { 3 } else { 7 };
    let mut matrix = SMatrix::<f64, 7, 7>::zeros();
    let mut rights = vec![Gauge::zeros(); SAMPLES];
    for (of, at) in points.iter().zip(&bundle.points) {
        let b = gauge_jacobian(at);
        matrix += b.transpose() * b * of.weight;
        for (right, by) in rights.iter_mut().zip(&of.moves) {
            *right += b.transpose() * by * of.weight;
        }
    }
    for i in free..7 {
        matrix.row_mut(i).fill(0.0);
        matrix.column_mut(i).fill(0.0);
        matrix[(i, i)] = 1.0;
        rights.iter_mut().for_each(|r| r[i] = 0.0);
    }
    let solver = matrix.cholesky()?;
    Some(rights.iter().map(|r| solver.solve(r)).collect())
}

fn sample_cameras<const C: usize>(
    bundle: &Bundle,
    samples: &[Vec<f64>],
    gauges: &[Gauge],
    points: &[PointSamples],
) -> Vec<CameraUncertainty> {
    let mut errors = vec![(0.0f64, 0usize); bundle.poses.len()];
    for (camera, sum) in points.iter().flat_map(|p| &p.errors) {
        errors[*camera] = (errors[*camera].0 + sum, errors[*camera].1 + SAMPLES);
    }
    let of_camera = |(i, pose): (usize, &crate::geometry::Pose)| {
        let centre = pose.centre();
        let back = pose.rotation.inverse();
        let mut turns = 0.0;
        let moves: Vec<Vector3<f64>> = samples
            .iter()
            .zip(gauges)
            .map(|(x, g)| {
                let d = &x[i * C..(i + 1) * C];
                let turn = Vector3::new(d[0], d[1], d[2]);
                let shift = if is_free(C) { Vector3::new(d[3], d[4], d[5]) } else { Vector3::zeros() };
                turns += (turn + pose.rotation * g.fixed_rows::<3>(0)).norm_squared();
                let moved = back * (turn.cross(&pose.translation) - shift);
                if is_free(C) { moved - gauge_jacobian(&centre) * g } else { Vector3::zeros() }
            })
            .collect();
        CameraUncertainty {
            centre: covariance(moves.into_iter()),
            turn_rad: (turns / SAMPLES as f64).sqrt(),
            error_px: (errors[i].0 / errors[i].1.max(1) as f64).sqrt(),
        }
    };
    bundle.poses.iter().enumerate().map(of_camera).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Similarity, fit_similarity};
    use crate::solve::bundle::state::Observation;
    use crate::solve::bundle::synthetic::{seen_anew, truth};

    const NOISE_PX: f64 = 0.2;
    const CAMERAS: usize = 24;
    const RUNS: usize = 100;

    /// Solves the same scene many times under fresh noise, lays each solution over the truth, and tells by how much it
    /// lies off against what was said beforehand.
    ///
    /// `lasting` is the part of a view's noise that is still there in the next view of its track.
    fn measured_over_told(lasting: f64) -> [(&'static str, f64); 4] {
        let mut right = truth(CAMERAS, 80, 0.0);
        seen_anew(&mut right);
        let options = BundleOptions { loss_px: 100.0, max_steps: 40, tolerance: 1e-10, ..BundleOptions::default() };
        let mut random = SplitMix64::new(77);
        let (mut off, mut told) = ([0.0f64; 4], [0.0f64; 4]);
        for _ in 0..RUNS {
            let mut again = right.clone();
            for seen in &mut again.observations {
                let mut fresh = || nalgebra::Vector2::new(random.normal(), random.normal()) * NOISE_PX;
                let mut noise = fresh();
                for o in seen {
                    o.pixel += noise;
                    noise = noise * lasting + fresh() * (1.0 - lasting * lasting).sqrt();
                }
            }
            again.adjust(&options, |_| true);
            let said = uncertainty_of(&again, &options).unwrap();
            let over: Similarity = fit_similarity(&again.points, &right.points).unwrap();
            let apart = |a: &Vector3<f64>, b: &Vector3<f64>| (over.point(*a) - b).norm_squared();
            off[0] += again.points.iter().zip(&right.points).map(|(p, q)| apart(p, q)).sum::<f64>();
            off[1] += again.poses.iter().zip(&right.poses).map(|(p, q)| apart(&p.centre(), &q.centre())).sum::<f64>();
            off[2] += (again.lens.focal_px / right.lens.focal_px).ln().powi(2);
            let clean = Bundle { observations: right.observations.clone(), ..again };
            off[3] += clean.residuals().into_iter().flatten().flatten().map(|r| r.norm_squared()).sum::<f64>();
            told[0] += said.points.iter().map(Matrix3::trace).sum::<f64>();
            told[1] += said.cameras.iter().map(|c| c.centre.trace()).sum::<f64>();
            told[2] += said.focal_variance.unwrap();
            // Every camera sees every point.
            told[3] += said.cameras.iter().map(|c| c.error_px.powi(2) * right.points.len() as f64).sum::<f64>();
        }
        std::array::from_fn(|i| (["points", "cameras", "focal length", "misses"][i], (off[i] / told[i]).sqrt()))
    }

    #[test]
    fn the_deviations_are_those_of_solving_again_and_again() {
        for (what, ratio) in measured_over_told(0.0) {
            assert!((0.75..1.33).contains(&ratio), "{what}: measured over told {ratio}");
        }
    }

    #[test]
    fn they_are_so_too_where_what_a_track_misses_lasts() {
        // By how much a track is off from its first view to its last is taken for the place of its point, and no
        // residual tells of it.
        for ((what, ratio), most) in measured_over_told(0.9).into_iter().zip([1.8, 1.4, 1.4]) {
            assert!((0.7..most).contains(&ratio), "{what}: measured over told {ratio}");
        }
    }

    #[test]
    fn a_far_point_is_known_across_but_not_along_the_view() {
        let mut bundle = truth(12, 60, 0.0);
        bundle.points[0] = Vector3::new(0.0, 0.0, -60.0);
        bundle.observations[0] =
            (0..12).map(|camera| Observation { camera, pixel: nalgebra::Vector2::zeros() }).collect();
        seen_anew(&mut bundle);
        let told = uncertainty_of(&bundle, &BundleOptions::default()).unwrap();
        let along = Vector3::z();
        let (depth, across) = (told.points[0][(2, 2)].sqrt(), told.points[0][(0, 0)].sqrt());
        assert!(depth > 5.0 * across, "{depth} {across}");
        let near: f64 = told.points[1..].iter().map(|c| (c * along).dot(&along).sqrt()).fold(0.0, f64::max);
        assert!(depth > 3.0 * near, "{depth} {near}");
    }

    #[test]
    fn points_without_any_parallax_leave_all_the_rest_as_firm() {
        let mut bundle = truth(12, 60, 0.0);
        let anchor = bundle.poses[6].centre();
        bundle.anchors = vec![None; bundle.points.len()];
        for i in 0..200 {
            let ahead = Vector3::new(0.02 * f64::from(i % 20) - 0.2, 0.01 * f64::from(i / 20), -1.0).normalize();
            bundle.points.push(anchor + ahead * 10f64.powf(4.0 + 0.02 * f64::from(i)));
            bundle.anchors.push(Some(anchor));
            let seen = |camera| Observation { camera, pixel: nalgebra::Vector2::zeros() };
            bundle.observations.push((0..12).map(seen).collect());
        }
        seen_anew(&mut bundle);
        let told = uncertainty_of(&bundle, &BundleOptions::default()).unwrap();
        assert!(told.focal_variance.is_some_and(|v| v > 0.0 && v < 1e-7), "{:?}", told.focal_variance);
        assert!(told.cameras.iter().all(|c| c.error_px > 0.0 && c.error_px < 0.02), "{:?}", told.cameras);
    }
}
