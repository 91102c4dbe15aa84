//! Aligning a small square template with a picture (inverse compositional).
//!
//! The template keeps its steepest-descent images and the inverse of their Gauss-Newton matrix, so
//! that a step costs one pass over the window (Baker & Matthews 2004, section 3.2). Gain and offset
//! of brightness are solved with the warp: picture = gain * template + offset.

use crate::image::Plane;

/// Steps after which an alignment is given up as slow.
const MAX_STEPS: usize = 25;
/// A step shorter than this, in px of the level, ends the search: for the last alignment, and for
/// those that only bring it near.
pub(super) const FINE_STEP_PX: f64 = 0.015;
pub(super) const COARSE_STEP_PX: f64 = 0.06;
/// Samples that are read together.
const LANES: usize = 8;
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

/// Size and weights of a window: a Gaussian, so that what enters at its edge does not tug.
#[derive(Debug, Clone)]
pub(super) struct Window {
    half: usize,
    weights: Vec<f32>,
}

impl Window {
    pub fn new(half: usize) -> Self {
        let side = 2 * half + 1;
        let sigma = half as f32 * 0.75;
        let offset = |i: usize| i as f32 - half as f32;
        let weight = |i: usize| {
            let (u, v) = (offset(i % side), offset(i / side));
            (-(u * u + v * v) / (2.0 * sigma * sigma)).exp()
        };
        Self { half, weights: (0..side * side).map(weight).collect() }
    }
}

/// A window cut from a picture; `P` is 4 (shift, gain, offset) or 8 (affine, gain, offset).
#[derive(Debug, Clone)]
pub(super) struct Template<const P: usize> {
    half: usize,
    values: Vec<f32>,
    /// P images of the window, one after the other, times the weight of each sample.
    steepest: Vec<f32>,
    inverse: [[f64; P]; P],
    mean: f64,
    deviation: f64,
}

/// Where a template was found.
#[derive(Debug, Clone, Copy)]
pub(super) struct Found {
    pub warp: Warp,
    /// Zero-mean normalised cross-correlation of the template with what lies under it.
    pub correlation: f64,
}

impl<const P: usize> Template<P> {
    /// Cuts the window round (x, y), with `buffer` as scratch space; `None` at the border or where there is no texture.
    pub fn cut(picture: &Plane, x: f64, y: f64, window: &Window, padded: &mut Vec<f32>) -> Option<Self> {
        let half = window.half;
        // Comparisons with what is not a number are false: such a place is in no picture.
        if !picture.holds_window(x, y, half as f64 + 2.0) {
            return None;
        }
        let side = 2 * half + 1;
        let padded_side = side + 2;
        padded.resize(padded_side * padded_side, 0.0);
        sample_shifted(picture, x, y, half + 1, padded);
        let n = side * side;
        let mut values = vec![0.0f32; n];
        let mut steepest = vec![0.0f32; P * n];
        for row in 0..side {
            let v = row as f32 - half as f32;
            for column in 0..side {
                let u = column as f32 - half as f32;
                let centre = (row + 1) * padded_side + column + 1;
                let gx = 0.5 * (padded[centre + 1] - padded[centre - 1]);
                let gy = 0.5 * (padded[centre + padded_side] - padded[centre - padded_side]);
                let value = padded[centre];
                let i = row * side + column;
                values[i] = value;
                let images =
                    if P == 8 { [gx, gy, gx * u, gx * v, gy * u, gy * v, value, 1.0] } else { [gx, gy, value, 1.0, 0.0, 0.0, 0.0, 0.0] };
                for (k, image) in images.iter().take(P).enumerate() {
                    steepest[k * n + i] = *image;
                }
            }
        }
        let plain = steepest.clone();
        for image in steepest.chunks_exact_mut(n) {
            for (s, &w) in image.iter_mut().zip(&window.weights) {
                *s *= w;
            }
        }
        let mut normal = [[0.0f64; P]; P];
        for a in 0..P {
            for b in a..P {
                normal[a][b] = dot(&steepest[a * n..(a + 1) * n], &plain[b * n..(b + 1) * n]);
                normal[b][a] = normal[a][b];
            }
        }
        let inverse = invert(normal)?;
        let (mean, deviation) = moments(&values);
        Some(Self { half, values, steepest, inverse, mean, deviation })
    }

    /// Looks for the window in `picture` from `start` on. `buffer` is scratch space.
    ///
    /// `None` when the window leaves the picture, the search diverges or does not settle within
    /// `reach` px of its start.
    pub fn find(&self, picture: &Plane, start: Warp, reach: f64, small_px: f64, buffer: &mut Vec<f32>) -> Option<Found> {
        let side = 2 * self.half + 1;
        let n = side * side;
        buffer.resize(n, 0.0);
        let mut warp = start;
        let (mut gain, mut offset) = (1.0f64, 0.0f64);
        for step in 0..MAX_STEPS {
            if !self.sample(picture, &warp, buffer) {
                return None;
            }
            if step == 0 {
                (gain, offset) = self.brightness(buffer);
            }
            let (g, o) = (gain as f32, offset as f32);
            for (b, &t) in buffer.iter_mut().zip(&self.values) {
                *b -= g * t + o;
            }
            let mut right = [0.0f64; P];
            for (r, image) in right.iter_mut().zip(self.steepest.chunks_exact(n)) {
                *r = dot(image, buffer);
            }
            let mut d = [0.0f64; P];
            for (row, value) in self.inverse.iter().zip(d.iter_mut()) {
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
            if !(warp.x.is_finite() && warp.y.is_finite()) || (warp.x - start.x).abs() > reach || (warp.y - start.y).abs() > reach {
                return None;
            }
            let bend = if P == 8 { (0..4).map(|k| (warp.linear[k] - old.linear[k]).abs()).fold(0.0, f64::max) } else { 0.0 };
            let small = (warp.x - old.x).hypot(warp.y - old.y) < small_px;
            if small && bend * self.half as f64 * 0.25 < small_px {
                // The step was too small to change how well the two agree.
                for (b, &t) in buffer.iter_mut().zip(&self.values) {
                    *b += g * t + o;
                }
                return Some(Found { warp, correlation: self.correlation(buffer) });
            }
        }
        None
    }

    fn sample(&self, picture: &Plane, warp: &Warp, out: &mut [f32]) -> bool {
        if warp.linear == [1.0, 0.0, 0.0, 1.0] {
            if !picture.holds_window(warp.x, warp.y, self.half as f64) {
                return false;
            }
            sample_shifted(picture, warp.x, warp.y, self.half, out);
            return true;
        }
        let [a, b, c, d] = warp.linear;
        let h = self.half as f64;
        let reach = ((a.abs() + b.abs()) * h).max((c.abs() + d.abs()) * h);
        if !reach.is_finite() || !picture.holds_window(warp.x, warp.y, reach) {
            return false;
        }
        let side = 2 * self.half + 1;
        let (width, data) = (picture.width(), picture.samples());
        let (a32, c32) = (a as f32, c as f32);
        for (row, line) in out.chunks_exact_mut(side).enumerate() {
            let v = row as f64 - h;
            // Whole-pixel base first, so that f32 keeps its digits for the fraction.
            let (x, y) = (warp.x + b * v - a * h, warp.y + d * v - c * h);
            let (bx, by) = (x.floor(), y.floor());
            let (fx0, fy0) = ((x - bx) as f32, (y - by) as f32);
            let base = by as isize * width as isize + bx as isize;
            // Where to read first, then the reading, then the sums: the first and the last of them run in wide registers.
            for (chunk, values) in line.chunks_mut(LANES).enumerate() {
                let (mut at, mut fx, mut fy) = ([0i32; LANES], [0.0f32; LANES], [0.0f32; LANES]);
                for k in 0..LANES {
                    let u = (chunk * LANES + k) as f32;
                    let (px, py) = (fx0 + a32 * u, fy0 + c32 * u);
                    let (ix, iy) = (floor(px), floor(py));
                    at[k] = iy * width as i32 + ix;
                    (fx[k], fy[k]) = (px - ix as f32, py - iy as f32);
                }
                let (mut p, mut q, mut r, mut s) = ([0.0f32; LANES], [0.0f32; LANES], [0.0f32; LANES], [0.0f32; LANES]);
                for k in 0..values.len() {
                    let from = (base + at[k] as isize) as usize;
                    // One check of the bounds for all four.
                    let square = &data[from..from + width + 2];
                    (p[k], q[k], r[k], s[k]) = (square[0], square[1], square[width], square[width + 1]);
                }
                let mut sums = [0.0f32; LANES];
                for k in 0..LANES {
                    let top = p[k] + fx[k] * (q[k] - p[k]);
                    let bottom = r[k] + fx[k] * (s[k] - r[k]);
                    sums[k] = top + fy[k] * (bottom - top);
                }
                values.copy_from_slice(&sums[..values.len()]);
            }
        }
        true
    }

    /// Least-squares gain and offset from the template to what was sampled.
    fn brightness(&self, sampled: &[f32]) -> (f64, f64) {
        let (mean, deviation) = moments(sampled);
        let gain = (deviation / self.deviation.max(1e-6)).clamp(0.3, 3.0);
        (gain, mean - gain * self.mean)
    }

    fn correlation(&self, sampled: &[f32]) -> f64 {
        let (mean, deviation) = moments(sampled);
        let cross = dot(sampled, &self.values) / sampled.len() as f64 - mean * self.mean;
        cross / (deviation * self.deviation).max(1e-12)
    }
}

/// Mean and standard deviation.
fn moments(values: &[f32]) -> (f64, f64) {
    let n = values.len() as f64;
    let mean = values.iter().sum::<f32>() / n as f32;
    let mut lanes = [0.0f32; 8];
    let chunks = values.chunks_exact(8);
    let tail: f32 = chunks.remainder().iter().map(|v| (v - mean) * (v - mean)).sum();
    for chunk in chunks {
        for k in 0..8 {
            lanes[k] += (chunk[k] - mean) * (chunk[k] - mean);
        }
    }
    (f64::from(mean), (f64::from(lanes.iter().sum::<f32>() + tail) / n).sqrt())
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
fn sample_shifted(picture: &Plane, x: f64, y: f64, half: usize, out: &mut [f32]) {
    let side = 2 * half + 1;
    let (x0, y0) = ((x - half as f64).floor(), (y - half as f64).floor());
    let (fx, fy) = ((x - half as f64 - x0) as f32, (y - half as f64 - y0) as f32);
    let (x0, y0) = (x0 as usize, y0 as usize);
    let (w00, w10, w01, w11) = ((1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy);
    for (row, line) in out.chunks_exact_mut(side).enumerate() {
        let top = &picture.row(y0 + row)[x0..x0 + side + 1];
        let bottom = &picture.row((y0 + row + 1).min(picture.height() - 1))[x0..x0 + side + 1];
        for (column, value) in line.iter_mut().enumerate() {
            *value = w00 * top[column] + w10 * top[column + 1] + w01 * bottom[column] + w11 * bottom[column + 1];
        }
    }
}

/// Rounds towards minus infinity, for values above -4096; without the call that `f32::floor` is on
/// older processors.
fn floor(v: f32) -> i32 {
    (v + 4096.0) as i32 - 4096
}

fn dot(a: &[f32], b: &[f32]) -> f64 {
    let mut lanes = [0.0f32; 8];
    let (ca, cb) = (a.chunks_exact(8), b.chunks_exact(8));
    let tail: f32 = ca.remainder().iter().zip(cb.remainder()).map(|(p, q)| p * q).sum();
    for (p, q) in ca.zip(cb) {
        for k in 0..8 {
            lanes[k] += p[k] * q[k];
        }
    }
    f64::from(lanes.iter().sum::<f32>() + tail)
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
        100.0 + 40.0 * (0.31 * x + 0.12 * y).sin() + 35.0 * (0.17 * x - 0.37 * y).cos() + 15.0 * (0.05 * x * 0.6 + 0.5 * y).sin()
    }

    fn picture(map: impl Fn(f64, f64) -> f64) -> Plane {
        Plane::from_fn(120, 100, |x, y| map(x as f64, y as f64) as f32)
    }

    #[test]
    fn a_shift_with_other_exposure_is_found_to_a_hundredth() {
        let first = picture(pattern);
        let second = picture(|x, y| 0.7 * pattern(x - 2.3, y + 1.6) + 20.0);
        let template = Template::<4>::cut(&first, 60.0, 50.0, &Window::new(8), &mut Vec::new()).unwrap();
        let found = template.find(&second, Warp::shift(60.0, 50.0), 8.0, FINE_STEP_PX, &mut Vec::new()).unwrap();
        assert!((found.warp.x - 62.3).abs() < 0.015 && (found.warp.y - 48.4).abs() < 0.015, "{found:?}");
        assert!(found.correlation > 0.99);
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
        assert!((found.warp.x - 61.4).abs() < 0.02 && (found.warp.y - 48.7).abs() < 0.02, "{found:?}");
        assert!((found.warp.linear[0] - a).abs() < 0.01 && (found.warp.linear[1] - b).abs() < 0.01, "{found:?}");
    }

    #[test]
    fn a_flat_or_straight_edged_window_is_refused() {
        assert!(Template::<4>::cut(&picture(|_, _| 50.0), 60.0, 50.0, &Window::new(7), &mut Vec::new()).is_none());
        assert!(Template::<4>::cut(&picture(|x, _| 5.0 * x), 60.0, 50.0, &Window::new(7), &mut Vec::new()).is_none());
        assert!(Template::<4>::cut(&picture(pattern), f64::NAN, 50.0, &Window::new(7), &mut Vec::new()).is_none());
        assert!(Template::<4>::cut(&picture(pattern), 3.0, 50.0, &Window::new(7), &mut Vec::new()).is_none());
    }
}
