//! What small windows of the pictures say of a plane: how far off it lies what they show.
//!
//! A window of one picture is carried over to others by the plane, moved along its normal until all of them show the
//! same (multiple-baseline stereo: Okutomi & Kanade 1993; slanted support: Bleyer, Rhemann & Rother 2011). The answer is
//! refined below a pixel by Gauss-Newton steps along the epipolar lines (Baker & Matthews 2004), with gain and offset
//! free.

use super::plane::Plane;
use super::views::View;
use crate::image::Plane as Picture;
use nalgebra::{Matrix2, Vector2, Vector3};
use rayon::prelude::*;

/// Half side of a window, px of the level it is looked at on.
const HALF: i32 = 6;
/// The same while it is looked for.
const ROUGH_HALF: i32 = 4;
/// Values of a window at most.
const SAMPLES: usize = (2 * HALF as usize + 1).pow(2);
/// Distance between windows, px of a picture at most [`BREADTH`] wide.
const CELL: f64 = 36.0;
/// Breadth of the picture at which windows are looked at most finely, px.
const BREADTH: usize = 1300;
/// Other pictures that a window is compared with.
const COMPARED: usize = 4;
/// Deviation of a window's values below which it shows nothing.
const BLANK: f32 = 1.0;
/// How much larger or smaller a window may be seen in another picture.
const SHRINKS: (f64, f64) = (0.3, 3.0);
/// Correlation below which two windows do not show the same.
const SAME: f32 = 0.6;
/// What is no farther off is found by Gauss-Newton alone, px.
const GAUSS_NEWTON_PX: f64 = 2.0;
/// Rounds of Gauss-Newton.
const STEPS: usize = 3;
/// Noise of neighbouring samples goes together after smoothing; so many times fewer are independent.
const CORRELATED: f64 = 4.0;
/// Deviation of a window that no noise explains: cameras and lens are known no better, px.
const LEAST_DEVIATION_PX: f64 = 0.03;

/// What one window says.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// Which view it is a window of.
    pub view: usize,
    /// Its middle, px of the view's picture.
    pub pixel: Vector2<f64>,
    /// The place that it shows, world.
    pub place: Vector3<f64>,
    /// How far off the plane it lies what it shows, along the normal, world units.
    pub offset: f64,
    /// Px by which the picture that tells best moves for each unit off the plane.
    pub px_per_unit: f64,
    /// Deviation of the offset, px of that picture.
    pub deviation_px: f64,
    /// Mean correlation of the windows, up to 1.
    pub agreement: f64,
}

/// Where a window is seen in another picture, linear in how far the plane is moved.
struct Seen<'a> {
    view: &'a View,
    at: Vector2<f64>,
    /// Px for each unit along the normal.
    moves: Vector2<f64>,
    shape: Matrix2<f64>,
}

/// The values of a window with their mean taken out, row by row; those that are not used are zero.
#[derive(Clone)]
struct Values {
    all: [f32; SAMPLES],
    length: f32,
}

impl Values {
    /// Samples a window of half side `half`; `None` where it leaves the picture.
    fn sample(level: &Picture, middle: Vector2<f64>, shape: &Matrix2<f64>, half: i32) -> Option<Self> {
        let reach = (shape.abs() * Vector2::repeat(f64::from(half))) + Vector2::repeat(1.0);
        let (wide, high) = (level.width() as f64, level.height() as f64);
        let inside = middle.x - reach.x >= 0.0
            && middle.y - reach.y >= 0.0
            && middle.x + reach.x < wide - 1.0
            && middle.y + reach.y < high - 1.0;
        if !inside {
            return None;
        }
        let mut all = [0.0; SAMPLES];
        let (m, s) = (middle.cast::<f32>(), shape.cast::<f32>());
        let (stride, samples) = (level.width(), level.samples());
        let side = (2 * half + 1) as usize;
        let mut sum = 0.0;
        for (j, row) in all.chunks_exact_mut(side).take(side).enumerate() {
            let dy = (j as i32 - half) as f32;
            let (left, top) = (m.x + s[(0, 1)] * dy, m.y + s[(1, 1)] * dy);
            for (i, out) in row.iter_mut().enumerate() {
                let dx = (i as i32 - half) as f32;
                let (x, y) = (left + s[(0, 0)] * dx, top + s[(1, 0)] * dx);
                let (x0, y0) = (x as i32, y as i32);
                let (fx, fy) = (x - x0 as f32, y - y0 as f32);
                let at = y0 as usize * stride + x0 as usize;
                let (over, under) = (&samples[at..at + 2], &samples[at + stride..at + stride + 2]);
                let (top, bottom) = (over[0] + fx * (over[1] - over[0]), under[0] + fx * (under[1] - under[0]));
                *out = top + fy * (bottom - top);
                sum += *out;
            }
        }
        let count = side * side;
        let mean = sum / count as f32;
        all[..count].iter_mut().for_each(|v| *v -= mean);
        let length = all.iter().map(|v| v * v).sum::<f32>().sqrt();
        Some(Self { all, length })
    }

    fn dot(&self, other: &Self) -> f32 {
        self.all.iter().zip(&other.all).map(|(a, b)| a * b).sum()
    }

    fn correlation(&self, other: &Self) -> f32 {
        self.dot(other) / (self.length * other.length).max(1e-6)
    }
}

/// One window and the pictures it is compared with.
struct Window<'a> {
    template: Values,
    /// Its slope to the right and down, per px of the level.
    slope: [Values; 2],
    seen: Vec<Seen<'a>>,
    /// Px for each unit in the picture that tells best.
    px_per_unit: f64,
    level: usize,
    half: i32,
}

impl Window<'_> {
    fn sampled(&self, seen: &Seen, offset: f64) -> Option<Values> {
        let size = 0.5f64.powi(self.level as i32);
        let middle = (seen.at + seen.moves * offset) * size;
        Values::sample(seen.view.pyramid.level(self.level), middle, &seen.shape, self.half)
    }

    /// Mean correlation of the pictures with the plane moved by `offset`; pictures that show something else count as
    /// that and no worse.
    fn agreement(&self, offset: f64) -> f32 {
        let one = |seen: &Seen| self.sampled(seen, offset).map_or(SAME, |v| self.template.correlation(&v).max(SAME));
        self.seen.iter().map(one).sum::<f32>() / self.seen.len() as f32
    }

    /// The step along the normal that the pictures ask for, its deviation, and how well they agree; `None` where fewer
    /// than two show the same.
    fn step(&self, offset: f64) -> Option<(f64, f64, f64)> {
        let size = 0.5f64.powi(self.level as i32);
        let count = ((2 * self.half + 1) * (2 * self.half + 1)) as usize;
        let (mut steps, mut agreement) = (Vec::with_capacity(COMPARED), 0.0);
        for seen in &self.seen {
            let Some(values) = self.sampled(seen, offset) else { continue };
            let correlation = self.template.correlation(&values);
            if correlation < SAME {
                continue;
            }
            // This picture is brought to the template's contrast; a move in it is one in the template by the shape.
            let gain = self.template.dot(&values) / (values.length * values.length);
            let Some(back) = seen.shape.try_inverse() else { continue };
            let way = (back * seen.moves * size).cast::<f32>();
            let (mut num, mut den, mut left) = (0.0f32, 0.0f32, 0.0f32);
            for k in 0..count {
                let slope = way.x * self.slope[0].all[k] + way.y * self.slope[1].all[k];
                let residual = self.template.all[k] - gain * values.all[k];
                num += slope * residual;
                den += slope * slope;
                left += residual * residual;
            }
            if den <= 0.0 {
                continue;
            }
            let noise = (f64::from(left) / count as f64).max(0.25);
            steps.push((f64::from(num / den), f64::from(den) / (noise * CORRELATED)));
            agreement += f64::from(correlation);
        }
        let weight: f64 = steps.iter().map(|s| s.1).sum();
        // One picture alone may err.
        if steps.len() < 2 || !(weight > 0.0) {
            return None;
        }
        let mean = steps.iter().map(|s| s.0 * s.1).sum::<f64>() / weight;
        let scatter = steps.iter().map(|s| (s.0 - mean).powi(2) * s.1).sum::<f64>() / weight / (steps.len() - 1) as f64;
        let deviation = (1.0 / weight).max(scatter).sqrt();
        Some((mean, deviation, agreement / steps.len() as f64))
    }
}

/// Size of the cells of which each is looked at through one window, px of the views' pictures.
pub fn cell_px(views: &[View]) -> f64 {
    views.first().map_or(CELL, |v| CELL * f64::from(1u32 << v.pyramid.level_within(BREADTH)))
}

/// How densely windows lie.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Grid {
    /// Every so many-eth view is taken windows of.
    pub every: usize,
    /// The cells are so many times as fine as usual.
    pub finer: f64,
}

/// How a probe looks at a plane.
#[derive(Debug, Clone, Copy)]
pub struct Probe {
    /// How far off the plane things are looked for, px of the picture that tells best.
    pub range_px: f64,
    /// Where windows lie.
    pub grid: Grid,
}

/// How many cells of the usual size lie where `here` says so, over all views.
pub fn cells_on(views: &[View], plane: &Plane, here: impl Fn(Vector3<f64>) -> bool + Sync) -> usize {
    let count = |view: &View| {
        let step = 2.0 * CELL * f64::from(1u32 << view.pyramid.level_within(BREADTH));
        let (wide, high) = (view.pyramid.level(0).width() as f64, view.pyramid.level(0).height() as f64);
        let (columns, rows) = ((wide / step) as usize, (high / step) as usize);
        let on = |i: usize| {
            let pixel = Vector2::new((i % columns) as f64 + 0.5, (i / columns) as f64 + 0.5) * step;
            plane.meet(&view.camera.ray(pixel)).is_some_and(&here)
        };
        (0..columns * rows).filter(|i| on(*i)).count()
    };
    // Every fourth is asked.
    4 * views.iter().map(count).sum::<usize>()
}

/// Looks at a plane through windows of all views where `here` says so of places on the plane.
pub fn probe(views: &[View], plane: &Plane, how: Probe, here: impl Fn(Vector3<f64>) -> bool + Sync) -> Vec<Reading> {
    let cells = |v: usize| {
        let view = &views[v];
        let base = view.pyramid.level_within(BREADTH);
        let step = CELL / how.grid.finer * f64::from(1u32 << base);
        let level = view.pyramid.level(0);
        let (columns, rows) = ((level.width() as f64 / step) as usize, (level.height() as f64 / step) as usize);
        (0..columns * rows).map(move |i| {
            let (c, r) = ((i % columns) as f64, (i / columns) as f64);
            // Rows are set off against each other, so that patterns of the scene do not fall in with the cells.
            let shift = if i / columns % 2 == 0 { 0.25 } else { 0.75 };
            (v, base, Vector2::new((c + shift) * step, (r + 0.5) * step))
        })
    };
    let all: Vec<_> = (0..views.len()).step_by(how.grid.every.max(1)).flat_map(cells).collect();
    all.par_iter()
        .filter_map(|&(v, base, pixel)| {
            let foot = plane.meet(&views[v].camera.ray(pixel))?;
            if !here(foot) || !views[v].allows(pixel.x, pixel.y, f64::from(HALF << base)) {
                return None;
            }
            reading(views, v, base, pixel, plane, how.range_px)
        })
        .collect()
}

fn window<'a>(
    views: &'a [View],
    v: usize,
    level: usize,
    pixel: Vector2<f64>,
    plane: &Plane,
    half: i32,
) -> Option<Window<'a>> {
    let view = &views[v];
    let size = 0.5f64.powi(level as i32);
    let picture = view.pyramid.level(level);
    let of = |d: Vector2<f64>| Values::sample(picture, pixel * size + d, &Matrix2::identity(), half);
    let template = of(Vector2::zeros())?;
    if template.length < BLANK * f64::from(2 * half + 1) as f32 {
        return None;
    }
    let sloped = |d: Vector2<f64>| {
        let (mut ahead, behind) = (of(d)?, of(-d)?);
        ahead.all.iter_mut().zip(&behind.all).for_each(|(a, b)| *a -= b);
        Some(ahead)
    };
    let slope = [sloped(Vector2::new(0.5, 0.0))?, sloped(Vector2::new(0.0, 0.5))?];
    let ray = |d: Vector2<f64>| view.camera.ray(pixel + d);
    let (middle, right, down) = (ray(Vector2::zeros()), ray(Vector2::new(4.0, 0.0)), ray(Vector2::new(0.0, 4.0)));
    let foot = plane.meet(&middle)?;
    let (beside, below) = (plane.meet(&right)?, plane.meet(&down)?);
    let away = (foot - middle.from).norm();
    // So small a move that the picture moves in a straight line.
    let nudge = 1e-3 * away * plane.normal.dot(&middle.along).abs().max(1e-3);
    let nudged = Plane { point: plane.point + plane.normal * nudge, ..*plane }.meet(&middle)?;
    let mut seen: Vec<Seen> = views
        .iter()
        .enumerate()
        .filter(|(k, _)| *k != v)
        .filter_map(|(_, other)| {
            let at = other.camera.project(foot)?;
            let inside = at.x >= 0.0
                && at.y >= 0.0
                && at.x < other.pyramid.level(0).width() as f64
                && at.y < other.pyramid.level(0).height() as f64;
            if !inside || !other.allows(at.x, at.y, f64::from(half << level)) {
                return None;
            }
            let (b, d) = (other.camera.project(beside)?, other.camera.project(below)?);
            let shape = Matrix2::from_columns(&[(b - at) / 4.0, (d - at) / 4.0]);
            let area = shape.determinant();
            if !(SHRINKS.0..SHRINKS.1).contains(&area) {
                return None;
            }
            let moves = (other.camera.project(nudged)? - at) / nudge;
            (moves.norm() * away > 1.0).then_some(Seen { view: other, at, moves, shape })
        })
        .collect();
    seen.sort_by(|a, b| b.moves.norm().total_cmp(&a.moves.norm()));
    seen.truncate(COMPARED);
    if seen.len() < 2 {
        return None;
    }
    let px_per_unit = seen[0].moves.norm();
    Some(Window { template, slope, seen, px_per_unit, level, half })
}

fn reading(
    views: &[View],
    v: usize,
    base: usize,
    pixel: Vector2<f64>,
    plane: &Plane,
    range_px: f64,
) -> Option<Reading> {
    let fine = window(views, v, base, pixel, plane, HALF)?;
    let mut offset = 0.0;
    if range_px > GAUSS_NEWTON_PX {
        // Coarse first: where the pictures agree best.
        let coarse = window(views, v, base + 1, pixel, plane, ROUGH_HALF)?;
        let (px, count) = (1.0 / coarse.px_per_unit, range_px.ceil() as i32);
        let at = |i: i32| coarse.agreement(f64::from(i) * px);
        let (best, how) = (-count..=count).map(|i| (i, at(i))).max_by(|a, b| a.1.total_cmp(&b.1))?;
        // At the end of the range it may be anything.
        if best.abs() == count || how <= SAME + 0.02 {
            return None;
        }
        offset = f64::from(best) * px;
    }
    let mut told = None;
    for _ in 0..STEPS {
        let (step, deviation, agreement) = fine.step(offset)?;
        offset += step;
        told = Some((deviation, agreement));
        if step.abs() * fine.px_per_unit < 0.01 {
            break;
        }
    }
    let (deviation, agreement) = told?;
    if !(offset.abs() * fine.px_per_unit <= range_px) {
        return None;
    }
    Some(Reading {
        view: v,
        pixel,
        place: Plane { point: plane.point + plane.normal * offset, ..*plane }.meet(&views[v].camera.ray(pixel))?,
        offset,
        px_per_unit: fine.px_per_unit,
        deviation_px: (deviation * fine.px_per_unit).hypot(LEAST_DEVIATION_PX),
        agreement,
    })
}
