//! Following all of an area at once, where it has too few corners: a mast, a plain wall.

use super::motion::{AffineMotion, median};
use crate::image::Plane;
use crate::matte::{Coverage, Window, bounds, centroid};
use nalgebra::{SMatrix, SVector};

/// Pixels about an area that count as well: its edge is what tells of a thing without texture.
const RIM_PX: f64 = 2.0;
/// Pixels that are looked at, at most.
const MOST: usize = 4000;
/// How far from where it should be it is looked for, px, how closely at first, and what a px of that costs, of the square
/// of the deviation of its pixels.
const SOUGHT_PX: i32 = 40;
const HOP_PX: i32 = 2;
const FARTHER: f64 = 0.004;
/// Deviation of the pixels of an area below which nothing is seen of it, and part of it that has to be in the picture.
const LEAST: f64 = 3.0;
const WITHIN: f64 = 0.5;
/// How well pixels have to agree with those on the first picture (normalised correlation).
const AGREES: f64 = 0.75;
/// Gauss-Newton steps.
const STEPS: usize = 20;

/// An area as it was on one picture, and how it has been shifted, turned and grown since.
pub(super) struct Area {
    outline: Vec<[f64; 2]>,
    middle: [f64; 2],
    places: Vec<[f64; 2]>,
    values: Vec<f64>,
    /// Their deviation, and how far they lie from the middle on the average, px.
    contrast: f64,
    size: f64,
    /// Shift, px, growth beyond 1 times the cosine, and the sine of its turn.
    motion: SVector<f64, 4>,
    /// What was added to it last.
    last: SVector<f64, 4>,
}

impl Area {
    /// The inside of an outline; `None` where nothing is seen of it.
    pub fn new(picture: &Plane, outline: &[[f64; 2]]) -> Option<Self> {
        let window = Window::about(bounds(outline), RIM_PX).within((picture.width(), picture.height()));
        let covered = Coverage::of_outline(outline, &window, 2.0 * RIM_PX);
        let all: Vec<usize> = (0..covered.parts.len()).filter(|k| covered.parts[*k] > 0.02).collect();
        let every = all.len().div_ceil(MOST).max(1);
        let places: Vec<[f64; 2]> = all.iter().step_by(every).map(|k| window.place(*k).map(f64::from)).collect();
        let values: Vec<f64> = places.iter().map(|p| f64::from(picture.at(p[0] as usize, p[1] as usize))).collect();
        let (middle, _) = centroid(outline);
        let away = places.iter().map(|p| (p[0] - middle[0]).hypot(p[1] - middle[1])).sum::<f64>();
        let (contrast, size) = (deviation(&values), away / places.len().max(1) as f64);
        let made = Self {
            outline: outline.to_vec(),
            middle,
            places,
            values,
            contrast,
            size,
            motion: SVector::zeros(),
            last: SVector::zeros(),
        };
        (made.places.len() > 30 && contrast > LEAST).then_some(made)
    }

    /// A place of the first picture under a motion.
    fn moved(&self, p: &[f64; 2], motion: &SVector<f64, 4>) -> [f64; 2] {
        let (u, v) = (p[0] - self.middle[0], p[1] - self.middle[1]);
        [p[0] + motion[0] + motion[2] * u - motion[3] * v, p[1] + motion[1] + motion[3] * u + motion[2] * v]
    }

    /// Values of the picture under a motion with their places, without the offset of brightness.
    fn pairs(&self, picture: &Plane, motion: &SVector<f64, 4>) -> Vec<([f64; 2], [f64; 2], f64, f64)> {
        let pair = |(p, value): (&[f64; 2], &f64)| {
            let q = self.moved(p, motion);
            picture.holds_window(q[0], q[1], 1.0).then(|| {
                let seen = f64::from(picture.bilinear(q[0] as f32, q[1] as f32));
                (*p, q, *value, seen)
            })
        };
        self.places.iter().zip(&self.values).filter_map(pair).collect()
    }

    /// How well a picture agrees with the first where the outline became another by a shift, turn and growth (normalised
    /// correlation): 0 where nothing is seen of it.
    pub fn likeness(&self, picture: &Plane, there: &[[f64; 2]]) -> f64 {
        let corners = self.outline.iter().zip(there).map(|(p, q)| (*p, [q[0] - p[0], q[1] - p[1]]));
        // Twice, so that a triangle's are enough to fit.
        let Some(motion) = AffineMotion::fit_similarity(&corners.clone().chain(corners).collect::<Vec<_>>()) else {
            return 0.0;
        };
        let (mut was, mut is) = (Vec::new(), Vec::new());
        for (p, value) in self.places.iter().zip(&self.values) {
            let q = motion.moved(*p);
            if picture.holds_window(q[0], q[1], 1.0) {
                was.push(*value);
                is.push(f64::from(picture.bilinear(q[0] as f32, q[1] as f32)));
            }
        }
        correlation(&was, &is)
    }

    /// The outline on the next picture; `None` where the area is not to be seen there.
    pub fn step(&mut self, picture: &Plane) -> Option<Vec<[f64; 2]>> {
        let expected = self.motion + self.last;
        let mut motion = self.sought(picture, &expected)?;
        let size = self.size;
        for _ in 0..STEPS {
            let pairs = self.pairs(picture, &motion);
            if (pairs.len() as f64) < WITHIN * self.places.len() as f64 {
                return None;
            }
            let mut offs: Vec<f64> = pairs.iter().map(|(_, _, a, b)| b - a).collect();
            let offset = median(&mut offs);
            let mut spread: Vec<f64> = offs.iter().map(|o| (o - offset).abs()).collect();
            // Most of a plain thing says nothing, and its few edges are not to be taken for what came in front.
            let scale = (1.5 * 1.48 * median(&mut spread)).max(0.5 * self.contrast);
            let mut normal = SMatrix::<f64, 4, 4>::zeros();
            let mut right = SVector::<f64, 4>::zeros();
            let mut seen = 0.0;
            for (p, q, a, b) in &pairs {
                let at = |dx: f32, dy: f32| f64::from(picture.bilinear(q[0] as f32 + dx, q[1] as f32 + dy));
                let (gx, gy) = (0.5 * (at(1.0, 0.0) - at(-1.0, 0.0)), 0.5 * (at(0.0, 1.0) - at(0.0, -1.0)));
                let (u, v) = (p[0] - self.middle[0], p[1] - self.middle[1]);
                let row = SVector::<f64, 4>::new(gx, gy, gx * u + gy * v, gy * u - gx * v);
                let off = b - a - offset;
                // Geman and McClure: what came in front does not tug.
                let weight = (1.0 + (off / scale).powi(2)).powi(-2);
                normal += row * row.transpose() * weight;
                right -= row * (off * weight);
                seen += weight;
            }
            // Where nothing tells, it goes on as it went: along a mast, and in size and turn of what is small.
            let held = SVector::<f64, 4>::new(1.0, 1.0, size * size, size * size) * (0.02 * seen);
            normal += SMatrix::from_diagonal(&held);
            right += held.component_mul(&(expected - motion));
            let step = normal.cholesky()?.solve(&right);
            motion += step;
            if step[0].hypot(step[1]) + size * step[2].hypot(step[3]) < 0.01 {
                break;
            }
        }
        let pairs = self.pairs(picture, &motion);
        let (a, b): (Vec<f64>, Vec<f64>) = pairs.iter().map(|p| (p.2, p.3)).unzip();
        if correlation(&a, &b) < AGREES {
            return None;
        }
        self.last = motion - self.motion;
        self.motion = motion;
        Some(self.outline.iter().map(|c| self.moved(c, &motion)).collect())
    }

    /// The whole-pixel shift by which it agrees best, near where it is expected.
    fn sought(&self, picture: &Plane, expected: &SVector<f64, 4>) -> Option<SVector<f64, 4>> {
        let few = self.places.len().div_ceil(600).max(1);
        let chosen: Vec<([f64; 2], f64)> =
            self.places.iter().zip(&self.values).step_by(few).map(|(p, v)| (self.moved(p, expected), *v)).collect();
        let cost = |dx: i32, dy: i32| {
            let (mut sum, mut square, mut count) = (0.0, 0.0, 0.0);
            for (q, value) in &chosen {
                let (x, y) = (q[0] + f64::from(dx), q[1] + f64::from(dy));
                if picture.holds_window(x, y, 1.0) {
                    let off = f64::from(picture.bilinear(x as f32, y as f32)) - value;
                    sum += off;
                    square += off * off;
                    count += 1.0;
                }
            }
            let variance = square / count - (sum / count).powi(2);
            let far = f64::from(dx * dx + dy * dy).sqrt() * FARTHER * self.contrast * self.contrast;
            (count >= WITHIN * chosen.len() as f64).then_some(variance + far)
        };
        let best = |about: (i32, i32), reach: i32, hop: i32| {
            let along = move |middle: i32| (middle - reach..=middle + reach).step_by(hop as usize);
            let shifts = along(about.1).flat_map(|y| along(about.0).map(move |x| (x, y)));
            shifts.filter_map(|(x, y)| Some((cost(x, y)?, x, y))).min_by(|a, b| a.0.total_cmp(&b.0))
        };
        let rough = best((0, 0), SOUGHT_PX, HOP_PX)?;
        let best = best((rough.1, rough.2), HOP_PX - 1, 1)?;
        Some(expected + SVector::<f64, 4>::new(f64::from(best.1), f64::from(best.2), 0.0, 0.0))
    }
}

fn deviation(values: &[f64]) -> f64 {
    let n = values.len().max(1) as f64;
    let mean = values.iter().sum::<f64>() / n;
    (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / n).sqrt()
}

fn correlation(a: &[f64], b: &[f64]) -> f64 {
    let n = a.len().max(1) as f64;
    let (ma, mb) = (a.iter().sum::<f64>() / n, b.iter().sum::<f64>() / n);
    let both: f64 = a.iter().zip(b).map(|(p, q)| (p - ma) * (q - mb)).sum();
    let of = |all: &[f64], mean: f64| all.iter().map(|v| (v - mean).powi(2)).sum::<f64>();
    both / (of(a, ma) * of(b, mb)).sqrt().max(1e-9)
}
