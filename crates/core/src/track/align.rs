//! Aligning a small square template with a picture (inverse compositional).
//!
//! The template keeps its steepest-descent images and the inverse of their Gauss-Newton matrix, so
//! that a step costs one pass over the window (Baker & Matthews 2004, section 3.2). Gain and offset
//! of brightness are solved with the warp: picture = gain * template + offset.

use crate::image::Plane;
use crate::wide::{Group, LANES, LaneLoop, Simd, cast, wide};
use std::sync::Arc;

/// Steps after which an alignment is given up as slow.
const MAX_STEPS: usize = 25;
/// A step shorter than this, in px of the level, ends the search: for the last alignment, and for
/// those that only bring it near.
pub(super) const FINE_STEP_PX: f64 = 0.015;
pub(super) const COARSE_STEP_PX: f64 = 0.06;
/// Pivot of the Gauss-Newton matrix below which a template holds too little texture.
const SINGULAR: f64 = 1e-9;

/// Warp of a window: a point at offset u of the template lies at `linear * u + (x, y)`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Warp {
    /// Row-major 2x2 part.
    pub linear: [f64; 4],
    pub x: f64,
    pub y: f64,
}

impl Warp {
    pub fn shift(x: f64, y: f64) -> Self {
        Self { linear: [1.0, 0.0, 0.0, 1.0], x, y }
    }

    /// Largest difference between the 2x2 parts.
    fn bend(&self, other: &Self) -> f64 {
        self.linear.iter().zip(&other.linear).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max)
    }

    /// Area scale of the warp.
    pub fn determinant(&self) -> f64 {
        self.linear[0] * self.linear[3] - self.linear[1] * self.linear[2]
    }

    /// Largest over smallest stretch.
    pub fn anisotropy(&self) -> f64 {
        let [a, b, c, d] = self.linear;
        let mean = 0.5 * (a * a + b * b + c * c + d * d);
        let root = (mean * mean - self.determinant().powi(2)).max(0.0).sqrt();
        ((mean + root) / (mean - root).max(1e-12)).sqrt()
    }
}

/// Size and weights of a window: a Gaussian, so that what enters at its edge does not tug. Samples go row by row, in
/// groups; those after the last are made up, have no weight and lie in the middle.
#[derive(Debug)]
pub(super) struct Window {
    half: usize,
    weights: Vec<Group>,
    /// Places of the samples to the right of the middle and below it, px.
    across: Vec<Group>,
    down: Vec<Group>,
}

impl Window {
    pub fn new(half: usize) -> Arc<Self> {
        let side = 2 * half + 1;
        let sigma = half as f32 * 0.75;
        let groups = |value: &dyn Fn(f32, f32) -> f32| -> Vec<Group> {
            let of_sample = |i: usize| value((i % side) as f32 - half as f32, (i / side) as f32 - half as f32);
            let lane = |i: usize| if i < side * side { of_sample(i) } else { 0.0 };
            (0..(side * side).div_ceil(LANES)).map(|group| std::array::from_fn(|k| lane(group * LANES + k))).collect()
        };
        Arc::new(Self {
            half,
            weights: groups(&|u, v| (-(u * u + v * v) / (2.0 * sigma * sigma)).exp()),
            across: groups(&|u, _| u),
            down: groups(&|_, v| v),
        })
    }

    fn side(&self) -> usize {
        2 * self.half + 1
    }

    /// The number of samples.
    fn samples(&self) -> usize {
        self.side() * self.side()
    }
}

/// A window cut from a picture; `P` is 4 (shift, gain, offset) or 8 (affine, gain, offset).
#[derive(Debug, Clone)]
pub(super) struct Template<const P: usize> {
    window: Arc<Window>,
    values: Vec<Group>,
    /// P steepest-descent images, times the weight of each sample, group by group, so that one pass serves all of them.
    steepest: Vec<[Group; P]>,
    inverse: [[f64; P]; P],
    mean: f64,
    deviation: f64,
}

impl<const P: usize> Template<P> {
    /// One that shows nothing yet.
    pub fn blank(window: &Arc<Window>) -> Self {
        let groups = window.weights.len();
        Self {
            window: Arc::clone(window),
            values: vec![[0.0; LANES]; groups],
            steepest: vec![[[0.0; LANES]; P]; groups],
            inverse: [[0.0; P]; P],
            mean: 0.0,
            deviation: 0.0,
        }
    }

    /// Cuts the window round (x, y), with `buffer` as scratch space; `None` at the border or where there is no texture.
    pub fn cut(picture: &Plane, x: f64, y: f64, window: &Arc<Window>, buffer: &mut Vec<f32>) -> Option<Self> {
        let mut template = Self::blank(window);
        template.cut_again(picture, x, y, buffer).then_some(template)
    }

    /// Shows the window round (x, y) instead of what it shows; false, and good for nothing, at the border or where
    /// there is no texture.
    pub fn cut_again(&mut self, picture: &Plane, x: f64, y: f64, buffer: &mut Vec<f32>) -> bool {
        // Comparisons with what is not a number are false: such a place is in no picture.
        if !picture.holds_window(x, y, self.window.half as f64 + 2.0) {
            return false;
        }
        let products = wide(Descent { picture, x, y, template: self, buffer });
        let mut normal = [[0.0f64; P]; P];
        for a in 0..P {
            for b in a..P {
                normal[a][b] = sum(&products[a][b]);
                normal[b][a] = normal[a][b];
            }
        }
        let Some(inverse) = invert(normal) else { return false };
        self.inverse = inverse;
        (self.mean, self.deviation) = moments(&self.values, self.window.samples());
        true
    }

    /// Looks for the window in `picture` from `start` on. `buffer` is scratch space, and holds what lies under the
    /// window afterwards.
    ///
    /// `None` when the window leaves the picture, the search diverges or does not settle within
    /// `reach` px of its start.
    pub fn find(&self, picture: &Plane, start: Warp, reach: f64, small_px: f64, buffer: &mut Vec<f32>) -> Option<Warp> {
        buffer.resize(self.values.len() * LANES, 0.0);
        wide(Search { template: self, picture, start, reach, small_px, buffer })
    }

    /// The right side of the normal equations: for each parameter its steepest-descent image times the difference
    /// between the samples and the template under `gain` and `offset`.
    #[inline(always)]
    fn right_side<S: Simd>(&self, simd: S, sampled: &[f32], gain: f32, offset: f32) -> [f64; P] {
        let (gain, offset) = (simd.splat_f32s(gain), simd.splat_f32s(offset));
        let mut lanes = [simd.splat_f32s(0.0); P];
        for ((samples, values), images) in sampled.as_chunks::<LANES>().0.iter().zip(&self.values).zip(&self.steepest) {
            let shown = simd.add_f32s(simd.mul_f32s(gain, cast(*values)), offset);
            let error = simd.sub_f32s(cast(*samples), shown);
            for (lane, image) in lanes.iter_mut().zip(images) {
                *lane = simd.add_f32s(*lane, simd.mul_f32s(cast(*image), error));
            }
        }
        let mut sums = [0.0; P];
        for (total, lane) in sums.iter_mut().zip(lanes) {
            *total = sum(&cast(lane));
        }
        sums
    }

    /// Zero-mean normalised cross-correlation of the template with the samples under it, as the search left them: its
    /// last step was too small to change how well the two agree.
    pub fn correlation(&self, sampled: &[f32]) -> f64 {
        let (sampled, _) = sampled.as_chunks::<LANES>();
        let n = self.window.samples();
        let (mean, deviation) = moments(sampled, n);
        let mut lanes = [0.0f32; LANES];
        for (a, b) in sampled.iter().zip(&self.values) {
            for k in 0..LANES {
                lanes[k] += a[k] * b[k];
            }
        }
        let cross = sum(&lanes) / n as f64 - mean * self.mean;
        cross / (deviation * self.deviation).max(1e-12)
    }

    /// The picture under the window; false where that reaches beyond the border.
    #[inline(always)]
    fn sample(&self, picture: &Plane, warp: &Warp, out: &mut [f32]) -> bool {
        let window = &*self.window;
        if warp.linear == [1.0, 0.0, 0.0, 1.0] {
            if !picture.holds_window(warp.x, warp.y, window.half as f64) {
                return false;
            }
            sample_shifted(picture, warp.x, warp.y, window.half, out);
            out[window.samples()..].fill(0.0);
            return true;
        }
        let [a, b, c, d] = warp.linear;
        let h = window.half as f64;
        // A little more, for what f32 rounds up.
        let reach = ((a.abs() + b.abs()) * h).max((c.abs() + d.abs()) * h) + 1e-3;
        if !reach.is_finite() || !picture.holds_window(warp.x, warp.y, reach) {
            return false;
        }
        let (width, data) = (picture.width(), picture.samples());
        // Whole pixels apart, so that f32 keeps its digits for the fraction.
        let (bx, by) = (warp.x.floor(), warp.y.floor());
        let (fx0, fy0) = ((warp.x - bx) as f32, (warp.y - by) as f32);
        let base = by as isize * width as isize + bx as isize;
        let [a, b, c, d] = [a as f32, b as f32, c as f32, d as f32];
        for ((out, across), down) in out.as_chunks_mut::<LANES>().0.iter_mut().zip(&window.across).zip(&window.down) {
            // Where to read first, then the reading, then the sums: the first and the last of them run in wide
            // registers.
            let (mut at, mut fx, mut fy) = ([0i32; LANES], [0.0f32; LANES], [0.0f32; LANES]);
            for k in 0..LANES {
                let (px, py) = (fx0 + a * across[k] + b * down[k], fy0 + c * across[k] + d * down[k]);
                let ((ix, rx), (iy, ry)) = (whole_and_rest(px), whole_and_rest(py));
                at[k] = iy * width as i32 + ix;
                (fx[k], fy[k]) = (rx, ry);
            }
            let (mut p, mut q, mut r, mut s) = ([0.0f32; LANES], [0.0f32; LANES], [0.0f32; LANES], [0.0f32; LANES]);
            for k in 0..LANES {
                let from = (base + at[k] as isize) as usize;
                // One check of the bounds for all four.
                let square = &data[from..from + width + 2];
                (p[k], q[k], r[k], s[k]) = (square[0], square[1], square[width], square[width + 1]);
            }
            let mut group = [0.0f32; LANES];
            for k in 0..LANES {
                let top = p[k] + fx[k] * (q[k] - p[k]);
                let bottom = r[k] + fx[k] * (s[k] - r[k]);
                group[k] = top + fy[k] * (bottom - top);
            }
            *out = group;
        }
        out[window.samples()..].fill(0.0);
        true
    }

    /// Least-squares gain and offset from the template to what was sampled.
    #[inline(always)]
    fn brightness(&self, sampled: &[f32]) -> (f64, f64) {
        let (mean, deviation) = moments(sampled.as_chunks::<LANES>().0, self.window.samples());
        let gain = (deviation / self.deviation.max(1e-6)).clamp(0.3, 3.0);
        (gain, mean - gain * self.mean)
    }
}

/// Fills a template: its samples, its steepest-descent images times the weights. Hands back the products of those with
/// the plain ones, lane by lane (the upper triangle).
struct Descent<'a, const P: usize> {
    picture: &'a Plane,
    x: f64,
    y: f64,
    template: &'a mut Template<P>,
    buffer: &'a mut Vec<f32>,
}

impl<const P: usize> LaneLoop for Descent<'_, P> {
    type Output = [[Group; P]; P];

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Self::Output {
        let Self { picture, x, y, template, buffer } = self;
        let window = &*template.window;
        let (side, groups) = (window.side(), window.weights.len());
        // The window with a sample more on each side, then its samples and gradients.
        let around = side + 2;
        let plain = groups * LANES;
        // What is left from before is written over, but for what is made up.
        buffer.resize(around * around + 3 * plain, 0.0);
        let (padded, images) = buffer.split_at_mut(around * around);
        sample_shifted(picture, x, y, window.half + 1, padded);
        let (values, gradients) = images.split_at_mut(plain);
        let (gradient_x, gradient_y) = gradients.split_at_mut(plain);
        for row in 0..side {
            let rows = &padded[row * around..(row + 3) * around];
            for from in starts(side) {
                let (above, below) =
                    (&rows[from + 1..from + 1 + LANES], &rows[2 * around + from + 1..2 * around + from + 1 + LANES]);
                let here = &rows[around + from..around + from + LANES + 2];
                let to = row * side + from;
                let (mut gx, mut gy) = ([0.0f32; LANES], [0.0f32; LANES]);
                for k in 0..LANES {
                    gx[k] = 0.5 * (here[k + 2] - here[k]);
                    gy[k] = 0.5 * (below[k] - above[k]);
                }
                values[to..to + LANES].copy_from_slice(&here[1..1 + LANES]);
                gradient_x[to..to + LANES].copy_from_slice(&gx);
                gradient_y[to..to + LANES].copy_from_slice(&gy);
            }
        }
        for synthetic in [&mut *values, &mut *gradient_x, &mut *gradient_y] {
            synthetic[window.samples()..].fill(0.0);
        }
        template.values.copy_from_slice(values.as_chunks::<LANES>().0);
        let gradients = gradient_x.as_chunks::<LANES>().0.iter().zip(gradient_y.as_chunks::<LANES>().0);
        let mut products = [[simd.splat_f32s(0.0); P]; P];
        for ((group, (gx, gy)), weighted) in gradients.enumerate().zip(&mut template.steepest) {
            let (value, u, v, weight) =
                (&template.values[group], &window.across[group], &window.down[group], &window.weights[group]);
            let mut images = [[0.0f32; LANES]; P];
            for k in 0..LANES {
                (images[0][k], images[1][k], images[P - 2][k], images[P - 1][k]) = (gx[k], gy[k], value[k], 1.0);
                if P == 8 {
                    (images[2][k], images[3][k]) = (gx[k] * u[k], gx[k] * v[k]);
                    (images[P - 4][k], images[P - 3][k]) = (gy[k] * u[k], gy[k] * v[k]);
                }
            }
            for a in 0..P {
                for k in 0..LANES {
                    weighted[a][k] = images[a][k] * weight[k];
                }
                for b in a..P {
                    products[a][b] = simd.add_f32s(products[a][b], simd.mul_f32s(cast(weighted[a]), cast(images[b])));
                }
            }
        }
        let mut out = [[[0.0; LANES]; P]; P];
        for (out, product) in out.iter_mut().flatten().zip(products.iter().flatten()) {
            *out = cast(*product);
        }
        out
    }
}

/// The search for a template in a picture.
struct Search<'a, const P: usize> {
    template: &'a Template<P>,
    picture: &'a Plane,
    start: Warp,
    reach: f64,
    small_px: f64,
    buffer: &'a mut [f32],
}

impl<const P: usize> LaneLoop for Search<'_, P> {
    type Output = Option<Warp>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Option<Warp> {
        let Self { template, picture, start, reach, small_px, buffer } = self;
        let mut warp = start;
        let (mut gain, mut offset) = (1.0f64, 0.0f64);
        for step in 0..MAX_STEPS {
            if !template.sample(picture, &warp, buffer) {
                return None;
            }
            if step == 0 {
                (gain, offset) = template.brightness(buffer);
            }
            let right = template.right_side(simd, buffer, gain as f32, offset as f32);
            let mut d = [0.0f64; P];
            for (row, value) in template.inverse.iter().zip(d.iter_mut()) {
                *value = row.iter().zip(&right).map(|(a, b)| a * b).sum();
            }
            gain += d[P - 2];
            offset += d[P - 1];
            // The template's own move is solved for; the picture's warp takes the opposite one.
            let scale = -1.0 / gain.abs().max(0.1);
            for value in d.iter_mut().take(P - 2) {
                *value *= scale;
            }
            let old = warp;
            warp = if P == 8 { compose_affine(&warp, &d) } else { Warp { x: warp.x + d[0], y: warp.y + d[1], ..warp } };
            if !(warp.x.is_finite() && warp.y.is_finite())
                || (warp.x - start.x).abs() > reach
                || (warp.y - start.y).abs() > reach
            {
                return None;
            }
            let bend = if P == 8 { warp.bend(&old) } else { 0.0 };
            let (dx, dy) = (warp.x - old.x, warp.y - old.y);
            let small = dx * dx + dy * dy < small_px * small_px;
            if small && bend * template.window.half as f64 * 0.25 < small_px {
                return Some(warp);
            }
        }
        None
    }
}

/// Mean and standard deviation of the first `n` samples; those after them are zero.
#[inline(always)]
fn moments(groups: &[Group], n: usize) -> (f64, f64) {
    let mut lanes = [0.0f32; LANES];
    for group in groups {
        for k in 0..LANES {
            lanes[k] += group[k];
        }
    }
    let mean = (sum(&lanes) / n as f64) as f32;
    let mut lanes = [0.0f32; LANES];
    for group in groups {
        for k in 0..LANES {
            lanes[k] += (group[k] - mean) * (group[k] - mean);
        }
    }
    // The zeros after the last sample lie as far off as the mean is large.
    let synthetic = (groups.len() * LANES - n) as f64 * f64::from(mean * mean);
    (f64::from(mean), ((sum(&lanes) - synthetic).max(0.0) / n as f64).sqrt())
}

/// Sum over the lanes, in one order on every processor.
#[inline(always)]
fn sum(lanes: &Group) -> f64 {
    f64::from(lanes.iter().sum::<f32>())
}

/// `warp` after the inverse of the template's own move, whose negative is `d` = (dx, dy, and the rows
/// of the 2x2 part). Inverting exactly, not to first order, keeps large steps stable.
fn compose_affine(warp: &Warp, d: &[f64]) -> Warp {
    let (a, b, c, e) = (1.0 - d[2], -d[3], -d[4], 1.0 - d[5]);
    let det = a * e - b * c;
    if det.abs() < 1e-6 {
        return Warp { x: f64::NAN, ..*warp };
    }
    let (ia, ib, ic, ie) = (e / det, -b / det, -c / det, a / det);
    let (tx, ty) = (ia * d[0] + ib * d[1], ic * d[0] + ie * d[1]);
    let [p, q, r, s] = warp.linear;
    Warp {
        linear: [p * ia + q * ic, p * ib + q * ie, r * ia + s * ic, r * ib + s * ie],
        x: warp.x + p * tx + q * ty,
        y: warp.y + r * tx + s * ty,
    }
}

/// Samples the unturned window round (x, y); the caller has checked the border.
#[inline(always)]
fn sample_shifted(picture: &Plane, x: f64, y: f64, half: usize, out: &mut [f32]) {
    let side = 2 * half + 1;
    let (x0, y0) = ((x - half as f64).floor(), (y - half as f64).floor());
    let (fx, fy) = ((x - half as f64 - x0) as f32, (y - half as f64 - y0) as f32);
    let (x0, y0) = (x0 as usize, y0 as usize);
    let (w00, w10, w01, w11) = ((1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy);
    for (row, line) in out.chunks_exact_mut(side).take(side).enumerate() {
        let top = &picture.row(y0 + row)[x0..x0 + side + 1];
        let bottom = &picture.row((y0 + row + 1).min(picture.height() - 1))[x0..x0 + side + 1];
        for from in starts(side) {
            let (top, bottom) = (&top[from..from + LANES + 1], &bottom[from..from + LANES + 1]);
            let mut group = [0.0f32; LANES];
            for k in 0..LANES {
                group[k] = w00 * top[k] + w10 * top[k + 1] + w01 * bottom[k] + w11 * bottom[k + 1];
            }
            line[from..from + LANES].copy_from_slice(&group);
        }
    }
}

/// Where groups begin that cover a row of `side` samples, at least a group long: the last overlaps the one before, so
/// that none is left over.
#[inline(always)]
fn starts(side: usize) -> impl Iterator<Item = usize> {
    (0..side.div_ceil(LANES)).map(move |group| (group * LANES).min(side - LANES))
}

/// A value as a whole number and what is left, 0 to 1, for values within 2^21 of zero: a number so large that it has no
/// digits behind the point is added, which no register is too wide for.
#[inline(always)]
fn whole_and_rest(v: f32) -> (i32, f32) {
    const LARGE: f32 = 12_582_912.0;
    let shifted = (v - 0.5) + LARGE;
    (shifted.to_bits() as i32 - LARGE.to_bits() as i32, v - (shifted - LARGE))
}

/// Gauss-Jordan inverse of a symmetric positive matrix, scaled to unit diagonal first.
fn invert<const P: usize>(m: [[f64; P]; P]) -> Option<[[f64; P]; P]> {
    let mut scale = [0.0; P];
    for k in 0..P {
        if m[k][k] <= 0.0 || !m[k][k].is_finite() {
            return None;
        }
        scale[k] = 1.0 / m[k][k].sqrt();
    }
    let mut a = m;
    let mut inverse = [[0.0; P]; P];
    for i in 0..P {
        for j in 0..P {
            a[i][j] *= scale[i] * scale[j];
        }
        inverse[i][i] = 1.0;
    }
    for k in 0..P {
        let pivot = a[k][k];
        if pivot < SINGULAR {
            return None;
        }
        for j in 0..P {
            a[k][j] /= pivot;
            inverse[k][j] /= pivot;
        }
        for i in 0..P {
            if i == k {
                continue;
            }
            let factor = a[i][k];
            for j in 0..P {
                a[i][j] -= factor * a[k][j];
                inverse[i][j] -= factor * inverse[k][j];
            }
        }
    }
    for i in 0..P {
        for j in 0..P {
            inverse[i][j] *= scale[i] * scale[j];
        }
    }
    Some(inverse)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pattern(x: f64, y: f64) -> f64 {
        100.0
            + 40.0 * (0.31 * x + 0.12 * y).sin()
            + 35.0 * (0.17 * x - 0.37 * y).cos()
            + 15.0 * (0.05 * x * 0.6 + 0.5 * y).sin()
    }

    fn picture(map: impl Fn(f64, f64) -> f64) -> Plane {
        Plane::from_fn(120, 100, |x, y| map(x as f64, y as f64) as f32)
    }

    #[test]
    fn a_shift_with_other_exposure_is_found_to_a_hundredth() {
        let first = picture(pattern);
        let second = picture(|x, y| 0.7 * pattern(x - 2.3, y + 1.6) + 20.0);
        let template = Template::<4>::cut(&first, 60.0, 50.0, &Window::new(8), &mut Vec::new()).unwrap();
        let mut buffer = Vec::new();
        let found = template.find(&second, Warp::shift(60.0, 50.0), 8.0, FINE_STEP_PX, &mut buffer).unwrap();
        assert!((found.x - 62.3).abs() < 0.015 && (found.y - 48.4).abs() < 0.015, "{found:?}");
        assert!(template.correlation(&buffer) > 0.99);
    }

    #[test]
    fn an_affine_warp_is_found_to_a_hundredth() {
        // The second picture shows the first under u -> A u + (61.4, 48.7), about (60, 50).
        let (a, b, c, d) = (1.12, 0.08, -0.06, 0.94);
        let det: f64 = a * d - b * c;
        let first = picture(pattern);
        let second = picture(|x, y| {
            let (u, v) = (x - 61.4, y - 48.7);
            pattern(60.0 + (d * u - b * v) / det, 50.0 + (-c * u + a * v) / det)
        });
        let template = Template::<8>::cut(&first, 60.0, 50.0, &Window::new(10), &mut Vec::new()).unwrap();
        let found = template.find(&second, Warp::shift(60.0, 50.0), 8.0, FINE_STEP_PX, &mut Vec::new()).unwrap();
        assert!((found.x - 61.4).abs() < 0.02 && (found.y - 48.7).abs() < 0.02, "{found:?}");
        assert!((found.linear[0] - a).abs() < 0.01 && (found.linear[1] - b).abs() < 0.01, "{found:?}");
    }

    #[test]
    fn a_flat_or_straight_edged_window_is_refused() {
        assert!(Template::<4>::cut(&picture(|_, _| 50.0), 60.0, 50.0, &Window::new(7), &mut Vec::new()).is_none());
        assert!(Template::<4>::cut(&picture(|x, _| 5.0 * x), 60.0, 50.0, &Window::new(7), &mut Vec::new()).is_none());
        assert!(Template::<4>::cut(&picture(pattern), f64::NAN, 50.0, &Window::new(7), &mut Vec::new()).is_none());
        assert!(Template::<4>::cut(&picture(pattern), 3.0, 50.0, &Window::new(7), &mut Vec::new()).is_none());
    }
}
