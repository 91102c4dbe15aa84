//! The normal equations of the bundle, with the points eliminated.
//!
//! The unknowns are those of the cameras in the order of time, `C` each, and then the shared ones (see
//! [`crate::solve::bundle::jacobian`]).

use crate::solve::bundle::jacobian::{SHARED, point_block, rows, zooms};
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::schur::{Eliminate, Eliminated, Normal};
use crate::solve::bundle::skyline::Profile;
use crate::solve::bundle::state::{Bundle, CENTRE_WEIGHT};
use crate::wide::wide;
use rayon::prelude::*;

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
pub fn normal<const C: usize>(bundle: &Bundle, options: &BundleOptions, damping: f64) -> (Normal, Vec<Eliminated<C>>) {
    let empty = profile::<C>(bundle);
    let n = empty.len();
    let border = n - SHARED;
    let velocities = bundle.velocities(options.readout);
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
                of_point.extend(rows::<C>(bundle, point, options, &velocities));
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
    use super::*;
    use crate::solve::bundle::jacobian::is_free;
    use crate::solve::bundle::state::Move;
    use crate::solve::bundle::synthetic::{disturb, truth};
    use nalgebra::{DMatrix, DVector, Vector3};

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
