//! The search for the bundle that explains the observations best.
//!
//! Levenberg-Marquardt: damped Gauss-Newton steps ([`crate::solve::bundle::step`]), the damping lowered while they help
//! and raised while they do not (Triggs et al. 1999, section 6.2).

use crate::solve::bundle::options::{Adjusted, BundleOptions, Stop};
use crate::solve::bundle::state::Bundle;
use crate::solve::bundle::step;

/// Relative decrease of the cost under which a step is near enough to the end for the loss's own curvature.
const NEAR_THE_END: f64 = 0.02;
/// Damping that no longer shortens a step.
const UNDAMPED: f64 = 1e-9;
/// Damping above which no step helps any more.
const STUCK: f64 = 1e10;

impl Bundle {
    /// Adjusts in place. `go_on` is asked before every step, and told the cost so far, px^2; answering no ends the
    /// search with the best state so far.
    pub fn adjust(&mut self, options: &BundleOptions, mut go_on: impl FnMut(f64) -> bool) -> Adjusted {
        if options.zoom && self.zoom.is_empty() {
            self.zoom = vec![0.0; self.poses.len()];
        }
        let mut damping = 1e-4;
        let mut now = *options;
        let mut cost = self.cost(options.loss_px);
        let cost_first = cost;
        let mut stop = Stop::OutOfSteps;
        let mut steps = 0;
        'search: while steps < options.max_steps && go_on(cost) {
            loop {
                steps += 1;
                let moved = step::step(self, &now, damping);
                if let Some((moved, new_cost)) = moved.filter(|m| m.1 < cost) {
                    let gain = (cost - new_cost) / cost.max(1e-300);
                    *self = moved;
                    cost = new_cost;
                    now.curved = gain < NEAR_THE_END;
                    if gain < options.tolerance {
                        // A damped step gains little along a flat valley however long that is.
                        if damping <= UNDAMPED {
                            stop = Stop::Converged;
                            break 'search;
                        }
                        damping = UNDAMPED;
                        break;
                    }
                    damping = (damping * 0.1).max(UNDAMPED);
                    break;
                }
                if now.curved && steps < options.max_steps {
                    now.curved = false;
                    continue;
                }
                now.accelerated = true;
                damping *= 8.0;
                if damping > STUCK {
                    stop = Stop::Stuck;
                    break 'search;
                }
                if steps >= options.max_steps {
                    break 'search;
                }
            }
        }
        Adjusted { stop, steps, cost_first, cost_last: cost }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Pose;
    use crate::solve::bundle::state::{Move, Observation};
    use crate::solve::bundle::synthetic::{disturb, far_off, seen_anew, truth};
    use nalgebra::{Vector2, Vector3};

    #[test]
    fn a_disturbed_scene_comes_home_to_the_noise() {
        let mut bundle = truth(12, 80, 0.0);
        disturb(&mut bundle);
        let done =
            bundle.adjust(&BundleOptions { max_steps: 60, tolerance: 1e-12, ..BundleOptions::default() }, |_| true);
        assert!(done.cost_last < 1e-9, "{done:?}");
        assert!(
            (bundle.lens.focal_px - 950.0).abs() < 1e-2 && (bundle.lens.k1 + 0.04).abs() < 1e-5,
            "{:?}",
            bundle.lens
        );
    }

    #[test]
    fn a_tenth_of_gross_outliers_moves_the_focal_length_little() {
        let mut bundle = truth(12, 120, 0.1);
        for seen in bundle.observations.iter_mut().step_by(10) {
            seen.iter_mut().for_each(|o| o.pixel += Vector2::new(f64::from(o.camera) * 9.0, -30.0));
        }
        disturb(&mut bundle);
        bundle.adjust(&BundleOptions { max_steps: 60, ..BundleOptions::default() }, |_| true);
        assert!((bundle.lens.focal_px - 950.0).abs() < 4.0, "{:?}", bundle.lens);
    }

    #[test]
    fn stopping_keeps_the_state() {
        let mut bundle = truth(4, 20, 0.0);
        disturb(&mut bundle);
        let before = bundle.lens;
        bundle.adjust(&BundleOptions::default(), |_| false);
        assert_eq!(bundle.lens, before);
    }

    #[test]
    fn a_zoom_is_found_frame_by_frame() {
        for motion in [Move::Free, Move::Nodal] {
            let mut bundle = truth(14, 90, 0.0);
            if motion == Move::Nodal {
                bundle.poses.iter_mut().for_each(|p| p.translation = Vector3::zeros());
                let away = Pose::look_at(Vector3::zeros(), Vector3::new(0.0, -0.3, -1.0), Vector3::y()).unwrap();
                bundle
                    .poses
                    .iter_mut()
                    .enumerate()
                    .for_each(|(i, p)| *p = away.retract(Vector3::new(0.0, 0.02 * i as f64, 0.004), Vector3::zeros()));
                bundle.points.iter_mut().for_each(|p| *p = (*p * 0.1 + Vector3::new(0.0, -0.3, -1.0)).normalize());
            }
            bundle.zoom = (0..14).map(|i| 0.01 * f64::from(i) + 0.002 * f64::from(i * i)).collect();
            seen_anew(&mut bundle);
            let right = bundle.zoom.clone();
            bundle.zoom.iter_mut().for_each(|z| *z = 0.05);
            let options = BundleOptions {
                motion,
                focal: false,
                zoom: true,
                max_steps: 80,
                tolerance: 1e-13,
                loss_px: 20.0,
                ..BundleOptions::default()
            };
            let done = bundle.adjust(&options, |_| true);
            let worst = bundle.zoom.iter().zip(&right).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
            assert!(worst < 2e-3, "{motion:?}: {worst} {done:?}");
        }
    }

    #[test]
    fn the_readout_of_a_rolling_shutter_is_found() {
        let mut bundle = truth(16, 120, 0.0);
        for (i, pose) in bundle.poses.iter_mut().enumerate() {
            *pose = pose.retract(
                Vector3::new(0.02 * (i as f64 * 0.4).sin(), 0.03 * (i as f64 * 0.3).cos(), 0.0),
                Vector3::zeros(),
            );
        }
        bundle.readout = 0.6;
        seen_anew(&mut bundle);
        let right = bundle.poses[7].centre();
        bundle.readout = 0.0;
        let before = bundle.cost(1.0);
        let options = BundleOptions { readout: true, max_steps: 60, tolerance: 1e-12, ..BundleOptions::default() };
        let done = bundle.adjust(&options, |_| true);
        assert!(
            (bundle.readout - 0.6).abs() < 0.02 && done.cost_last < 1e-3 * before,
            "{} {done:?} {before}",
            bundle.readout
        );
        assert!((bundle.poses[7].centre() - right).norm() < 0.2, "the gauge is free, but not that free");
    }

    #[test]
    fn far_points_come_home_from_wherever_they_start_even_beyond_infinity() {
        let mut bundle = truth(12, 80, 0.0);
        let near = bundle.points.len();
        let anchor = bundle.poses[12 / 2].centre();
        bundle.anchors = vec![None; near];
        for (i, (direction, inverse)) in far_off().into_iter().enumerate() {
            let seen: Vec<Observation> = (0..12)
                .map(|c| {
                    let q = bundle.poses[c].rotation * (direction + (anchor - bundle.poses[c].centre()) * inverse);
                    Observation { camera: c as u32, pixel: bundle.lens.project(Vector2::new(q.x / q.z, q.y / q.z)) }
                })
                .collect();
            let start = if i % 2 == 0 { 3e-4 } else { -3e-4 };
            bundle.points.push(anchor + direction / start);
            bundle.anchors.push(Some(anchor));
            bundle.observations.push(seen);
        }
        let truth = bundle.clone();
        disturb(&mut bundle);
        bundle.points[near..].copy_from_slice(&truth.points[near..]);
        let done =
            bundle.adjust(&BundleOptions { max_steps: 60, tolerance: 1e-12, ..BundleOptions::default() }, |_| true);
        assert!(done.cost_last < 1e-3, "{done:?}");
        assert!((bundle.lens.focal_px - 950.0).abs() < 0.1, "{:?}", bundle.lens);
    }
}
