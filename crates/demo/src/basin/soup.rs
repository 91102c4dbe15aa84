//! Triangles and what they are put together into: walls, blocks, turned and drawn bodies.

use super::skin::Skin;
use crate::uprights::Upright;
use nalgebra::Vector3;

pub(super) type V = Vector3<f32>;

/// A triangle with what its skin is drawn by.
#[derive(Clone, Copy)]
pub(super) struct Triangle {
    pub at: [V; 3],
    pub normals: [V; 3],
    /// Metres along the skin.
    pub uv: [[f32; 2]; 3],
    pub skin: Skin,
    pub seed: u32,
    /// The flat face that it is a part of; 0 for what is round.
    pub face: u32,
}

/// Triangles, and the upright edges among them.
#[derive(Default)]
pub(super) struct Soup {
    pub triangles: Vec<Triangle>,
    pub uprights: Vec<Upright>,
    faces: u32,
    seeds: u32,
}

/// Turned about Y by so many degrees.
pub(super) fn turned(v: V, deg: f32) -> V {
    let (sin, cos) = deg.to_radians().sin_cos();
    V::new(cos * v.x + sin * v.z, v.y, cos * v.z - sin * v.x)
}

impl Soup {
    /// A number of its own for each body.
    pub fn seed(&mut self) -> u32 {
        self.seeds += 1;
        self.seeds
    }

    /// A flat four-cornered face, corners against the clock as seen from its front; `u` runs from the first corner to the
    /// second, `v` from the first to the last, both from `start`.
    pub fn quad_from(&mut self, c: [V; 4], start: [f32; 2], skin: Skin, seed: u32) {
        self.faces += 1;
        let normal = (c[1] - c[0]).cross(&(c[3] - c[0])).normalize();
        let (u, up) = ((c[1] - c[0]).normalize(), normal.cross(&(c[1] - c[0])).normalize());
        let uv = c.map(|p| [start[0] + (p - c[0]).dot(&u), start[1] + (p - c[0]).dot(&up)]);
        for [i, j, k] in [[0, 1, 2], [0, 2, 3]] {
            self.triangles.push(Triangle {
                at: [c[i], c[j], c[k]],
                normals: [normal; 3],
                uv: [uv[i], uv[j], uv[k]],
                skin,
                seed,
                face: self.faces,
            });
        }
    }

    /// As [`Self::quad_from`] with the first corner at nought.
    pub fn quad(&mut self, c: [V; 4], skin: Skin) {
        let seed = self.seed();
        self.quad_from(c, [0.0; 2], skin, seed);
    }

    /// A block between two corners; `v` is the height on its sides.
    pub fn block(&mut self, low: [f32; 3], high: [f32; 3], skin: Skin) {
        let seed = self.seed();
        let p = |x: usize, y: usize, z: usize| {
            let pick = |k: usize, i: usize| if i == 0 { low[k] } else { high[k] };
            V::new(pick(0, x), pick(1, y), pick(2, z))
        };
        let sides: [([V; 4], [f32; 2]); 5] = [
            ([p(0, 0, 1), p(1, 0, 1), p(1, 1, 1), p(0, 1, 1)], [low[0], low[1]]),
            ([p(1, 0, 0), p(0, 0, 0), p(0, 1, 0), p(1, 1, 0)], [-high[0], low[1]]),
            ([p(1, 0, 1), p(1, 0, 0), p(1, 1, 0), p(1, 1, 1)], [-high[2], low[1]]),
            ([p(0, 0, 0), p(0, 0, 1), p(0, 1, 1), p(0, 1, 0)], [low[2], low[1]]),
            ([p(0, 1, 1), p(1, 1, 1), p(1, 1, 0), p(0, 1, 0)], [low[0], -high[2]]),
        ];
        for (c, start) in sides {
            self.quad_from(c, start, skin, seed);
        }
        self.quad_from([p(0, 0, 0), p(1, 0, 0), p(1, 0, 1), p(0, 0, 1)], [low[0], low[2]], skin, seed);
        if high[1] - low[1] > 1.0 {
            let middle = V::new(0.5 * (low[0] + high[0]), 0.0, 0.5 * (low[2] + high[2]));
            for foot in [p(0, 0, 0), p(1, 0, 0), p(0, 0, 1), p(1, 0, 1)] {
                let out = V::new(foot.x - middle.x, 0.0, foot.z - middle.z).normalize();
                self.uprights.push(Upright {
                    foot: foot.cast(),
                    height: f64::from(high[1] - low[1]),
                    outward: out.cast(),
                });
            }
        }
    }

    /// A smooth sheet over a raster of places, row by row; `columns` places a row.
    pub fn sheet(&mut self, places: &[(V, [f32; 2])], columns: usize, skin: Skin, seed: u32) {
        let rows = places.len() / columns;
        let at = |r: usize, c: usize| places[r.min(rows - 1) * columns + c.min(columns - 1)].0;
        let normal = |r: usize, c: usize| {
            let across = at(r, c + 1) - at(r, c.saturating_sub(1));
            let down = at(r + 1, c) - at(r.saturating_sub(1), c);
            across.cross(&down).try_normalize(1e-12).unwrap_or_else(V::y)
        };
        let normals: Vec<V> = (0..rows * columns).map(|i| normal(i / columns, i % columns)).collect();
        for r in 0..rows.saturating_sub(1) {
            for c in 0..columns - 1 {
                let i = r * columns + c;
                for [a, b, d] in [[i, i + 1, i + columns + 1], [i, i + columns + 1, i + columns]] {
                    self.triangles.push(Triangle {
                        at: [a, b, d].map(|k| places[k].0),
                        normals: [a, b, d].map(|k| normals[k]),
                        uv: [a, b, d].map(|k| places[k].1),
                        skin,
                        seed,
                        face: 0,
                    });
                }
            }
        }
    }

    /// A body turned about the upright through `foot`: pairs of radius and height, from below.
    pub fn turned(&mut self, foot: [f32; 3], profile: &[[f32; 2]], sides: usize, skin: Skin) {
        let seed = self.seed();
        let mut along = 0.0;
        let mut places = Vec::new();
        for (k, [r, y]) in profile.iter().enumerate() {
            if k > 0 {
                along += (r - profile[k - 1][0]).hypot(y - profile[k - 1][1]);
            }
            for s in 0..=sides {
                let angle = s as f32 / sides as f32 * std::f32::consts::TAU;
                let (sin, cos) = angle.sin_cos();
                places.push((V::from(foot) + V::new(r * sin, *y, r * cos), [angle * profile[0][0].max(0.05), along]));
            }
        }
        // Rows run upwards: a sheet's front is then its outside.
        self.sheet(&places, sides + 1, skin, seed);
    }

    /// A round bar along places.
    pub fn bar(&mut self, line: &[V], radius: f32, skin: Skin) {
        let seed = self.seed();
        let sides = 8;
        let mut places = Vec::new();
        let mut along = 0.0;
        for (k, p) in line.iter().enumerate() {
            let (before, after) = (line[k.saturating_sub(1)], line[(k + 1).min(line.len() - 1)]);
            let dir = (after - before).normalize();
            let side = if dir.y.abs() > 0.9 { V::x() } else { V::y() };
            let a = dir.cross(&side).normalize();
            let b = dir.cross(&a);
            along += (p - before).norm();
            for s in 0..=sides {
                let (sin, cos) = (s as f32 / sides as f32 * std::f32::consts::TAU).sin_cos();
                places.push((p + (a * cos + b * sin) * radius, [s as f32 * 0.1, along]));
            }
        }
        self.sheet(&places, sides + 1, skin, seed);
    }

    /// Takes in another soup, turned about Y and moved.
    pub fn take(&mut self, other: Self, to: [f32; 3], deg: f32) {
        let to = V::from(to);
        let (first, seeds) = (self.faces, self.seeds);
        self.triangles.extend(other.triangles.into_iter().map(|t| Triangle {
            at: t.at.map(|p| turned(p, deg) + to),
            normals: t.normals.map(|n| turned(n, deg)),
            seed: t.seed + seeds,
            face: if t.face == 0 { 0 } else { t.face + first },
            ..t
        }));
        self.uprights.extend(other.uprights.into_iter().map(|u| Upright {
            foot: (turned(u.foot.cast(), deg) + to).cast(),
            height: u.height,
            outward: turned(u.outward.cast(), deg).cast(),
        }));
        self.faces += other.faces;
        self.seeds += other.seeds;
    }
}
