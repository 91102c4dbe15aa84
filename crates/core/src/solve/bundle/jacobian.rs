//! Jacobians of the observations.
//!
//! A camera has `C` unknowns: turn (3), shift (3, for a free move), and the logarithm of its own focal length (1, with
//! a zoom), so `C` is 3, 4, 6 or 7. All cameras share the last six: focal length, k1, k2, readout, and the principal
//! point.

use crate::geometry::Velocity;
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Observation};
use nalgebra::{Matrix2, Matrix2x3, Matrix3, SMatrix, SVector, Vector2, Vector3};

/// Unknowns that all cameras share: focal length, k1, k2, readout, principal point.
pub const SHARED: usize = 6;
/// Curvature along a residual that is kept where the loss has none, as a part of that without a loss.
const LEAST_CURVATURE: f64 = 0.2;

/// Jacobians of one observation, times the square root of its weight.
pub struct Row<const C: usize> {
    pub residual: Vector2<f64>,
    pub camera: SMatrix<f64, 2, C>,
    pub point: Matrix2x3<f64>,
    pub shared: SMatrix<f64, 2, SHARED>,
}

/// Calls a function of the number of unknowns of a camera, `f::<C>(...)`, for what is adjusted.
macro_rules! by_unknowns {
    ($options:expr, $f:ident($($argument:expr),*)) => {
        match ($options.motion, $options.zoom) {
            (Move::Nodal, false) => $f::<3>($($argument),*),
            (Move::Nodal, true) => $f::<4>($($argument),*),
            (Move::Free, false) => $f::<6>($($argument),*),
            (Move::Free, true) => $f::<7>($($argument),*),
        }
    };
}
pub(in crate::solve) use by_unknowns;

pub const fn is_free(unknowns: usize) -> bool {
    unknowns >= 6
}

pub const fn zooms(unknowns: usize) -> bool {
    unknowns % 3 == 1
}

/// A residual under Cauchy's loss as least squares see it, and what its Jacobian is to be multiplied by, so that both
/// the gradient and, with `curved`, the curvature of the loss come out (Triggs et al. 1999, section 4.3). Where the
/// loss curves downwards along the residual, a small curvature upwards is kept. Without it the weight alone is used,
/// which is safe far from the end and slow near it.
pub fn robust(residual: &Vector2<f64>, options: &BundleOptions) -> (Vector2<f64>, Matrix2<f64>) {
    let square = residual.norm_squared();
    let share = square / (options.loss_px * options.loss_px);
    let weight = (1.0 / (1.0 + share)).sqrt();
    if !options.curved || square < 1e-20 {
        return (residual * weight, Matrix2::identity() * weight);
    }
    let along = ((1.0 - share) / (1.0 + share)).max(LEAST_CURVATURE).sqrt();
    let scale = (Matrix2::identity() - residual * residual.transpose() * ((1.0 - along) / square)) * weight;
    (residual * (weight / along), scale)
}

pub fn row<const C: usize>(
    bundle: &Bundle,
    point: usize,
    observation: &Observation,
    options: &BundleOptions,
    velocities: &[Velocity],
) -> Option<Row<C>> {
    let pose = bundle.pose_at(observation, velocities);
    let lens = bundle.lens_of(observation.camera as usize);
    let turned = pose.rotation * bundle.points[point];
    let c = turned + pose.translation;
    if !bundle.is_seen(point, c.z) {
        return None;
    }
    let n = Vector2::new(c.x / c.z, c.y / c.z);
    let (pixel, slope) = lens.project_with_jacobian(n);
    let seen_off = observation.pixel - pixel;
    let (residual, scale) = robust(&seen_off, options);
    let by_image = scale * slope;
    let by_camera_point = Matrix2x3::from_fn(|i, k| match k {
        2 => -(by_image[(i, 0)] * n.x + by_image[(i, 1)] * n.y) / c.z,
        _ => by_image[(i, k)] / c.z,
    });
    let mut camera = SMatrix::<f64, 2, C>::zeros();
    for i in 0..2 {
        let along = by_camera_point.row(i).transpose();
        let turn = turned.cross(&along);
        for k in 0..3 {
            camera[(i, k)] = turn[k];
            if is_free(C) {
                camera[(i, 3 + k)] = along[k];
            }
        }
    }
    let r2 = n.norm_squared();
    let gain = 1.0 + r2 * (lens.k1 + r2 * lens.k2);
    let f = lens.focal_px;
    // The focal length is solved by its logarithm, so that all unknowns are of size one.
    let by_focal = scale * n * (gain * f);
    if zooms(C) {
        camera.set_column(C - 1, &by_focal);
    }
    let mut shared = SMatrix::<f64, 2, SHARED>::zeros();
    if options.focal {
        shared.set_column(0, &by_focal);
    }
    if options.k1 {
        shared.set_column(1, &(scale * n * (f * r2)));
    }
    if options.k2 {
        shared.set_column(2, &(scale * n * (f * r2 * r2)));
    }
    if let (true, Some(velocity)) = (options.readout, velocities.get(observation.camera as usize)) {
        let part = bundle.row_part(observation.pixel.y);
        let time = 2.0 * bundle.readout * part;
        let drift = ((velocity.turn + velocity.turn_acceleration * time).cross(&turned)
            + velocity.shift
            + velocity.shift_acceleration * time)
            * part;
        shared.set_column(3, &(by_camera_point * drift));
    }
    if options.centre {
        // In parts of the picture's height, so that this unknown is of size one too.
        shared.fixed_view_mut::<2, 2>(0, 4).copy_from(&(scale * bundle.rows));
    }
    Some(Row { residual, camera, point: by_camera_point * pose.rotation.matrix(), shared })
}

/// The rows of one point, each with its camera.
pub fn rows<'a, const C: usize>(
    bundle: &'a Bundle,
    point: usize,
    options: &'a BundleOptions,
    velocities: &'a [Velocity],
) -> impl Iterator<Item = (usize, Row<C>)> + 'a {
    bundle.observations[point]
        .iter()
        .filter_map(move |o| Some((o.camera as usize, row::<C>(bundle, point, o, options, velocities)?)))
}

/// The 3x3 block of a point in the normal equations, from its rows.
pub fn point_block<const C: usize>(rows: &[(usize, Row<C>)]) -> Matrix3<f64> {
    rows.iter().map(|(_, row)| row.point.transpose() * row.point).sum()
}

/// The score of one point, its place being free: for each of its rows the gradient at the camera and at what
/// is shared. `inverse` is that of its 3x3 block.
pub fn scores<'a, const C: usize>(
    rows: &'a [(usize, Row<C>)],
    inverse: &Matrix3<f64>,
) -> impl Iterator<Item = (usize, SVector<f64, C>, SVector<f64, SHARED>)> + 'a {
    let own = inverse * rows.iter().map(|(_, row)| row.point.transpose() * row.residual).sum::<Vector3<f64>>();
    rows.iter().map(move |(camera, row)| {
        let rest = row.residual - row.point * own;
        (*camera, row.camera.transpose() * rest, row.shared.transpose() * rest)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::bundle::synthetic::truth;

    #[test]
    fn the_jacobians_are_those_of_central_differences() {
        let bundle = truth(3, 2, 0.0);
        let options = BundleOptions { k2: true, centre: true, loss_px: 1e9, ..BundleOptions::default() };
        let o = Observation { camera: 1, pixel: Vector2::new(500.0, 300.0) };
        let row = row::<6>(&bundle, 1, &o, &options, &[]).unwrap();
        let h = 1e-6;
        let pixel = |b: &Bundle, p: Vector3<f64>| {
            let c = b.poses[1].to_camera(p);
            b.lens.project(Vector2::new(c.x / c.z, c.y / c.z))
        };
        let close = |column: Vector2<f64>, plus: Vector2<f64>, minus: Vector2<f64>| {
            let numeric = (plus - minus) / (2.0 * h);
            assert!((numeric - column).norm() < 1e-3, "{numeric} {column}");
        };
        for k in 0..3 {
            let mut e = Vector3::zeros();
            e[k] = h;
            let p = bundle.points[1];
            close(row.point.column(k).into(), pixel(&bundle, p + e), pixel(&bundle, p - e));
            let mut plus = bundle.clone();
            let mut minus = bundle.clone();
            plus.poses[1] = plus.poses[1].retract(e, Vector3::zeros());
            minus.poses[1] = minus.poses[1].retract(-e, Vector3::zeros());
            close(row.camera.column(k).into(), pixel(&plus, p), pixel(&minus, p));
            let (mut plus, mut minus) = (bundle.clone(), bundle.clone());
            plus.poses[1].translation += e;
            minus.poses[1].translation -= e;
            close(row.camera.column(3 + k).into(), pixel(&plus, p), pixel(&minus, p));
            let (mut plus, mut minus) = (bundle.clone(), bundle.clone());
            for (b, s) in [(&mut plus, 1.0), (&mut minus, -1.0)] {
                match k {
                    0 => b.lens.focal_px *= (s * h).exp(),
                    1 => b.lens.k1 += s * h,
                    _ => b.lens.k2 += s * h,
                }
            }
            close(row.shared.column(k).into(), pixel(&plus, p), pixel(&minus, p));
        }
        for k in 0..2 {
            let (mut plus, mut minus) = (bundle.clone(), bundle.clone());
            plus.lens.centre_px[k] += h * bundle.rows;
            minus.lens.centre_px[k] -= h * bundle.rows;
            close(row.shared.column(4 + k).into(), pixel(&plus, bundle.points[1]), pixel(&minus, bundle.points[1]));
        }
    }

    #[test]
    fn the_gradient_is_that_of_the_loss_with_and_without_its_curvature() {
        let bundle = truth(3, 2, 0.0);
        for (curved, off) in [(false, 0.4), (true, 0.4), (true, 3.0)] {
            let options = BundleOptions { loss_px: 0.7, curved, ..BundleOptions::default() };
            let right = bundle.observations[1][1];
            let o = Observation { pixel: right.pixel + Vector2::new(off, -0.3 * off), ..right };
            let row = row::<6>(&bundle, 1, &o, &options, &[]).unwrap();
            let gradient = row.point.transpose() * row.residual * -2.0;
            let cost = |p: Vector3<f64>| {
                let one = Bundle { points: vec![p], observations: vec![vec![o]], ..bundle.clone() };
                one.cost(options.loss_px)
            };
            for k in 0..3 {
                let mut e = Vector3::zeros();
                e[k] = 1e-6;
                let numeric = (cost(bundle.points[1] + e) - cost(bundle.points[1] - e)) / 2e-6;
                assert!(
                    (numeric - gradient[k]).abs() < 1e-4 * (1.0 + numeric.abs()),
                    "{curved} {off}: {numeric} {}",
                    gradient[k]
                );
            }
        }
    }
}
