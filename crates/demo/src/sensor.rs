//! From light to the bytes of a frame: lens, shutter, noise.

use crate::scene::Scene;
use crate::take::Take;
use fennik_core::geometry::Lens;
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

/// Deviation of the sensor's noise at black and at white, 8-bit levels.
const NOISE: (f32, f32) = (0.9, 2.0);

/// How far the light of a pixel's rays may differ for it to be done, as a part of it.
const AGREED: f32 = 0.13;

/// How far off an edge is looked for, px.
const NEAR: usize = 2;

/// Columns for which it is looked up at a time what they may show.
const TILE: usize = 64;

/// Where a place of the picture (px) looks, camera frame, of depth one. Undistorted directions of the pixel corners and of
/// a finer raster would cost more than the lens itself; each ray asks the lens.
pub fn direction(lens: &Lens, x: f64, y: f64) -> Vector3<f64> {
    let n = lens.unproject(Vector2::new(x, y));
    Vector3::new(n.x, n.y, 1.0)
}

fn scramble(mut h: u64) -> u64 {
    h ^= h >> 30;
    h = h.wrapping_mul(0xBF58_476D_1CE4_E5B9);
    h ^= h >> 27;
    h = h.wrapping_mul(0x94D0_49BB_1331_11EB);
    h ^ (h >> 31)
}

/// What the rays of a pixel have brought.
#[derive(Clone, Copy)]
struct Spot {
    sum: [f32; 3],
    low: [f32; 3],
    high: [f32; 3],
    rays: f32,
}

impl Default for Spot {
    fn default() -> Self {
        Self { sum: [0.0; 3], low: [f32::INFINITY; 3], high: [0.0; 3], rays: 0.0 }
    }
}

impl Spot {
    fn add(&mut self, light: [f32; 3]) {
        self.rays += 1.0;
        for c in 0..3 {
            self.sum[c] += light[c];
            (self.low[c], self.high[c]) = (self.low[c].min(light[c]), self.high[c].max(light[c]));
        }
    }

    fn agrees(&self) -> bool {
        (0..3).all(|c| self.high[c] - self.low[c] < AGREED * (self.high[c] + AGREED))
    }
}

fn seed_of(frame: u32, x: usize, y: usize) -> u64 {
    scramble((u64::from(frame) << 40) ^ ((y as u64) << 20) ^ x as u64 ^ 0x5DEE_CE66)
}

/// Films one frame: RGB bytes of the take's size.
pub fn film(scene: &dyn Scene, take: &Take, frame: u32) -> Vec<u8> {
    let (w, h, rays) = (take.width as usize, take.height as usize, take.rays);
    let lens = take.lens(f64::from(frame));
    let exposure = take.exposure(frame);
    let mut bytes = vec![0u8; w * h * 3];
    bytes.par_chunks_mut(w * 3).enumerate().for_each(|(y, row)| {
        let middle_time = take.row_time(frame, y as f64);
        let moments: Vec<_> = (0..rays)
            .map(|i| {
                let time = middle_time + take.shutter * ((i as f64 + 0.5) / rays as f64 - 0.5);
                let pose = take.pose(time);
                (time, pose.centre(), pose.rotation.inverse())
            })
            .collect();
        let middle_pose = take.pose(middle_time);
        let among = scene.in_rows(&middle_pose, &lens, y as f64, y as f64, middle_time);
        let mut here = Vec::new();
        let mut spots = vec![Spot::default(); w];
        let first = take.least_rays.min(rays);
        for (from, to) in [(0, first), (first, rays)] {
            // Where the first rays disagree, or do near by, there is an edge or one that moves.
            let plain: Vec<bool> = (0..w)
                .map(|x| from > 0 && spots[x.saturating_sub(NEAR)..(x + NEAR + 1).min(w)].iter().all(Spot::agrees))
                .collect();
            for x in 0..w {
                if x % TILE == 0 {
                    let columns = (x as f64, (x + TILE) as f64);
                    here = scene.in_columns(&among, &middle_pose, &lens, columns, middle_time);
                }
                if plain[x] {
                    continue;
                }
                let seed = seed_of(frame, x, y);
                for n in from..to {
                    // The first of fewer rays are far apart.
                    let i = if take.least_rays < rays { n * (rays - 1) % rays } else { n };
                    // A rook's pattern, turned by pixel, so that time and place are not tied.
                    let k = (i + (seed % rays as u64) as usize) % rays;
                    let (time, eye, to_world) = &moments[k];
                    let random = scramble(seed.wrapping_add(i as u64));
                    let unit = |shift: u32| ((random >> shift) & 0xFFFF) as f64 / 65536.0;
                    let px = x as f64 - 0.5 + (i as f64 + unit(0)) / rays as f64;
                    let py = y as f64 - 0.5 + (((i * 2) % rays) as f64 + unit(16)) / rays as f64;
                    let ray = (to_world * direction(&lens, px, py)).normalize();
                    let other = scramble(random ^ 0x51AB_1E5D);
                    let more = |shift: u32| ((other >> shift) & 0xFFFF) as f64 / 65536.0;
                    let chance = [unit(32), unit(48), more(0), more(16)];
                    spots[x].add(scene.look(&here, *eye, ray, *time, 1.0 / lens.focal_px, chance));
                }
            }
        }
        for (x, spot) in spots.iter().enumerate() {
            let seed = seed_of(frame, x, y);
            for c in 0..3 {
                let linear = exposure * spot.sum[c] / spot.rays;
                // A soft shoulder keeps bright skies from clipping.
                let toned = if take.plain { linear } else { linear / (1.0 + 0.28 * linear) * 1.12 };
                let encoded = 118.0 + take.contrast * (encode(toned) * 255.0 - 118.0);
                let n = scramble(seed ^ (c as u64 + 1).wrapping_mul(0xA5A5_5A5A_1234));
                let deviation = take.noise * (NOISE.0 + (NOISE.1 - NOISE.0) * toned.clamp(0.0, 1.0).sqrt());
                // Four uniform numbers make a good normal one (Irwin-Hall).
                let normal = (0..4).map(|k| ((n >> (16 * k)) & 0xFFFF) as f32 / 65536.0).sum::<f32>() - 2.0;
                row[3 * x + c] = (encoded + normal * deviation * 1.732).round().clamp(0.0, 255.0) as u8;
            }
        }
    });
    if take.caption {
        burn_caption(&mut bytes, w, h, frame);
    }
    bytes
}

/// Draws a frame counter and marks into a picture, as a camera's display does: bars and blocks in white with a dark
/// edge, always in the same place.
fn burn_caption(bytes: &mut [u8], width: usize, height: usize, frame: u32) {
    let mut block = |left: usize, top: usize, wide: usize, high: usize| {
        for (margin, level) in [(2, 16u8), (0, 235)] {
            for y in top.saturating_sub(margin)..(top + high + margin).min(height) {
                let row = 3 * y * width;
                bytes[row + 3 * left.saturating_sub(margin)..row + 3 * (left + wide + margin).min(width)].fill(level);
            }
        }
    };
    // Words, as far as a tracker is concerned: letters' strokes of various heights.
    for word in 0..9 {
        for stroke in 0..5 {
            let tall = 8 + scramble((word * 5 + stroke) as u64 + 1) as usize % 14;
            block(60 + 46 * word + 8 * stroke, height - 40 - tall, 4, tall);
        }
    }
    // The counter.
    for bit in 0..8 {
        let tall = if frame >> bit & 1 == 1 { 22 } else { 10 };
        block(width - 180 + 14 * bit, 60 - tall, 7, tall);
    }
    // A frame's corners.
    for (left, top) in [(40, 40), (width - 90, 40), (40, height - 44), (width - 90, height - 44)] {
        block(left, top, 50, 4);
    }
}

/// Linear light to display values (IEC 61966-2-1).
fn encode(v: f32) -> f32 {
    if v <= 0.003_130_8 { 12.92 * v.max(0.0) } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trials::TRIALS;

    #[test]
    fn nothing_that_a_column_shows_is_left_out() {
        for take in
            TRIALS.iter().filter(|t| ["wide-round", "whip", "crowd", "rolling-unsteady", "long-lens"].contains(&t.name))
        {
            let scenery = take.scene();
            for frame in (0..take.frames).step_by(23) {
                let lens = take.lens(f64::from(frame));
                for y in (0..take.height).step_by(60).map(f64::from) {
                    let middle = take.row_time(frame, y);
                    let rows = scenery.in_rows(&take.pose(middle), &lens, y, y, middle);
                    for x in (0..take.width).step_by(16).map(f64::from) {
                        let left = (x / TILE as f64).floor() * TILE as f64;
                        let here =
                            scenery.in_columns(&rows, &take.pose(middle), &lens, (left, left + TILE as f64), middle);
                        for time in [middle - 0.5 * take.shutter, middle, middle + 0.5 * take.shutter] {
                            let pose = take.pose(time);
                            let ray = (pose.rotation.inverse() * direction(&lens, x, y)).normalize();
                            let light = |among: &[usize]| {
                                scenery.look(among, pose.centre(), ray, time, 1.0 / lens.focal_px, [0.5; 4])
                            };
                            assert_eq!(light(&here), light(&rows), "{} frame {frame} at {x}, {y}", take.name);
                        }
                    }
                }
            }
        }
    }
}
