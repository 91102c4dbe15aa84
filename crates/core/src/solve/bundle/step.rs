//! One step of an adjustment: the solution of the normal equations, taken.

use crate::geometry::Pose;
use crate::solve::bundle::inverse_depth as far;
use crate::solve::bundle::jacobian::{Row, SHARED, by_unknowns, is_free, robust, row, scores, zooms};
use crate::solve::bundle::normal::normal;
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::schur::Eliminated;
use crate::solve::bundle::skyline::Profile;
use crate::solve::bundle::state::{Bundle, Move, Observation};
use nalgebra::{SVector, Vector3};
use rayon::prelude::*;

/// The largest change of the principal point in one step, part of the picture's height.
const CENTRE_STEP: f64 = 0.05;
/// Part of a step after which it is looked how residuals curve.
const ACCELERATION_PROBE: f64 = 0.1;
/// The largest change of the readout in one step.
const READOUT_STEP: f64 = 0.3;

/// The bundle one damped step further, and its robust cost; `None` when the equations cannot be solved.
pub fn step(bundle: &Bundle, options: &BundleOptions, damping: f64) -> Option<(Bundle, f64)> {
    by_unknowns!(options, step_of(bundle, options, damping))
}

fn step_of<const C: usize>(bundle: &Bundle, options: &BundleOptions, damping: f64) -> Option<(Bundle, f64)> {
    let (mut normal, eliminated) = normal::<C>(bundle, options, damping);
    if !normal.matrix.factor() {
        return None;
    }
    normal.matrix.solve(&mut normal.right);
    let own = |part: usize, i: usize| eliminated[part].points[i].gradient;
    let straight = Step::to(bundle, &eliminated, std::mem::take(&mut normal.right), own);
    let accelerated =
        if options.accelerated { straight.accelerated(bundle, options, &normal.matrix, &eliminated) } else { None };
    let ends = [Some(straight), accelerated].into_iter().flatten().filter_map(|way| {
        let end = way.taken::<C>(bundle, options, 1.0).filter(Bundle::is_finite)?;
        let cost = end.cost(options.loss_px);
        Some((end, cost))
    });
    ends.min_by(|a, b| a.1.total_cmp(&b.1))
}

/// A step: how cameras, lens and points are to move.
struct Step {
    /// The unknowns of the cameras, then the shared ones.
    x: Vec<f64>,
    points: Vec<Vector3<f64>>,
}

impl Step {
    /// The step whose cameras move by `x`; the points follow by back-substitution, from the gradient of each.
    fn to<const C: usize>(
        bundle: &Bundle,
        eliminated: &[Eliminated<C>],
        x: Vec<f64>,
        gradient: impl Fn(usize, usize) -> Vector3<f64> + Sync,
    ) -> Self {
        let of_part = |(k, part): (usize, &Eliminated<C>)| -> Vec<(usize, Vector3<f64>)> {
            part.points.iter().enumerate().map(|(i, p)| (p.point, part.back(p, &gradient(k, i), &x))).collect()
        };
        let moved: Vec<Vec<(usize, Vector3<f64>)>> = eliminated.par_iter().enumerate().map(of_part).collect();
        let mut points = vec![Vector3::zeros(); bundle.points.len()];
        moved.into_iter().flatten().for_each(|(p, by)| points[p] = by);
        Self { x, points }
    }

    /// The bundle after `part` of the step.
    fn taken<const C: usize>(&self, bundle: &Bundle, options: &BundleOptions, part: f64) -> Option<Bundle> {
        let shared = shared_of(&self.x) * part;
        let mut moved = bundle.clone();
        moved.lens.focal_px *= shared[0].clamp(-0.5, 0.5).exp();
        moved.lens.k1 += shared[1];
        moved.lens.k2 += shared[2];
        moved.readout += shared[3].clamp(-READOUT_STEP, READOUT_STEP);
        moved.lens.centre_px[0] += bundle.rows * shared[4].clamp(-CENTRE_STEP, CENTRE_STEP);
        moved.lens.centre_px[1] += bundle.rows * shared[5].clamp(-CENTRE_STEP, CENTRE_STEP);
        for (camera, pose) in moved.poses.iter_mut().enumerate() {
            let d = camera_of::<C>(&self.x, camera) * part;
            let shift = if is_free(C) { Vector3::new(d[3], d[4], d[5]) } else { Vector3::zeros() };
            *pose = pose.retract(Vector3::new(d[0], d[1], d[2]), shift);
            if zooms(C) {
                moved.zoom[camera] += d[C - 1].clamp(-0.5, 0.5);
            }
        }
        let farthest =
            if bundle.anchors.is_empty() { 0.0 } else { far::farthest(bundle.poses.iter().map(Pose::centre)) };
        for (p, (point, by)) in moved.points.iter_mut().zip(&self.points).enumerate() {
            if let Some(far) = bundle.far(p) {
                *point = far::retract(far, &(by * part), farthest);
                continue;
            }
            *point += by * part;
            if options.motion == Move::Nodal {
                *point = point.try_normalize(1e-12)?;
            }
        }
        Some(moved)
    }

    /// The step with its geodesic acceleration: how residuals curve on the way is found by going a small part
    /// of it, and half of what undoes that is added (geodesic acceleration, Transtrum & Sethna, "Improvements to the
    /// Levenberg-Marquardt algorithm for nonlinear least-squares minimization", 2012). `factored` are the equations
    /// that the step comes from.
    fn accelerated<const C: usize>(
        &self,
        bundle: &Bundle,
        options: &BundleOptions,
        factored: &Profile,
        eliminated: &[Eliminated<C>],
    ) -> Option<Self> {
        let ahead = self.taken::<C>(bundle, options, ACCELERATION_PROBE)?;
        let (velocities, velocities_ahead) = (bundle.velocities(options.readout), ahead.velocities(options.readout));
        let shared = shared_of(&self.x);
        let (ahead, velocities, velocities_ahead) = (&ahead, &velocities, &velocities_ahead);
        let rows = |p: usize| {
            let of = move |o: &Observation| {
                let row = row::<C>(bundle, p, o, options, velocities)?;
                let (here, there) =
                    (bundle.residual_with(p, o, velocities)?, ahead.residual_with(p, o, velocities_ahead)?);
                let (_, scale) = robust(&here, options);
                let camera = o.camera as usize;
                let slope =
                    row.camera * camera_of::<C>(&self.x, camera) + row.shared * shared + row.point * self.points[p];
                let acceleration = (scale * (here - there) / ACCELERATION_PROBE - slope) * (2.0 / ACCELERATION_PROBE);
                Some((camera, Row { residual: -acceleration, ..row }))
            };
            bundle.observations[p].iter().filter_map(of)
        };
        let n = self.x.len();
        let border = n - SHARED;
        let parts: Vec<(Vec<f64>, Vec<Vector3<f64>>)> = eliminated
            .par_iter()
            .map(|part| {
                let mut right = vec![0.0; n];
                let mut gradients = Vec::with_capacity(part.points.len());
                let mut of_point = Vec::new();
                for p in &part.points {
                    of_point.clear();
                    of_point.extend(rows(p.point));
                    gradients.push(of_point.iter().map(|(_, row)| row.point.transpose() * row.residual).sum());
                    for (camera, by_camera, by_shared) in scores(&of_point, &p.inverse) {
                        right[camera * C..(camera + 1) * C].iter_mut().zip(by_camera.iter()).for_each(|(a, b)| *a += b);
                        right[border..].iter_mut().zip(by_shared.iter()).for_each(|(a, b)| *a += b);
                    }
                }
                (right, gradients)
            })
            .collect();
        let mut x = vec![0.0; n];
        for (right, _) in &parts {
            x.iter_mut().zip(right).for_each(|(a, b)| *a += b);
        }
        factored.solve(&mut x);
        let acceleration = Self::to(bundle, eliminated, x, |part, i| parts[part].1[i]);
        let half = |a: &f64, b: &f64| a + 0.5 * b;
        Some(Self {
            x: self.x.iter().zip(&acceleration.x).map(|(a, b)| half(a, b)).collect(),
            points: self.points.iter().zip(&acceleration.points).map(|(a, b)| a + b * 0.5).collect(),
        })
    }
}

fn shared_of(x: &[f64]) -> SVector<f64, SHARED> {
    SVector::from_column_slice(&x[x.len() - SHARED..])
}

fn camera_of<const C: usize>(x: &[f64], camera: usize) -> SVector<f64, C> {
    SVector::from_column_slice(&x[camera * C..(camera + 1) * C])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::bundle::synthetic::{seen_anew, truth};

    #[test]
    fn no_step_is_made_where_there_is_nothing_to_solve() {
        let mut bundle = truth(3, 4, 0.0);
        bundle.points.iter_mut().for_each(|p| *p *= f64::NAN);
        assert!(
            step(&bundle, &BundleOptions::default(), 1e-4)
                .is_none_or(|(moved, cost)| !cost.is_finite() || !moved.is_finite())
        );
    }

    #[test]
    fn a_bent_step_goes_further_along_the_valley_of_zoom_and_depth() {
        let mut bundle = truth(14, 90, 0.0);
        bundle.zoom = (0..14).map(|i| 0.01 * f64::from(i)).collect();
        seen_anew(&mut bundle);
        // Depths seen from the middle of the way grow with all focal lengths.
        let middle = bundle.poses[7];
        let growth = 1.2f64;
        for point in &mut bundle.points {
            let c = middle.to_camera(*point);
            *point = middle.rotation.inverse() * (Vector3::new(c.x, c.y, c.z * growth) - middle.translation);
        }
        bundle.zoom.iter_mut().for_each(|z| *z += growth.ln());
        let base = BundleOptions { focal: false, zoom: true, loss_px: 50.0, max_steps: 12, ..BundleOptions::default() };
        bundle.adjust(&BundleOptions { zoom: false, ..base }, |_| true);
        let after = |accelerated: bool| {
            let (mut now, mut cost) = (bundle.clone(), bundle.cost(base.loss_px));
            for damping in [1e-4, 1e-5, 1e-6, 1e-7, 1e-6, 1e-7] {
                let moved = step(&now, &BundleOptions { accelerated, ..base }, damping);
                if let Some((moved, less)) = moved.filter(|m| m.1 < cost) {
                    (now, cost) = (moved, less);
                }
            }
            cost
        };
        let (straight, accelerated) = (after(false), after(true));
        assert!(accelerated < 0.5 * straight, "{accelerated} px^2 against {straight}");
    }
}
