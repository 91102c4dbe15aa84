//! Grain by two frames that follow one another: what is in the scene goes along with its motion, and what is left is grain.

use super::grain_field::kernel;
use super::prepare::gaussian;
use super::{Plane, Pyramid};
use rayon::prelude::*;

/// Side of the blocks that are compared, px, and half of the window by which a block's motion is found.
const BLOCK: usize = 12;
const HALF: usize = 11;
/// Levels over which motion is found.
const LEVELS: usize = 6;
/// How far the pictures are smoothed before, px, so that grain does not lead astray.
const SMOOTH_PX: f64 = 1.1;
/// Squared slope that is taken to be everywhere, levels per px.
const LEAST_SLOPE: f64 = 0.02;
/// Steps on the finest level, and on the others; a step so small, px, is the last.
const MOST_STEPS: (usize, usize) = (12, 6);
const LAST_STEP_PX: f64 = 0.005;
/// Parts of a pixel for which it is reckoned what reading between samples makes of grain.
const PARTS: usize = 8;
/// Both axes in turn, each by halving what it may be.
const ROUNDS: usize = 3;
const HALVINGS: usize = 16;
const MOST_BLUR_PX: f64 = 4.0;
/// Values that are near black or white have lost some of their grain.
pub(super) const UNCLIPPED: std::ops::Range<f64> = 0.004..0.985;

/// What is left of a block between two frames.
#[derive(Debug)]
pub struct Still {
    /// How bright it is, display value.
    pub bright: f64,
    /// Variance of each channel about its mean.
    pub variance: [f64; 3],
    /// Products of green with its neighbour, across and down.
    pub lags: [f64; 2],
    /// How far between samples the second frame was read, px.
    pub between: [f64; 2],
}

/// Weights of the four samples about a place `t` after the second (Catmull and Rom 1974).
fn cubic(t: f64) -> [f64; 4] {
    let (t2, t3) = (t * t, t * t * t);
    [-0.5 * t + t2 - 0.5 * t3, 1.0 - 2.5 * t2 + 1.5 * t3, 0.5 * t + 2.0 * t2 - 1.5 * t3, -0.5 * t2 + 0.5 * t3]
}

fn smooth_pyramid(shown: &[[f32; 3]], width: usize) -> Pyramid {
    let height = shown.len() / width;
    let green = Plane::from_fn(width, height, |x, y| 255.0 * shown[y * width + x][1]);
    Pyramid::new(&green.filtered(&gaussian(SMOOTH_PX)), LEVELS)
}

/// How far what is about a place has gone, px: from coarse to fine, by the gradients of the first frame (Baker and
/// Matthews, "Lucas-Kanade 20 Years On", 2004).
fn shift(first: &Pyramid, second: &Pyramid, at: [f64; 2]) -> [f64; 2] {
    let mut found = [0.0f64; 2];
    for level in (0..first.len()).rev() {
        let scale = (1u32 << level) as f64;
        let (a, b) = (first.level(level), second.level(level));
        let (cx, cy) = ((at[0] / scale).round(), (at[1] / scale).round());
        if !a.holds_window(cx, cy, HALF as f64 + 1.0) {
            continue;
        }
        let mut by = [found[0] / scale, found[1] / scale];
        let side = 2 * HALF + 1;
        let (x0, y0) = (cx as usize - HALF, cy as usize - HALF);
        let (mut xx, mut xy, mut yy) = (0.0, 0.0, 0.0);
        let mut slopes = Vec::with_capacity(side * side);
        for y in 0..side {
            for x in 0..side {
                let (px, py) = (x0 + x, y0 + y);
                let gx = 0.5 * f64::from(a.at(px + 1, py) - a.at(px - 1, py));
                let gy = 0.5 * f64::from(a.at(px, py + 1) - a.at(px, py - 1));
                (xx, xy, yy) = (xx + gx * gx, xy + gx * gy, yy + gy * gy);
                slopes.push((gx, gy, f64::from(a.at(px, py))));
            }
        }
        let area = (side * side) as f64;
        // Where there is nothing to see it stays where the coarser level left it.
        let least = LEAST_SLOPE * area;
        let (xx, yy) = (xx + least, yy + least);
        let det = xx * yy - xy * xy;
        let steps = if level == 0 { MOST_STEPS.0 } else { MOST_STEPS.1 };
        for _ in 0..steps {
            let (mut ex, mut ey) = (0.0, 0.0);
            for (i, (gx, gy, v)) in slopes.iter().enumerate() {
                let (px, py) = (x0 + i % side, y0 + i / side);
                let e = f64::from(b.bilinear((px as f64 + by[0]) as f32, (py as f64 + by[1]) as f32)) - v;
                (ex, ey) = (ex + gx * e, ey + gy * e);
            }
            let step = [(yy * ex - xy * ey) / det, (xx * ey - xy * ex) / det];
            by = [by[0] - step[0].clamp(-2.0, 2.0), by[1] - step[1].clamp(-2.0, 2.0)];
            if step[0].hypot(step[1]) < LAST_STEP_PX {
                break;
            }
        }
        found = [by[0] * scale, by[1] * scale];
    }
    found
}

/// What is left of each block of `first` in `second`; display values, `width` px across.
pub fn still_blocks(first: &[[f32; 3]], second: &[[f32; 3]], width: usize) -> Vec<Still> {
    let height = first.len() / width.max(1);
    let (a, b) = (smooth_pyramid(first, width), smooth_pyramid(second, width));
    let rim = HALF + 2;
    let rows: Vec<usize> = (rim..height.saturating_sub(BLOCK + rim)).step_by(BLOCK).collect();
    let of_row = |y: usize| -> Vec<Still> {
        let across = (rim..width.saturating_sub(BLOCK + rim)).step_by(BLOCK);
        across.filter_map(|x| still(first, second, width, height, [x, y], (&a, &b))).collect()
    };
    rows.into_par_iter().flat_map(of_row).collect()
}

fn still(
    first: &[[f32; 3]],
    second: &[[f32; 3]],
    width: usize,
    height: usize,
    [x, y]: [usize; 2],
    (a, b): (&Pyramid, &Pyramid),
) -> Option<Still> {
    let middle = BLOCK as f64 / 2.0 - 0.5;
    let by = shift(a, b, [x as f64 + middle, y as f64 + middle]);
    let whole = [by[0].floor(), by[1].floor()];
    let between = [by[0] - whole[0], by[1] - whole[1]];
    let (left, top) = (x as f64 + whole[0] - 1.0, y as f64 + whole[1] - 1.0);
    let reach = BLOCK as f64 + 3.0;
    if left < 0.0 || top < 0.0 || left + reach > width as f64 || top + reach > height as f64 {
        return None;
    }
    let (left, top) = (left as usize, top as usize);
    let (wx, wy) = (cubic(between[0]), cubic(between[1]));
    let (mut mean, mut variance) = ([0.0; 3], [0.0; 3]);
    let mut left_over = [[0.0f64; BLOCK * BLOCK]; 3];
    for k in 0..3 {
        let mut sum = 0.0;
        for i in 0..BLOCK * BLOCK {
            let (px, py) = (i % BLOCK, i / BLOCK);
            let row = |j: usize| -> f64 {
                let from = (top + py + j) * width + left + px;
                (0..4).map(|i| wx[i] * f64::from(second[from + i][k])).sum()
            };
            let seen = (0..4).map(|j| wy[j] * row(j)).sum::<f64>();
            let own = f64::from(first[(y + py) * width + x + px][k]);
            mean[k] += own;
            left_over[k][i] = own - seen;
            sum += own - seen;
        }
        let n = (BLOCK * BLOCK) as f64;
        mean[k] /= n;
        left_over[k].iter_mut().for_each(|v| *v -= sum / n);
        variance[k] = left_over[k].iter().map(|v| v * v).sum::<f64>() / n;
    }
    if mean.iter().any(|m| !UNCLIPPED.contains(m)) {
        return None;
    }
    let bright = 0.2126 * mean[0] + 0.7152 * mean[1] + 0.0722 * mean[2];
    let g = &left_over[1];
    let count = (BLOCK * (BLOCK - 1)) as f64;
    let across = (0..BLOCK * BLOCK).filter(|i| i % BLOCK + 1 < BLOCK).map(|i| g[i] * g[i + 1]).sum::<f64>() / count;
    let down = (0..BLOCK * (BLOCK - 1)).map(|i| g[i] * g[i + BLOCK]).sum::<f64>() / count;
    Some(Still { bright, variance, lags: [across, down], between })
}

/// How grain agrees with itself along an axis, where it is read between samples: at a place, with the next one, and over a
/// block on the average, which is what its mean takes away.
#[derive(Debug, Clone, Copy)]
struct Along {
    same: f64,
    next: f64,
    level: f64,
}

/// Of grain made by a blur of `radius` px and read with `weights`.
fn along(radius: f64, weights: &[f64]) -> Along {
    let kernel: Vec<f64> = kernel(radius).into_iter().map(f64::from).collect();
    let rho = |d: i64| -> f64 {
        (0..kernel.len() as i64)
            .filter_map(|i| Some(kernel[i as usize] * kernel.get(usize::try_from(i + d).ok()?)?))
            .sum()
    };
    let n = weights.len() as i64;
    let after = |d: i64| -> f64 {
        let pairs = (0..n).flat_map(|i| (0..n).map(move |j| (i, j)));
        pairs.map(|(i, j)| weights[i as usize] * weights[j as usize] * rho(d + i - j)).sum()
    };
    let size = BLOCK as i64;
    let level = (1 - size..size).map(|d| (size - d.abs()) as f64 * after(d)).sum::<f64>() / (size * size) as f64;
    Along { same: after(0), next: after(1), level }
}

/// What grain of variance 1 leaves of a block: its variance, and the products with the next across and down.
struct Expected {
    variance: f64,
    lags: [f64; 2],
}

/// For each part of a pixel down and, within, across.
fn expected(blur_px: [f64; 2]) -> Vec<Expected> {
    let whole = [0, 1].map(|axis| along(blur_px[axis], &[1.0]));
    let parts: Vec<[Along; 2]> = (0..=PARTS)
        .map(|k| {
            let w = cubic(k as f64 / PARTS as f64);
            [0, 1].map(|axis| along(blur_px[axis], &w))
        })
        .collect();
    let mut all = Vec::new();
    for py in &parts {
        for px in &parts {
            let (x, y) = (px[0], py[1]);
            let taken = whole[0].level * whole[1].level + x.level * y.level;
            all.push(Expected {
                variance: 1.0 + x.same * y.same - taken,
                lags: [whole[0].next + x.next * y.same - taken, whole[1].next + x.same * y.next - taken],
            });
        }
    }
    all
}

/// Where an entry of [`expected`] stands.
fn slot(between: [f64; 2]) -> usize {
    let of = |v: f64| (v * PARTS as f64).round() as usize;
    of(between[1]) * (PARTS + 1) + of(between[0])
}

/// How far the grain of blocks hangs together, as the radius of a blur across and down, px, and how many times the grain's
/// variance each one's is: both frames have grain, and reading between samples smooths that of the second.
pub fn hang_together(blocks: &[&Still]) -> ([f64; 2], Vec<f64>) {
    let variance: f64 = blocks.iter().map(|b| b.variance[1]).sum();
    let mut blur_px = [0.5; 2];
    for _ in 0..ROUNDS {
        for axis in 0..2 {
            let wanted = blocks.iter().map(|b| b.lags[axis]).sum::<f64>() / variance;
            let (mut low, mut high) = (0.0, MOST_BLUR_PX);
            for _ in 0..HALVINGS {
                let middle = 0.5 * (low + high);
                blur_px[axis] = middle;
                let table = expected(blur_px);
                let (mut lag, mut all) = (0.0, 0.0);
                for b in blocks {
                    let e = &table[slot(b.between)];
                    (lag, all) = (lag + e.lags[axis], all + e.variance);
                }
                if lag / all < wanted { low = middle } else { high = middle }
            }
            blur_px[axis] = 0.5 * (low + high);
        }
    }
    let table = expected(blur_px);
    (blur_px, blocks.iter().map(|b| table[slot(b.between)].variance).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::grain_field;

    /// Where nothing moves but grain, what is left is the grain of both frames, however rough the scene is.
    #[test]
    fn the_scene_goes_and_grain_stays() {
        let (width, height) = (240usize, 160usize);
        let scene = |x: f64, y: f64| 0.5 + 0.12 * (0.31 * x).sin() * (0.27 * y + 0.05 * x).cos();
        for (blur, by) in [(0.0, [0.0, 0.0]), (0.8, [3.4, -1.7]), (1.2, [-7.25, 2.5])] {
            let frame = |seed: u64, by: [f64; 2]| -> Vec<[f32; 3]> {
                let field = grain_field(width, height, [blur; 2], seed);
                let at = |i: usize| scene((i % width) as f64 - by[0], (i / width) as f64 - by[1]) as f32;
                (0..width * height).map(|i| field[i].map(|g| at(i) + 0.01 * g)).collect()
            };
            let blocks = still_blocks(&frame(1, [0.0; 2]), &frame(2, by), width);
            assert!(blocks.len() > 100);
            let (blur_px, times) = hang_together(&blocks.iter().collect::<Vec<_>>());
            let mut found: Vec<f64> = blocks.iter().zip(&times).map(|(b, t)| (b.variance[0] / t).sqrt()).collect();
            found.sort_by(f64::total_cmp);
            let middle = found[found.len() / 2];
            assert!((middle / 0.01 - 1.0).abs() < 0.06, "blur {blur}: {middle}");
            // Of grain without a blur neighbours tell nothing; a little is read into them.
            assert!(
                blur_px.iter().all(|b| (b - blur).abs() < if blur > 0.0 { 0.15 * blur } else { 0.45 }),
                "{blur_px:?}"
            );
        }
    }
}
