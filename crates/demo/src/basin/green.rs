//! What grows: bushes, trees, tufts, and the hills round the basin.

use super::skin::Skin;
use super::soup::{Soup, Triangle, V};
use crate::paint::Colour;
use crate::texture::fractal;

/// Numbers from 0 to 1 that follow from a start alone.
pub(super) struct Chance(pub u64);

impl Chance {
    pub fn unit(&mut self) -> f32 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) & 0xFF_FFFF) as f32 / 16_777_216.0
    }

    pub fn around(&mut self, size: f32) -> f32 {
        (2.0 * self.unit() - 1.0) * size
    }

    fn direction(&mut self) -> V {
        loop {
            let v = V::new(self.around(1.0), self.around(1.0), self.around(1.0));
            if (0.05..=1.0).contains(&v.norm()) {
                return v.normalize();
            }
        }
    }
}

/// A leaf: a rhomb of two triangles that is lit as the clump that it belongs to.
fn leaf(to: &mut Soup, at: V, outward: V, size: f32, colour: Colour, by: &mut Chance) {
    let along = (by.direction() + outward * 0.4).normalize();
    let side = along.cross(&by.direction()).try_normalize(1e-6).unwrap_or_else(V::x);
    let corners = [at - along * size, at + side * (0.42 * size), at + along * size, at - side * (0.42 * size)];
    let normal = (side.cross(&along) * if side.cross(&along).dot(&outward) < 0.0 { -1.0 } else { 1.0 } * 0.55
        + outward)
        .normalize();
    let seed = to.seed();
    for [i, j, k] in [[0, 1, 2], [0, 2, 3]] {
        to.triangles.push(Triangle {
            at: [corners[i], corners[j], corners[k]],
            normals: [normal; 3],
            uv: [[0.0, 0.0], [0.05, 0.0], [0.05, 0.05]],
            skin: Skin::Leaf(colour),
            seed,
            face: 0,
        });
    }
}

/// Leaves over the outer part of a ball that is pressed flat.
fn clump(to: &mut Soup, middle: V, radii: V, count: usize, size: f32, colour: Colour, by: &mut Chance) {
    for _ in 0..count {
        let d = by.direction();
        let depth = 1.0 - 0.45 * by.unit() * by.unit();
        let at = middle + d.component_mul(&radii) * depth;
        leaf(to, at, d, size * (0.7 + 0.6 * by.unit()), colour, by);
    }
}

/// A bush on the ground.
pub(super) fn bush(to: &mut Soup, foot: [f32; 3], radius: f32, seed: u64) {
    let mut by = Chance(seed);
    let colour = [0.055 + 0.03 * by.unit(), 0.105 + 0.035 * by.unit(), 0.030];
    for k in 0..5 {
        let off = V::new(by.around(0.55), 0.0, by.around(0.55)) * radius;
        let r = radius * (0.55 + 0.25 * by.unit());
        let middle = V::from(foot) + off + V::y() * (0.6 * r * (1.0 + 0.2 * k as f32));
        clump(to, middle, V::new(r, 0.8 * r, r), (900.0 * r * r) as usize + 120, 0.045, colour, &mut by);
    }
}

/// A tree with a stem, boughs and clumps of leaves.
pub(super) fn tree(to: &mut Soup, foot: [f32; 3], tall: f32, seed: u64) {
    let mut by = Chance(seed);
    let root = V::from(foot);
    let fork = root + V::new(by.around(0.05), 0.36, by.around(0.05)) * tall;
    let thick = 0.022 * tall;
    to.bar(&[root - V::y() * 0.2, root + (fork - root) * 0.5, fork], thick, Skin::Bark);
    let colour = [0.050 + 0.035 * by.unit(), 0.095 + 0.035 * by.unit(), 0.026];
    for k in 0..11 {
        let turn = 2.4 * k as f32 + by.around(0.4);
        let out = tall * (0.10 + 0.17 * by.unit()) * if k > 7 { 0.5 } else { 1.0 };
        let up = tall * (0.50 + 0.40 * (k as f32 / 10.0) + by.around(0.04));
        let end = root + V::new(out * turn.sin(), up, out * turn.cos());
        to.bar(&[fork, fork + (end - fork) * 0.5 + V::y() * (0.02 * tall), end], 0.32 * thick, Skin::Bark);
        let r = tall * (0.13 + 0.06 * by.unit());
        clump(to, end, V::new(r, 0.72 * r, r), 520, 0.10 + 0.006 * tall, colour, &mut by);
    }
}

/// Blades of grass in a tuft.
pub(super) fn tuft(to: &mut Soup, foot: [f32; 3], tall: f32, seed: u64) {
    let mut by = Chance(seed);
    let colour = [0.085 + 0.09 * by.unit(), 0.125 + 0.03 * by.unit(), 0.035];
    for _ in 0..9 {
        let root = V::from(foot) + V::new(by.around(0.07), 0.0, by.around(0.07));
        let lean = V::new(by.around(0.6), 1.0, by.around(0.6)) * (tall * (0.6 + 0.6 * by.unit()));
        let side = V::new(by.around(1.0), 0.0, by.around(1.0)).try_normalize(1e-3).unwrap_or_else(V::x) * 0.006;
        let seed = to.seed();
        let normal = (V::y() + side * 40.0).normalize();
        to.triangles.push(Triangle {
            at: [root - side, root + side, root + lean],
            normals: [normal; 3],
            uv: [[0.0; 2]; 3],
            skin: Skin::Leaf(colour),
            seed,
            face: 0,
        });
    }
}

/// Where the lookout is, and how high its terrace lies.
pub(super) const LOOKOUT: [f32; 3] = [-150.0, 46.0, 118.0];

/// Height of the hills.
pub(super) fn hill_height(x: f32, z: f32) -> f32 {
    // The basin is an oblong with the quay at its western shore.
    let beyond = |v: f32, low: f32, high: f32| (low - v).max(v - high).max(0.0);
    let away = beyond(x, -62.0, 170.0).hypot(beyond(z, -95.0, 200.0));
    let (fx, fz) = (f64::from(x), f64::from(z));
    let broad = fractal(fx, fz, 620.0, 90.0, 1.0, 81);
    let long = fractal(fx, fz, 2400.0, 500.0, 1.0, 83);
    let rise = 1.0 - (-away / 600.0).exp();
    let grown = 1.0 + (away / 1100.0).min(2.6);
    let h = -2.2 + (1.0 - (-away / 40.0).exp()) * 6.0 + rise * grown * (42.0 + 20.0 * broad + 26.0 * long).max(6.0);
    // The lookout's knoll, level on top.
    let off = (x - LOOKOUT[0]).hypot(z - LOOKOUT[2]);
    let knoll = LOOKOUT[1] - 0.3 - (off - 8.0).max(0.0) * (0.52 + 0.05 * fractal(fx, fz, 14.0, 2.0, 1.0, 85));
    if off < 14.0 { knoll } else { h.max(knoll) }
}

/// The hills, as rings that widen with the distance, and finer ones round the lookout.
pub(super) fn hills(to: &mut Soup) {
    let seed = to.seed();
    let mut knoll = Vec::new();
    for ring in 0..48 {
        for s in 0..=120 {
            let (sin, cos) = (s as f32 / 120.0 * std::f32::consts::TAU).sin_cos();
            let radius = 1.5 * ring as f32;
            let (x, z) = (LOOKOUT[0] + radius * sin, LOOKOUT[2] + radius * cos);
            // Let in a little, so that the coarse rings end below it.
            knoll.push((V::new(x, hill_height(x, z) + if ring < 46 { 0.12 } else { -3.0 }, z), [0.0; 2]));
        }
    }
    to.sheet(&knoll, 121, Skin::Hill, seed);
    const SECTORS: usize = 420;
    let mut places = Vec::new();
    let mut radius = 64.0f32;
    while radius < 5200.0 {
        for s in 0..=SECTORS {
            let (sin, cos) = (s as f32 / SECTORS as f32 * std::f32::consts::TAU).sin_cos();
            let (x, z) = (radius * sin, radius * cos);
            let near = (x - LOOKOUT[0]).hypot(z - LOOKOUT[2]) < 64.0;
            places.push((V::new(x, hill_height(x, z) - if near { 4.0 } else { 0.0 }, z), [0.0; 2]));
        }
        radius *= 1.045;
    }
    let seed = to.seed();
    to.sheet(&places, SECTORS + 1, Skin::Hill, seed);
}

/// Where a tripod stands on the terrace, m.
pub fn lookout_eye() -> [f64; 3] {
    [f64::from(LOOKOUT[0]) + 2.9, f64::from(LOOKOUT[1]) + 1.62, f64::from(LOOKOUT[2]) + 0.4]
}
