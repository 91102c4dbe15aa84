//! The basin's light: a sky with clouds, a sun with an edge, and what both leave where the sky is half hidden.

use crate::paint::Colour;
use crate::texture::fractal;
use nalgebra::Vector3;
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

type V = Vector3<f32>;

/// Towards the sun.
pub(super) const SUN: [f32; 3] = [0.42, 0.72, 0.55];
/// Of the sun on what faces it.
pub(super) const SUNLIGHT: Colour = [1.80, 1.60, 1.30];
/// Half the width of the sun as the basin's haze widens it, radians.
pub(super) const SUN_HALF: f32 = 0.011;
/// Of the whole sky on what looks up, on average.
const SKYLIGHT: Colour = [0.33, 0.41, 0.51];
/// How far into the air what is seen takes on its colour: half-way after some 1200 m.
const HAZE_M: f32 = 1700.0;

/// Which sky is over the basin.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Air {
    /// Blue, with light clouds.
    Fair,
    /// Pale and plain.
    Pale,
}

/// What is seen of the sky along a ray that looks up.
pub(super) fn sky(air: Air, ray: V) -> Colour {
    let up = ray.y.max(0.0);
    let toward = ray.dot(&V::from(SUN).normalize()).max(0.0);
    let fade = (1.0 - up).powi(5);
    let deep: Colour = match air {
        Air::Fair => [0.20, 0.34, 0.62],
        Air::Pale => [0.62, 0.68, 0.74],
    };
    let rim: Colour = match air {
        Air::Fair => [0.74, 0.80, 0.86],
        Air::Pale => [0.84, 0.86, 0.87],
    };
    let glow = 0.22 * toward.powi(6) + 0.5 * toward.powi(60);
    let mut c: Colour = std::array::from_fn(|k| deep[k] + (rim[k] - deep[k]) * fade + glow * [1.0, 0.9, 0.72][k]);
    // Clouds on a level far up, that crowd towards the horizon and thin out at it.
    let (x, z) = (f64::from(ray.x / (up + 0.09)), f64::from(ray.z / (up + 0.09)));
    let footprint = 0.004 / f64::from(up + 0.04);
    let warp = 0.10 * f64::from(fractal(x + 3.0, z, 0.8, 0.1, footprint, 91));
    let puff =
        0.8 * fractal(x + warp, z - warp, 1.3, 0.012, footprint, 93) + 0.6 * fractal(x, z, 5.0, 1.0, footprint, 95);
    let (least, most) = if air == Air::Fair { (0.05, 0.9) } else { (0.9, 0.15) };
    let cover = ((puff - least) / 1.0).clamp(0.0, 1.0);
    let cover = cover * cover * (3.0 - 2.0 * cover) * most * (up * 14.0).min(1.0);
    let inner = 0.93 - 0.07 * ((puff - 0.9) / 1.2).clamp(0.0, 1.0);
    let cloud = [inner + 0.3 * glow, inner + 0.01 + 0.28 * glow, inner + 0.045 + 0.22 * glow];
    (0..3).for_each(|k| c[k] += (cloud[k] - c[k]) * cover);
    c
}

/// What `colour` becomes through so many metres of air.
pub(super) fn through_air(colour: Colour, distance: f32, ray: V) -> Colour {
    let part = 1.0 - (-distance / HAZE_M).exp();
    let toward = ray.dot(&V::from(SUN).normalize()).max(0.0);
    let air: Colour = [0.58 + 0.2 * toward.powi(4), 0.66 + 0.15 * toward.powi(4), 0.76 + 0.05 * toward.powi(4)];
    std::array::from_fn(|k| colour[k] + (air[k] - colour[k]) * part)
}

/// The open sky along a ray, as far as light goes: smooth, so that few rays tell it.
pub(super) fn open_sky(ray: V) -> Colour {
    let toward = ray.dot(&V::from(SUN).normalize()).max(0.0);
    let k = 0.8 + 0.25 * (1.0 - ray.y.max(0.0)).powi(3) + 0.9 * toward.powi(8);
    SKYLIGHT.map(|c| c * k)
}

/// Rays each way of the raster that asks what light comes from around.
const ASKED: usize = 10;
const SHARDS: usize = 256;
/// The smallest cell for which light is kept, m.
const CELL_M: f32 = 0.08;

/// Light from all around by place and side, worked out where it is first asked for (irradiance caching after Ward,
/// Rubinstein and Clear, "A ray tracing solution for diffuse interreflection", 1988, on a plain raster).
pub(super) struct Around {
    kept: Vec<Mutex<HashMap<u64, Colour>>>,
}

impl Default for Around {
    fn default() -> Self {
        Self { kept: (0..SHARDS).map(|_| Mutex::default()).collect() }
    }
}

fn scrambled(mut h: u64) -> u64 {
    h ^= h >> 30;
    h = h.wrapping_mul(0xBF58_476D_1CE4_E5B9);
    h ^= h >> 27;
    h.wrapping_mul(0x94D0_49BB_1331_11EB)
}

/// Two directions across a third.
pub(super) fn across(n: V) -> (V, V) {
    let a = if n.x.abs() < 0.7 { V::x() } else { V::z() };
    let u = n.cross(&a).normalize();
    (u, n.cross(&u))
}

impl Around {
    /// Light that reaches a place of a surface that looks along `normal`, as if all of the hemisphere sent what `arriving`
    /// says of a ray. `stray` are two numbers from 0 to 1 that let neighbours share; `footprint`, m, how finely.
    pub fn at(&self, at: V, normal: V, footprint: f32, stray: [f32; 2], arriving: impl Fn(V, V) -> Colour) -> Colour {
        let level = (footprint * 2.5 / CELL_M).max(1.0).log2().ceil().min(12.0);
        let size = CELL_M * level.exp2();
        let (u, v) = across(normal);
        let place = at + (u * (stray[0] - 0.5) + v * (stray[1] - 0.5)) * size;
        let axis = normal.iamax() as u64 * 2 + u64::from(normal[normal.iamax()] > 0.0);
        let lean = ((normal.y + 1.0) * 2.49) as u64;
        let cell = |v: f32| (f64::from(v / size).floor() as i64 & 0xF_FFFF) as u64;
        let key = cell(place.x) | cell(place.y) << 20 | cell(place.z) << 40;
        let key = scrambled(key) ^ scrambled(axis | lean << 4 | (level as u64) << 8 | 1 << 20);
        let shard = &self.kept[(key >> 7) as usize % SHARDS];
        if let Some(c) = shard.lock().unwrap_or_else(PoisonError::into_inner).get(&key) {
            return *c;
        }
        let from = at + normal * 3e-3;
        let mut sum = [0.0f32; 3];
        for i in 0..ASKED * ASKED {
            let random = scrambled(key ^ (i as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15));
            let unit = |shift: u32| ((random >> shift) & 0xFFFF) as f32 / 65536.0;
            let a = ((i % ASKED) as f32 + unit(0)) / ASKED as f32;
            let b = ((i / ASKED) as f32 + unit(16)) / ASKED as f32;
            // As a matt surface weighs them (Malley's method).
            let (sin, cos) = (a * std::f32::consts::TAU).sin_cos();
            let ray = (u * cos + v * sin) * b.sqrt() + normal * (1.0 - b).max(1e-4).sqrt();
            let light = arriving(from, ray);
            (0..3).for_each(|k| sum[k] += light[k]);
        }
        let light = sum.map(|v| v / (ASKED * ASKED) as f32);
        shard.lock().unwrap_or_else(PoisonError::into_inner).insert(key, light);
        light
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_the_sky_gives_half_the_light() {
        let around = Around::default();
        let half = |_: V, ray: V| if ray.x > 0.0 { [1.0; 3] } else { [0.0; 3] };
        let light = around.at(V::zeros(), V::y(), 0.01, [0.5; 2], half);
        assert!((light[0] - 0.5).abs() < 0.04, "{light:?}");
        // Kept: the second answer does not ask again.
        assert_eq!(around.at(V::zeros(), V::y(), 0.01, [0.5; 2], |_, _| [9.0; 3]), light);
    }
}
