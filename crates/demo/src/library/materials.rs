//! Surfaces as pictures: colour, roughness, directions. They meet themselves at the rim.

use super::noise::{byte, dot, layers, mix, tiled};
use super::{File, png};

const SIDE: u32 = 512;

/// What a place of a surface is like.
pub struct Spot {
    /// As encoded for display, 0 to 1.
    pub colour: [f32; 3],
    /// 0 is a mirror, 1 is matt.
    pub rough: f32,
    /// Height, of the width of the picture.
    pub height: f32,
}

/// A surface at a place from 0 to 1.
pub fn spot(name: &str, u: f32, v: f32) -> Spot {
    match name {
        "planks" => planks(u, v, [0.62, 0.24, 0.18], [0.50, 0.44, 0.38]),
        "varnish" => varnish(u, v),
        "steel" => brushed(u, v, [0.62, 0.64, 0.66], 0.25),
        "brass" => brass(u, v),
        "canvas" => canvas(u, v),
        _ => plaster(u, v),
    }
}

/// Boards one over the other, their paint worn.
pub fn planks(u: f32, v: f32, paint: [f32; 3], wood: [f32; 3]) -> Spot {
    let boards = 6.0;
    let (board, across) = ((v * boards).floor(), (v * boards).fract());
    let own = dot(board as i64, 3, 11);
    let grain = layers((u + own).fract(), v, [6, 96], 3, 21);
    let worn = layers((u + 0.37 * own).fract(), v, [8, 24], 4, 5);
    let gap = (across - 0.5).abs() > 0.47;
    let bare = ((worn - 0.62) * 9.0).clamp(0.0, 1.0);
    let tone = 0.86 + 0.2 * (own - 0.5) + 0.16 * (grain - 0.5);
    let colour = mix(paint, wood, bare).map(|c| c * tone * if gap { 0.25 } else { 1.0 });
    let height = if gap { -0.006 } else { 0.0012 * grain - 0.001 * bare };
    Spot { colour, rough: 0.55 + 0.35 * bare, height }
}

fn varnish(u: f32, v: f32) -> Spot {
    let board = (u * 4.0).floor();
    let own = dot(board as i64, 9, 4);
    let bent = v + 0.06 * tiled(u, v, [4, 3], 2);
    let rings = ((bent * 9.0 + 3.0 * own + 1.5 * layers(u, v, [16, 4], 3, 8)) * std::f32::consts::TAU).sin();
    let fine = layers(u, v, [128, 6], 2, 14);
    let colour = mix([0.42, 0.22, 0.10], [0.60, 0.36, 0.18], 0.5 + 0.3 * rings + 0.4 * (fine - 0.5));
    let gap = ((u * 4.0).fract() - 0.5).abs() > 0.49;
    Spot {
        colour: colour.map(|c| if gap { c * 0.4 } else { c }),
        rough: 0.28 + 0.1 * fine,
        height: if gap { -0.003 } else { 0.0 },
    }
}

fn brushed(u: f32, v: f32, tone: [f32; 3], rough: f32) -> Spot {
    let lines = layers(u, v, [4, 256], 2, 31);
    let stain = layers(u, v, [4, 4], 4, 77);
    let shade = 0.9 + 0.14 * (lines - 0.5) + 0.08 * (stain - 0.5);
    Spot { colour: tone.map(|c| c * shade), rough: rough + 0.2 * lines, height: 0.0006 * lines }
}

fn brass(u: f32, v: f32) -> Spot {
    let own = brushed(u, v, [0.76, 0.62, 0.34], 0.22);
    let patina = ((layers(u, v, [5, 5], 5, 41) - 0.52) * 5.0).clamp(0.0, 1.0);
    Spot { colour: mix(own.colour, [0.34, 0.38, 0.30], 0.7 * patina), rough: own.rough + 0.45 * patina, ..own }
}

fn plaster(u: f32, v: f32) -> Spot {
    let coarse = layers(u, v, [6, 6], 5, 61);
    let grain = layers(u, v, [96, 96], 2, 63);
    let stain = ((layers(u, v, [3, 5], 4, 67) - 0.55) * 3.0).clamp(0.0, 1.0);
    let shade = 0.9 + 0.16 * (coarse - 0.5) + 0.1 * (grain - 0.5);
    Spot {
        colour: mix([0.82, 0.79, 0.72], [0.62, 0.58, 0.52], 0.5 * stain).map(|c| c * shade),
        rough: 0.92,
        height: 0.004 * coarse + 0.0015 * grain,
    }
}

fn canvas(u: f32, v: f32) -> Spot {
    let threads = 64.0;
    let wave = |t: f32| 0.5 + 0.5 * (t * threads * std::f32::consts::TAU).cos();
    let over = ((u * threads).floor() as i64 + (v * threads).floor() as i64) % 2 == 0;
    let weave = if over { wave(u) } else { wave(v) };
    let fold = layers(u, v, [3, 3], 3, 91);
    let shade = 0.82 + 0.16 * weave + 0.08 * (fold - 0.5);
    Spot { colour: [0.88, 0.85, 0.77].map(|c| c * shade), rough: 0.95, height: 0.0015 * weave }
}

/// Colour, roughness and directions of a surface, `side` px wide.
pub fn maps(name: &str, side: u32) -> [Vec<u8>; 3] {
    let n = side as usize;
    let at = |k: usize| (k as f32 + 0.5) / side as f32;
    let spots: Vec<Spot> = (0..n * n).map(|i| spot(name, at(i % n), at(i / n))).collect();
    let [mut colour, mut rough, mut normal] = [const { Vec::new() }; 3];
    for (i, s) in spots.iter().enumerate() {
        let (x, y) = (i % n, i / n);
        colour.extend(s.colour.map(byte));
        colour.push(255);
        // Roughness in green, metal in blue, as glTF has them.
        let metal = if matches!(name, "steel" | "brass") { 255 } else { 0 };
        rough.extend([byte(s.rough), byte(s.rough), metal, 255]);
        let slope = |a: &Spot, b: &Spot| (b.height - a.height) * side as f32;
        let dx = slope(s, &spots[y * n + (x + 1) % n]);
        let dy = slope(s, &spots[(y + 1) % n * n + x]);
        let length = (dx * dx + dy * dy + 1.0).sqrt();
        normal.extend([-dx, dy, 1.0].map(|v| byte(0.5 + 0.5 * v / length)));
        normal.push(255);
    }
    [colour, rough, normal].map(|rgba| png(side, side, rgba))
}

/// The files of a material.
pub fn make(name: &'static str) -> Vec<File> {
    let names = ["colour", "roughness", "normal"].map(|what| format!("{name} {what}.png"));
    names.into_iter().zip(maps(name, SIDE)).map(|(name, bytes)| File { name, bytes }).collect()
}
