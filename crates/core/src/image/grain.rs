//! Grain: how much a plate has, by brightness and channel, and how far it hangs together; and grain that is like it.

use super::grain_pair::{Still, UNCLIPPED, hang_together, still_blocks};
use crate::colour::encode;
use serde::{Deserialize, Serialize};

/// Bands of brightness for which grain is measured, evenly over display values.
pub const GRAIN_BANDS: usize = 8;
/// Side of the blocks that are looked at, px.
const BLOCK: usize = 12;
/// The flattest part of a band's blocks tells how flat a block is that is nothing but grain: up to so many times as much
/// is believed. And how many blocks are needed.
const FLATTEST: (f64, f64) = (0.25, 2.0);
const LEAST: usize = 8;
/// How often the share of the grain that a plane takes with it is reckoned anew from how far it hangs together.
const ROUNDS: usize = 4;
/// Lags at which it is told how grain hangs together, px: the nearest tells it best.
const LAGS: usize = 1;

/// Grain of a plate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Grain {
    /// Standard deviation of red, green and blue in each band of brightness, display values 0 to 1, from dark to bright.
    pub deviation: Vec<[f64; 3]>,
    /// How far it hangs together across and down: the radius of the blur that would make it of grain without, px.
    pub blur_px: [f64; 2],
    /// Width of the picture in which it was measured, px.
    pub width: u32,
}

/// A frame as display values 0 to 1, row by row.
fn display(frame: &[[f32; 3]]) -> Vec<[f32; 3]> {
    frame.iter().map(|c| c.map(|v| encode(v.clamp(0.0, 1.0)))).collect()
}

/// One flat block: its band, and of each channel the variance about a plane and the products at lags across and down.
#[derive(Debug)]
struct Flat {
    band: usize,
    variance: [f64; 3],
    lags: [[f64; LAGS]; 2],
    roughness: f64,
}

/// What is flat in the frames that were looked at so far, and what is left between those that follow one another: no frame
/// need be kept.
#[derive(Debug, Default)]
pub struct GrainSamples {
    flat: Vec<Flat>,
    still: Vec<Still>,
}

impl GrainSamples {
    /// Looks at one more frame in linear light, `width` px across.
    pub fn look_at(&mut self, frame: &[[f32; 3]], width: usize) {
        let shown = display(frame);
        let height = shown.len() / width.max(1);
        for y in (0..height.saturating_sub(BLOCK)).step_by(BLOCK) {
            for x in (0..width.saturating_sub(BLOCK)).step_by(BLOCK) {
                self.flat.extend(flat(&shown, width, x, y));
            }
        }
    }

    /// Looks at two frames that follow one another, linear light, `width` px across. It tells more than frames one by one:
    /// what is rough in the scene goes along with its motion and is not taken for grain.
    pub fn look_at_pair(&mut self, first: &[[f32; 3]], second: &[[f32; 3]], width: usize) {
        if first.len() == second.len() {
            self.still.extend(still_blocks(&display(first), &display(second), width));
        }
    }

    /// The grain of all of them, frames of a width, px: by pairs where there are any, otherwise of what varies in the
    /// flattest blocks of each brightness about a plane (after Olsen, "Estimation of Noise in Images", 1993, whose blocks
    /// these are); `None` where nothing is flat.
    pub fn grain(&self, width: usize) -> Option<Grain> {
        grain_between(&self.still, width).or_else(|| grain_of(&self.flat, width))
    }
}

/// The blocks of a band that are flattest: what is rough beside them is no grain.
fn flattest<T>(mut own: Vec<&T>, roughness: impl Fn(&T) -> f64) -> Vec<&T> {
    own.sort_by(|a, b| roughness(a).total_cmp(&roughness(b)));
    let (part, times) = FLATTEST;
    let most = times * roughness(own[(own.len() as f64 * part) as usize]);
    own.retain(|b| roughness(b) <= most);
    own
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

/// Band of a brightness, display value.
fn band_of(bright: f64) -> usize {
    ((bright * GRAIN_BANDS as f64) as usize).min(GRAIN_BANDS - 1)
}

/// By what is left between frames that follow one another.
fn grain_between(blocks: &[Still], width: usize) -> Option<Grain> {
    let of_band = |band: usize| -> Vec<&Still> {
        let own: Vec<_> = blocks.iter().filter(|b| band_of(b.bright) == band).collect();
        if own.len() < LEAST { Vec::new() } else { flattest(own, |b| b.variance.iter().sum()) }
    };
    let kept: Vec<&Still> = (0..GRAIN_BANDS).flat_map(of_band).collect();
    if kept.is_empty() || kept.iter().all(|b| b.variance[1] <= 0.0) {
        return None;
    }
    let (blur_px, times) = hang_together(&kept);
    let deviation: Vec<Option<[f64; 3]>> = (0..GRAIN_BANDS)
        .map(|band| {
            let own: Vec<_> = kept.iter().zip(&times).filter(|(b, _)| band_of(b.bright) == band).collect();
            let of = |k: usize| median(own.iter().map(|(b, times)| b.variance[k] / **times).collect()).max(0.0).sqrt();
            (!own.is_empty()).then(|| [0, 1, 2].map(of))
        })
        .collect();
    Some(Grain { deviation: filled(&deviation), blur_px, width: width as u32 })
}

fn grain_of(blocks: &[Flat], width: usize) -> Option<Grain> {
    let mut deviation = vec![None; GRAIN_BANDS];
    let (mut power, mut lags) = (0.0, [[0.0; LAGS]; 2]);
    for (band, slot) in deviation.iter_mut().enumerate() {
        let own: Vec<&Flat> = blocks.iter().filter(|b| b.band == band).collect();
        if own.len() < LEAST {
            continue;
        }
        let own = flattest(own, |b| b.roughness);
        *slot = Some([0, 1, 2].map(|k| median(own.iter().map(|b| b.variance[k]).collect()).max(0.0)));
        for block in own {
            power += block.variance[1];
            (0..2).for_each(|axis| (0..LAGS).for_each(|k| lags[axis][k] += block.lags[axis][k]));
        }
    }
    if deviation.iter().all(Option::is_none) || power <= 0.0 {
        return None;
    }
    // What was fitted took a part of the grain with it, the more the farther that hangs together.
    let (mut blur_px, mut taken) = ([0.0; 2], 3.0 / (BLOCK * BLOCK) as f64);
    for _ in 0..ROUNDS {
        let whole = power / (1.0 - taken);
        blur_px = [0, 1].map(|axis| blur_of(lags[axis][0] / whole + taken));
        taken = taken_by_plane(blur_px);
    }
    let more = (1.0 / (1.0 - taken)).sqrt();
    let deviation: Vec<Option<[f64; 3]>> = deviation.iter().map(|d| d.map(|v| v.map(|v| v.sqrt() * more))).collect();
    Some(Grain { deviation: filled(&deviation), blur_px, width: width as u32 })
}

/// The share of grain of a block that a plane through it takes, by how far it hangs together.
fn taken_by_plane(blur_px: [f64; 2]) -> f64 {
    let middle = (BLOCK as f64 - 1.0) / 2.0;
    // Of a level line and of a rising one, along an axis.
    let along = |radius: f64| {
        let agree = |d: f64| {
            if radius <= 0.0 { if d == 0.0 { 1.0 } else { 0.0 } } else { (-d * d / (4.0 * radius * radius)).exp() }
        };
        let (mut level, mut rising, mut norm) = (0.0, 0.0, 0.0);
        for i in 0..BLOCK {
            norm += (i as f64 - middle).powi(2);
            for j in 0..BLOCK {
                let agrees = agree(i as f64 - j as f64);
                level += agrees / BLOCK as f64;
                rising += (i as f64 - middle) * (j as f64 - middle) * agrees;
            }
        }
        (level, rising / norm)
    };
    let ((u, v), (w, z)) = (along(blur_px[0]), along(blur_px[1]));
    (u * w + v * w + u * z) / (BLOCK * BLOCK) as f64
}

/// Bands of which nothing is known have what the nearest has.
fn filled(deviation: &[Option<[f64; 3]>]) -> Vec<[f64; 3]> {
    let known: Vec<(usize, [f64; 3])> = deviation.iter().enumerate().filter_map(|(k, d)| Some((k, (*d)?))).collect();
    let near = |k: usize| known.iter().min_by_key(|(j, _)| j.abs_diff(k)).map_or([0.0; 3], |n| n.1);
    (0..GRAIN_BANDS).map(near).collect()
}

/// The radius of the blur that makes neighbours agree as much (of a Gaussian, the correlation at d is exp(-d^2/4r^2)).
fn blur_of(first: f64) -> f64 {
    if first < 0.02 { 0.0 } else { 0.5 / (-(first.min(0.98)).ln()).sqrt() }
}

fn flat(shown: &[[f32; 3]], width: usize, x: usize, y: usize) -> Option<Flat> {
    let n = (BLOCK * BLOCK) as f64;
    let middle = (BLOCK as f64 - 1.0) / 2.0;
    let square = n * ((BLOCK * BLOCK) as f64 - 1.0) / 12.0;
    let mut residual = [[0.0f64; BLOCK * BLOCK]; 3];
    let (mut mean, mut variance) = ([0.0; 3], [0.0; 3]);
    for k in 0..3 {
        let at = |i: usize| f64::from(shown[(y + i / BLOCK) * width + x + i % BLOCK][k]);
        let (mut sum, mut by_x, mut by_y) = (0.0, 0.0, 0.0);
        for i in 0..BLOCK * BLOCK {
            let v = at(i);
            sum += v;
            by_x += v * ((i % BLOCK) as f64 - middle);
            by_y += v * ((i / BLOCK) as f64 - middle);
        }
        mean[k] = sum / n;
        for (i, r) in residual[k].iter_mut().enumerate() {
            let plane = by_x / square * ((i % BLOCK) as f64 - middle) + by_y / square * ((i / BLOCK) as f64 - middle);
            *r = at(i) - mean[k] - plane;
        }
        variance[k] = residual[k].iter().map(|r| r * r).sum::<f64>() / n;
    }
    let bright = 0.2126 * mean[0] + 0.7152 * mean[1] + 0.0722 * mean[2];
    // What is clipped has lost its grain.
    if mean.iter().any(|m| !UNCLIPPED.contains(m)) {
        return None;
    }
    let mut lags = [[0.0; LAGS]; 2];
    for (axis, sums) in lags.iter_mut().enumerate() {
        for (d, sum) in sums.iter_mut().enumerate() {
            let step = if axis == 0 { 1 } else { BLOCK } * (d + 1);
            let count = (BLOCK * (BLOCK - d - 1)) as f64;
            for i in 0..BLOCK * BLOCK {
                let inside = if axis == 0 { i % BLOCK + d + 1 < BLOCK } else { i / BLOCK + d + 1 < BLOCK };
                if inside {
                    *sum += residual[1][i] * residual[1][i + step] / count;
                }
            }
        }
    }
    // Structure varies over longer ways than grain: means of quarters differ.
    let half = BLOCK / 2;
    let quarter = |qx: usize, qy: usize| {
        let of = |i: usize| (qy * half + i / half) * BLOCK + qx * half + i % half;
        (0..half * half).map(|i| residual[1][of(i)]).sum::<f64>() / (half * half) as f64
    };
    let quarters = [quarter(0, 0), quarter(1, 0), quarter(0, 1), quarter(1, 1)];
    let structure = quarters.iter().map(|q| q * q).sum::<f64>();
    let band = band_of(bright);
    let roughness = variance.iter().sum::<f64>() + 30.0 * structure;
    Some(Flat { band, variance, lags, roughness })
}

impl Grain {
    /// Standard deviation of a channel at a brightness, display values.
    pub fn deviation_at(&self, bright: f32, channel: usize) -> f32 {
        let at = (bright.clamp(0.0, 1.0) * GRAIN_BANDS as f32 - 0.5).clamp(0.0, (GRAIN_BANDS - 1) as f32);
        let k = (at as usize).min(GRAIN_BANDS.saturating_sub(2));
        let of = |k: usize| self.deviation.get(k).map_or(0.0, |d| d[channel] as f32);
        of(k) + (of(k + 1) - of(k)) * (at - k as f32)
    }

    /// Checks every number.
    pub fn is_sound(&self) -> bool {
        self.deviation.len() == GRAIN_BANDS
            && self.deviation.iter().flatten().chain(&self.blur_px).all(|v| (0.0..=16.0).contains(v))
            && self.width > 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::decode;
    use crate::image::grain_field;

    /// The grain of frames one by one.
    fn measure_grain(frames: &[&[[f32; 3]]], width: usize) -> Option<Grain> {
        let mut samples = GrainSamples::default();
        frames.iter().for_each(|frame| samples.look_at(frame, width));
        samples.grain(width)
    }

    /// A plate of soft steps with grain that is known.
    fn plate(grain: &Grain, seed: u64) -> Vec<[f32; 3]> {
        let (width, height) = (384usize, 256usize);
        let field = grain_field(width, height, grain.blur_px, seed);
        (0..width * height)
            .map(|i| {
                let (x, y) = (i % width, i / width);
                let step = (x / 48) as f32 / 8.0 + 0.0625;
                let shade = step + 0.02 * (y as f32 / height as f32 - 0.5);
                std::array::from_fn(|k| decode((shade + field[i][k] * grain.deviation_at(shade, k)).clamp(0.0, 1.0)))
            })
            .collect()
    }

    #[test]
    fn grain_is_measured_as_it_was_made() {
        for blur_px in [[0.0, 0.0], [0.6, 0.6], [1.1, 0.8]] {
            let deviation =
                (0..GRAIN_BANDS).map(|k| [0.012, 0.009, 0.015].map(|d| d * (1.2 - 0.1 * k as f64))).collect();
            let truth = Grain { deviation, blur_px, width: 384 };
            let frames: Vec<_> = (0..4).map(|seed| plate(&truth, seed)).collect();
            let found = measure_grain(&frames.iter().map(Vec::as_slice).collect::<Vec<_>>(), 384).unwrap();
            for band in 1..GRAIN_BANDS - 1 {
                for k in 0..3 {
                    let (a, b) = (found.deviation[band][k], truth.deviation[band][k]);
                    assert!((a / b - 1.0).abs() < 0.1, "{blur_px:?} band {band} channel {k}: {a} {b}");
                }
            }
            for axis in 0..2 {
                let (a, b) = (found.blur_px[axis], blur_px[axis]);
                assert!((a - b).abs() < 0.15 * b.max(1.0), "{a} {b}");
            }
            // Grain made anew from what was measured is as strong.
            let again = grain_field(384, 256, found.blur_px, 77);
            let power = again.iter().map(|g| f64::from(g[1] * g[1])).sum::<f64>() / again.len() as f64;
            assert!((power.sqrt() - 1.0).abs() < 0.03, "{}", power.sqrt());
        }
    }

    #[test]
    fn nothing_flat_tells_no_grain() {
        assert!(measure_grain(&[], 100).is_none());
        let black = vec![[0.0; 3]; 100 * 100];
        assert!(measure_grain(&[&black], 100).is_none());
    }
}
