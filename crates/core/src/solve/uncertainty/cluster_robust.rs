//! The covariance of what is adjusted, read off the residuals themselves, with whole tracks as clusters.
//!
//! The residuals of one track hang together: a patch changes its looks bit by bit, so that it is off to the same side
//! for many frames. Taken one by one they would make a camera seem much firmer than it is. So whole tracks are the
//! independent things here: each has a score, the gradient that its residuals give cameras and lens, and the covariance
//! of those scores, propagated through the normal equations from both sides, is that of the unknowns (Liang & Zeger,
//! "Longitudinal data analysis using generalized linear models", 1986). Adjustments with that covariance are sampled by
//! giving each score a sign at random (Cameron, Gelbach & Miller, "Bootstrap-based improvements for inference with
//! clustered errors", 2008).

use crate::random::SplitMix64;
use crate::solve::bundle::jacobian::{SHARED, point_block, rows, scores, zooms};
use crate::solve::bundle::normal::normal;
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::skyline::Profile;
use crate::solve::bundle::state::{Bundle, CENTRE_WEIGHT, Move};
use nalgebra::SVector;
use rayon::prelude::*;

/// Damping under which a variance is read off.
pub const HARDLY: f64 = 1e-7;
/// Dampings under which the equations are factored, the least that will do.
const DAMPINGS: [f64; 3] = [HARDLY, 1e-6, 1e-5];
/// No observation is better than this, px.
const LEAST_NOISE_PX: f64 = 0.01;
/// Bootstrap samples; a deviation is told from them to about an eighth.
pub const SAMPLES: usize = 32;
/// Where the samples begin.
const SEED: u64 = 0x5EED_F1E1;

/// The score of one track, or of a term of a prior: its gradient of the cost.
struct Score<const C: usize> {
    cameras: Vec<(usize, SVector<f64, C>)>,
    shared: SVector<f64, SHARED>,
}

impl<const C: usize> Score<C> {
    fn add_to(&self, sum: &mut [f64], times: f64) {
        for (camera, by) in &self.cameras {
            sum[camera * C..(camera + 1) * C].iter_mut().zip(by.iter()).for_each(|(a, b)| *a += b * times);
        }
        let border = sum.len() - SHARED;
        sum[border..].iter_mut().zip(self.shared.iter()).for_each(|(a, b)| *a += b * times);
    }

    fn along(&self, x: &[f64]) -> f64 {
        let own = |(camera, by): &(usize, SVector<f64, C>)| {
            x[camera * C..(camera + 1) * C].iter().zip(by.iter()).map(|(a, b)| a * b).sum::<f64>()
        };
        let shared: f64 = x[x.len() - SHARED..].iter().zip(self.shared.iter()).map(|(a, b)| a * b).sum();
        shared + self.cameras.iter().map(own).sum::<f64>()
    }
}

/// The normal equations at the end of an adjustment, and the scores.
pub struct ClusterRobust<const C: usize> {
    /// Factored.
    matrix: Profile,
    scores: Vec<Score<C>>,
    /// What is adjusted, with the loss's own curvature.
    pub options: BundleOptions,
}

/// Adjustments that might as well have come out.
pub struct Samples {
    /// Unknowns of the cameras, then the shared ones, of each draw.
    pub unknowns: Vec<Vec<f64>>,
    /// Noise of an observation on one axis that would scatter the unknowns as widely if all were independent, px.
    pub noise_px: f64,
}

impl<const C: usize> ClusterRobust<C> {
    /// At an adjusted bundle; `None` when the equations determine nothing.
    pub fn of(bundle: &Bundle, options: &BundleOptions) -> Option<Self> {
        let options = BundleOptions { curved: true, ..*options };
        // Points that are hardly known at all can leave the equations a hair short of definite.
        let matrix = DAMPINGS.iter().find_map(|&damping| {
            let mut matrix = normal::<C>(bundle, &options, damping).0.matrix;
            matrix.factor().then_some(matrix)
        })?;
        let velocities = bundle.velocities(options.readout);
        let own = if options.motion == Move::Nodal { 2 } else { 3 };
        // What is adjusted follows the residuals, which leaves less of them to be seen.
        let seen = |o: &Vec<_>| 2 * o.len();
        let spare: usize = bundle.observations.iter().map(|o| seen(o).saturating_sub(own)).sum();
        let by_cameras = (spare as f64 / spare.saturating_sub(matrix.len()).max(1) as f64).min(2.0);
        let of_point = |p: usize| {
            let observations = &bundle.observations[p];
            let growth =
                (by_cameras * seen(observations) as f64 / seen(observations).saturating_sub(own).max(1) as f64).sqrt();
            let rows: Vec<_> = rows::<C>(bundle, p, &options, &velocities).collect();
            let inverse = bundle.damped_inverse(p, &point_block(&rows), HARDLY)?;
            let mut score = Score { cameras: Vec::with_capacity(rows.len()), shared: SVector::zeros() };
            for (camera, by_camera, by_shared) in scores(&rows, &inverse) {
                score.cameras.push((camera, by_camera * growth));
                score.shared += by_shared * growth;
            }
            Some(score)
        };
        let mut scores: Vec<Score<C>> =
            (0..bundle.points.len()).into_par_iter().with_min_len(32).filter_map(of_point).collect();
        if zooms(C) {
            scores.extend(bundle.zoom_terms().iter().map(|term| {
                let focal = |k: usize| {
                    let mut by = SVector::<f64, C>::zeros();
                    by[C - 1] = -term.weight() * term.slopes[k] * term.unrest;
                    (term.first + k, by)
                };
                Score { cameras: (0..3).map(focal).collect(), shared: SVector::zeros() }
            }));
        }
        if options.centre {
            let off = bundle.centre_off();
            let mut shared = SVector::<f64, SHARED>::zeros();
            (0..2).for_each(|k| shared[SHARED - 2 + k] = -CENTRE_WEIGHT * off[k]);
            scores.push(Score { cameras: Vec::new(), shared });
        }
        Some(Self { matrix, scores, options })
    }

    /// Variance of the logarithm of the focal length, where it was adjusted; with a zoom that of the camera in the
    /// middle.
    ///
    /// A track that the focal length rests on more than on others hides from the scores what it is off by, as the focal
    /// length follows it. So it is never less than what `noise_px`, that of the samples, leaves open.
    pub fn focal_variance(&self, bundle: &Bundle, noise_px: f64) -> Option<f64> {
        if !self.options.focal && !self.options.zoom {
            return None;
        }
        let at = if self.options.zoom { bundle.poses.len() / 2 * C + C - 1 } else { bundle.poses.len() * C };
        let mut by = vec![0.0; self.matrix.len()];
        by[at] = 1.0;
        self.matrix.solve(&mut by);
        let summed = self.scores.iter().map(|p| p.along(&by).powi(2)).sum::<f64>();
        let variance = summed.max(noise_px * noise_px * by[at]);
        Some(variance).filter(|v| v.is_finite() && by[at] >= 0.0)
    }

    /// Draws adjustments.
    pub fn samples(&self) -> Samples {
        let n = self.matrix.len();
        let mut squares = 0.0;
        let unknowns: Vec<Vec<f64>> = (0..SAMPLES)
            .map(|sample| {
                let mut random = SplitMix64::new(SEED.wrapping_add(sample as u64));
                let mut summed = vec![0.0; n];
                for score in &self.scores {
                    score.add_to(&mut summed, if random.below(2) == 0 { 1.0 } else { -1.0 });
                }
                let mut x = summed.clone();
                self.matrix.solve(&mut x);
                squares += x.iter().zip(&summed).map(|(a, b)| a * b).sum::<f64>();
                let mut least: Vec<f64> = (0..n).map(|_| LEAST_NOISE_PX * random.normal()).collect();
                self.matrix.solve_transposed(&mut least);
                x.iter_mut().zip(&least).for_each(|(a, b)| *a += b);
                x
            })
            .collect();
        let noise = squares / (SAMPLES * n).max(1) as f64;
        Samples { unknowns, noise_px: (noise + LEAST_NOISE_PX * LEAST_NOISE_PX).sqrt() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::bundle::synthetic::truth;

    fn adjusted(options: &BundleOptions) -> Bundle {
        let mut bundle = truth(10, 60, 0.3);
        bundle.adjust(options, |_| true);
        bundle
    }

    #[test]
    fn at_the_end_of_an_adjustment_all_scores_cancel() {
        let options = BundleOptions { max_steps: 60, tolerance: 1e-13, ..BundleOptions::default() };
        let bundle = adjusted(&options);
        let cluster_robust = ClusterRobust::<6>::of(&bundle, &options).unwrap();
        let n = cluster_robust.matrix.len();
        let (mut sum, mut sizes) = (vec![0.0; n], vec![0.0; n]);
        for score in &cluster_robust.scores {
            let mut own = vec![0.0; n];
            score.add_to(&mut own, 1.0);
            sum.iter_mut().zip(&own).for_each(|(s, o)| *s += o);
            sizes.iter_mut().zip(&own).for_each(|(s, o)| *s += o.abs());
        }
        for (i, (sum, size)) in sum.iter().zip(&sizes).enumerate() {
            assert!(sum.abs() <= 2e-3 * size + 1e-9, "unknown {i}: {sum} of {size}");
        }
    }

    #[test]
    fn a_pull_adds_and_is_measured_at_the_same_places() {
        let options = BundleOptions::default();
        let cluster_robust = ClusterRobust::<6>::of(&adjusted(&options), &options).unwrap();
        let mut random = SplitMix64::new(4);
        let x: Vec<f64> = (0..cluster_robust.matrix.len()).map(|_| random.normal()).collect();
        for score in cluster_robust.scores.iter().take(10) {
            let mut own = vec![0.0; x.len()];
            score.add_to(&mut own, -2.0);
            let dot: f64 = own.iter().zip(&x).map(|(a, b)| a * b).sum();
            assert!((dot + 2.0 * score.along(&x)).abs() < 1e-9 * (1.0 + dot.abs()));
        }
    }

    #[test]
    fn the_noise_of_the_draws_is_that_of_the_views_where_they_are_independent() {
        // Noise is uniform in +-0.3 px: a deviation of 0.3 / sqrt 3 on each axis.
        let options = BundleOptions { loss_px: 50.0, max_steps: 60, ..BundleOptions::default() };
        let noise_px = ClusterRobust::<6>::of(&adjusted(&options), &options).unwrap().samples().noise_px;
        let right = 0.3 / 3f64.sqrt();
        assert!((0.75 * right..1.3 * right).contains(&noise_px), "{noise_px} px for {right}");
    }
}
