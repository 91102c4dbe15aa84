//! What surfaces, the ground and the sky look like.

use crate::places::{Place, Thing};
use crate::texture::{board_tone, boards, fractal, value};
use nalgebra::Vector3;

type V = Vector3<f64>;
/// Linear light: red, green, blue.
pub type Colour = [f32; 3];

#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Skin {
    Planks(Colour),
    Corrugated(Colour),
    Concrete,
    Iron,
    Crate,
    Cloth(Colour),
    /// Cloth with a pattern that a tracker will take for the scene.
    Coat(Colour),
    Hull(Colour),
    Grass,
    /// Small paving stones.
    Setts,
    /// Papered, with pictures on it.
    Papered(Colour),
    /// Of one colour.
    Plain(Colour),
}

/// Colour and gloss of a thing at a place of its surface.
pub(crate) fn skin(thing: &Thing, normal: V, at: V, frame: f64, footprint: f64) -> (Colour, f32) {
    let local = thing.form.inwards(at - thing.middle - thing.drift * frame);
    // Texture coordinates: along the face, and up.
    let (u, w) = if normal.y.abs() > 0.7 { (local.x, local.z) } else { (local.x + local.z, local.y) };
    let seed = thing.seed;
    let grain = fractal(u, w, 0.6, 0.012, footprint, seed);
    let tint = |c: Colour, g: f32| c.map(|v| (v * (1.0 + g)).max(0.004));
    match thing.skin {
        Skin::Planks(c) => {
            let board = boards(u, 0.19, 0.012, footprint);
            let tone = board_tone(u, w, 0.19, 2.2, seed) - 0.5;
            let opening = window(u, w, seed);
            let c = if opening {
                [0.03, 0.035, 0.045]
            } else {
                tint(
                    c,
                    0.45 * tone + 0.22 * fractal(u * 3.0, w * 0.4, 0.5, 0.03, footprint * 3.0, seed + 5) + 0.16 * grain,
                )
            };
            (c.map(|v| v * (0.35 + 0.65 * board)), 0.0)
        }
        Skin::Corrugated(c) => {
            let ridge = if footprint < 0.08 { 0.14 * (u * 42.0).sin() as f32 } else { 0.0 };
            let rust = fractal(u, w, 1.6, 0.03, footprint, seed + 9).max(0.0) * 0.35;
            let c = tint(c, ridge + 0.2 * grain);
            ([c[0] + 0.16 * rust, c[1] + 0.06 * rust, c[2] + 0.02 * rust], 0.05)
        }
        Skin::Plain(c) => (c, 0.0),
        Skin::Concrete => {
            (tint([0.36, 0.35, 0.33], 0.15 * grain + 0.13 * fractal(u, w, 2.0, 0.2, footprint, seed + 2)), 0.0)
        }
        Skin::Iron => (tint([0.055, 0.05, 0.05], 0.5 * grain), 0.12),
        Skin::Crate => {
            let board = boards(w, 0.17, 0.014, footprint);
            let mark = if value(u * 5.0, w * 5.0, seed) > 0.72 { 0.5 } else { 1.0 };
            (
                tint([0.36, 0.25, 0.13], 0.2 * grain + 0.3 * (board_tone(w, u, 0.17, 9.0, seed) - 0.5))
                    .map(|v| v * (0.3 + 0.7 * board) * mark),
                0.0,
            )
        }
        Skin::Cloth(c) => (tint(c, 0.18 * grain), 0.0),
        Skin::Coat(c) => {
            let check = if value(u * 11.0, w * 11.0, seed) > 0.5 { 0.45 } else { 1.5 };
            (tint(c.map(|v| v * check), 0.2 * grain), 0.0)
        }
        Skin::Hull(c) => (tint(c, 0.12 * grain), 0.25),
        Skin::Grass => (tint([0.07, 0.13, 0.035], 0.85 * fractal(u, w, 0.5, 0.015, footprint, seed)), 0.0),
        Skin::Setts => (setts(u, w, seed, footprint), 0.0),
        Skin::Papered(c) => {
            let (column, row) = ((u / 1.3).floor(), (w / 0.9).floor());
            let (x, y) = (u - 1.3 * column - 0.65, w - 0.9 * row - 0.45);
            let hung = value(column * 2.7 + 0.5, row * 1.9 + 0.5, seed + 4) > 0.45;
            let (wide, high) = (0.28 + 0.02 * (column % 3.0), 0.24);
            if hung && x.abs() < wide && y.abs() < high {
                let inner = x.abs() < wide - 0.03 && y.abs() < high - 0.03;
                let motif = 0.5 + 0.4 * fractal(u * 2.0, w * 2.0, 0.3, 0.02, footprint * 2.0, seed + 6);
                return (if inner { [0.30 * motif, 0.34 * motif, 0.26 * motif] } else { [0.06, 0.04, 0.03] }, 0.0);
            }
            (tint(c, 0.10 * fractal(u, w, 0.16, 0.03, footprint, seed + 7) + 0.05 * grain), 0.0)
        }
    }
}

/// Dark openings in a shed's planks.
fn window(u: f64, w: f64, seed: u64) -> bool {
    let cell = (u / 1.7).floor();
    let inside = (u / 1.7 - cell - 0.5).abs() < 0.22 && (-0.25..0.65).contains(&w);
    inside && value(cell * 3.1, 0.5, seed + 3) > 0.42
}

/// Small stones in rows, each of its own tone.
fn setts(u: f64, w: f64, seed: u64, footprint: f64) -> Colour {
    let tone = board_tone(u, w, 0.16, 0.24, seed) - 0.5;
    let seams = boards(u, 0.16, 0.012, footprint);
    let wear = fractal(u, w, 1.2, 0.03, footprint, seed + 1);
    [0.29, 0.28, 0.27].map(|v| (v * (1.0 + 0.5 * tone + 0.2 * wear) * (0.45 + 0.55 * seams)).max(0.004))
}

/// Colour and gloss of what everything stands on; what does not stand still is water.
pub(crate) fn ground(place: Place, normal: V, still: bool, at: V, frame: f64, footprint: f64) -> (Colour, f32) {
    let (x, z) = (at.x, at.z);
    match place {
        Place::Quay => {}
        Place::Room => {
            let board = boards(x, 0.14, 0.006, footprint);
            let tone = board_tone(x, z, 0.14, 1.6, 83) - 0.5;
            let fibre = fractal(x * 4.0, z * 0.35, 0.4, 0.02, footprint * 2.0, 89);
            let c = [0.34, 0.24, 0.15].map(|v: f32| v * (1.0 + 0.5 * tone + 0.2 * fibre) * (0.4 + 0.6 * board));
            return (c, 0.02);
        }
        _ => return (setts(x, z, 97, footprint), 0.0),
    }
    if normal.x > 0.5 {
        let stone = fractal(z, at.y, 0.9, 0.02, footprint, 71);
        let seams = boards(z, 1.3, 0.03, footprint) * boards(at.y + 3.0, 0.42, 0.03, footprint);
        let wet = if at.y < -0.75 { 0.5 } else { 1.0 };
        return ([0.24, 0.23, 0.21].map(|v| v * (1.0 + 0.4 * stone) * (0.4 + 0.6 * seams) * wet), 0.0);
    }
    if !still {
        let t = frame * 0.04;
        let wave = fractal(x + 0.6 * t, z - t, 1.4, 0.12, footprint, 31)
            + fractal(x - t, z + 0.5 * t, 0.7, 0.08, footprint, 47);
        return ([0.030, 0.062, 0.066].map(|v| v * (1.0 + 0.3 * wave)), 0.8);
    }
    let rough = fractal(x, z, 2.4, 0.012, footprint, 11);
    let wide = fractal(x, z, 9.0, 0.8, footprint, 13);
    // Where one ground gives way to the next wanders a little.
    let border = x + 0.35 * fractal(x, z, 1.5, 0.1, footprint, 19) as f64;
    let colour = if x > 8.6 {
        [0.40, 0.39, 0.36].map(|v: f32| v * (1.0 + 0.25 * rough) * (0.5 + 0.5 * boards(z, 1.8, 0.025, footprint)))
    } else if x > 5.6 {
        let board = boards(x, 0.24, 0.016, footprint);
        let tone = board_tone(x, z, 0.24, 3.4, 23) - 0.5;
        let fibre = fractal(x * 4.0, z * 0.35, 0.5, 0.02, footprint * 2.0, 29);
        [0.31, 0.25, 0.18].map(|v: f32| v * (1.0 + 0.5 * tone + 0.25 * fibre + 0.1 * wide) * (0.25 + 0.75 * board))
    } else if border > -6.6 {
        let stones = fractal(x, z, 0.16, 0.02, footprint, 37);
        let puddle = if wide > 1.0 { 0.8 } else { 1.0 };
        [0.27, 0.25, 0.22].map(|v: f32| v * (1.0 + 0.10 * rough + 0.17 * stones + 0.07 * wide) * puddle)
    } else {
        let blades = fractal(x, z, 0.22, 0.015, footprint, 41);
        let dry = (0.5 + 0.5 * wide).clamp(0.0, 1.0);
        [0.09 + 0.10 * dry, 0.16 + 0.03 * dry, 0.045].map(|v: f32| v * (1.0 + 0.45 * blades + 0.2 * rough))
    };
    (colour.map(|v| v.max(0.004)), 0.0)
}

/// Sky and far hills along a ray.
pub(crate) fn sky(ray: V) -> Colour {
    let bearing = ray.x.atan2(-ray.z);
    let height = ray.y / ray.x.hypot(ray.z).max(1e-6);
    // Hills at the end of the basin.
    let ridge = 0.050 + 0.011 * f64::from(fractal(bearing * 3.0, 0.5, 1.2, 0.05, 0.004, 61));
    if height < ridge {
        let trees = fractal(bearing * 60.0, height * 90.0, 3.0, 0.15, 0.12, 67);
        return [0.20, 0.27, 0.26].map(|v| v * (1.0 + 0.28 * trees) + 0.10);
    }
    let up = height.clamp(0.0, 1.0) as f32;
    let cloud = fractal(bearing * 4.0, height * 9.0, 1.8, 0.1, 0.01, 53).max(0.0) * (1.0 - up);
    [0.50 - 0.25 * up + 0.22 * cloud, 0.63 - 0.22 * up + 0.20 * cloud, 0.80 - 0.12 * up + 0.14 * cloud]
}
