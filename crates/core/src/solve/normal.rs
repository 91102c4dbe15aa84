//! The normal equations of the bundle, with the points eliminated.
//!
//! A camera has `C` unknowns: turn (3), shift (3, for a free move), and the logarithm of its own focal length (1, with
//! a zoom), so `C` is 3, 4, 6 or 7. All cameras share the last six: focal length, k1, k2, readout, and the principal point.

use super::bundle::{Bundle, BundleOptions, CENTRE_WEIGHT, Move, Observation};
use super::far;
use super::profile::Profile;
use super::rolling::Speed;
use crate::geometry::Pose;
use crate::wide::{Loop, wide};
use nalgebra::{Matrix2, Matrix2x3, Matrix3, SMatrix, SVector, Vector2, Vector3};
use rayon::prelude::*;

/// Unknowns that all cameras share: focal length, k1, k2, readout, principal point.
pub(super) const SHARED: usize = 6;
/// Damping under which a variance is read off.
pub(super) const HARDLY: f64 = 1e-7;
/// Curvature along a residual that is kept where the loss has none, as a part of that without a loss.
const LEAST_CURVATURE: f64 = 0.2;
/// The largest change of the principal point in one step, part of the picture's height.
const CENTRE_STEP: f64 = 0.05;
/// Part of a step after which it is looked how residuals curve.
const BEND_PROBE: f64 = 0.1;
/// The largest change of the readout in one step.
const READOUT_STEP: f64 = 0.3;

/// Jacobians of one observation, times the square root of its weight.
pub(super) struct Row<const C: usize> {
    pub residual: Vector2<f64>,
    pub camera: SMatrix<f64, 2, C>,
    pub point: Matrix2x3<f64>,
    pub shared: SMatrix<f64, 2, SHARED>,
}

pub(super) struct Normal {
    pub matrix: Profile,
    right: Vec<f64>,
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

/// The bundle one damped step further, and its robust cost; `None` when the equations cannot be solved.
pub(super) fn step(bundle: &Bundle, options: &BundleOptions, damping: f64) -> Option<(Bundle, f64)> {
    by_unknowns!(options, step_of(bundle, options, damping))
}

pub(super) const fn is_free(unknowns: usize) -> bool {
    unknowns >= 6
}

pub(super) const fn zooms(unknowns: usize) -> bool {
    unknowns % 3 == 1
}

/// A residual under Cauchy's loss as least squares see it, and what its Jacobian is to be multiplied by, so that both the
/// gradient and, with `curved`, the curvature of the loss come out (Triggs et al. 1999, section 4.3). Where the loss curves
/// downwards along the residual, a small curvature upwards is kept. Without it the weight alone is used, which is safe far
/// from the end and slow near it.
fn robust(residual: &Vector2<f64>, options: &BundleOptions) -> (Vector2<f64>, Matrix2<f64>) {
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
        let drift = ((speed.turn + speed.turn_bend * time).cross(&turned) + speed.shift + speed.shift_bend * time) * part;
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
    bundle.observations[point].iter().filter_map(move |o| Some((o.camera as usize, row::<C>(bundle, point, o, options, speeds)?)))
}

/// The 3x3 block of a point in the normal equations, from its rows.
pub(super) fn point_block<const C: usize>(rows: &[(usize, Row<C>)]) -> Matrix3<f64> {
    rows.iter().map(|(_, row)| row.point.transpose() * row.point).sum()
}

/// What the misses of one point pull at, its place being free: for each of its rows the pull at the camera and at what is
/// shared. `inverse` is that of its 3x3 block.
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

pub(super) fn normal<const C: usize>(bundle: &Bundle, options: &BundleOptions, damping: f64) -> Normal {
    let empty = profile::<C>(bundle);
    let n = empty.len();
    let border = n - SHARED;
    let speeds = bundle.speeds(options.readout);
    let parts: Vec<(Normal, Vec<f64>)> = bundle
        .parts()
        .into_par_iter()
        .map(|range| {
            let mut normal = Normal { matrix: empty.clone(), right: vec![0.0; n] };
            let mut diagonal = vec![0.0; n];
            let mut work = Work::<C>::default();
            for p in range {
                work.rows.clear();
                work.rows.extend(rows::<C>(bundle, p, options, &speeds));
                let Some(inverse) = bundle.damped_inverse(p, &point_block(&work.rows), damping) else { continue };
                wide(AddPoint { work: &mut work, inverse: &inverse, border, normal: &mut normal, diagonal: &mut diagonal });
            }
            (normal, diagonal)
        })
        .collect();
    let mut parts = parts.into_iter();
    let (mut normal, mut diagonal) = match parts.next() {
        Some(first) => first,
        None => (Normal { matrix: empty, right: vec![0.0; n] }, vec![0.0; n]),
    };
    for (part, d) in parts {
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
    normal
}

fn step_of<const C: usize>(bundle: &Bundle, options: &BundleOptions, damping: f64) -> Option<(Bundle, f64)> {
    let mut normal = normal::<C>(bundle, options, damping);
    if !normal.matrix.factor() {
        return None;
    }
    normal.matrix.solve(&mut normal.right);
    let speeds = bundle.speeds(options.readout);
    let rows = |p: usize| rows::<C>(bundle, p, options, &speeds);
    let straight = Way::to::<C, _>(bundle, damping, std::mem::take(&mut normal.right), rows);
    let bent = if options.bent { straight.bent::<C>(bundle, options, damping, &normal.matrix, &speeds) } else { None };
    let ends = [Some(straight), bent].into_iter().flatten().filter_map(|way| {
        let end = way.taken::<C>(bundle, options, 1.0).filter(Bundle::is_finite)?;
        let cost = end.cost(options.loss_px);
        Some((end, cost))
    });
    ends.min_by(|a, b| a.1.total_cmp(&b.1))
}

/// A step: how cameras, lens and points are to move.
struct Way {
    /// The unknowns of the cameras, then the shared ones.
    x: Vec<f64>,
    points: Vec<Vector3<f64>>,
}

impl Way {
    /// The step whose cameras move by `x`; the points follow by back-substitution, from the rows of each.
    fn to<const C: usize, R>(bundle: &Bundle, damping: f64, x: Vec<f64>, rows: impl Fn(usize) -> R + Sync) -> Self
    where
        R: Iterator<Item = (usize, Row<C>)>,
    {
        let shared = shared_of(&x);
        let points = (0..bundle.points.len())
            .into_par_iter()
            .with_min_len(64)
            .map(|p| {
                let (mut v, mut g) = (Matrix3::zeros(), Vector3::zeros());
                for (camera, row) in rows(p) {
                    let rest = row.residual - row.camera * camera_of::<C>(&x, camera) - row.shared * shared;
                    v += row.point.transpose() * row.point;
                    g += row.point.transpose() * rest;
                }
                bundle.damped_inverse(p, &v, damping).map_or_else(Vector3::zeros, |i| i * g)
            })
            .collect();
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
            *pose = pose.moved(Vector3::new(d[0], d[1], d[2]), shift);
            if zooms(C) {
                moved.zoom[camera] += d[C - 1].clamp(-0.5, 0.5);
            }
        }
        let farthest = if bundle.anchors.is_empty() { 0.0 } else { far::farthest(bundle.poses.iter().map(Pose::centre)) };
        for (p, (point, by)) in moved.points.iter_mut().zip(&self.points).enumerate() {
            if let Some(far) = bundle.far(p) {
                *point = far::moved(far, &(by * part), farthest);
                continue;
            }
            *point += by * part;
            if options.motion == Move::Nodal {
                *point = point.try_normalize(1e-12)?;
            }
        }
        Some(moved)
    }

    /// The step bent along the valley in which it leads: how residuals curve on the way is found by going a small part of
    /// it, and half of what undoes that is added (geodesic acceleration, Transtrum & Sethna, "Improvements to the
    /// Levenberg-Marquardt algorithm for nonlinear least-squares minimization", 2012). `factored` are the equations that
    /// the step comes from.
    fn bent<const C: usize>(
        &self,
        bundle: &Bundle,
        options: &BundleOptions,
        damping: f64,
        factored: &Profile,
        speeds: &[Speed],
    ) -> Option<Self> {
        let ahead = self.taken::<C>(bundle, options, BEND_PROBE)?;
        let speeds_ahead = ahead.speeds(options.readout);
        let shared = shared_of(&self.x);
        let (ahead, speeds_ahead) = (&ahead, &speeds_ahead);
        let rows = |p: usize| {
            let of = move |o: &Observation| {
                let row = row::<C>(bundle, p, o, options, speeds)?;
                let (here, there) = (bundle.residual_with(p, o, speeds)?, ahead.residual_with(p, o, speeds_ahead)?);
                let (_, scale) = robust(&here, options);
                let camera = o.camera as usize;
                let slope = row.camera * camera_of::<C>(&self.x, camera) + row.shared * shared + row.point * self.points[p];
                let bend = (scale * (here - there) / BEND_PROBE - slope) * (2.0 / BEND_PROBE);
                Some((camera, Row { residual: -bend, ..row }))
            };
            bundle.observations[p].iter().filter_map(of)
        };
        let n = self.x.len();
        let border = n - SHARED;
        let parts: Vec<Vec<f64>> = bundle
            .parts()
            .into_par_iter()
            .map(|range| {
                let mut right = vec![0.0; n];
                let mut of_point = Vec::new();
                for p in range {
                    of_point.clear();
                    of_point.extend(rows(p));
                    let Some(inverse) = bundle.damped_inverse(p, &point_block(&of_point), damping) else { continue };
                    for (camera, by_camera, by_shared) in pulls(&of_point, &inverse) {
                        right[camera * C..(camera + 1) * C].iter_mut().zip(by_camera.iter()).for_each(|(a, b)| *a += b);
                        right[border..].iter_mut().zip(by_shared.iter()).for_each(|(a, b)| *a += b);
                    }
                }
                right
            })
            .collect();
        let mut x = vec![0.0; n];
        for part in parts {
            x.iter_mut().zip(part).for_each(|(a, b)| *a += b);
        }
        factored.solve(&mut x);
        let bend = Self::to::<C, _>(bundle, damping, x, rows);
        let half = |a: &f64, b: &f64| a + 0.5 * b;
        Some(Self {
            x: self.x.iter().zip(&bend.x).map(|(a, b)| half(a, b)).collect(),
            points: self.points.iter().zip(&bend.points).map(|(a, b)| a + b * 0.5).collect(),
        })
    }
}

fn shared_of(x: &[f64]) -> SVector<f64, SHARED> {
    SVector::from_column_slice(&x[x.len() - SHARED..])
}

fn camera_of<const C: usize>(x: &[f64], camera: usize) -> SVector<f64, C> {
    SVector::from_column_slice(&x[camera * C..(camera + 1) * C])
}

/// What adding a point needs, kept from point to point.
struct Work<const C: usize> {
    rows: Vec<(usize, Row<C>)>,
    /// W (C x 3) of each observation as three rows of C, so that the innermost loop runs along a row.
    w_rows: Vec<[[f64; C]; 3]>,
}

impl<const C: usize> Default for Work<C> {
    fn default() -> Self {
        Self { rows: Vec::new(), w_rows: Vec::new() }
    }
}

/// Adds one point's part of the reduced system, from its rows.
struct AddPoint<'a, const C: usize> {
    work: &'a mut Work<C>,
    /// The damped inverse of its 3x3 block.
    inverse: &'a Matrix3<f64>,
    border: usize,
    normal: &'a mut Normal,
    diagonal: &'a mut [f64],
}

impl<const C: usize> Loop for AddPoint<'_, C> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        let Self { work: Work { rows, w_rows }, inverse, border, normal, diagonal } = self;
        let mut g = Vector3::zeros();
        let mut shared_point = SMatrix::<f64, SHARED, 3>::zeros();
        for (_, row) in rows.iter() {
            g += row.point.transpose() * row.residual;
            shared_point += row.shared.transpose() * row.point;
        }
        let shared_y = shared_point * inverse;
        w_rows.clear();
        for (camera, row) in rows.iter() {
            let at = camera * C;
            let w = row.camera.transpose() * row.point;
            w_rows.push(std::array::from_fn(|k| std::array::from_fn(|a| w[(a, k)])));
            let y = w * inverse;
            let y_rows: [[f64; 3]; C] = std::array::from_fn(|a| [y[(a, 0)], y[(a, 1)], y[(a, 2)]]);
            for ((other, _), w) in rows.iter().zip(w_rows.iter()) {
                if other == camera {
                    break;
                }
                for (a, y) in y_rows.iter().enumerate() {
                    take_away(normal.matrix.span_mut(at + a, other * C, C), y, w);
                }
            }
            let u = row.camera.transpose() * row.camera;
            let right = row.camera.transpose() * row.residual - y * g;
            for a in 0..C {
                diagonal[at + a] += u[(a, a)];
                normal.right[at + a] += right[a];
                let own = normal.matrix.span_mut(at + a, at, a + 1);
                for (b, value) in own.iter_mut().enumerate() {
                    *value += u[(a, b)] - (y[(a, 0)] * w[(b, 0)] + y[(a, 1)] * w[(b, 1)] + y[(a, 2)] * w[(b, 2)]);
                }
            }
            let cross = row.shared.transpose() * row.camera - shared_y * w.transpose();
            for s in 0..SHARED {
                let span = normal.matrix.span_mut(border + s, at, C);
                for (b, value) in span.iter_mut().enumerate() {
                    *value += cross[(s, b)];
                }
            }
            let own = row.shared.transpose() * row.shared;
            let shared_right = row.shared.transpose() * row.residual;
            for s in 0..SHARED {
                diagonal[border + s] += own[(s, s)];
                normal.right[border + s] += shared_right[s];
                for (b, value) in normal.matrix.span_mut(border + s, border, s + 1).iter_mut().enumerate() {
                    *value += own[(s, b)];
                }
            }
        }
        let reduced = shared_y * shared_point.transpose();
        let shared_right = shared_y * g;
        for s in 0..SHARED {
            normal.right[border + s] -= shared_right[s];
            for (b, value) in normal.matrix.span_mut(border + s, border, s + 1).iter_mut().enumerate() {
                *value -= reduced[(s, b)];
            }
        }
    }
}

/// Takes the product of a row of Y with W off a row of a block. All values at once: the length is known to the compiler.
#[inline(always)]
fn take_away<const C: usize>(span: &mut [f64], y: &[f64; 3], w: &[[f64; C]; 3]) {
    let Ok(span) = <&mut [f64; C]>::try_from(span) else { return };
    let mut left = *span;
    for b in 0..C {
        left[b] -= y[0] * w[0][b] + y[1] * w[1][b] + y[2] * w[2][b];
    }
    *span = left;
}

#[cfg(test)]
mod tests {
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
        matrix.cholesky().unwrap().solve(&right).rows(0, border + SHARED).into_owned()
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
        let mut normal = normal::<C>(&bundle, options, damping);
        assert!(normal.matrix.factor());
        normal.matrix.solve(&mut normal.right);
        let right = dense::<C>(&bundle, options, damping);
        let worst = normal.right.iter().zip(right.iter()).map(|(a, b)| (a - b).abs() / (1e-6 + b.abs())).fold(0.0, f64::max);
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

    #[test]
    fn no_step_is_made_where_there_is_nothing_to_solve() {
        let mut bundle = truth(3, 4, 0.0);
        bundle.points.iter_mut().for_each(|p| *p *= f64::NAN);
        assert!(step(&bundle, &BundleOptions::default(), 1e-4).is_none_or(|(moved, cost)| !cost.is_finite() || !moved.is_finite()));
    }
}
