//! Bundle adjustment: all cameras, points and the lens together.
//!
//! Levenberg-Marquardt with analytic Jacobians and Cauchy weights; the points are eliminated (Schur
//! complement) and the reduced system, in the order of time with the lens last, is factored within its
//! profile. The gauge is left free; damping takes care of it. Triggs et al. 1999, sections 4 to 6.

use super::profile::Profile;
use crate::geometry::{Lens, Pose, hat};
use nalgebra::{Matrix2x3, Matrix3, SMatrix, SVector, Vector2, Vector3};
use rayon::prelude::*;

/// Unknowns of a camera: turn and shift.
const CAMERA: usize = 6;
/// Unknowns that all cameras share: focal length, k1, k2.
const SHARED: usize = 3;
/// Points are dealt out to this many sums, whatever the number of threads, so that the order of
/// additions never changes.
const PARTS: usize = 4;
/// Damping above which no step helps any more.
const STUCK: f64 = 1e10;
/// Depth below which a point counts as behind the camera, world units.
const MIN_DEPTH: f64 = 1e-6;

/// One point seen by one camera.
#[derive(Debug, Clone, Copy)]
pub struct Observation {
    /// Index into the poses.
    pub camera: u32,
    /// Where it was seen, px.
    pub pixel: Vector2<f64>,
}

/// Which of the unknowns move.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    /// Turn and shift of the cameras.
    Free,
    /// Turn only: the camera stands still at the origin and points are directions.
    Nodal,
}

/// What is adjusted, and how far.
#[derive(Debug, Clone, Copy)]
pub struct BundleOptions {
    /// How cameras move.
    pub motion: Move,
    /// Whether the focal length is adjusted.
    pub focal: bool,
    /// Whether k1 is adjusted.
    pub k1: bool,
    /// Whether k2 is adjusted.
    pub k2: bool,
    /// Residual at which an observation's weight has fallen to a half, px (Cauchy).
    pub loss_px: f64,
    /// Most steps taken.
    pub max_steps: usize,
    /// Relative decrease of the cost that ends the search.
    pub tolerance: f64,
}

impl Default for BundleOptions {
    fn default() -> Self {
        Self { motion: Move::Free, focal: true, k1: true, k2: false, loss_px: 1.0, max_steps: 20, tolerance: 1e-5 }
    }
}

/// Why the search ended; every one of them leaves the best state found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stop {
    /// The cost no longer falls.
    Converged,
    /// The allowed steps were used up.
    OutOfSteps,
    /// No step made the cost smaller.
    Stuck,
}

/// How an adjustment went.
#[derive(Debug, Clone, Copy)]
pub struct Adjusted {
    /// Why it ended.
    pub stop: Stop,
    /// Steps tried.
    pub steps: usize,
    /// Robust cost before, px^2.
    pub cost_first: f64,
    /// Robust cost after, px^2.
    pub cost_last: f64,
}

/// Cameras, one lens, and points with their observations.
#[derive(Debug, Clone)]
pub struct Bundle {
    /// `cam_from_world`, in the order of time.
    pub poses: Vec<Pose>,
    /// The lens of all of them.
    pub lens: Lens,
    /// World frame.
    pub points: Vec<Vector3<f64>>,
    /// For each point its observations, by rising camera.
    pub observations: Vec<Vec<Observation>>,
}

/// Jacobians of one observation, times the square root of its weight.
struct Row {
    residual: Vector2<f64>,
    camera: SMatrix<f64, 2, CAMERA>,
    point: Matrix2x3<f64>,
    shared: SMatrix<f64, 2, SHARED>,
}

struct Normal {
    matrix: Profile,
    right: Vec<f64>,
}

impl Bundle {
    /// Residual (seen minus projected), px; `None` behind the camera.
    pub fn residual(&self, point: usize, observation: &Observation) -> Option<Vector2<f64>> {
        let c = self.poses[observation.camera as usize].to_camera(self.points[point]);
        (c.z > MIN_DEPTH).then(|| observation.pixel - self.lens.pixel(Vector2::new(c.x / c.z, c.y / c.z)))
    }

    /// Robust cost with Cauchy's loss, px^2; a point behind a camera costs as a miss of 100 px.
    pub fn cost(&self, loss_px: f64) -> f64 {
        let c2 = loss_px * loss_px;
        let behind = c2 * (1.0 + 1e4 / c2).ln();
        let ranges = self.parts();
        let sums: Vec<f64> = ranges
            .into_par_iter()
            .map(|range| {
                range
                    .flat_map(|p| self.observations[p].iter().map(move |o| (p, o)))
                    .map(|(p, o)| self.residual(p, o).map_or(behind, |r| c2 * (r.norm_squared() / c2).ln_1p()))
                    .sum()
            })
            .collect();
        sums.iter().sum()
    }

    /// Adjusts in place. `go_on` is asked before every step; answering no ends the search with the
    /// best state so far.
    pub fn adjust(&mut self, options: &BundleOptions, mut go_on: impl FnMut() -> bool) -> Adjusted {
        let mut damping = 1e-4;
        let mut cost = self.cost(options.loss_px);
        let cost_first = cost;
        let mut stop = Stop::OutOfSteps;
        let mut steps = 0;
        'search: while steps < options.max_steps && go_on() {
            loop {
                steps += 1;
                let moved = self.step(options, damping).filter(|b| b.is_finite());
                let new_cost = moved.as_ref().map_or(f64::INFINITY, |b| b.cost(options.loss_px));
                if let Some(moved) = moved.filter(|_| new_cost < cost) {
                    let gain = (cost - new_cost) / cost.max(1e-300);
                    *self = moved;
                    cost = new_cost;
                    damping = (damping * 0.1).max(1e-9);
                    if gain < options.tolerance {
                        stop = Stop::Converged;
                        break 'search;
                    }
                    break;
                }
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

    /// Standard deviations of the focal length (relative: 0.01 is 1 %), k1 and k2 that follow from the adjustment, for
    /// observations with a noise of `sigma_px`. Those that were held have 0.
    pub fn lens_deviation(&self, options: &BundleOptions, sigma_px: f64) -> Option<[f64; 3]> {
        // The lens stands last in the order of elimination, so the corner of the factor is that of
        // the marginal information.
        let mut normal = self.normal(options, 1e-7);
        if !normal.matrix.factor() {
            return None;
        }
        let n = normal.matrix.len();
        let corner = Matrix3::from_fn(|i, j| if j <= i { normal.matrix.at(n - 3 + i, n - 3 + j) } else { 0.0 });
        let covariance = (corner * corner.transpose()).try_inverse()?;
        let held = [!options.focal, !options.k1, !options.k2];
        Some(std::array::from_fn(|i| if held[i] { 0.0 } else { sigma_px * covariance[(i, i)].max(0.0).sqrt() }))
    }

    fn is_finite(&self) -> bool {
        self.lens.focal_px.is_finite()
            && self.lens.focal_px > 1.0
            && self.points.iter().all(|p| p.iter().all(|v| v.is_finite()))
            && self.poses.iter().all(|p| p.translation.iter().chain(p.rotation.matrix().iter()).all(|v| v.is_finite()))
    }

    /// Ranges of points with about the same number of observations each.
    fn parts(&self) -> Vec<std::ops::Range<usize>> {
        let work = |o: &Vec<Observation>| o.len() * (o.len() + 8);
        let total: usize = self.observations.iter().map(work).sum();
        let mut ranges = Vec::with_capacity(PARTS);
        let (mut from, mut sum) = (0, 0);
        for (i, o) in self.observations.iter().enumerate() {
            sum += work(o);
            if sum * PARTS >= total * (ranges.len() + 1) && ranges.len() + 1 < PARTS {
                ranges.push(from..i + 1);
                from = i + 1;
            }
        }
        ranges.push(from..self.observations.len());
        ranges
    }

    fn row(&self, point: Vector3<f64>, observation: &Observation, options: &BundleOptions) -> Option<Row> {
        let pose = &self.poses[observation.camera as usize];
        let turned = pose.rotation * point;
        let c = turned + pose.translation;
        if c.z <= MIN_DEPTH {
            return None;
        }
        let n = Vector2::new(c.x / c.z, c.y / c.z);
        let (pixel, slope) = self.lens.pixel_with_slope(n);
        let residual = observation.pixel - pixel;
        let weight = (1.0 / (1.0 + residual.norm_squared() / (options.loss_px * options.loss_px))).sqrt();
        let divide = Matrix2x3::new(1.0 / c.z, 0.0, -n.x / c.z, 0.0, 1.0 / c.z, -n.y / c.z);
        let by_camera_point = slope * divide * weight;
        let mut camera = SMatrix::<f64, 2, CAMERA>::zeros();
        camera.fixed_view_mut::<2, 3>(0, 0).copy_from(&(by_camera_point * -hat(&turned)));
        if options.motion == Move::Free {
            camera.fixed_view_mut::<2, 3>(0, 3).copy_from(&by_camera_point);
        }
        let r2 = n.norm_squared();
        let gain = 1.0 + r2 * (self.lens.k1 + r2 * self.lens.k2);
        let f = self.lens.focal_px;
        let mut shared = SMatrix::<f64, 2, SHARED>::zeros();
        // The focal length is solved by its logarithm, so that all three unknowns are of size one.
        for (column, (on, by)) in
            [(options.focal, n * (gain * f)), (options.k1, n * (f * r2)), (options.k2, n * (f * r2 * r2))].into_iter().enumerate()
        {
            if on {
                shared.set_column(column, &(by * weight));
            }
        }
        Some(Row { residual: residual * weight, camera, point: by_camera_point * pose.rotation.matrix(), shared })
    }

    /// First camera that shares a point with each camera.
    fn profile(&self) -> Profile {
        let n = self.poses.len();
        let mut first: Vec<usize> = (0..n).collect();
        for observations in &self.observations {
            if let Some(lead) = observations.first() {
                for o in observations {
                    let f = &mut first[o.camera as usize];
                    *f = (*f).min(lead.camera as usize);
                }
            }
        }
        let cameras = first.iter().flat_map(|&f| [f * CAMERA; CAMERA]);
        Profile::zeros(cameras.chain([0; SHARED]).collect())
    }

    fn normal(&self, options: &BundleOptions, damping: f64) -> Normal {
        let empty = self.profile();
        let n = empty.len();
        let border = n - SHARED;
        let parts: Vec<(Normal, Vec<f64>)> = self
            .parts()
            .into_par_iter()
            .map(|range| {
                let mut normal = Normal { matrix: empty.clone(), right: vec![0.0; n] };
                let mut diagonal = vec![0.0; n];
                let mut rows = Vec::new();
                for p in range {
                    rows.clear();
                    let seen = &self.observations[p];
                    rows.extend(seen.iter().filter_map(|o| Some((o.camera as usize, self.row(self.points[p], o, options)?))));
                    add_point(&rows, damping, border, &mut normal, &mut diagonal);
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
        for (i, &d) in diagonal.iter().enumerate() {
            // An unknown that nothing speaks of stays where it is.
            let add = if d > 0.0 { damping * d } else { 1.0 };
            normal.matrix.span_mut(i, i, 1)[0] += add;
        }
        normal
    }

    fn step(&self, options: &BundleOptions, damping: f64) -> Option<Self> {
        let mut normal = self.normal(options, damping);
        if !normal.matrix.factor() {
            return None;
        }
        normal.matrix.solve(&mut normal.right);
        let x = normal.right;
        let border = x.len() - SHARED;
        let shared = SVector::<f64, SHARED>::new(x[border], x[border + 1], x[border + 2]);
        let mut moved = self.clone();
        moved.lens.focal_px *= shared[0].clamp(-0.5, 0.5).exp();
        moved.lens.k1 += shared[1];
        moved.lens.k2 += shared[2];
        for (camera, pose) in moved.poses.iter_mut().enumerate() {
            let d = &x[camera * CAMERA..(camera + 1) * CAMERA];
            *pose = pose.moved(Vector3::new(d[0], d[1], d[2]), Vector3::new(d[3], d[4], d[5]));
        }
        let points: Vec<Vector3<f64>> =
            (0..self.points.len()).into_par_iter().with_min_len(64).map(|p| self.point_step(p, options, damping, &x, &shared)).collect();
        moved.points = points;
        if options.motion == Move::Nodal {
            moved.points.iter_mut().for_each(|p| *p = p.normalize());
        }
        Some(moved)
    }

    /// Back-substitution for one point.
    fn point_step(&self, p: usize, options: &BundleOptions, damping: f64, x: &[f64], shared: &SVector<f64, SHARED>) -> Vector3<f64> {
        let mut v = Matrix3::zeros();
        let mut g = Vector3::zeros();
        for o in &self.observations[p] {
            if let Some(row) = self.row(self.points[p], o, options) {
                let at = o.camera as usize * CAMERA;
                let d = SVector::<f64, CAMERA>::from_column_slice(&x[at..at + CAMERA]);
                let rest = row.residual - row.camera * d - row.shared * shared;
                v += row.point.transpose() * row.point;
                g += row.point.transpose() * rest;
            }
        }
        damped_inverse(&v, damping).map_or(self.points[p], |i| self.points[p] + i * g)
    }
}

fn damped_inverse(v: &Matrix3<f64>, damping: f64) -> Option<Matrix3<f64>> {
    let mut m = *v;
    for i in 0..3 {
        m[(i, i)] += (damping * v[(i, i)]).max(1e-12);
    }
    m.try_inverse()
}

/// Adds one point's part of the reduced system.
fn add_point(rows: &[(usize, Row)], damping: f64, border: usize, normal: &mut Normal, diagonal: &mut [f64]) {
    let mut v = Matrix3::zeros();
    let mut g = Vector3::zeros();
    let mut shared_point = SMatrix::<f64, SHARED, 3>::zeros();
    for (_, row) in rows {
        v += row.point.transpose() * row.point;
        g += row.point.transpose() * row.residual;
        shared_point += row.shared.transpose() * row.point;
    }
    let Some(inverse) = damped_inverse(&v, damping) else { return };
    // W (6x3) of each observation as three rows of six, so that the innermost loop runs along a row.
    let w: Vec<SMatrix<f64, CAMERA, 3>> = rows.iter().map(|(_, row)| row.camera.transpose() * row.point).collect();
    let w_rows: Vec<[[f64; CAMERA]; 3]> = w.iter().map(|w| std::array::from_fn(|k| std::array::from_fn(|a| w[(a, k)]))).collect();
    let shared_y = shared_point * inverse;
    for (i, (camera, row)) in rows.iter().enumerate() {
        let at = camera * CAMERA;
        let y = w[i] * inverse;
        let u = row.camera.transpose() * row.camera;
        for a in 0..CAMERA {
            diagonal[at + a] += u[(a, a)];
            let own = normal.matrix.span_mut(at + a, at, a + 1);
            for (b, value) in own.iter_mut().enumerate() {
                *value += u[(a, b)];
            }
        }
        let y: [[f64; 3]; CAMERA] = std::array::from_fn(|a| [y[(a, 0)], y[(a, 1)], y[(a, 2)]]);
        for (j, (other, _)) in rows[..i].iter().enumerate() {
            let [w0, w1, w2] = &w_rows[j];
            for (a, [y0, y1, y2]) in y.iter().enumerate() {
                let span = normal.matrix.span_mut(at + a, other * CAMERA, CAMERA);
                // Six values at once: the length is known to the compiler here.
                if let Ok(span) = <&mut [f64; CAMERA]>::try_from(span) {
                    for b in 0..CAMERA {
                        span[b] -= y0 * w0[b] + y1 * w1[b] + y2 * w2[b];
                    }
                }
            }
        }
        let [w0, w1, w2] = &w_rows[i];
        for (a, [y0, y1, y2]) in y.iter().enumerate() {
            for (b, value) in normal.matrix.span_mut(at + a, at, a + 1).iter_mut().enumerate() {
                *value -= y0 * w0[b] + y1 * w1[b] + y2 * w2[b];
            }
        }
        let y = w[i] * inverse;
        let right = row.camera.transpose() * row.residual - y * g;
        for a in 0..CAMERA {
            normal.right[at + a] += right[a];
        }
        let cross = row.shared.transpose() * row.camera - shared_y * w[i].transpose();
        for s in 0..SHARED {
            let span = normal.matrix.span_mut(border + s, at, CAMERA);
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::SplitMix64;

    pub(crate) fn truth(cameras: usize, points: usize, noise_px: f64) -> Bundle {
        let mut random = SplitMix64::new(11);
        let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
        let lens = Lens { k1: -0.04, ..Lens::centred(950.0, 1280, 720) };
        let poses: Vec<Pose> = (0..cameras)
            .map(|i| {
                let t = i as f64 / cameras as f64;
                Pose::look_at(Vector3::new(6.0 * t - 3.0, 2.0 + t, 9.0 - 2.0 * t), Vector3::new(0.3 * t, 0.0, 0.0), Vector3::y()).unwrap()
            })
            .collect();
        let mut bundle = Bundle { poses, lens, points: vec![], observations: vec![] };
        for _ in 0..points {
            let p = Vector3::new(3.0 * unit(), 1.5 * unit(), 3.0 * unit());
            let mut seen = Vec::new();
            for (c, pose) in bundle.poses.iter().enumerate() {
                let q = pose.to_camera(p);
                let pixel = lens.pixel(Vector2::new(q.x / q.z, q.y / q.z)) + Vector2::new(unit(), unit()) * noise_px;
                seen.push(Observation { camera: c as u32, pixel });
            }
            bundle.points.push(p);
            bundle.observations.push(seen);
        }
        bundle
    }

    fn disturb(bundle: &mut Bundle) {
        let mut random = SplitMix64::new(3);
        let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
        let mut v = |s: f64| Vector3::new(unit(), unit(), unit()) * s;
        bundle.points.iter_mut().for_each(|p| *p += v(0.1));
        bundle.poses.iter_mut().for_each(|p| *p = p.moved(v(0.01), v(0.05)));
        bundle.lens.focal_px = 1010.0;
        bundle.lens.k1 = 0.0;
    }

    #[test]
    fn the_jacobians_are_those_of_central_differences() {
        let bundle = truth(3, 2, 0.0);
        let options = BundleOptions { k2: true, loss_px: 1e9, ..BundleOptions::default() };
        let o = Observation { camera: 1, pixel: Vector2::new(500.0, 300.0) };
        let row = bundle.row(bundle.points[1], &o, &options).unwrap();
        let h = 1e-6;
        let pixel = |b: &Bundle, p: Vector3<f64>| {
            let c = b.poses[1].to_camera(p);
            b.lens.pixel(Vector2::new(c.x / c.z, c.y / c.z))
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
            plus.poses[1] = plus.poses[1].moved(e, Vector3::zeros());
            minus.poses[1] = minus.poses[1].moved(-e, Vector3::zeros());
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
    }

    #[test]
    fn a_disturbed_scene_comes_home_to_the_noise() {
        let mut bundle = truth(12, 80, 0.0);
        disturb(&mut bundle);
        let done = bundle.adjust(&BundleOptions { max_steps: 60, tolerance: 1e-12, ..BundleOptions::default() }, || true);
        assert!(done.cost_last < 1e-9, "{done:?}");
        assert!((bundle.lens.focal_px - 950.0).abs() < 1e-2 && (bundle.lens.k1 + 0.04).abs() < 1e-5, "{:?}", bundle.lens);
    }

    #[test]
    fn a_tenth_of_gross_outliers_moves_the_focal_length_little() {
        let mut bundle = truth(12, 120, 0.1);
        for seen in bundle.observations.iter_mut().step_by(10) {
            seen.iter_mut().for_each(|o| o.pixel += Vector2::new(f64::from(o.camera) * 9.0, -30.0));
        }
        disturb(&mut bundle);
        bundle.adjust(&BundleOptions { max_steps: 60, ..BundleOptions::default() }, || true);
        assert!((bundle.lens.focal_px - 950.0).abs() < 4.0, "{:?}", bundle.lens);
    }

    #[test]
    fn the_stated_deviation_of_the_focal_length_covers_its_error() {
        let mut bundle = truth(12, 120, 0.2);
        let options = BundleOptions { max_steps: 40, tolerance: 1e-10, ..BundleOptions::default() };
        bundle.adjust(&options, || true);
        // Noise is uniform in +-0.2 px: a deviation of 0.2 / sqrt 3 on each axis.
        let deviation = bundle.lens_deviation(&options, 0.2 / 3f64.sqrt()).unwrap();
        let miss = (bundle.lens.focal_px / 950.0).ln().abs();
        assert!(miss < 4.0 * deviation[0] && deviation[0] < 0.01, "{miss} {deviation:?}");
    }

    #[test]
    fn stopping_keeps_the_state() {
        let mut bundle = truth(4, 20, 0.0);
        disturb(&mut bundle);
        let before = bundle.lens;
        bundle.adjust(&BundleOptions::default(), || false);
        assert_eq!(bundle.lens, before);
    }
}
