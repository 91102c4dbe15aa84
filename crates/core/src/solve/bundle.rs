//! Bundle adjustment: all cameras, points and the lens together.
//!
//! Levenberg-Marquardt with analytic Jacobians and Cauchy weights; the points are eliminated (Schur
//! complement) and the reduced system, in the order of time with the lens last, is factored within its
//! profile ([`super::normal`]). The gauge is left free; damping takes care of it. Triggs et al. 1999,
//! sections 4 to 6.
//!
//! A zoom gives every camera a focal length of its own, held together by a prior on how fast the speed of a
//! zoom changes. A rolling shutter exposes row by row: each observation is seen from the pose that the camera
//! has at the time of its row, taken from the neighbouring poses (Hedborg et al., "Rolling Shutter Bundle
//! Adjustment", 2012, with quadratic motion within a frame).

use super::far::{self, FarPoint};
use super::rolling::{Speed, speeds};
use super::zoom_prior::{ZoomTerm, zoom_terms};
use super::{scatter, step};
use crate::geometry::{Lens, Pose};
use nalgebra::{Matrix3, Vector2, Vector3};
use rayon::prelude::*;

/// Points are dealt out to this many sums, whatever the number of threads, so that the order of
/// additions never changes.
const PARTS: usize = 4;
/// Relative decrease of the cost under which a step is near enough to the end for the loss's own curvature.
const NEAR_THE_END: f64 = 0.02;
/// Damping that no longer shortens a step.
const UNDAMPED: f64 = 1e-9;
/// Damping above which no step helps any more.
const STUCK: f64 = 1e10;
/// Depth below which a point counts as behind the camera, world units.
pub(super) const MIN_DEPTH: f64 = 1e-6;
/// How far the principal point usually lies from the middle of the picture, parts of its height.
const CENTRE_OFF: f64 = 0.03;
/// Weight of its distance from there, squared, against that of an observation with the usual noise, px^2.
pub(super) const CENTRE_WEIGHT: f64 = (PRIOR_AGAINST_PX / CENTRE_OFF) * (PRIOR_AGAINST_PX / CENTRE_OFF);
/// Noise of an observation against which what is usual is weighed, px.
const PRIOR_AGAINST_PX: f64 = 0.1;

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
    /// Whether the focal length that all cameras share is adjusted.
    pub focal: bool,
    /// Whether each camera's own focal length is adjusted; `focal` must be off then.
    pub zoom: bool,
    /// Whether k1 is adjusted.
    pub k1: bool,
    /// Whether k2 is adjusted.
    pub k2: bool,
    /// Whether the readout of a rolling shutter is adjusted.
    pub readout: bool,
    /// Whether the principal point is adjusted.
    pub centre: bool,
    /// Residual at which an observation's weight has fallen to a half, px (Cauchy).
    pub loss_px: f64,
    /// Whether steps are taken with the loss's own curvature; the search turns that on by itself near its end.
    pub curved: bool,
    /// Whether steps bend along the valley that they lead through, which costs about half as much again; the search
    /// turns that on by itself where straight ones fail.
    pub bent: bool,
    /// Most steps taken.
    pub max_steps: usize,
    /// Relative decrease of the cost that ends the search.
    pub tolerance: f64,
}

impl Default for BundleOptions {
    fn default() -> Self {
        Self {
            motion: Move::Free,
            focal: true,
            zoom: false,
            k1: true,
            k2: false,
            readout: false,
            centre: false,
            loss_px: 1.0,
            curved: false,
            bent: false,
            max_steps: 20,
            tolerance: 1e-5,
        }
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

/// Cameras, their lens, and points with their observations.
#[derive(Debug, Clone)]
pub struct Bundle {
    /// `cam_from_world`, in the order of time.
    pub poses: Vec<Pose>,
    /// When each camera is, in frames, rising.
    pub times: Vec<f64>,
    /// The lens that all of them share.
    pub lens: Lens,
    /// Logarithm of each camera's focal length over the shared one; empty for a lens that does not zoom.
    pub zoom: Vec<f64>,
    /// Part of the frame time between the first and the last row.
    pub readout: f64,
    /// Rows of the picture.
    pub rows: f64,
    /// The middle of the picture, px, near which the principal point is expected.
    pub middle_px: [f64; 2],
    /// World frame.
    pub points: Vec<Vector3<f64>>,
    /// For each point that is far off the anchor of its ray; short or empty where none is.
    pub anchors: Vec<Option<Vector3<f64>>>,
    /// For each point its observations, by rising camera.
    pub observations: Vec<Vec<Observation>>,
}

impl Bundle {
    /// Cameras without points.
    pub fn new(poses: Vec<Pose>, times: Vec<f64>, lens: Lens) -> Self {
        let rows = 2.0 * lens.centre_px[1] + 1.0;
        Self {
            poses,
            times,
            lens,
            zoom: Vec::new(),
            readout: 0.0,
            rows,
            middle_px: lens.centre_px,
            points: Vec::new(),
            anchors: Vec::new(),
            observations: Vec::new(),
        }
    }

    /// A point that is far off, as such.
    pub(super) fn far(&self, point: usize) -> Option<FarPoint> {
        let anchor = (*self.anchors.get(point)?)?;
        Some(FarPoint { position: self.points[point], anchor })
    }

    /// Whether a depth is one at which a point can be seen: in front of the camera, or, of a far point, beyond
    /// infinity.
    pub(super) fn is_seen(&self, point: usize, depth: f64) -> bool {
        depth > MIN_DEPTH || (depth < -MIN_DEPTH && self.far(point).is_some())
    }

    /// The inverse of the 3x3 block of a point, damped.
    pub(super) fn damped_inverse(&self, point: usize, v: &Matrix3<f64>, damping: f64) -> Option<Matrix3<f64>> {
        self.far(point).map_or_else(|| damped_inverse(v, damping), |far| far::damped_inverse(v, far, damping))
    }

    /// The lens of one camera.
    pub fn lens_of(&self, camera: usize) -> Lens {
        match self.zoom.get(camera) {
            Some(z) => Lens { focal_px: self.lens.focal_px * z.exp(), ..self.lens },
            None => self.lens,
        }
    }

    /// Part of the readout, from -1/2 to 1/2, at which a row is exposed.
    pub(super) fn row_part(&self, row: f64) -> f64 {
        row / (self.rows - 1.0).max(1.0) - 0.5
    }

    /// How fast every camera moves, from its neighbours; only asked for with a rolling shutter.
    pub(super) fn speeds(&self, options_readout: bool) -> Vec<Speed> {
        if self.readout == 0.0 && !options_readout { Vec::new() } else { speeds(&self.poses, &self.times) }
    }

    /// The pose at the time at which an observation's row is exposed.
    pub(super) fn pose_at(&self, observation: &Observation, speeds: &[Speed]) -> Pose {
        let pose = self.poses[observation.camera as usize];
        match speeds.get(observation.camera as usize) {
            Some(s) if self.readout != 0.0 => s.carry(&pose, self.readout * self.row_part(observation.pixel.y)),
            _ => pose,
        }
    }

    pub(super) fn residual_with(
        &self,
        point: usize,
        observation: &Observation,
        speeds: &[Speed],
    ) -> Option<Vector2<f64>> {
        let c = self.pose_at(observation, speeds).to_camera(self.points[point]);
        let lens = self.lens_of(observation.camera as usize);
        self.is_seen(point, c.z).then(|| observation.pixel - lens.pixel(Vector2::new(c.x / c.z, c.y / c.z)))
    }

    /// All residuals (seen minus projected), px, point by point and observation by observation; `None` behind
    /// the camera.
    pub fn residuals(&self) -> Vec<Vec<Option<Vector2<f64>>>> {
        let speeds = self.speeds(false);
        let of_point =
            |(p, seen): (usize, &Vec<Observation>)| seen.iter().map(|o| self.residual_with(p, o, &speeds)).collect();
        self.observations.par_iter().enumerate().map(of_point).collect()
    }

    /// Robust cost with Cauchy's loss, px^2; a point behind a camera costs as a miss of 100 px.
    pub fn cost(&self, loss_px: f64) -> f64 {
        let c2 = loss_px * loss_px;
        let behind = c2 * (1.0 + 1e4 / c2).ln();
        let speeds = self.speeds(false);
        let ranges = self.parts();
        let sums: Vec<f64> = ranges
            .into_par_iter()
            .map(|range| {
                range
                    .flat_map(|p| self.observations[p].iter().map(move |o| (p, o)))
                    .map(|(p, o)| {
                        self.residual_with(p, o, &speeds).map_or(behind, |r| c2 * (r.norm_squared() / c2).ln_1p())
                    })
                    .sum()
            })
            .collect();
        let off = self.centre_off();
        let centre = CENTRE_WEIGHT * (off[0] * off[0] + off[1] * off[1]);
        sums.iter().sum::<f64>() + centre + self.zoom_terms().iter().map(ZoomTerm::cost).sum::<f64>()
    }

    /// How far the principal point lies from the middle of the picture, parts of its height.
    pub(super) fn centre_off(&self) -> [f64; 2] {
        std::array::from_fn(|k| (self.lens.centre_px[k] - self.middle_px[k]) / self.rows)
    }

    /// The prior on a zoom.
    pub(super) fn zoom_terms(&self) -> Vec<ZoomTerm> {
        zoom_terms(&self.zoom, &self.times, PRIOR_AGAINST_PX)
    }

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
                now.bent = true;
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

    /// Standard deviation of the focal length (relative: 0.01 is 1 %) that follows from the misses after an adjustment;
    /// with a zoom that of the camera in the middle. `None` when the focal length was held or the equations do not
    /// determine it.
    pub fn focal_deviation(&self, options: &BundleOptions) -> Option<f64> {
        scatter::focal_variance(self, options).map(f64::sqrt)
    }

    pub(super) fn is_finite(&self) -> bool {
        self.lens.focal_px.is_finite()
            && self.lens.focal_px > 1.0
            && self.readout.is_finite()
            && self.lens.centre_px.iter().all(|c| c.is_finite())
            && self.zoom.iter().all(|z| z.abs() < 5.0)
            && self.points.iter().all(|p| p.iter().all(|v| v.is_finite()))
            && self.poses.iter().all(|p| p.translation.iter().chain(p.rotation.matrix().iter()).all(|v| v.is_finite()))
    }

    /// Ranges of points with about the same number of observations each.
    pub(super) fn parts(&self) -> Vec<std::ops::Range<usize>> {
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
}

fn damped_inverse(v: &Matrix3<f64>, damping: f64) -> Option<Matrix3<f64>> {
    let mut m = *v;
    for i in 0..3 {
        m[(i, i)] += (damping * v[(i, i)]).max(1e-12);
    }
    m.try_inverse()
}

#[cfg(test)]
pub(super) mod tests {
    use super::super::normal;
    use super::*;
    use crate::random::SplitMix64;

    pub(crate) fn truth(cameras: usize, points: usize, noise_px: f64) -> Bundle {
        let mut random = SplitMix64::new(11);
        let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
        let lens = Lens { k1: -0.04, ..Lens::centred(950.0, 1280, 720) };
        let poses: Vec<Pose> = (0..cameras)
            .map(|i| {
                let t = i as f64 / cameras as f64;
                Pose::look_at(
                    Vector3::new(6.0 * t - 3.0, 2.0 + t, 9.0 - 2.0 * t),
                    Vector3::new(0.3 * t, 0.0, 0.0),
                    Vector3::y(),
                )
                .unwrap()
            })
            .collect();
        let times = (0..cameras).map(|i| i as f64).collect();
        let mut bundle = Bundle::new(poses, times, lens);
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

    pub(crate) fn disturb(bundle: &mut Bundle) {
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
        let options = BundleOptions { k2: true, centre: true, loss_px: 1e9, ..BundleOptions::default() };
        let o = Observation { camera: 1, pixel: Vector2::new(500.0, 300.0) };
        let row = normal::row::<6>(&bundle, 1, &o, &options, &[]).unwrap();
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
            let row = normal::row::<6>(&bundle, 1, &o, &options, &[]).unwrap();
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
    fn the_stated_deviation_of_the_focal_length_covers_its_error() {
        let mut bundle = truth(12, 120, 0.2);
        let options = BundleOptions { max_steps: 40, tolerance: 1e-10, ..BundleOptions::default() };
        bundle.adjust(&options, |_| true);
        let deviation = bundle.focal_deviation(&options).unwrap();
        let miss = (bundle.lens.focal_px / 950.0).ln().abs();
        assert!(miss < 4.0 * deviation && deviation < 0.01, "{miss} {deviation}");
    }

    #[test]
    fn stopping_keeps_the_state() {
        let mut bundle = truth(4, 20, 0.0);
        disturb(&mut bundle);
        let before = bundle.lens;
        bundle.adjust(&BundleOptions::default(), |_| false);
        assert_eq!(bundle.lens, before);
    }

    /// Sees all points anew, with a zoom and a rolling shutter.
    pub(crate) fn seen_anew(bundle: &mut Bundle) {
        let all = bundle.clone();
        for (p, seen) in bundle.observations.iter_mut().enumerate() {
            for o in seen.iter_mut() {
                // The row decides when a point is seen, and when it is seen decides the row.
                for _ in 0..20 {
                    let c = all.pose_at(o, &all.speeds(true)).to_camera(all.points[p]);
                    o.pixel = all.lens_of(o.camera as usize).pixel(Vector2::new(c.x / c.z, c.y / c.z));
                }
            }
        }
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
                    .for_each(|(i, p)| *p = away.moved(Vector3::new(0.0, 0.02 * i as f64, 0.004), Vector3::zeros()));
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
            assert!(bundle.focal_deviation(&options).is_some());
        }
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
        let after = |bent: bool| {
            let (mut now, mut cost) = (bundle.clone(), bundle.cost(base.loss_px));
            for damping in [1e-4, 1e-5, 1e-6, 1e-7, 1e-6, 1e-7] {
                let moved = step::step(&now, &BundleOptions { bent, ..base }, damping);
                if let Some((moved, less)) = moved.filter(|m| m.1 < cost) {
                    (now, cost) = (moved, less);
                }
            }
            cost
        };
        let (straight, bent) = (after(false), after(true));
        assert!(bent < 0.5 * straight, "{bent} px^2 against {straight}");
    }

    #[test]
    fn the_readout_of_a_rolling_shutter_is_found() {
        let mut bundle = truth(16, 120, 0.0);
        for (i, pose) in bundle.poses.iter_mut().enumerate() {
            *pose = pose.moved(
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
}
