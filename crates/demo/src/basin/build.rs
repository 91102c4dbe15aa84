//! What people built at the basin.

use super::green::{Chance, LOOKOUT, bush, hills, tree, tuft};
use super::skin::Skin;
use super::soup::{Soup, V, turned};
use crate::paint::Colour;
use crate::scenery::WATER_Y;

const WHITE: Colour = [0.66, 0.65, 0.61];
const TAR: Colour = [0.035, 0.036, 0.040];
const TEAL: Colour = [0.045, 0.155, 0.165];
const RED: Colour = [0.33, 0.065, 0.045];
const OCHRE: Colour = [0.45, 0.31, 0.10];
const TIMBER: Colour = [0.33, 0.25, 0.17];

fn v(x: f32, y: f32, z: f32) -> V {
    V::new(x, y, z)
}

/// A window in a wall that looks along +Z at `z`: where the middle of its sill is, how wide and high.
fn window(to: &mut Soup, [x, y, z]: [f32; 3], wide: f32, high: f32, frame: Colour) {
    let (l, r) = (x - 0.5 * wide, x + 0.5 * wide);
    to.block([l, y, z - 0.02], [r, y + high, z + 0.004], Skin::Glass);
    let paint = Skin::Painted(frame, 0.04);
    for (a, b) in [(l - 0.07, l + 0.02), (r - 0.02, r + 0.07)] {
        to.block([a, y - 0.02, z - 0.02], [b, y + high + 0.05, z + 0.05], paint);
    }
    to.block([l - 0.07, y + high - 0.02, z - 0.02], [r + 0.07, y + high + 0.07, z + 0.05], paint);
    to.block([l - 0.12, y - 0.08, z - 0.02], [r + 0.12, y, z + 0.09], paint);
    let bars = (wide / 0.42).round().max(1.0) as usize;
    for k in 1..bars {
        let at = l + wide * k as f32 / bars as f32;
        to.block([at - 0.014, y, z - 0.01], [at + 0.014, y + high, z + 0.02], paint);
    }
    for k in 1..3 {
        let at = y + high * k as f32 / 3.0;
        to.block([l, at - 0.014, z - 0.01], [r, at + 0.014, z + 0.018], paint);
    }
}

/// A pair of plank doors in a wall that looks along +Z at `z`.
fn doors(to: &mut Soup, [x, z]: [f32; 2], wide: f32, high: f32, colour: Colour, frame: Colour) {
    let paint = Skin::Painted(frame, 0.03);
    let (l, r) = (x - 0.5 * wide, x + 0.5 * wide);
    to.block([l - 0.12, 0.0, z - 0.02], [l, high + 0.12, z + 0.06], paint);
    to.block([r, 0.0, z - 0.02], [r + 0.12, high + 0.12, z + 0.06], paint);
    to.block([l - 0.12, high, z - 0.02], [r + 0.12, high + 0.14, z + 0.07], paint);
    for (a, b) in [(l + 0.01, x - 0.008), (x + 0.008, r - 0.01)] {
        to.block([a, 0.03, z - 0.02], [b, high - 0.01, z + 0.02], Skin::Planks(colour));
        for y in [0.3, 0.5 * high, high - 0.35] {
            to.block([a + 0.03, y, z], [b - 0.03, y + 0.14, z + 0.045], Skin::Planks(colour.map(|c| 0.9 * c)));
        }
        for y in [0.36, high - 0.29] {
            let (from, to_x) = if a < x - 0.5 * wide + 0.2 { (a, a + 0.5) } else { (b - 0.5, b) };
            to.block([from, y, z + 0.044], [to_x, y + 0.05, z + 0.052], Skin::Iron);
        }
    }
    to.block([x - 0.02, 1.0, z + 0.04], [x + 0.03, 1.16, z + 0.07], Skin::Iron);
}

/// A roof of ribbed iron over an oblong about the middle: half sizes, the height of the eaves, how much it rises, its
/// ridge along X.
fn roof(to: &mut Soup, hx: f32, hz: f32, eaves: f32, rise: f32, iron: Colour, wall: Skin) {
    let (ox, oz, thick) = (hx + 0.32, hz + 0.38, 0.05);
    let slope = rise / hz;
    let low = eaves - slope * 0.38;
    for side in [1.0f32, -1.0] {
        let (eave_l, eave_r) = (v(-ox * side, low, oz * side), v(ox * side, low, oz * side));
        let (ridge_r, ridge_l) = (v(ox * side, eaves + rise, 0.0), v(-ox * side, eaves + rise, 0.0));
        let up = V::y() * thick;
        to.quad([eave_l + up, eave_r + up, ridge_r + up, ridge_l + up], Skin::Ribbed(iron));
        to.quad([eave_r, eave_l, ridge_l, ridge_r], Skin::Wood([0.20, 0.16, 0.12]));
        to.quad([eave_l, eave_r, eave_r + up, eave_l + up], Skin::Painted(WHITE, 0.02));
        // Barge boards along the gables, a gutter along the eaves.
        let out = V::x() * (0.03 * side);
        to.quad(
            [eave_r + out - V::y() * 0.1, ridge_r + out - V::y() * 0.1, ridge_r + out + up, eave_r + out + up],
            Skin::Painted(WHITE, 0.02),
        );
        to.quad(
            [ridge_l - out - V::y() * 0.1, eave_l - out - V::y() * 0.1, eave_l - out + up, ridge_l - out + up],
            Skin::Painted(WHITE, 0.02),
        );
        let gutter = v(0.0, -0.02, 0.06 * side);
        to.bar(&[eave_l + gutter, eave_r + gutter], 0.055, Skin::Painted([0.10, 0.11, 0.11], 0.05));
    }
    to.block([-ox, eaves + rise + 0.02, -0.16], [ox, eaves + rise + 0.09, 0.16], Skin::Ribbed(iron.map(|c| 0.8 * c)));
    let seed = to.seed();
    for side in [1.0f32, -1.0] {
        let c = [v(hx * side, eaves, hz * side), v(hx * side, eaves, -hz * side), v(hx * side, eaves + rise, 0.0)];
        to.quad_from([c[0], c[1], c[2], c[2]], [0.0, eaves], wall, seed);
        to.triangles.pop();
    }
}

/// A shed of lapped boards: half sizes, its colour; big doors in the front, windows at the sides.
fn shed(hx: f32, high: f32, hz: f32, colour: Colour, iron: Colour) -> Soup {
    let mut to = Soup::default();
    let wall = Skin::Lapped(colour);
    to.block([-hx, 0.0, -hz], [hx, high, hz], wall);
    to.block([-hx - 0.03, 0.0, -hz - 0.03], [hx + 0.03, 0.16, hz + 0.03], Skin::Concrete);
    for x in [-hx, hx] {
        for z in [-hz, hz] {
            to.block([x - 0.05, 0.0, z - 0.05], [x + 0.05, high, z + 0.05], Skin::Painted(WHITE, 0.03));
        }
    }
    roof(&mut to, hx, hz, high, 0.62 * hz.min(hx) * 0.9, iron, wall);
    let mut front = Soup::default();
    doors(
        &mut front,
        [-0.28 * hx, 0.0],
        (0.75 * hx).min(2.6),
        (high - 0.65).min(2.5),
        colour.map(|c| 0.55 * c + 0.02),
        WHITE,
    );
    window(&mut front, [0.58 * hx, 1.1, 0.0], 0.9, 1.0, WHITE);
    // A lamp over the doors.
    front.bar(
        &[v(-0.28 * hx, high - 0.28, 0.0), v(-0.28 * hx, high - 0.2, 0.22), v(-0.28 * hx, high - 0.3, 0.3)],
        0.016,
        Skin::Iron,
    );
    front.turned(
        [-0.28 * hx, high - 0.44, 0.3],
        &[[0.13, 0.0], [0.10, 0.08], [0.03, 0.14], [0.0, 0.16]],
        16,
        Skin::Painted(TEAL, 0.08),
    );
    to.take(front, [0.0, 0.0, hz], 0.0);
    for (turn, z) in [(90.0, hx), (-90.0, hx)] {
        let mut side = Soup::default();
        for k in [-1.0f32, 0.0, 1.0] {
            window(&mut side, [k * 0.62 * hz, 1.15, 0.0], 0.8, 0.95, WHITE);
        }
        let at = turned(v(0.0, 0.0, z), turn);
        to.take(side, [at.x, at.y, at.z], turn);
    }
    let mut pipe = Soup::default();
    pipe.bar(
        &[v(hx - 0.2, 0.1, hz + 0.07), v(hx - 0.2, high - 0.25, hz + 0.07), v(hx - 0.2, high - 0.1, hz + 0.36)],
        0.035,
        Skin::Painted([0.10, 0.11, 0.11], 0.05),
    );
    to.take(pipe, [0.0; 3], 0.0);
    to
}

/// A crate of boards with a frame: half its side.
fn crate_of(s: f32) -> Soup {
    let mut to = Soup::default();
    let wood = Skin::Wood([0.40, 0.29, 0.16]);
    let dark = Skin::Wood([0.33, 0.235, 0.13]);
    let e = 0.018;
    to.block([-s + e, e, -s + e], [s - e, 2.0 * s - e, s - e], Skin::Wood([0.16, 0.11, 0.06]));
    let boards = 4;
    for k in 0..boards {
        let (a, b) = (2.0 * s * k as f32 / boards as f32, 2.0 * s * (k + 1) as f32 / boards as f32 - 0.012);
        to.block([-s + 0.006, a + 0.006, -s + 0.006], [s - 0.006, b, s - 0.006], wood);
        to.block([-s + 0.006, 2.0 * s - e, -s + a], [s - 0.006, 2.0 * s - 0.004, -s + b], wood);
    }
    let t = 0.09;
    for turn in [0.0, 90.0, 180.0, 270.0] {
        let mut side = Soup::default();
        side.block([-s, 0.0, s - 0.01], [-s + t, 2.0 * s, s + 0.014], dark);
        side.block([s - t, 0.0, s - 0.01], [s, 2.0 * s, s + 0.014], dark);
        side.block([-s + t, 0.0, s - 0.01], [s - t, t, s + 0.012], dark);
        side.block([-s + t, 2.0 * s - t, s - 0.01], [s - t, 2.0 * s, s + 0.012], dark);
        to.take(side, [0.0; 3], turn);
    }
    to
}

fn bollard() -> Soup {
    let mut to = Soup::default();
    let foot = [
        [0.25, 0.0],
        [0.25, 0.04],
        [0.17, 0.07],
        [0.135, 0.13],
        [0.13, 0.40],
        [0.15, 0.48],
        [0.24, 0.54],
        [0.26, 0.60],
        [0.22, 0.66],
        [0.0, 0.68],
    ];
    to.turned([0.0; 3], &foot, 24, Skin::Painted(TAR, 0.05));
    to.turned([0.0, 0.0, 0.0], &[[0.137, 0.26], [0.137, 0.36]], 24, Skin::Painted(WHITE, 0.03));
    to
}

fn lamp_post() -> Soup {
    let mut to = Soup::default();
    to.turned(
        [0.0; 3],
        &[[0.14, 0.0], [0.14, 0.12], [0.09, 0.2], [0.07, 0.7], [0.055, 0.8], [0.045, 3.5], [0.06, 3.56]],
        16,
        Skin::Painted(TEAL, 0.06),
    );
    to.turned([0.0, 3.56, 0.0], &[[0.07, 0.0], [0.17, 0.34], [0.17, 0.36]], 6, Skin::Glass);
    to.turned(
        [0.0, 3.92, 0.0],
        &[[0.22, 0.0], [0.22, 0.02], [0.05, 0.16], [0.02, 0.24], [0.0, 0.24]],
        12,
        Skin::Painted(TEAL, 0.06),
    );
    to
}

/// A racing shell: long and narrow, keel down; with its colour.
fn shell(long: f32, colour: Colour) -> Soup {
    let mut to = Soup::default();
    let (rows, ribs) = (25, 13);
    let mut places = Vec::new();
    for r in 0..rows {
        let t = r as f32 / (rows - 1) as f32 * 2.0 - 1.0;
        let wide = 0.29 * (1.0 - t.powi(4)).max(0.0).powf(0.8) + 0.008;
        for k in 0..ribs {
            let a = k as f32 / (ribs - 1) as f32 * std::f32::consts::PI;
            places.push((
                v(-wide * a.cos(), -0.30 * a.sin() * (0.35 + 0.65 * (1.0 - t * t)) + 0.05 * t * t, 0.5 * long * t),
                [a * 0.2, t * 0.5 * long],
            ));
        }
    }
    let seed = to.seed();
    to.sheet(&places, ribs, Skin::Painted(colour, 0.12), seed);
    let deck: Vec<_> = (0..rows)
        .flat_map(|r| {
            let row = &places[r * ribs..(r + 1) * ribs];
            [row[ribs - 1], row[0]]
        })
        .collect();
    to.sheet(&deck, 2, Skin::Wood([0.34, 0.24, 0.14]), seed + 1);
    to
}

fn trestle(high: f32) -> Soup {
    let mut to = Soup::default();
    for side in [-1.0f32, 1.0] {
        for lean in [-1.0f32, 1.0] {
            to.bar(&[v(0.42 * side, 0.0, 0.22 * lean), v(0.36 * side, high, 0.0)], 0.025, Skin::Wood(TIMBER));
        }
    }
    to.block([-0.5, high - 0.03, -0.035], [0.5, high + 0.03, 0.035], Skin::Wood(TIMBER));
    to
}

fn bench() -> Soup {
    let mut to = Soup::default();
    for x in [-0.75f32, 0.75] {
        to.block([x - 0.03, 0.0, -0.2], [x + 0.03, 0.44, 0.2], Skin::Iron);
        to.bar(&[v(x, 0.40, -0.2), v(x, 0.86, -0.30)], 0.025, Skin::Iron);
    }
    for k in 0..4 {
        let z = -0.19 + 0.1 * k as f32;
        to.block([-0.9, 0.44, z], [0.9, 0.475, z + 0.085], Skin::Wood([0.36, 0.24, 0.13]));
    }
    for k in 0..3 {
        let y = 0.55 + 0.11 * k as f32;
        let z = -0.235 - 0.024 * k as f32;
        to.block([-0.9, y, z - 0.02], [0.9, y + 0.085, z + 0.012], Skin::Wood([0.36, 0.24, 0.13]));
    }
    to
}

fn barrel() -> Soup {
    let mut to = Soup::default();
    let profile: Vec<[f32; 2]> =
        (0..=10).map(|k| k as f32 / 10.0).map(|t| [0.27 + 0.05 * (t * std::f32::consts::PI).sin(), 0.85 * t]).collect();
    to.turned([0.0; 3], &profile, 28, Skin::Planks([0.27, 0.17, 0.09]));
    to.turned([0.0; 3], &[[0.26, 0.82], [0.0, 0.82]], 28, Skin::Wood([0.24, 0.16, 0.09]));
    for y in [0.06, 0.24, 0.58, 0.76] {
        let r = 0.274 + 0.05 * (y / 0.85 * std::f32::consts::PI).sin();
        to.turned([0.0; 3], &[[r, y], [r + 0.006, y], [r + 0.006, y + 0.045], [r, y + 0.045]], 28, Skin::Iron);
    }
    to
}

/// Rope that lies in rings.
fn coil() -> Soup {
    let mut to = Soup::default();
    let line: Vec<V> = (0..150)
        .map(|k| k as f32 / 24.0)
        .map(|t| {
            let r = 0.34 - 0.012 * t;
            let (sin, cos) = (t * std::f32::consts::TAU).sin_cos();
            v(r * sin, 0.03 + 0.035 * t, r * cos)
        })
        .collect();
    to.bar(&line, 0.022, Skin::Rope);
    to
}

/// An oar that stands against something: it leans back along -Z.
fn oar(blade: Colour) -> Soup {
    let mut to = Soup::default();
    to.bar(&[v(0.0, 0.03, 0.42), v(0.0, 2.75, 0.06)], 0.022, Skin::Wood([0.42, 0.31, 0.17]));
    let (a, b) = (v(0.0, 2.45, 0.10), v(0.0, 3.05, 0.02));
    let side = v(0.085, 0.0, 0.0);
    to.quad([a - side * 0.6, a + side * 0.6, b + side, b - side], Skin::Painted(blade, 0.08));
    to.quad([a + side * 0.6, a - side * 0.6, b - side, b + side], Skin::Painted(blade, 0.08));
    to
}

/// The boathouse stands along the quay; its long wall looks at the water.
pub(super) const BOATHOUSE: [f32; 2] = [-2.6, 42.0];
/// Half of its length along the quay, half of its depth, its height.
pub(super) const BOATHOUSE_SIZE: [f32; 3] = [15.0, 4.5, 5.6];

fn boathouse() -> Soup {
    let mut to = Soup::default();
    let [hx, hz, high] = BOATHOUSE_SIZE;
    to.block([-hx, 0.0, -hz], [hx, high, hz], Skin::Brick);
    roof(&mut to, hx, hz, high, 2.4, [0.16, 0.18, 0.19], Skin::Brick);
    // A plinth of stone, a string course, piers between the bays.
    to.block([-hx - 0.06, 0.0, -hz - 0.06], [hx + 0.06, 0.36, hz + 0.06], Skin::Ashlar);
    to.block([-hx - 0.04, 4.35, -hz - 0.04], [hx + 0.04, 4.50, hz + 0.04], Skin::Ashlar);
    for k in 0..=5 {
        let x = -hx + 6.0 * k as f32;
        to.block([x - 0.24, 0.36, hz - 0.01], [x + 0.24, high, hz + 0.11], Skin::Brick);
    }
    for (k, x) in [(0, -12.0f32), (4, 12.0)] {
        let mut bay = Soup::default();
        doors(&mut bay, [0.0, 0.0], 3.4, 3.4, if k == 0 { TEAL } else { [0.30, 0.20, 0.11] }, WHITE);
        to.take(bay, [x, 0.0, hz], 0.0);
    }
    for x in [-6.0f32] {
        for dx in [-1.3f32, 1.3] {
            window(&mut to, [x + dx, 1.55, hz], 1.3, 1.9, WHITE);
            to.block([x + dx - 0.85, 3.5, hz - 0.01], [x + dx + 0.85, 3.76, hz + 0.03], Skin::Ashlar);
        }
    }
    for x in [-8.6f32, -3.2, 3.2, 8.7] {
        to.bar(
            &[v(x, 0.2, hz + 0.10), v(x, high - 0.3, hz + 0.10), v(x, high - 0.1, hz + 0.40)],
            0.05,
            Skin::Painted([0.085, 0.09, 0.095], 0.05),
        );
        for y in [0.9, 2.6, 4.2] {
            to.block([x - 0.08, y, hz], [x + 0.08, y + 0.05, hz + 0.15], Skin::Iron);
        }
    }
    // Lamps on brackets.
    for x in [-9.4f32, -2.6, 2.6, 9.4] {
        to.bar(&[v(x, 3.75, hz), v(x, 4.0, hz + 0.3), v(x, 3.9, hz + 0.5)], 0.02, Skin::Iron);
        to.turned(
            [x, 3.62, hz + 0.5],
            &[[0.19, 0.0], [0.17, 0.07], [0.06, 0.2], [0.0, 0.26]],
            20,
            Skin::Painted(TEAL, 0.08),
        );
    }
    to
}

/// Which way cloth hangs on a line: from, to, how many, which way the wind blows.
pub(super) struct Line {
    pub from: V,
    pub to: V,
    pub count: usize,
}

/// Lines with little flags.
pub(super) fn lines() -> Vec<Line> {
    let post = |x: f32, z: f32| v(x, 3.45, z);
    let [x, z] = BOATHOUSE;
    let front = x + BOATHOUSE_SIZE[1];
    let mut all = vec![
        Line { from: post(-5.6, 4.5), to: post(-5.6, -6.0), count: 24 },
        Line { from: post(-5.6, -6.0), to: post(-5.6, -16.0), count: 22 },
    ];
    for k in 0..2 {
        let at = z - 11.8 + 12.0 * k as f32;
        all.push(Line { from: v(front + 0.3, 4.9, at), to: v(front + 0.3, 4.9, at + 11.0), count: 26 });
    }
    all
}

const FLAGS: [Colour; 4] = [[0.50, 0.09, 0.06], [0.62, 0.58, 0.47], [0.06, 0.20, 0.22], [0.55, 0.36, 0.08]];

/// Little flags on a line in the wind at a time in frames.
pub(super) fn flags(line: &Line, frame: f64, to: &mut Soup, seed: u32) {
    let t = frame as f32;
    let along = line.to - line.from;
    let sag = 0.045 * along.norm();
    let on = |s: f32| {
        let sway = 0.03 * (0.09 * t + 9.0 * s).sin() * (std::f32::consts::PI * s).sin();
        line.from + along * s + v(sway, -4.0 * sag * s * (1.0 - s), 0.0)
    };
    for k in 0..line.count {
        let (a, b) = ((k as f32 + 0.2) / line.count as f32, (k as f32 + 0.82) / line.count as f32);
        let (p, q) = (on(a), on(b));
        let own = k as f32 * 1.7 + seed as f32;
        let lift = 0.35 + 0.25 * (0.13 * t + own).sin() + 0.12 * (0.31 * t + 2.1 * own).sin();
        let wind = v(-0.55, 0.0, -0.45).normalize();
        let hang = (v(0.0, -1.0, 0.0) + wind * lift).normalize() * 0.34;
        let flutter = wind * (0.04 * (0.42 * t + 3.0 * own).sin());
        let rows = 5;
        let places: Vec<_> = (0..rows)
            .flat_map(|r| {
                let f = r as f32 / (rows - 1) as f32;
                let (l, m) = (p + (q - p) * (0.5 * f), q - (q - p) * (0.5 * f));
                let off = hang * f + flutter * (f * f) + wind * (0.025 * (5.0 * f - 0.3 * t + own).sin() * f);
                [(l + off, [0.0, 0.3 * f]), (m + off, [0.2 * (1.0 - f), 0.3 * f])]
            })
            .collect();
        to.sheet(&places, 2, Skin::Cloth(FLAGS[k % 4]), 9000 + seed * 64 + k as u32);
    }
}

/// The quay from the sheds to the boathouse, with what stands on it.
fn quay(to: &mut Soup) {
    to.quad([v(-75.0, 0.0, 100.0), v(9.0, 0.0, 100.0), v(9.0, 0.0, -90.0), v(-75.0, 0.0, -90.0)], Skin::Ground);
    to.quad(
        [
            v(9.0, WATER_Y as f32 - 1.5, 100.0),
            v(9.0, WATER_Y as f32 - 1.5, -90.0),
            v(9.0, 0.0, -90.0),
            v(9.0, 0.0, 100.0),
        ],
        Skin::Ashlar,
    );
    for (x, z, hx, hy, hz, deg, tone, iron) in [
        (-7.5, -9.0, 3.2, 1.7, 2.4, 4.0, [0.36, 0.085, 0.055], [0.30, 0.31, 0.31]),
        (0.2, -11.0, 3.0, 2.1, 2.6, -3.0, [0.10, 0.19, 0.25], [0.17, 0.19, 0.20]),
        (-14.5, -2.5, 2.6, 1.6, 3.4, 12.0, [0.44, 0.37, 0.23], [0.33, 0.17, 0.11]),
        (-15.0, -16.0, 4.5, 2.6, 3.0, 8.0, [0.21, 0.25, 0.21], [0.26, 0.27, 0.28]),
        (5.6, -19.0, 3.0, 2.4, 3.4, 2.0, [0.50, 0.48, 0.43], [0.14, 0.16, 0.17]),
    ] {
        to.take(shed(hx, 2.0 * hy, hz, tone, iron), [x, 0.0, z], deg);
    }
    // The low wall with a coping, in pieces.
    to.block([-7.18, 0.0, -2.5], [-6.82, 0.82, 9.5], Skin::Concrete);
    for k in 0..10 {
        let z = -2.5 + 1.2 * k as f32;
        to.block([-7.24, 0.82, z + 0.008], [-6.76, 0.90, z + 1.192], Skin::Ashlar);
    }
    for (x, y, z, s, deg) in [
        (3.4, 0.0, -6.2, 0.5, 18.0),
        (4.5, 0.0, -5.7, 0.45, -9.0),
        (3.9, 1.0, -6.0, 0.4, 33.0),
        (-3.6, 0.0, 1.4, 0.4, 50.0),
        (-4.4, 0.0, -4.6, 0.55, 8.0),
        (5.2, 0.0, 4.4, 0.4, 21.0),
    ] {
        to.take(crate_of(s), [x, y, z], deg);
    }
    let mut container = Soup::default();
    container.block([-1.2, 0.12, -3.0], [1.2, 2.5, 3.0], Skin::Ribbed([0.045, 0.145, 0.185]));
    for x in [-1.2f32, 1.2] {
        for z in [-3.0f32, 3.0] {
            container.block(
                [x - 0.06, 0.0, z - 0.06],
                [x + 0.06, 2.58, z + 0.06],
                Skin::Painted([0.04, 0.13, 0.17], 0.05),
            );
        }
        container.block([x - 0.05, 2.48, -3.0], [x + 0.05, 2.58, 3.0], Skin::Painted([0.04, 0.13, 0.17], 0.05));
    }
    to.take(container, [5.4, 0.0, -11.8], 3.0);
    for i in 0..8 {
        to.take(bollard(), [8.4, 0.0, 10.0 - 4.2 * i as f32], 20.0 * i as f32);
    }
    for i in 0..7 {
        to.take(bollard(), [8.4, 0.0, 26.0 + 4.6 * i as f32], 20.0 * i as f32);
    }
    for z in [4.5, -6.0, -16.0] {
        to.take(lamp_post(), [-5.6, 0.0, z], 0.0);
    }
    for i in 0..9 {
        let f = i as f32;
        bush(to, [-9.5 - 1.1 * (f * 1.7).sin(), 0.0, 8.5 - 2.6 * f], 0.7 + 0.3 * (f * 2.3).sin(), 300 + i);
    }
    for (i, (x, z, tall)) in [
        (-20.0, -6.0, 8.5),
        (-23.0, -12.0, 10.0),
        (-26.0, 4.0, 9.0),
        (-10.0, -23.0, 9.5),
        (-1.5, -25.0, 8.0),
        (-19.0, -27.0, 11.0),
        (-29.0, -19.0, 10.5),
        (8.0, -32.0, 8.5),
        (1.0, -36.0, 11.0),
        (-8.0, -38.0, 10.0),
        (-34.0, -4.0, 11.0),
        (-30.0, 16.0, 9.5),
        (-24.0, 26.0, 10.0),
        (-22.0, 40.0, 11.0),
    ]
    .into_iter()
    .enumerate()
    {
        tree(to, [x, 0.0, z], tall, 700 + i as u64);
    }
    // Shells on trestles, barrels, ropes, a bench.
    for (k, (x, z, deg, colour)) in [(2.1f32, 0.6f32, 8.0f32, WHITE), (3.6, 0.4, 8.0, OCHRE)].into_iter().enumerate() {
        for end in [-2.2f32, 2.2] {
            let at = turned(v(0.0, 0.0, end), deg);
            to.take(trestle(0.72), [x + at.x, 0.0, z + at.z], deg);
        }
        // Keel up.
        let mut hull = shell(8.4 - 0.4 * k as f32, colour);
        for t in &mut hull.triangles {
            t.at.iter_mut().for_each(|p| (p.x, p.y) = (-p.x, -p.y));
            t.normals.iter_mut().for_each(|n| (n.x, n.y) = (-n.x, -n.y));
        }
        to.take(hull, [x, 0.76, z], deg);
    }
    for (x, z) in [(-3.9, -6.9), (-3.2, -7.3), (4.3, -14.9 + 8.0), (7.4, -8.2)] {
        to.take(barrel(), [x, 0.0, z], 40.0 * x);
    }
    for (x, z) in [(7.6, 6.4), (7.5, -2.0), (7.7, 30.5)] {
        to.take(coil(), [x, 0.0, z], 30.0 * z);
    }
    to.take(bench(), [-6.2, 0.0, -1.2], 90.0);
    to.take(bench(), [-6.2, 0.0, 7.0], 90.0);
    let mut by = Chance(51);
    for k in 0..900u64 {
        let along_wall = k % 3 == 0;
        let (x, z) = if along_wall {
            (-6.66 + 0.25 * by.unit() * by.unit(), -2.5 + 12.0 * by.unit())
        } else {
            (-7.4 - 5.0 * by.unit(), -12.0 + 24.0 * by.unit())
        };
        tuft(to, [x, 0.0, z], 0.06 + 0.13 * by.unit(), 4000 + k);
    }
    // A pontoon at the far end of the quay.
    let mut pontoon = Soup::default();
    pontoon.block([-1.4, -0.25, -5.0], [1.4, 0.0, 5.0], Skin::Wood(TIMBER));
    for z in [-4.6f32, 4.6] {
        pontoon.turned([1.6, -2.0, z], &[[0.14, 0.0], [0.14, 3.0], [0.0, 3.02]], 14, Skin::Wood([0.20, 0.16, 0.12]));
    }
    to.take(pontoon, [10.6, WATER_Y as f32 + 0.45, -14.0], 0.0);
}

/// What stands along the boathouse.
fn boathouse_front(to: &mut Soup) {
    let [x, z] = BOATHOUSE;
    to.take(boathouse(), [x, 0.0, z], 90.0);
    let front = x + BOATHOUSE_SIZE[1];
    to.take(bench(), [front + 0.42, 0.0, z + 6.6], 90.0);
    to.take(bench(), [front + 0.42, 0.0, z - 8.4], 90.0);
    for (k, dz) in [4.0f32, 3.55, 3.15, -1.9].into_iter().enumerate() {
        to.take(oar(FLAGS[k % 4]), [front, 0.0, z + dz], 90.0);
    }
    for (dz, off) in [(-2.6f32, 0.45f32), (-3.2, 0.5), (9.0, 0.45)] {
        to.take(barrel(), [front + off, 0.0, z + dz], 70.0 * dz);
    }
    to.take(crate_of(0.36), [front + 0.6, 0.0, z + 8.1], 12.0);
    to.take(crate_of(0.30), [front + 0.55, 0.72, z + 8.15], -20.0);
    to.take(coil(), [front + 0.7, 0.0, z - 4.2], 0.0);
    for k in 0..5u64 {
        let dz = [-10.2f32, -5.0, 1.9, 5.4, 10.1][k as usize];
        let mut pot = Soup::default();
        pot.turned(
            [0.0; 3],
            &[[0.20, 0.0], [0.28, 0.40], [0.30, 0.40], [0.30, 0.45], [0.26, 0.45], [0.25, 0.40], [0.0, 0.40]],
            24,
            Skin::Concrete,
        );
        bush(&mut pot, [0.0, 0.42, 0.0], 0.26, 900 + k);
        to.take(pot, [front + 0.5, 0.0, z + dz], 0.0);
    }
    let mut by = Chance(77);
    for k in 0..260u64 {
        let along = -15.0 + 30.0 * by.unit();
        tuft(to, [front + 0.05 + 0.08 * by.unit(), 0.0, z + along], 0.05 + 0.12 * by.unit(), 6000 + k);
    }
}

/// The terrace at the lookout.
fn lookout(to: &mut Soup) {
    let mut t = Soup::default();
    t.block([-6.0, -2.5, -5.0], [6.0, 0.0, 5.0], Skin::Ashlar);
    for side in [-1.0f32, 1.0] {
        for k in 0..5 {
            let a = -6.0 + 2.4 * k as f32;
            t.block([a, 0.0, 4.66 * side - 0.17], [a + 2.36, 0.46, 4.66 * side + 0.17], Skin::Ashlar);
            t.block([a - 0.03, 0.46, 4.66 * side - 0.23], [a + 2.39, 0.57, 4.66 * side + 0.23], Skin::Concrete);
        }
    }
    for k in 0..4 {
        let a = -4.9 + 2.45 * k as f32;
        t.block([5.49, 0.0, a], [5.83, 0.46, a + 2.41], Skin::Ashlar);
        t.block([5.43, 0.46, a - 0.03], [5.89, 0.57, a + 2.44], Skin::Concrete);
    }
    // A rail of iron over the wall.
    for k in 0..9 {
        let z = -4.8 + 1.2 * k as f32;
        t.bar(&[v(5.66, 0.5, z), v(5.66, 0.86, z)], 0.018, Skin::Painted(TAR, 0.05));
    }
    t.bar(&[v(5.66, 0.86, -4.9), v(5.66, 0.86, 4.9)], 0.022, Skin::Painted(TAR, 0.05));
    t.take(bench(), [-1.5, 0.0, -3.6], 0.0);
    to.take(t, LOOKOUT, 0.0);
    let mut by = Chance(5);
    for k in 0..70u64 {
        let (turn, off) = (by.unit() * std::f32::consts::TAU, 9.0 + 60.0 * by.unit());
        let (x, z) = (LOOKOUT[0] + off * turn.sin(), LOOKOUT[2] + off * turn.cos());
        // The view to the basin stays open.
        let ahead = turn.sin() > 0.25 && off < 40.0;
        let y = super::green::hill_height(x, z);
        if ahead || y < 4.0 {
            bush(to, [x, y - 0.1, z], 0.8 + 0.5 * by.unit(), 1500 + k);
        } else {
            tree(to, [x, y - 0.2, z], 6.0 + 5.0 * by.unit(), 1500 + k);
        }
    }
    for k in 0..500u64 {
        let (turn, off) = (by.unit() * std::f32::consts::TAU, 6.5 + 12.0 * by.unit());
        let (x, z) = (LOOKOUT[0] + off * turn.sin(), LOOKOUT[2] + off * turn.cos());
        tuft(to, [x, super::green::hill_height(x, z), z], 0.2 + 0.3 * by.unit(), 8000 + k);
    }
}

/// Everything that stands still at the basin.
pub(super) fn basin() -> Soup {
    let mut to = Soup::default();
    hills(&mut to);
    let y = WATER_Y as f32;
    to.quad([v(9.0, y, 320.0), v(320.0, y, 320.0), v(320.0, y, -260.0), v(9.0, y, -260.0)], Skin::Water);
    quay(&mut to);
    boathouse_front(&mut to);
    lookout(&mut to);
    // Trees along the far shore.
    let mut by = Chance(9);
    for k in 0..36u64 {
        let z = -120.0 + 9.0 * k as f32 + by.around(4.0);
        let x = 176.0 + by.around(8.0) + 0.02 * z;
        tree(&mut to, [x, super::green::hill_height(x, z).max(0.0) - 0.3, z], 8.0 + 6.0 * by.unit(), 2500 + k);
    }
    to
}

/// A boat that drifts by, at a time in frames.
pub(super) fn boats(frame: f64, to: &mut Soup) {
    for (x, z, dz, colour) in [(12.4f32, -16.0f32, 0.045f32, WHITE), (15.5, 2.0, -0.03, RED)] {
        let mut boat = shell(6.4, colour);
        boat.triangles.iter_mut().for_each(|t| t.at.iter_mut().for_each(|p| p.x *= 3.0));
        boat.block([-0.55, 0.0, -1.2], [0.55, 0.75, 0.8], Skin::Painted(WHITE, 0.08));
        boat.block([-0.62, 0.75, -1.35], [0.62, 0.82, 0.95], Skin::Painted(TEAL, 0.08));
        boat.block([-0.56, 0.28, -0.9], [0.56, 0.6, 0.5], Skin::Glass);
        let bob = 0.03 * (0.08 * frame as f32 + x).sin();
        to.take(boat, [x, WATER_Y as f32 + 0.30 + bob, z + dz * frame as f32], 0.0);
    }
}
