//! People who walk or stand: a body of rounded limbs that run into each other, as triangles.

use super::skin::Skin;
use super::soup::{Soup, Triangle, V, turned};
use crate::paint::Colour;

/// Somebody at the basin.
#[derive(Clone, Copy)]
pub(super) struct Person {
    /// Where they are at frame 0, m.
    pub from: [f32; 2],
    /// Which way they go, degrees about Y from +Z.
    pub heading_deg: f32,
    /// m a frame; 0 for who stands.
    pub pace: f32,
    pub tall: f32,
    pub coat: Colour,
    pub legs: Colour,
    pub hair: Colour,
    pub face: Colour,
    /// Whether the coat is long.
    pub long: bool,
    /// Where in their stride they begin, turns.
    pub stride: f32,
}

/// A limb: a ball that grows or shrinks from one place to another, and what it wears.
pub(super) struct Limb {
    from: V,
    to: V,
    radii: [f32; 2],
    part: usize,
}

/// Over how much two limbs run into each other, m.
const BLEND: f32 = 0.045;

impl Limb {
    /// Distance from its skin.
    fn distance(&self, p: V) -> f32 {
        let (pa, ba) = (p - self.from, self.to - self.from);
        let t = (pa.dot(&ba) / ba.norm_squared().max(1e-9)).clamp(0.0, 1.0);
        (pa - ba * t).norm() - (self.radii[0] + (self.radii[1] - self.radii[0]) * t)
    }
}

impl Person {
    /// Where they stand at a time in frames.
    pub fn at(&self, frame: f64) -> V {
        V::new(self.from[0], 0.0, self.from[1]) + turned(V::z(), self.heading_deg) * (self.pace * frame as f32)
    }

    /// Their limbs at a time in frames, as they stand at the origin and look along +Z.
    pub fn limbs(&self, frame: f64) -> Vec<Limb> {
        let k = self.tall / 1.76;
        let walks = self.pace > 0.0;
        // Two steps: the faster, the longer.
        let stride = (0.6 + 0.61 * 25.0 * self.pace) * k;
        let turns = if walks { self.pace * frame as f32 / stride + self.stride } else { 0.0 };
        let swing = if walks { (stride / (1.45 * k)).min(1.2) } else { 0.12 };
        let phase = turns * std::f32::consts::TAU;
        let bob = 0.022 * swing * (2.0 * phase).cos();
        let sway = if walks { 0.0 } else { 0.012 * (frame as f32 * 0.05 + 6.0 * self.stride).sin() };
        let hip = V::new(sway, 0.94 + bob, 0.0);
        let chest = V::new(1.6 * sway, 1.34 + bob, 0.025 * swing);
        let mut limbs = Vec::new();
        let mut limb = |from: V, to: V, radii: [f32; 2], part: usize| {
            limbs.push(Limb { from: from * k, to: to * k, radii: radii.map(|r| r * k), part });
        };
        for side in [-1.0f32, 1.0] {
            let angle = phase + if side > 0.0 { 0.0 } else { std::f32::consts::PI };
            let thigh = 0.44 * swing * angle.sin() - 0.04;
            // The knee gives while the leg comes forward.
            let bend = swing * (0.22 + 0.62 * (angle + 0.9).cos().max(0.0)) + 0.06;
            let down = |a: f32| V::new(0.0, -a.cos(), a.sin());
            let top = hip + V::new(0.095 * side, -0.02, 0.0);
            let knee = top + down(thigh) * 0.44;
            let ankle = knee + down(thigh - bend) * 0.43;
            let flat = 0.35 * (thigh - bend).min(0.0);
            let toe = ankle + V::new(0.02 * side, -0.045 + flat * 0.4, 0.17);
            limb(top, knee, [0.092, 0.066], 1);
            limb(knee, ankle, [0.064, 0.047], 1);
            limb(ankle + V::new(0.0, -0.03, -0.035), toe, [0.046, 0.036], 2);
            let shoulder = chest + V::new(0.185 * side, 0.10, 0.0);
            let lift = -0.42 * swing * angle.sin();
            let elbow = shoulder + V::new(0.055 * side, -0.28 * lift.cos(), 0.28 * lift.sin() - 0.02);
            let fore = lift + 0.22 + 0.25 * swing * (0.5 - 0.5 * angle.sin());
            let wrist = elbow + V::new(0.0, -0.25 * fore.cos(), 0.25 * fore.sin());
            limb(shoulder, elbow, [0.066, 0.052], 0);
            limb(elbow, wrist, [0.052, 0.040], 0);
            limb(wrist, wrist + (wrist - elbow).normalize() * 0.085, [0.034, 0.026], 3);
        }
        // Trunk: broad and shallow, so of two columns each.
        for side in [-1.0f32, 1.0] {
            let off = V::new(0.075 * side, 0.0, 0.0);
            limb(hip + off, chest + off * 1.25, [0.105, 0.115], 0);
            limb(chest + off * 1.25, chest + V::new(0.10 * side, 0.11, -0.01), [0.11, 0.075], 0);
            if self.long {
                limb(hip + off, hip + off * 1.2 + V::new(0.0, -0.30, -0.01), [0.125, 0.135], 0);
            } else {
                limb(hip + off * 0.9, hip + off * 1.05 + V::new(0.0, -0.15, 0.0), [0.118, 0.115], 0);
            }
        }
        let neck = chest + V::new(0.0, 0.19, 0.01);
        let head = neck + V::new(0.0, 0.15, 0.025);
        limb(neck, neck + V::new(0.0, 0.07, 0.01), [0.052, 0.050], 3);
        limb(head + V::new(0.0, -0.045, 0.028), head + V::new(0.0, 0.03, 0.012), [0.060, 0.082], 3);
        limb(head + V::new(0.0, -0.01, 0.10), head + V::new(0.0, -0.015, 0.105), [0.012, 0.014], 3);
        limb(head + V::new(0.0, -0.025, -0.035), head + V::new(0.0, 0.055, -0.004), [0.074, 0.092], 4);
        limbs
    }

    /// What they wear at a place of their body.
    pub fn worn(&self, limbs: &[Limb], frame: f64, at: V) -> Colour {
        let p = turned(at - self.at(frame), -self.heading_deg);
        let near = |l: &&Limb| l.distance(p);
        let Some(limb) = limbs.iter().min_by(|a, b| near(a).total_cmp(&near(b))) else { return self.coat };
        if limb.part < 3 {
            return self.wears(limb.part);
        }
        // Eyes and brows: the last limb is the hair, which tells where the head is.
        let head = limbs[limbs.len() - 1].from;
        let q = (p - head) * (1.76 / self.tall);
        if limb.part == 3 && q.z > 0.09 && q.y > -0.10 {
            let side = (q.x.abs() - 0.031) / 0.016;
            let eye = side.powi(2) + ((q.y - 0.018) / 0.009).powi(2) < 1.0;
            let brow = side.powi(2) * 0.6 + ((q.y - 0.040) / 0.006).powi(2) < 1.0;
            let mouth = (q.x / 0.024).powi(2) + ((q.y + 0.062) / 0.005).powi(2) < 1.0;
            if eye || brow {
                return self.hair.map(|c| 0.6 * c + 0.012);
            }
            if mouth {
                return [0.7 * self.face[0], 0.5 * self.face[1], 0.5 * self.face[2]];
            }
        }
        self.wears(limb.part)
    }

    fn wears(&self, part: usize) -> Colour {
        match part {
            0 => self.coat,
            1 => self.legs,
            2 => [0.03, 0.028, 0.03],
            3 => self.face,
            _ => self.hair,
        }
    }

    /// Their body at a time in frames, cut on a raster of cells of `cell` metres (surface nets after Gibson, "Constrained elastic surface nets", 1998).
    pub fn body(&self, frame: f64, seed: u32, cell: f32) -> Soup {
        let limbs = self.limbs(frame);
        // Cloth and skin do not run into each other; limbs that wear the same do.
        let field = |p: V| -> (f32, usize) {
            let mut parts = [f32::INFINITY; 5];
            for l in &limbs {
                let d = l.distance(p);
                let own = &mut parts[l.part];
                let h = (0.5 + 0.5 * (*own - d) / BLEND).clamp(0.0, 1.0);
                *own = if own.is_finite() { *own + (d - *own) * h - BLEND * h * (1.0 - h) } else { d };
            }
            (0..5).map(|k| (parts[k], k)).min_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or((1.0, 0))
        };
        let low = V::new(-0.5, -0.05, -0.62);
        let size = [1.0f32, 2.0, 1.24].map(|s| (s / cell).ceil() as usize + 1);
        let at = |x: usize, y: usize, z: usize| low + V::new(x as f32, y as f32, z as f32) * cell;
        let index = |x: usize, y: usize, z: usize| (z * size[1] + y) * size[0] + x;
        let mut values = vec![1.0f32; size[0] * size[1] * size[2]];
        // What is far from the skin is known from one ask for a block of cells.
        const BLOCK: usize = 4;
        for z0 in (0..size[2]).step_by(BLOCK) {
            for y0 in (0..size[1]).step_by(BLOCK) {
                for x0 in (0..size[0]).step_by(BLOCK) {
                    let middle = at(x0, y0, z0) + V::repeat(0.5 * cell * (BLOCK - 1) as f32);
                    let d = field(middle).0;
                    let far = d.abs() > 2.2 * BLOCK as f32 * cell;
                    for z in z0..(z0 + BLOCK).min(size[2]) {
                        for y in y0..(y0 + BLOCK).min(size[1]) {
                            for x in x0..(x0 + BLOCK).min(size[0]) {
                                values[index(x, y, z)] = if far { d } else { field(at(x, y, z)).0 };
                            }
                        }
                    }
                }
            }
        }
        let mut corners: Vec<(V, V, usize)> = Vec::new();
        let mut of_cell = vec![u32::MAX; values.len()];
        for z in 0..size[2] - 1 {
            for y in 0..size[1] - 1 {
                for x in 0..size[0] - 1 {
                    let mut sum = V::zeros();
                    let mut count = 0.0;
                    let corner = |i: usize| (x + (i & 1), y + (i >> 1 & 1), z + (i >> 2));
                    for (i, j) in
                        [(0, 1), (2, 3), (4, 5), (6, 7), (0, 2), (1, 3), (4, 6), (5, 7), (0, 4), (1, 5), (2, 6), (3, 7)]
                    {
                        let (a, b) = (corner(i), corner(j));
                        let (va, vb) = (values[index(a.0, a.1, a.2)], values[index(b.0, b.1, b.2)]);
                        if (va < 0.0) != (vb < 0.0) {
                            let t = va / (va - vb);
                            sum += at(a.0, a.1, a.2) * (1.0 - t) + at(b.0, b.1, b.2) * t;
                            count += 1.0;
                        }
                    }
                    if count > 0.0 {
                        let mut p = sum / count;
                        let e = 0.006;
                        let slope = |p: V| {
                            V::from_fn(|k, _| {
                                let mut d = V::zeros();
                                d[k] = e;
                                field(p + d).0 - field(p - d).0
                            })
                        };
                        let n = slope(p).try_normalize(1e-9).unwrap_or_else(V::y);
                        let (d, part) = field(p);
                        p -= n * d.clamp(-cell, cell);
                        of_cell[index(x, y, z)] = corners.len() as u32;
                        corners.push((p, n, part));
                    }
                }
            }
        }
        let mut soup = Soup::default();
        let here = self.at(frame);
        let out = |i: u32| {
            let (p, n, part) = corners[i as usize];
            (turned(p, self.heading_deg) + here, turned(n, self.heading_deg), part, [p.x + p.z, p.y])
        };
        let mut face = |c: [u32; 4]| {
            if c.contains(&u32::MAX) {
                return;
            }
            for [i, j, k] in [[0, 1, 2], [0, 2, 3]] {
                let v = [out(c[i]), out(c[j]), out(c[k])];
                soup.triangles.push(Triangle {
                    at: v.map(|v| v.0),
                    normals: v.map(|v| v.1),
                    uv: v.map(|v| v.3),
                    skin: Skin::Worn(self.wears(v[0].2)),
                    seed,
                    face: 0,
                });
            }
        };
        for z in 1..size[2] - 1 {
            for y in 1..size[1] - 1 {
                for x in 1..size[0] - 1 {
                    let inside = values[index(x, y, z)] < 0.0;
                    let c = |dx: usize, dy: usize, dz: usize| of_cell[index(x - dx, y - dy, z - dz)];
                    if inside != (values[index(x + 1, y, z)] < 0.0) {
                        face([c(0, 0, 0), c(0, 1, 0), c(0, 1, 1), c(0, 0, 1)]);
                    }
                    if inside != (values[index(x, y + 1, z)] < 0.0) {
                        face([c(0, 0, 0), c(1, 0, 0), c(1, 0, 1), c(0, 0, 1)]);
                    }
                    if inside != (values[index(x, y, z + 1)] < 0.0) {
                        face([c(0, 0, 0), c(1, 0, 0), c(1, 1, 0), c(0, 1, 0)]);
                    }
                }
            }
        }
        soup
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_body_is_as_tall_as_said_stands_on_the_ground_and_is_closed() {
        let person = Person {
            from: [2.0, -3.0],
            heading_deg: 30.0,
            pace: 0.05,
            tall: 1.8,
            coat: [0.4; 3],
            legs: [0.1; 3],
            hair: [0.05; 3],
            face: [0.4; 3],
            long: false,
            stride: 0.2,
        };
        for frame in [0.0, 7.0, 19.0] {
            let body = person.body(frame, 1, 0.03);
            let heights = body.triangles.iter().flat_map(|t| t.at.map(|p| p.y));
            let (low, high) = heights.fold((9.0f32, -9.0f32), |(l, h), y| (l.min(y), h.max(y)));
            assert!((high - 1.8).abs() < 0.12 && low.abs() < 0.09, "{low} {high}");
            // Every edge belongs to two triangles.
            let mut edges = std::collections::HashMap::new();
            for t in &body.triangles {
                let key = |p: V| [p.x, p.y, p.z].map(f32::to_bits);
                for (a, b) in [(0, 1), (1, 2), (2, 0)] {
                    let (a, b) = (key(t.at[a]), key(t.at[b]));
                    *edges.entry(if a < b { (a, b) } else { (b, a) }).or_insert(0) += 1;
                }
            }
            assert!(edges.values().filter(|n| **n != 2).count() * 200 < edges.len());
        }
    }
}
