//! What the basin's surfaces look like: colour, gloss and relief, by metres along them.

use crate::library::noise::mix;
use crate::paint::Colour;
use crate::texture::{board_tone, boards, chance, fractal, value};

/// What a body is made of.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Skin {
    /// The level ground, by where it lies in the world.
    Ground,
    /// Lapped boards along `u`, painted.
    Lapped(Colour),
    /// Upright planks with rails.
    Planks(Colour),
    /// Ribbed iron; the ribs run along `v`.
    Ribbed(Colour),
    /// Bricks in running bond, limewashed at the foot.
    Brick,
    /// Large cut stones.
    Ashlar,
    Concrete,
    /// Smooth and painted; with its gloss.
    Painted(Colour, f32),
    /// Rough wood along `u`.
    Wood(Colour),
    Iron,
    Glass,
    Rope,
    Leaf(Colour),
    Bark,
    /// Woven; light shines through it.
    Cloth(Colour),
    /// Clothes and faces.
    Worn(Colour),
    /// A wooded hill or meadow, by where it lies in the world.
    Hill,
    Water,
}

/// How a place of a surface gives light back.
#[derive(Clone, Copy)]
pub(super) struct Look {
    pub colour: Colour,
    /// Part that is mirrored when looked at straight; 0 for what is matt.
    pub gloss: f32,
    /// How the surface rises along `u` and along `v`.
    pub rise: [f32; 2],
    /// Part of the light that comes through from behind.
    pub through: f32,
}

fn matt(colour: Colour) -> Look {
    Look { colour: colour.map(|c| c.max(0.004)), gloss: 0.0, rise: [0.0; 2], through: 0.0 }
}

fn times(c: Colour, k: f32) -> Colour {
    c.map(|v| v * k.max(0.02))
}

fn step(low: f32, high: f32, v: f32) -> f32 {
    let t = ((v - low) / (high - low)).clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

/// How a height rises each way, when it is seen that finely at all.
fn relief(at: [f64; 2], fine: f64, depth: f32, footprint: f64, height: impl Fn(f64, f64) -> f32) -> [f32; 2] {
    let fade = ((fine / footprint.max(1e-6) - 0.7) / 1.3).clamp(0.0, 1.0) as f32;
    if fade <= 0.0 {
        return [0.0; 2];
    }
    let d = 0.5 * fine;
    let here = height(at[0], at[1]);
    let k = fade * depth / d as f32;
    [(height(at[0] + d, at[1]) - here) * k, (height(at[0], at[1] + d) - here) * k]
}

/// The distance to the nearest of scattered seeds and to the second, in cells (Worley, "A cellular texture basis
/// function", 1996), and the number of the nearest.
fn cells(x: f64, y: f64, seed: u64) -> (f32, f32, f32) {
    let (cx, cy) = (x.floor(), y.floor());
    let (mut first, mut second, mut own) = (9.0f32, 9.0f32, 0.0);
    for dx in -1..=1 {
        for dy in -1..=1 {
            let (ix, iy) = (cx + f64::from(dx), cy + f64::from(dy));
            let sx = ix + f64::from(chance(ix, iy, seed));
            let sy = iy + f64::from(chance(ix, iy, seed + 1));
            let d = ((sx - x) * (sx - x) + (sy - y) * (sy - y)) as f32;
            if d < first {
                second = first;
                first = d;
                own = chance(ix, iy, seed + 2);
            } else if d < second {
                second = d;
            }
        }
    }
    (first.sqrt(), second.sqrt(), own)
}

/// Stones that lie loose, of so many metres: their tone, and how they rise.
fn loose(u: f64, v: f64, size: f64, depth: f32, footprint: f64, seed: u64) -> (f32, [f32; 2]) {
    let fade = ((size / footprint.max(1e-6) - 1.0) / 2.0).clamp(0.0, 1.0) as f32;
    if fade <= 0.0 {
        return (0.0, [0.0; 2]);
    }
    let (a, b, tone) = cells(u / size, v / size, seed);
    let seam = step(0.0, 0.35, b - a);
    let rise = relief([u, v], 0.25 * size, depth, footprint, |x, y| -cells(x / size, y / size, seed).0);
    (fade * ((tone - 0.5) * 0.9 - 0.45 * (1.0 - seam)), rise)
}

/// What a skin looks like at a place: metres along it, metres in the world, and the width of what a ray sees of it.
pub(super) fn look(skin: Skin, seed: u32, [u, v]: [f64; 2], world: [f64; 3], footprint: f64, frame: f64) -> Look {
    let s = 1000 + 31 * u64::from(seed);
    let grain = fractal(u, v, 0.5, 0.01, footprint, s);
    match skin {
        Skin::Ground => ground(world[0], world[2], footprint),
        Skin::Lapped(c) => lapped(c, u, v, s, footprint),
        Skin::Planks(c) => planks(c, u, v, s, footprint),
        Skin::Ribbed(c) => ribbed(c, u, v, s, footprint),
        Skin::Brick => brick(u, v, s, footprint),
        Skin::Ashlar => {
            let course = (v / 0.46).floor();
            let shift = 0.7 * f64::from(value(course * 3.7 + 0.5, 0.5, s));
            let stone = board_tone(v, u + shift, 0.46, 1.1, s) - 0.5;
            let seams = boards(v, 0.46, 0.022, footprint) * boards(u + shift + course * 0.37, 1.1, 0.022, footprint);
            let stain = fractal(u * 2.0, v * 0.5, 1.6, 0.04, footprint, s + 3);
            let weed = step(-0.35, -0.95, world[1] as f32);
            let c = mix([0.33, 0.31, 0.27], [0.07, 0.085, 0.04], 0.85 * weed);
            let c = times(c, (1.0 + 0.4 * stone + 0.18 * stain + 0.1 * grain) * (0.45 + 0.55 * seams));
            let rise = relief([u, v], 0.02, 0.006, footprint, |x, y| {
                boards(y, 0.46, 0.03, footprint) + 0.3 * fractal(x, y, 0.2, 0.03, footprint, s + 5)
            });
            Look { rise, gloss: 0.03 * weed, ..matt(c) }
        }
        Skin::Concrete => concrete(u, v, s, footprint),
        Skin::Painted(c, gloss) => {
            let worn = fractal(u, v, 0.7, 0.03, footprint, s + 1);
            let chip = if gloss < 0.07 { step(1.25, 1.5, fractal(u, v, 0.24, 0.012, footprint, s + 2)) } else { 0.0 };
            let c = mix(times(c, 1.0 + 0.05 * worn + 0.03 * grain), [0.16, 0.13, 0.11], 0.6 * chip);
            Look { gloss: gloss * (1.0 - chip), ..matt(c) }
        }
        Skin::Wood(c) => {
            let fibre = fractal(u * 0.6, v * 7.0, 0.4, 0.012, footprint * 3.0, s + 1);
            let knot = step(0.80, 0.92, value(u * 1.7, v * 7.0, s + 2));
            let check = step(1.3, 1.6, fractal(u * 0.5, v * 9.0, 0.5, 0.05, footprint * 3.0, s + 4));
            let c = times(c, 1.0 + 0.20 * fibre + 0.10 * grain - 0.35 * knot - 0.4 * check);
            let rise =
                relief([u, v], 0.012, 0.003, footprint, |x, y| fractal(x * 0.6, y * 7.0, 0.4, 0.05, footprint, s + 1));
            Look { rise, ..matt(c) }
        }
        Skin::Iron => {
            let rust = step(0.2, 1.2, fractal(u, v, 0.3, 0.01, footprint, s + 1));
            let c = mix([0.045, 0.047, 0.05], [0.15, 0.062, 0.028], 0.7 * rust);
            Look { gloss: 0.06 * (1.0 - rust), ..matt(times(c, 1.0 + 0.2 * grain)) }
        }
        Skin::Glass => {
            let dust = 0.5 + 0.5 * fractal(u, v, 0.5, 0.02, footprint, s);
            Look { gloss: 0.55, rise: [0.004 * grain, 0.004 * dust], ..matt(times([0.020, 0.024, 0.026], 1.0 + dust)) }
        }
        Skin::Rope => {
            let strand = if footprint < 0.02 { ((u + v) * 190.0).sin() as f32 } else { 0.0 };
            matt(times([0.42, 0.36, 0.25], 1.0 + 0.25 * strand + 0.15 * grain))
        }
        Skin::Leaf(c) => {
            let tone = value(f64::from(seed) * 1.37, u * 9.0, 5) - 0.5;
            Look { through: 0.45, gloss: 0.02, ..matt(times(c, 1.0 + 0.7 * tone)) }
        }
        Skin::Bark => {
            let ridge = fractal(u * 6.0, v, 0.5, 0.03, footprint, s + 1);
            matt(times([0.13, 0.10, 0.075], 1.0 + 0.35 * ridge))
        }
        Skin::Cloth(c) => {
            let weave = fractal(u, v, 0.05, 0.006, footprint, s + 1);
            Look { through: 0.5, ..matt(times(c, 1.0 + 0.06 * weave)) }
        }
        Skin::Worn(c) => {
            let fold = |x: f64, y: f64| fractal(x * 1.5, y * 0.8, 0.22, 0.04, footprint, s + 2);
            let rise = relief([u, v], 0.03, 0.010, footprint, fold);
            Look { rise, ..matt(times(c, 1.0 + 0.04 * fold(u, v) + 0.04 * grain)) }
        }
        Skin::Hill => hill(world, footprint),
        Skin::Water => {
            let t = frame * 0.04;
            let height = |x: f64, z: f64| {
                fractal(x + 0.5 * t, 0.6 * z - 0.8 * t, 2.2, 0.10, footprint, 31)
                    + 0.6 * fractal(x - 0.9 * t, z + 0.4 * t, 0.8, 0.07, footprint, 47)
            };
            let rise = relief([world[0], world[2]], 0.12, 0.016, 0.35 * footprint, height);
            let deep = fractal(world[0], world[2], 14.0, 1.5, footprint, 33);
            Look { gloss: 0.021, rise, ..matt(times([0.020, 0.038, 0.036], 1.0 + 0.2 * deep)) }
        }
    }
}

fn lapped(c: Colour, u: f64, v: f64, s: u64, footprint: f64) -> Look {
    const LAP: f64 = 0.16;
    let row = (v / LAP).floor();
    let part = (v / LAP - row) as f32;
    let tone = board_tone(v, u, LAP, 2.9, s) - 0.5;
    let seen = ((LAP / footprint.max(1e-6) - 1.0) / 2.0).clamp(0.0, 1.0) as f32;
    let joint = {
        let shift = f64::from(value(row * 2.3 + 0.5, 0.5, s + 1)) * 2.9;
        boards(u + shift, 2.9, 0.006, footprint)
    };
    // Each board throws a line of shadow on the one below it.
    let shade = 1.0 - seen * 0.62 * step(0.84, 0.97, part);
    let fibre = fractal(u * 0.5, v * 6.0, 0.4, 0.012, footprint * 3.0, s + 2);
    let damp = step(0.75, 0.0, v as f32) * (0.5 + 0.4 * fractal(u, v, 0.8, 0.05, footprint, s + 3));
    let flaked = step(0.95, 1.35, fractal(u * 0.8, v * 1.6, 0.5, 0.015, footprint, s + 4) + 0.5 * damp);
    let painted = times(c, 1.0 + 0.16 * tone + 0.05 * fibre);
    let bare = times([0.30, 0.26, 0.21], 1.0 + 0.25 * fibre);
    let run = step(0.6, 1.6, fractal(u * 3.0, v * 0.25, 0.5, 0.05, footprint, s + 6));
    let c = mix(painted, bare, 0.75 * flaked);
    let c = mix(c, [0.10, 0.095, 0.075], 0.55 * damp + 0.18 * run);
    let rise = relief([u, v], 0.012, 0.0025, footprint, |x, y| fractal(x * 0.5, y * 6.0, 0.4, 0.03, footprint, s + 2));
    Look {
        rise: [rise[0], rise[1] + 0.10 * seen],
        gloss: 0.012 * (1.0 - flaked),
        ..matt(times(c, shade * (0.55 + 0.45 * joint)))
    }
}

fn planks(c: Colour, u: f64, v: f64, s: u64, footprint: f64) -> Look {
    let tone = board_tone(u, v, 0.14, 9.0, s) - 0.5;
    let gap = boards(u, 0.14, 0.010, footprint);
    let fibre = fractal(u * 6.0, v * 0.5, 0.4, 0.012, footprint * 3.0, s + 2);
    let worn = step(0.9, 1.4, fractal(u * 1.6, v * 0.7, 0.6, 0.015, footprint, s + 4) + 0.5 * step(0.5, 0.0, v as f32));
    let c = mix(times(c, 1.0 + 0.22 * tone + 0.07 * fibre), [0.25, 0.21, 0.17], 0.7 * worn);
    let rise = relief([u, v], 0.012, 0.006, footprint, |x, _| boards(x, 0.14, 0.014, footprint));
    Look { rise, ..matt(times(c, 0.30 + 0.70 * gap)) }
}

fn ribbed(c: Colour, u: f64, v: f64, s: u64, footprint: f64) -> Look {
    const RIB: f64 = 0.076;
    let seen = ((RIB / footprint.max(1e-6) - 1.2) / 1.5).clamp(0.0, 1.0) as f32;
    let wave = (u * std::f64::consts::TAU / RIB).cos() as f32;
    let sheet = board_tone(u, v, 0.76, 2.4, s) - 0.5;
    let lap = boards(v + 0.3, 1.7, 0.018, footprint);
    let streak = fractal(u * 2.2, v * 0.3, 0.8, 0.03, footprint, s + 2);
    let rust = step(0.45, 1.5, streak + 0.6 * (1.0 - lap) + 0.5 * fractal(u, v, 1.8, 0.05, footprint, s + 3));
    let c = mix(times(c, 1.0 + 0.16 * sheet + 0.05 * streak), [0.21, 0.095, 0.045], 0.75 * rust);
    let moss = step(1.0, 1.7, fractal(u, v, 1.1, 0.04, footprint, s + 5));
    let c = mix(c, [0.10, 0.115, 0.05], 0.6 * moss);
    Look {
        rise: [0.55 * seen * wave, 0.0],
        gloss: 0.05 * (1.0 - rust) * (1.0 - moss),
        ..matt(times(c, 0.7 + 0.3 * lap))
    }
}

fn brick(u: f64, v: f64, s: u64, footprint: f64) -> Look {
    const LONG: f64 = 0.225;
    const HIGH: f64 = 0.075;
    let row = (v / HIGH).floor();
    let shift = if row as i64 % 2 == 0 { 0.0 } else { 0.5 * LONG };
    let wander = 0.004 * f64::from(fractal(u, v, 0.3, 0.05, footprint, s + 8));
    let joints = |x: f64, y: f64| boards(x, LONG, 0.009, footprint) * boards(y, HIGH, 0.009, footprint);
    let joint = joints(u + shift + wander, v + wander);
    let own = board_tone(v, u + shift, HIGH, LONG, s);
    let grain = fractal(u, v, 0.09, 0.006, footprint, s + 1);
    let clay = mix([0.34, 0.125, 0.075], [0.44, 0.21, 0.125], own);
    let clay = if own > 0.93 {
        [0.13, 0.075, 0.065]
    } else if own < 0.05 {
        [0.47, 0.31, 0.20]
    } else {
        clay
    };
    let wide = fractal(u, v, 3.2, 0.15, footprint, s + 2);
    let mortar = times([0.42, 0.39, 0.34], 1.0 + 0.12 * grain);
    let mut c = mix(mortar, times(clay, 1.0 + 0.16 * grain), joint);
    c = times(c, 1.0 + 0.10 * wide);
    // Limewash to the height of a shoulder, worn through; soot above, damp below, runs under the eaves.
    let edge = 1.34 + 0.02 * f64::from(fractal(u, 0.5, 0.4, 0.02, footprint, s + 3));
    let wash = step(0.0, 0.012, (edge - v) as f32);
    let lost = step(0.35, 0.95, fractal(u, v, 0.9, 0.012, footprint, s + 4) + 0.35 * step(0.5, 0.0, v as f32));
    c = mix(
        c,
        times([0.63, 0.61, 0.55], 1.0 + 0.05 * grain + 0.06 * wide),
        wash * (1.0 - 0.92 * lost) * (0.86 + 0.14 * joint),
    );
    let salt = step(0.9, 1.6, fractal(u, v, 1.3, 0.03, footprint, s + 5));
    c = mix(c, [0.52, 0.49, 0.45], 0.35 * salt * (1.0 - wash));
    let damp = step(0.55, 0.0, v as f32 + 0.22 * fractal(u, v, 0.9, 0.06, footprint, s + 6));
    c = mix(c, [0.085, 0.085, 0.06], 0.6 * damp);
    let run = step(0.55, 1.5, fractal(u * 2.6, v * 0.22, 0.7, 0.04, footprint, s + 7));
    c = mix(c, [0.10, 0.085, 0.075], 0.30 * run);
    let rise = relief([u, v], 0.008, 0.004, footprint, |x, y| {
        joints(x + shift, y) + 0.35 * fractal(x, y, 0.05, 0.012, footprint, s + 1)
    });
    Look { rise, ..matt(c) }
}

fn concrete(u: f64, v: f64, s: u64, footprint: f64) -> Look {
    let wide = fractal(u, v, 2.6, 0.2, footprint, s + 2);
    let fine = fractal(u, v, 0.2, 0.008, footprint, s + 3);
    let crack = {
        let (x, y) = (
            u + 0.25 * f64::from(fractal(u, v, 0.8, 0.05, footprint, s + 4)),
            v + 0.2 * f64::from(fractal(v, u, 0.8, 0.05, footprint, s + 5)),
        );
        let (a, b, _) = cells(x / 2.3, y / 2.3, s + 6);
        let width = (0.006f64.max(0.7 * footprint) / 2.3) as f32;
        (1.0 - (b - a) / (2.0 * width)).clamp(0.0, 1.0) * (0.006 / 0.006f64.max(0.7 * footprint)) as f32
    };
    let c = times([0.37, 0.36, 0.33], 1.0 + 0.10 * wide + 0.09 * fine);
    let stain = step(0.7, 1.5, fractal(u, v, 1.2, 0.03, footprint, s + 7));
    let c = mix(mix(c, [0.13, 0.115, 0.10], 0.45 * stain), [0.07, 0.065, 0.06], 0.8 * crack);
    let rise = relief([u, v], 0.012, 0.0016, footprint, |x, y| fractal(x, y, 0.2, 0.01, footprint, s + 3));
    Look { rise, ..matt(c) }
}

/// The quay's ground: grass, gravel, a deck of planks and a kerb of stone beside the water.
fn ground(x: f64, z: f64, footprint: f64) -> Look {
    let wide = fractal(x, z, 9.0, 0.8, footprint, 13);
    let border = x + 0.35 * f64::from(fractal(x, z, 1.5, 0.1, footprint, 19));
    if x > 8.6 {
        let stone = board_tone(x, z, 9.0, 1.2, 17) - 0.5;
        let seam = boards(z, 1.2, 0.016, footprint) * boards(x - 8.6, 9.0, 0.016, footprint);
        let pit = fractal(x, z, 0.35, 0.008, footprint, 12);
        let moss = step(0.5, 1.4, fractal(x, z, 0.5, 0.02, footprint, 14) + 1.2 * (1.0 - seam));
        let c = mix(times([0.40, 0.385, 0.345], 1.0 + 0.22 * stone + 0.10 * pit), [0.10, 0.12, 0.05], 0.5 * moss);
        return matt(times(c, 0.4 + 0.6 * seam));
    }
    if x > 5.6 {
        let board = boards(x, 0.24, 0.014, footprint);
        let tone = board_tone(x, z, 0.24, 3.4, 23) - 0.5;
        let fibre = fractal(x * 6.0, z * 0.45, 0.5, 0.012, footprint * 3.0, 29);
        let end = boards(z + 3.4 * f64::from(value((x / 0.24).floor() + 0.5, 0.5, 24)), 3.4, 0.008, footprint);
        let nail = {
            let (nx, nz) = ((x / 0.24).fract().abs() - 0.5, (z / 0.6).fract().abs() - 0.5);
            let off = ((nx.abs() - 0.32) * 0.24).hypot(nz * 0.6);
            if footprint < 0.02 && off < 0.008 { 0.35 } else { 1.0 }
        };
        let silver = mix([0.34, 0.30, 0.25], [0.25, 0.19, 0.13], 0.5 + 0.5 * wide + 0.8 * tone);
        let c = times(silver, (1.0 + 0.38 * tone + 0.22 * fibre) * (0.20 + 0.80 * board) * (0.6 + 0.4 * end) * nail);
        let rise = relief([x, z], 0.014, 0.010, footprint, |a, b| {
            boards(a, 0.24, 0.02, footprint) + 0.15 * fractal(a * 6.0, b * 0.45, 0.5, 0.05, footprint, 29)
        });
        return Look { rise, gloss: 0.008, ..matt(c) };
    }
    // Gravel, trodden and driven on; towards the wall it gives way to grass.
    let track = |middle: f64| {
        let off = x - middle - 0.5 * f64::from(fractal(z, middle, 9.0, 2.0, footprint, 43)) * 0.6;
        (1.0 - (off / 0.24).abs()).clamp(0.0, 1.0) as f32
    };
    let driven =
        (track(-2.2) + track(-0.7)).min(1.0) * (0.65 + 0.3 * fractal(x, z, 1.2, 0.1, footprint, 44)).clamp(0.0, 1.0);
    let (big, rise_big) = loose(x, z, 0.085, 0.022, footprint, 37);
    let (small, rise_small) = loose(x + 3.3, z - 1.7, 0.034, 0.012, footprint, 39);
    let sand = fractal(x, z, 0.6, 0.01, footprint, 38);
    let patch = fractal(x, z, 2.6, 0.15, footprint, 11);
    let damp = step(0.7, 1.5, wide + 0.35 * patch);
    let mut gravel = mix([0.33, 0.295, 0.25], [0.25, 0.235, 0.215], 0.5 + 0.6 * patch);
    gravel = times(gravel, 1.0 + (0.62 * big + 0.5 * small) * (1.0 - 0.65 * driven) + 0.08 * sand + 0.06 * wide);
    gravel = times(gravel, 1.0 - 0.16 * driven - 0.28 * damp);
    let tuft = step(
        0.35,
        1.25,
        fractal(x, z, 0.8, 0.02, footprint, 45) + 0.5 * fractal(x, z, 4.0, 0.5, footprint, 46) - 0.9 * driven,
    );
    let near_grass = step(-6.3, -7.0, border as f32);
    let blades = fractal(x, z, 0.16, 0.008, footprint, 41);
    let dry = (0.5 + 0.5 * wide).clamp(0.0, 1.0);
    let clover = step(0.8, 1.3, fractal(x, z, 1.4, 0.08, footprint, 48));
    let grass = mix(mix([0.085, 0.135, 0.035], [0.20, 0.175, 0.075], 0.75 * dry), [0.055, 0.12, 0.04], 0.6 * clover);
    let grass = times(grass, 1.0 + 0.42 * blades + 0.15 * patch);
    let cover = near_grass.max(0.55 * tuft);
    let k = 1.0 - cover;
    let rise = [0, 1].map(|i| (rise_big[i] + rise_small[i]) * k * (1.0 - 0.6 * driven));
    Look { rise, gloss: 0.05 * damp * k, ..matt(mix(gravel, grass, cover)) }
}

fn hill(world: [f64; 3], footprint: f64) -> Look {
    let (x, y, z) = (world[0], world[1], world[2]);
    let far = footprint.max(0.3);
    let wood = fractal(x, z, 180.0, 18.0, far, 71) + (y as f32 - 45.0) * 0.004;
    let field = board_tone(x + 0.3 * z, z - 0.2 * x, 95.0, 140.0, 73);
    // What is near enough to be seen by its blades is grass.
    let wooded = step(-0.32, -0.26, wood) * step(0.02, 0.12, footprint as f32);
    let meadow = mix([0.105, 0.145, 0.045], [0.205, 0.185, 0.085], field);
    let meadow = times(meadow, 1.0 + 0.12 * fractal(x, z, 24.0, 1.0, far, 74));
    let blades = fractal(x, z, 0.5, 0.012, footprint, 78);
    let meadow =
        times(mix(meadow, [0.085, 0.125, 0.035], 0.5 * (0.4 / footprint as f32).min(1.0)), 1.0 + 0.30 * blades);
    let hedge = boards(x + 0.3 * z, 95.0, 3.0, footprint).min(boards(z - 0.2 * x, 140.0, 3.0, footprint));
    let meadow = mix([0.05, 0.08, 0.03], meadow, hedge);
    const CROWN: f64 = 7.0;
    let seen = ((CROWN / footprint.max(1e-6) - 1.0) / 2.0).clamp(0.0, 1.0) as f32;
    let (near, _, own) = cells(x / CROWN, z / CROWN, 75);
    let crown = mix([0.040, 0.075, 0.024], [0.085, 0.115, 0.035], own);
    let leaves = fractal(x, z, 2.4, 0.3, far, 76);
    let crown =
        times(crown, 1.0 + 0.25 * leaves + seen * (0.42 - 0.8 * near) + 0.15 * fractal(x, z, 60.0, 8.0, far, 77));
    let rise = relief([x, z], 1.2, 2.6 * wooded, footprint, |a, b| -cells(a / CROWN, b / CROWN, 75).0);
    Look { rise, ..matt(mix(meadow, crown, wooded)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_skin_is_dark_enough_to_be_lit_and_fades_to_one_tone_from_afar() {
        let all = [
            Skin::Ground,
            Skin::Lapped([0.3; 3]),
            Skin::Planks([0.3; 3]),
            Skin::Ribbed([0.3; 3]),
            Skin::Brick,
            Skin::Ashlar,
            Skin::Concrete,
            Skin::Painted([0.3; 3], 0.1),
            Skin::Wood([0.3; 3]),
            Skin::Iron,
            Skin::Glass,
            Skin::Rope,
            Skin::Leaf([0.3; 3]),
            Skin::Bark,
            Skin::Cloth([0.3; 3]),
            Skin::Worn([0.3; 3]),
            Skin::Hill,
            Skin::Water,
        ];
        for skin in all {
            let spread = |footprint: f64| {
                let tones: Vec<f32> = (0..200)
                    .map(|i| {
                        let (u, v) = (0.0137 * f64::from(i), 0.0071 * f64::from(i));
                        let l = look(skin, 3, [u, v], [u, 0.0, v], footprint, 0.0);
                        assert!(
                            l.colour.iter().all(|c| (0.0..1.0).contains(c)) && l.rise.iter().all(|r| r.is_finite())
                        );
                        l.colour[1]
                    })
                    .collect();
                let mean = tones.iter().sum::<f32>() / 200.0;
                tones.iter().map(|t| (t - mean).abs()).sum::<f32>() / 200.0 / mean
            };
            assert!(spread(5.0) <= spread(0.002) + 0.02);
        }
    }
}
