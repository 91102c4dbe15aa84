//! The normal equations of the bundle, with the points eliminated.
//!
//! A camera has `C` unknowns: turn (3), shift (3, for a free move), and the logarithm of its own focal length (1, with
//! a zoom), so `C` is 3, 4, 6 or 7. All cameras share the last six: focal length, k1, k2, readout, and the principal
//! point.

use super::bundle::{Bundle, BundleOptions, CENTRE_WEIGHT, Observation};
use super::eliminate::{Eliminate, Eliminated};
use super::profile::Profile;
use super::rolling::Speed;
use crate::wide::wide;
use nalgebra::{Matrix2, Matrix2x3, Matrix3, SMatrix, SVector, Vector2, Vector3};
use rayon::prelude::*;

/// Unknowns that all cameras share: focal length, k1, k2, readout, principal point.
pub(super) const SHARED: usize = 6;
/// Damping under which a variance is read off.
pub(super) const HARDLY: f64 = 1e-7;
/// Curvature along a residual that is kept where the loss has none, as a part of that without a loss.
const LEAST_CURVATURE: f64 = 0.2;

/// Jacobians of one observation, times the square root of its weight.
pub(super) struct Row<const C: usize> {
    pub residual: Vector2<f64>,
    pub camera: SMatrix<f64, 2, C>,
    pub point: Matrix2x3<f64>,
    pub shared: SMatrix<f64, 2, SHARED>,
}

pub(super) struct Normal {
    pub matrix: Profile,
    pub right: Vec<f64>,
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
pub(super) use by_unknowns;

pub(super) const fn is_free(unknowns: usize) -> bool {
    unknowns >= 6
}

pub(super) const fn zooms(unknowns: usize) -> bool {
    unknowns % 3 == 1
}

/// A residual under Cauchy's loss as least squares see it, and what its Jacobian is to be multiplied by, so that both
/// the gradient and, with `curved`, the curvature of the loss come out (Triggs et al. 1999, section 4.3). Where the
/// loss curves downwards along the residual, a small curvature upwards is kept. Without it the weight alone is used,
/// which is safe far from the end and slow near it.
pub(super) fn robust(residual: &Vector2<f64>, options: &BundleOptions) -> (Vector2<f64>, Matrix2<f64>) {
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

pub(super) fn row<const C: usize>(
    bundle: &Bundle,
    point: usize,
    observation: &Observation,
    options: &BundleOptions,
    speeds: &[Speed],
) -> Option<Row<C>> {
    let pose = bundle.pose_at(observation, speeds);
    let lens = bundle.lens_of(observation.camera as usize);
    let turned = pose.rotation * bundle.points[point];
    let c = turned + pose.translation;
    if !bundle.is_seen(point, c.z) {
        return None;
    }
    let n = Vector2::new(c.x / c.z, c.y / c.z);
    let (pixel, slope) = lens.pixel_with_slope(n);
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
    if let (true, Some(speed)) = (options.readout, speeds.get(observation.camera as usize)) {
        let part = bundle.row_part(observation.pixel.y);
        let time = 2.0 * bundle.readout * part;
        let drift =
            ((speed.turn + speed.turn_bend * time).cross(&turned) + speed.shift + speed.shift_bend * time) * part;
        shared.set_column(3, &(by_camera_point * drift));
    }
    if options.centre {
        // In parts of the picture's height, so that this unknown is of size one too.
        shared.fixed_view_mut::<2, 2>(0, 4).copy_from(&(scale * bundle.rows));
    }
    Some(Row { residual, camera, point: by_camera_point * pose.rotation.matrix(), shared })
}

/// The rows of one point, each with its camera.
pub(super) fn rows<'a, const C: usize>(
    bundle: &'a Bundle,
    point: usize,
    options: &'a BundleOptions,
    speeds: &'a [Speed],
) -> impl Iterator<Item = (usize, Row<C>)> + 'a {
    bundle.observations[point]
        .iter()
        .filter_map(move |o| Some((o.camera as usize, row::<C>(bundle, point, o, options, speeds)?)))
}

/// The 3x3 block of a point in the normal equations, from its rows.
pub(super) fn point_block<const C: usize>(rows: &[(usize, Row<C>)]) -> Matrix3<f64> {
    rows.iter().map(|(_, row)| row.point.transpose() * row.point).sum()
}

/// What the misses of one point pull at, its place being free: for each of its rows the pull at the camera and at what
/// is shared. `inverse` is that of its 3x3 block.
pub(super) fn pulls<'a, const C: usize>(
    rows: &'a [(usize, Row<C>)],
    inverse: &Matrix3<f64>,
) -> impl Iterator<Item = (usize, SVector<f64, C>, SVector<f64, SHARED>)> + 'a {
    let own = inverse * rows.iter().map(|(_, row)| row.point.transpose() * row.residual).sum::<Vector3<f64>>();
    rows.iter().map(move |(camera, row)| {
        let rest = row.residual - row.point * own;
        (*camera, row.camera.transpose() * rest, row.shared.transpose() * rest)
    })
}

/// Where each row of the reduced system begins: at the first camera that shares a point with its own.
fn profile<const C: usize>(bundle: &Bundle) -> Profile {
    let n = bundle.poses.len();
    let mut first: Vec<usize> = (0..n).collect();
    for observations in &bundle.observations {
        if let Some(lead) = observations.first() {
            for o in observations {
                let f = &mut first[o.camera as usize];
                *f = (*f).min(lead.camera as usize);
            }
        }
    }
    if zooms(C) {
        // The prior ties a camera to the two before it.
        first.iter_mut().enumerate().for_each(|(c, f)| *f = (*f).min(c.saturating_sub(2)));
    }
    let cameras = first.iter().flat_map(|&f| [f * C; C]);
    Profile::zeros(cameras.chain([0; SHARED]).collect())
}

/// The equations of cameras and lens, and for each part of the bundle the points that were taken out of them.
pub(super) fn normal<const C: usize>(
    bundle: &Bundle,
    options: &BundleOptions,
    damping: f64,
) -> (Normal, Vec<Eliminated<C>>) {
    let empty = profile::<C>(bundle);
    let n = empty.len();
    let border = n - SHARED;
    let speeds = bundle.speeds(options.readout);
    // Focal length and k1 come first, and are mostly all.
    let shared = if options.k2 || options.readout || options.centre { SHARED } else { 2 };
    let parts: Vec<(Normal, Vec<f64>, Eliminated<C>)> = bundle
        .parts()
        .into_par_iter()
        .map(|range| {
            let mut normal = Normal { matrix: empty.clone(), right: vec![0.0; n] };
            let mut diagonal = vec![0.0; n];
            let seen = bundle.observations[range.clone()].iter().map(Vec::len).sum();
            let mut out = Eliminated::with_capacity(range.len(), seen);
            let mut of_point = Vec::new();
            for point in range {
                of_point.clear();
                of_point.extend(rows::<C>(bundle, point, options, &speeds));
                let Some(inverse) = bundle.damped_inverse(point, &point_block(&of_point), damping) else { continue };
                let (rows, out, normal, diagonal) = (&of_point, &mut out, &mut normal, &mut diagonal);
                wide(Eliminate { point, rows, inverse, border, shared, out, normal, diagonal });
            }
            (normal, diagonal, out)
        })
        .collect();
    let mut eliminated = Vec::with_capacity(parts.len());
    let mut parts = parts.into_iter();
    let (mut normal, mut diagonal) = match parts.next() {
        Some((normal, diagonal, out)) => {
            eliminated.push(out);
            (normal, diagonal)
        }
        None => (Normal { matrix: empty, right: vec![0.0; n] }, vec![0.0; n]),
    };
    for (part, d, out) in parts {
        eliminated.push(out);
        normal.matrix.add(&part.matrix);
        normal.right.iter_mut().zip(&part.right).for_each(|(a, b)| *a += b);
        diagonal.iter_mut().zip(&d).for_each(|(a, b)| *a += b);
    }
    if zooms(C) {
        for term in bundle.zoom_terms() {
            let at = |k: usize| (term.first + k) * C + C - 1;
            for i in 0..3 {
                normal.right[at(i)] -= term.weight() * term.slopes[i] * term.unrest;
                for j in 0..=i {
                    normal.matrix.span_mut(at(i), at(j), 1)[0] += term.weight() * term.slopes[i] * term.slopes[j];
                }
            }
        }
    }
    if options.centre {
        let off = bundle.centre_off();
        for k in 0..2 {
            let at = n - 2 + k;
            normal.right[at] -= CENTRE_WEIGHT * off[k];
            normal.matrix.span_mut(at, at, 1)[0] += CENTRE_WEIGHT;
        }
    }
    for (i, &d) in diagonal.iter().enumerate() {
        // An unknown that nothing speaks of stays where it is.
        let add = if d > 0.0 { damping * d } else { 1.0 };
        normal.matrix.span_mut(i, i, 1)[0] += add;
    }
    (normal, eliminated)
}

#[cfg(test)]
mod tests {
    use super::super::bundle::Move;
    use super::super::bundle::tests::{disturb, truth};
    use super::*;
    use nalgebra::{DMatrix, DVector};

    /// The equations of all unknowns at once, cameras, shared ones and points, and what they solve to.
    fn dense<const C: usize>(bundle: &Bundle, options: &BundleOptions, damping: f64) -> DVector<f64> {
        let (cameras, points) = (bundle.poses.len(), bundle.points.len());
        let border = cameras * C;
        let n = border + SHARED + 3 * points;
        let (mut matrix, mut right) = (DMatrix::<f64>::zeros(n, n), DVector::<f64>::zeros(n));
        for p in 0..points {
            for (camera, row) in rows::<C>(bundle, p, options, &[]) {
                let mut jacobian = DMatrix::<f64>::zeros(2, n);
                jacobian.view_mut((0, camera * C), (2, C)).copy_from(&row.camera);
                jacobian.view_mut((0, border), (2, SHARED)).copy_from(&row.shared);
                jacobian.view_mut((0, border + SHARED + 3 * p), (2, 3)).copy_from(&row.point);
                matrix += jacobian.transpose() * &jacobian;
                right += jacobian.transpose() * row.residual;
            }
        }
        for i in 0..n {
            let own = matrix[(i, i)];
            matrix[(i, i)] += if own > 0.0 { damping * own } else { 1.0 };
        }
        matrix.cholesky().unwrap().solve(&right)
    }

    fn same_as_dense<const C: usize>(options: &BundleOptions) {
        let mut bundle = truth(5, 30, 0.3);
        disturb(&mut bundle);
        if zooms(C) {
            bundle.zoom = vec![0.0; 5];
        }
        // Points that not all cameras see, and one that none sees.
        for (p, seen) in bundle.observations.iter_mut().enumerate() {
            seen.retain(|o| !(o.camera as usize + p).is_multiple_of(4));
        }
        bundle.observations[7].clear();
        if !is_free(C) {
            bundle.poses.iter_mut().for_each(|p| p.translation = Vector3::new(0.0, 0.0, 9.0));
        }
        let damping = 1e-2;
        let (mut normal, eliminated) = normal::<C>(&bundle, options, damping);
        assert!(normal.matrix.factor());
        normal.matrix.solve(&mut normal.right);
        let mut found = normal.right.clone();
        let mut points = vec![Vector3::zeros(); 30];
        for part in &eliminated {
            part.points.iter().for_each(|p| points[p.point] = part.back(p, &p.gradient, &normal.right));
        }
        points.iter().for_each(|p| found.extend(p.iter()));
        let expected = dense::<C>(&bundle, options, damping);
        assert_eq!(found.len(), expected.len());
        let worst =
            found.iter().zip(expected.iter()).map(|(a, b)| (a - b).abs() / (1e-6 + b.abs())).fold(0.0, f64::max);
        assert!(worst < 1e-5, "{C} unknowns: off by {worst}");
    }

    #[test]
    fn the_reduced_equations_solve_to_what_all_of_them_do() {
        let base = BundleOptions { loss_px: 2.0, ..BundleOptions::default() };
        same_as_dense::<6>(&base);
        same_as_dense::<6>(&BundleOptions { k2: true, ..base });
        same_as_dense::<6>(&BundleOptions { focal: false, k1: false, ..base });
        same_as_dense::<3>(&BundleOptions { motion: Move::Nodal, ..base });
    }
}
