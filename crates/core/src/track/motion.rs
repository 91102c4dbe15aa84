//! The coarse motion between two frames, which predicts where points went.

use crate::image::Plane;
use crate::wide::{Loop, wide};
use rayon::prelude::*;

/// Largest global shift looked for, as a fraction of the coarse picture's side.
const REACH: f64 = 0.3;
/// Rows are compared every so many: their neighbours, smoothed as they are, say much the same.
const EVERY_ROW: i32 = 2;
/// Part of the picture that must overlap for a shift to count.
const MIN_OVERLAP: f64 = 0.4;

/// The whole-pixel shift (dx, dy) of two coarse pictures of one size under which they agree best:
/// what is at (x, y) of `from` is at (x + dx, y + dy) of `to`. Mean-free differences, so that a change
/// of exposure does not matter.
pub fn global_shift(from: &Plane, to: &Plane) -> (i32, i32) {
    let (w, h) = (from.width() as i32, from.height() as i32);
    let (rx, ry) = ((f64::from(w) * REACH) as i32, (f64::from(h) * REACH) as i32);
    let none = wide(BestInRow { from, to, dx: (0, 0), dy: 0, least: f64::INFINITY });
    let best_of = |dy: i32| wide(BestInRow { from, to, dx: (-rx, rx), dy, least: none.0 });
    // Rows of shifts on all threads, the best of them taken in their order.
    let of_row: Vec<(f64, i32, i32)> = (-ry..=ry).into_par_iter().map(best_of).collect();
    let best = of_row.into_iter().fold(none, |best, row| if row.0 < best.0 { row } else { best });
    (best.1, best.2)
}

/// The best of the shifts by `dy` and from the first to the second of `dx`: its cost and the shift, if that costs less
/// than `least`.
struct BestInRow<'a> {
    from: &'a Plane,
    to: &'a Plane,
    dx: (i32, i32),
    dy: i32,
    least: f64,
}

impl Loop for BestInRow<'_> {
    type Output = (f64, i32, i32);

    #[inline(always)]
    fn call(self) -> (f64, i32, i32) {
        let Self { from, to, dx: (first, last), dy, least } = self;
        let (w, h) = (from.width() as i32, from.height() as i32);
        let mut best = (least, 0, 0);
        'shifts: for dx in first..=last {
            let (x0, x1) = (0.max(-dx), w.min(w - dx));
            let (y0, y1) = (0.max(-dy), h.min(h - dy));
            if f64::from((x1 - x0) * (y1 - y0)) < MIN_OVERLAP * f64::from(w * h) {
                continue;
            }
            let n = f64::from((x1 - x0) * ((y1 - y0 + EVERY_ROW - 1) / EVERY_ROW));
            let (mut sum, mut square) = (0.0f64, 0.0f64);
            for y in (y0..y1).step_by(EVERY_ROW as usize) {
                let a = &from.row(y as usize)[x0 as usize..x1 as usize];
                let b = &to.row((y + dy) as usize)[(x0 + dx) as usize..(x1 + dx) as usize];
                let (s, q) = difference(a, b);
                sum += f64::from(s);
                square += f64::from(q);
                // Square differences from the mean only become more with every row.
                let so_far = f64::from((x1 - x0) * ((y - y0) / EVERY_ROW + 1));
                if square - sum * sum / so_far > best.0 * n {
                    continue 'shifts;
                }
            }
            let variance = square / n - (sum / n).powi(2);
            // A shift must be clearly better than none to be believed on a flat picture.
            let cost = variance + 1e-3 * f64::from(dx * dx + dy * dy).sqrt();
            if cost < best.0 {
                best = (cost, dx, dy);
            }
        }
        best
    }
}

/// Sum of the differences and of their squares, in eight lanes.
#[inline(always)]
fn difference(a: &[f32], b: &[f32]) -> (f32, f32) {
    let (mut sums, mut squares) = ([0.0f32; 8], [0.0f32; 8]);
    let (ca, cb) = (a.chunks_exact(8), b.chunks_exact(8));
    let tail =
        ca.remainder().iter().zip(cb.remainder()).fold((0.0, 0.0), |(s, q), (p, r)| (s + p - r, q + (p - r) * (p - r)));
    for (p, r) in ca.zip(cb) {
        for k in 0..8 {
            let d = p[k] - r[k];
            sums[k] += d;
            squares[k] += d * d;
        }
    }
    (sums.iter().sum::<f32>() + tail.0, squares.iter().sum::<f32>() + tail.1)
}

/// A displacement that varies linearly over the frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AffineMotion {
    /// `dx = x[0] + x[1] px + x[2] py`, about `centre`.
    x: [f64; 3],
    y: [f64; 3],
    centre: [f64; 2],
    /// How far nine in ten of the pairs that it was fitted to lie from it, px.
    spread: f64,
}

impl AffineMotion {
    /// The same displacement everywhere.
    pub fn shift(dx: f64, dy: f64) -> Self {
        Self { x: [dx, 0.0, 0.0], y: [dy, 0.0, 0.0], centre: [0.0, 0.0], spread: f64::INFINITY }
    }

    /// The displacement in px of a point at (x, y).
    pub fn at(&self, x: f64, y: f64) -> (f64, f64) {
        let (u, v) = (x - self.centre[0], y - self.centre[1]);
        (self.x[0] + self.x[1] * u + self.x[2] * v, self.y[0] + self.y[1] * u + self.y[2] * v)
    }

    /// Where a point goes, px.
    pub fn moved(&self, at: [f64; 2]) -> [f64; 2] {
        let (dx, dy) = self.at(at[0], at[1]);
        [at[0] + dx, at[1] + dy]
    }

    /// Robust fit to pairs (position, displacement): iteratively reweighted least squares with
    /// Cauchy weights about the median. `None` under 8 pairs.
    pub fn fit(pairs: &[([f64; 2], [f64; 2])]) -> Option<Self> {
        if pairs.len() < 8 {
            return None;
        }
        let n = pairs.len() as f64;
        let centre = [pairs.iter().map(|p| p.0[0]).sum::<f64>() / n, pairs.iter().map(|p| p.0[1]).sum::<f64>() / n];
        let mut dx: Vec<f64> = pairs.iter().map(|p| p.1[0]).collect();
        let mut dy: Vec<f64> = pairs.iter().map(|p| p.1[1]).collect();
        let mut motion =
            Self { x: [median(&mut dx), 0.0, 0.0], y: [median(&mut dy), 0.0, 0.0], centre, spread: f64::INFINITY };
        for _ in 0..8 {
            let mut residuals: Vec<f64> = pairs.iter().map(|p| motion.error(p)).collect();
            let weights: Vec<f64> = {
                let mut sorted = residuals.clone();
                let scale = (1.5 * median(&mut sorted)).max(0.3);
                residuals.iter_mut().map(|m| 1.0 / (1.0 + (*m / scale).powi(2))).collect()
            };
            let mut a = nalgebra::Matrix3::<f64>::zeros();
            let (mut bx, mut by) = (nalgebra::Vector3::zeros(), nalgebra::Vector3::zeros());
            for (p, w) in pairs.iter().zip(&weights) {
                let row = nalgebra::Vector3::new(1.0, p.0[0] - centre[0], p.0[1] - centre[1]);
                a += row * row.transpose() * *w;
                bx += row * (p.1[0] * w);
                by += row * (p.1[1] * w);
            }
            let solver = a.cholesky()?;
            let (sx, sy) = (solver.solve(&bx), solver.solve(&by));
            motion.x = [sx[0], sx[1], sx[2]];
            motion.y = [sy[0], sy[1], sy[2]];
        }
        let mut residuals: Vec<f64> = pairs.iter().map(|p| motion.error(p)).collect();
        residuals.sort_by(f64::total_cmp);
        motion.spread = residuals[residuals.len() * 9 / 10];
        Some(motion)
    }

    /// Robust fit of a shift, a turn and a growth to pairs (position, displacement), with Cauchy weights about the
    /// median. `None` under 4 pairs.
    pub fn fit_similarity(pairs: &[([f64; 2], [f64; 2])]) -> Option<Self> {
        if pairs.len() < 4 {
            return None;
        }
        let n = pairs.len() as f64;
        let centre = [pairs.iter().map(|p| p.0[0]).sum::<f64>() / n, pairs.iter().map(|p| p.0[1]).sum::<f64>() / n];
        let mut dx: Vec<f64> = pairs.iter().map(|p| p.1[0]).collect();
        let mut dy: Vec<f64> = pairs.iter().map(|p| p.1[1]).collect();
        let mut motion =
            Self { x: [median(&mut dx), 0.0, 0.0], y: [median(&mut dy), 0.0, 0.0], centre, spread: f64::INFINITY };
        for _ in 0..8 {
            let residuals: Vec<f64> = pairs.iter().map(|p| motion.error(p)).collect();
            let scale = (1.5 * median(&mut residuals.clone())).max(0.3);
            let mut a = nalgebra::Matrix4::<f64>::zeros();
            let mut b = nalgebra::Vector4::zeros();
            for (p, error) in pairs.iter().zip(&residuals) {
                let w = 1.0 / (1.0 + (error / scale).powi(2));
                let (u, v) = (p.0[0] - centre[0], p.0[1] - centre[1]);
                for (row, d) in [
                    (nalgebra::Vector4::new(1.0, 0.0, u, -v), p.1[0]),
                    (nalgebra::Vector4::new(0.0, 1.0, v, u), p.1[1]),
                ] {
                    a += row * row.transpose() * w;
                    b += row * (d * w);
                }
            }
            let s = a.cholesky()?.solve(&b);
            motion.x = [s[0], s[2], -s[3]];
            motion.y = [s[1], s[3], s[2]];
        }
        Some(motion)
    }

    /// How far nine in ten of the points that it was fitted to moved otherwise, px.
    pub fn spread(&self) -> f64 {
        self.spread
    }

    fn error(&self, pair: &([f64; 2], [f64; 2])) -> f64 {
        let (dx, dy) = self.at(pair.0[0], pair.0[1]);
        (pair.1[0] - dx).hypot(pair.1[1] - dy)
    }
}

/// The middle of values, of an even number the upper one; it brings them out of their order.
pub(super) fn median(values: &mut [f64]) -> f64 {
    let middle = values.len() / 2;
    *values.select_nth_unstable_by(middle, f64::total_cmp).1
}

#[cfg(test)]
mod tests {
    use super::super::synthetic::texture;
    use super::*;

    #[test]
    fn a_shift_is_found_under_a_change_of_exposure() {
        let value = |x: i32, y: i32| (((x * 37 + y * 91) ^ (x * y)) % 97) as f32;
        let a = Plane::from_fn(80, 45, |x, y| value(x as i32, y as i32));
        let b = Plane::from_fn(80, 45, |x, y| value(x as i32 - 11, y as i32 + 6) + 30.0);
        assert_eq!(global_shift(&a, &b), (11, -6));
    }

    #[test]
    fn no_shift_is_better_than_the_one_that_is_found() {
        // Every shift at full length, as the search would weigh it if it did not give up early.
        let cost = |a: &Plane, b: &Plane, (dx, dy): (i32, i32)| {
            let (w, h) = (a.width() as i32, a.height() as i32);
            let rows = (0.max(-dy)..h.min(h - dy)).step_by(EVERY_ROW as usize);
            let residuals: Vec<f64> = rows
                .flat_map(|y| (0.max(-dx)..w.min(w - dx)).map(move |x| (x as usize, y as usize)))
                .map(|(x, y)| {
                    f64::from(a.at(x, y)) - f64::from(b.at((x as i32 + dx) as usize, (y as i32 + dy) as usize))
                })
                .collect();
            let (n, sum) = (residuals.len() as f64, residuals.iter().sum::<f64>());
            residuals.iter().map(|m| m * m).sum::<f64>() / n - (sum / n).powi(2)
                + 1e-3 * f64::from(dx * dx + dy * dy).sqrt()
        };
        for seed in 0..6u64 {
            let (sx, sy) = ((seed as f64 * 3.1).sin() * 9.0, (seed as f64 * 1.7).cos() * 6.0);
            let a = Plane::from_fn(60, 40, |x, y| texture(4.0 * x as f64, 4.0 * y as f64) as f32);
            let b = Plane::from_fn(60, 40, |x, y| {
                0.9 * texture(4.0 * (x as f64 - sx), 4.0 * (y as f64 - sy)) as f32 + 12.0
            });
            let found = global_shift(&a, &b);
            let least = (-12..=12)
                .flat_map(|dy| (-18..=18).map(move |dx| (dx, dy)))
                .map(|d| cost(&a, &b, d))
                .fold(f64::INFINITY, f64::min);
            assert!(cost(&a, &b, found) <= least + 1e-3, "{found:?} for {sx} {sy}");
            assert!(
                (f64::from(found.0) - sx).abs() <= 1.0 && (f64::from(found.1) - sy).abs() <= 1.0,
                "{found:?} for {sx} {sy}"
            );
        }
    }

    #[test]
    fn a_flat_picture_has_no_shift() {
        let flat = Plane::from_fn(40, 30, |_, _| 7.0);
        assert_eq!(global_shift(&flat, &flat), (0, 0));
    }

    #[test]
    fn a_third_of_strays_does_not_bend_the_motion() {
        let pairs: Vec<_> = (0..90)
            .map(|i| {
                let p = [f64::from(i % 10) * 60.0, f64::from(i / 10) * 50.0];
                let d = if i % 3 == 0 { [40.0, -25.0] } else { [5.0 + 0.01 * p[0], -2.0 - 0.02 * p[1]] };
                (p, d)
            })
            .collect();
        let (dx, dy) = AffineMotion::fit(&pairs).unwrap().at(300.0, 200.0);
        assert!((dx - 8.0).abs() < 0.6 && (dy + 6.0).abs() < 0.6, "{dx} {dy}");
        assert_eq!(AffineMotion::fit(&pairs[..5]), None);
    }
}
