//! The quay: what a ray from the camera sees.

use crate::texture::{board_tone, boards, fractal, value};
use fennik_core::geometry::{Lens, Pose};
use nalgebra::Vector3;

type V = Vector3<f64>;
/// Linear light: red, green, blue.
pub type Colour = [f32; 3];

/// X of the quay's edge; beyond it is water.
const EDGE_X: f64 = 9.0;
/// Height of the water.
const WATER_Y: f64 = -1.1;
/// Towards the sun.
const SUN: [f64; 3] = [0.42, 0.72, 0.55];

#[derive(Clone, Copy, PartialEq)]
enum Skin {
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
}

#[derive(Clone, Copy)]
enum Form {
    /// Half sizes, turned about Y.
    Box {
        half: V,
        turn: (f64, f64),
    },
    /// Upright, radius and half height.
    Cylinder {
        radius: f64,
        half: f64,
    },
    Ellipsoid {
        radii: V,
    },
}

#[derive(Clone, Copy)]
struct Thing {
    middle: V,
    form: Form,
    skin: Skin,
    /// Metres per frame.
    drift: V,
    bounding: f64,
    seed: u64,
}

/// Everything that stands on the quay.
pub struct Scenery {
    things: Vec<Thing>,
    sun: V,
    shade: Shade,
}

/// Which things can stand before the sun, by where a place lies across its light.
struct Shade {
    /// Two directions across the light.
    across: [V; 2],
    /// Things that stand still, cell by cell, row by row.
    cells: Vec<Vec<usize>>,
    moving: Vec<usize>,
}

/// Cells of the shade each way, and the size of one, m.
const SHADE_CELLS: usize = 64;
/// Width of what shutter and shake may shift across the frame, in focal lengths.
const COLUMN_MARGIN: f64 = 0.12;
const SHADE_CELL_M: f64 = 1.5;
/// How far the light of the sun's edge strays from that of its middle on its way past the tallest thing, m.
const SHADE_STRAY_M: f64 = 0.5;

impl Shade {
    fn new(things: &[Thing], sun: V) -> Self {
        let a = sun.cross(&V::y()).normalize();
        let mut shade =
            Self { across: [a, sun.cross(&a)], cells: vec![Vec::new(); SHADE_CELLS * SHADE_CELLS], moving: Vec::new() };
        for (i, thing) in things.iter().enumerate() {
            if thing.drift != V::zeros() {
                shade.moving.push(i);
                continue;
            }
            let reach = thing.bounding + SHADE_STRAY_M;
            let range = |k: usize| {
                let middle = shade.across[k].dot(&thing.middle);
                let cell = |v: f64| {
                    (v / SHADE_CELL_M + SHADE_CELLS as f64 / 2.0).floor().clamp(0.0, SHADE_CELLS as f64) as usize
                };
                cell(middle - reach)..(cell(middle + reach) + 1).min(SHADE_CELLS)
            };
            let (rows, columns) = (range(0), range(1));
            for row in rows {
                columns.clone().for_each(|column| shade.cells[row * SHADE_CELLS + column].push(i));
            }
        }
        shade
    }

    fn of(&self, at: V) -> impl Iterator<Item = usize> {
        let [row, column] = self.across.map(|a| a.dot(&at) / SHADE_CELL_M + SHADE_CELLS as f64 / 2.0);
        let within = |v: f64| v >= 0.0 && v < SHADE_CELLS as f64;
        let cell = if within(row) && within(column) {
            self.cells[row as usize * SHADE_CELLS + column as usize].as_slice()
        } else {
            &[]
        };
        cell.iter().chain(&self.moving).copied()
    }
}

/// What a ray met.
#[derive(Clone, Copy)]
pub struct Met {
    /// Distance along the ray.
    pub distance: f64,
    /// Whether it stands still.
    pub still: bool,
    normal: V,
    /// `None` for the ground.
    thing: Option<usize>,
}

impl Met {
    /// Whether it is of the ground on which everything stands.
    pub fn is_ground(&self) -> bool {
        self.still && self.thing.is_none() && self.normal.y > 0.5
    }

    /// Whether it is a thing on the move; the water is not one.
    pub fn moves(&self) -> bool {
        !self.still && self.thing.is_some()
    }
}

impl Default for Scenery {
    fn default() -> Self {
        Self::new()
    }
}

impl Scenery {
    /// Builds the quay.
    pub fn new() -> Self {
        Self::with_crowd(0)
    }

    /// Builds the quay with so many people more, who walk to and fro before it.
    pub fn with_crowd(crowd: usize) -> Self {
        let mut things = Vec::new();
        let mut add = |middle: V, form: Form, skin: Skin, drift: V| {
            let bounding = match form {
                Form::Box { half, .. } => half.norm(),
                Form::Cylinder { radius, half } => radius.hypot(half),
                Form::Ellipsoid { radii } => radii.max(),
            };
            let seed = 100 + 17 * things.len() as u64;
            things.push(Thing { middle, form, skin, drift, bounding, seed });
        };
        let v = V::new;
        let still = V::zeros();
        let boxed =
            |hx: f64, hy: f64, hz: f64, deg: f64| Form::Box { half: v(hx, hy, hz), turn: deg.to_radians().sin_cos() };
        // Sheds with their roofs.
        for (x, z, hx, hy, hz, deg, tone) in [
            (-7.5, -9.0, 3.2, 1.7, 2.4, 4.0, [0.34, 0.09, 0.06]),
            (0.2, -11.0, 3.0, 2.1, 2.6, -3.0, [0.12, 0.20, 0.26]),
            (-14.5, -2.5, 2.6, 1.6, 3.4, 12.0, [0.42, 0.36, 0.24]),
            (-15.0, -16.0, 4.5, 2.6, 3.0, 8.0, [0.25, 0.27, 0.24]),
            (5.6, -19.0, 3.0, 2.4, 3.4, 2.0, [0.40, 0.38, 0.34]),
        ] {
            add(v(x, hy, z), boxed(hx, hy, hz, deg), Skin::Planks(tone), still);
            add(
                v(x, 2.0 * hy + 0.14, z),
                boxed(hx + 0.35, 0.14, hz + 0.35, deg),
                Skin::Corrugated([0.20, 0.21, 0.22]),
                still,
            );
        }
        // A low wall along the grass, crates, a container.
        add(v(-7.0, 0.45, 3.5), boxed(0.18, 0.45, 6.0, 0.0), Skin::Concrete, still);
        for (x, y, z, s, deg) in [
            (3.4, 0.5, -6.2, 0.5, 18.0),
            (4.5, 0.45, -5.7, 0.45, -9.0),
            (3.9, 1.4, -6.0, 0.4, 33.0),
            (-3.6, 0.4, 1.4, 0.4, 50.0),
            (-4.4, 0.55, -4.6, 0.55, 8.0),
            (5.5, 0.4, 4.4, 0.4, 21.0),
        ] {
            add(v(x, y, z), boxed(s, s, s, deg), Skin::Crate, still);
        }
        add(v(5.4, 1.25, -11.8), boxed(1.2, 1.25, 3.0, 3.0), Skin::Corrugated([0.05, 0.16, 0.20]), still);
        // Bollards along the edge, lamp posts.
        for i in 0..8 {
            let z = 10.0 - 4.2 * f64::from(i);
            add(v(8.4, 0.28, z), Form::Cylinder { radius: 0.2, half: 0.28 }, Skin::Iron, still);
            add(v(8.4, 0.60, z), Form::Ellipsoid { radii: v(0.28, 0.09, 0.28) }, Skin::Iron, still);
        }
        for z in [4.5, -6.0, -16.0] {
            add(v(-5.6, 1.9, z), Form::Cylinder { radius: 0.06, half: 1.9 }, Skin::Iron, still);
            add(v(-5.6, 3.85, z), Form::Ellipsoid { radii: v(0.22, 0.12, 0.22) }, Skin::Concrete, still);
        }
        // Bushes behind the wall.
        for i in 0..9 {
            let f = f64::from(i);
            let r = 0.7 + 0.3 * (f * 2.3).sin();
            add(
                v(-9.5 - 1.1 * (f * 1.7).sin(), 0.4 * r, 8.5 - 2.6 * f),
                Form::Ellipsoid { radii: v(r, 0.8 * r, r) },
                Skin::Grass,
                still,
            );
        }
        // People who walk, and boats that drift by.
        for (x, z, dx, dz, coat) in [
            (-1.5, 1.0, 0.035, -0.012, [0.45, 0.07, 0.05]),
            (4.2, -3.0, -0.026, 0.028, [0.06, 0.10, 0.28]),
            (1.5, -7.5, 0.0, 0.036, [0.42, 0.40, 0.12]),
        ] {
            let drift = v(dx, 0.0, dz);
            add(v(x, 0.42, z), Form::Ellipsoid { radii: v(0.16, 0.44, 0.16) }, Skin::Cloth([0.03, 0.035, 0.05]), drift);
            add(v(x, 1.10, z), Form::Ellipsoid { radii: v(0.24, 0.36, 0.19) }, Skin::Cloth(coat), drift);
            add(v(x, 1.60, z), Form::Ellipsoid { radii: v(0.11, 0.14, 0.11) }, Skin::Cloth([0.45, 0.28, 0.20]), drift);
        }
        for (x, z, dz, tone) in [(12.4, -16.0, 0.045, [0.55, 0.53, 0.48]), (15.5, 2.0, -0.03, [0.08, 0.22, 0.30])] {
            let drift = v(0.0, 0.0, dz);
            add(v(x, WATER_Y + 0.15, z), Form::Ellipsoid { radii: v(0.9, 0.45, 3.4) }, Skin::Hull(tone), drift);
            add(v(x, WATER_Y + 0.75, z - 0.6), boxed(0.5, 0.4, 0.9, 0.0), Skin::Hull([0.6, 0.6, 0.58]), drift);
        }
        for i in 0..crowd {
            let f = i as f64;
            let part = |g: f64| (f * g + 0.3).fract();
            let side = if i % 2 == 0 { 1.0 } else { -1.0 };
            let middle = v(-9.0 + 16.0 * part(0.618), 0.0, 9.2 - 6.5 * part(0.4143));
            let drift = v(side * (0.02 + 0.03 * part(0.27)), 0.0, 0.014 * (part(0.733) - 0.5));
            let coat: [f32; 3] = std::array::from_fn(|k| 0.05 + 0.4 * part(0.37 + 0.19 * k as f64) as f32);
            add(
                middle + v(0.0, 0.45, 0.0),
                Form::Ellipsoid { radii: v(0.19, 0.47, 0.19) },
                Skin::Cloth([0.06, 0.06, 0.09]),
                drift,
            );
            add(middle + v(0.0, 1.15, 0.0), Form::Ellipsoid { radii: v(0.30, 0.42, 0.24) }, Skin::Coat(coat), drift);
            add(
                middle + v(0.0, 1.68, 0.0),
                Form::Ellipsoid { radii: v(0.12, 0.15, 0.12) },
                Skin::Cloth([0.45, 0.28, 0.20]),
                drift,
            );
        }
        let sun = V::from(SUN).normalize();
        Self { shade: Shade::new(&things, sun), things, sun }
    }

    /// The nearest thing along a ray, at a time given in frames.
    pub fn meet(&self, from: V, ray: V, frame: f64) -> Option<Met> {
        self.meet_among(0..self.things.len(), from, ray, frame)
    }

    /// Names the flat surface that was met: one side of one thing, or the ground; `None` for what is round.
    pub fn surface_of(&self, met: &Met) -> Option<String> {
        let side = [met.normal.x, met.normal.y, met.normal.z].map(|v| (v * 100.0).round() as i32);
        match met.thing {
            None if met.is_ground() => Some("ground".to_owned()),
            None => Some("quay-wall".to_owned()),
            Some(i) if matches!(self.things[i].form, Form::Box { .. }) => {
                Some(format!("box-{i}:{},{},{}", side[0], side[1], side[2]))
            }
            Some(_) => None,
        }
    }

    /// Those things that the rows of a picture from `top` to `bottom` (px) can see.
    pub fn in_rows(&self, pose: &Pose, lens: &Lens, top: f64, bottom: f64, frame: f64) -> Vec<usize> {
        let seen = |thing: &Thing| {
            let c = pose.to_camera(thing.middle + thing.drift * frame);
            // Distortion, shutter and shake stay well within this margin.
            let reach = 1.3 * lens.focal_px * thing.bounding / (c.z - thing.bounding).max(0.3) + 40.0;
            let y = lens.focal_px * c.y / c.z.max(0.3) + lens.centre_px[1];
            c.z > -thing.bounding && y + reach > top && y - reach < bottom
        };
        (0..self.things.len()).filter(|&i| seen(&self.things[i])).collect()
    }

    /// Those of the things `among` that may be seen from `pose` between two columns of pixels.
    pub fn in_columns(
        &self,
        among: &[usize],
        pose: &Pose,
        lens: &Lens,
        (left, right): (f64, f64),
        frame: f64,
    ) -> Vec<usize> {
        let seen = |thing: &Thing| {
            let c = pose.to_camera(thing.middle + thing.drift * frame);
            let near = (c.z - thing.bounding).max(0.3);
            // Beside the camera what is near covers any column; elsewhere the margin holds distortion, shutter and
            // shake.
            let margin = COLUMN_MARGIN + 1.5 * lens.k1.abs();
            let reach = (1.3 * thing.bounding / near + margin) * lens.focal_px;
            let x = lens.focal_px * c.x / c.z.max(0.3) + lens.centre_px[0];
            x + reach > left && x - reach < right
        };
        among.iter().copied().filter(|&i| seen(&self.things[i])).collect()
    }

    fn meet_among(&self, among: impl Iterator<Item = usize>, from: V, ray: V, frame: f64) -> Option<Met> {
        let mut best: Option<Met> = None;
        let mut nearest = f64::INFINITY;
        if ray.y < 0.0 {
            // The quay, or beyond its edge the water.
            let quay = -from.y / ray.y;
            let at_quay = from + ray * quay;
            if quay > 0.0 && at_quay.x <= EDGE_X {
                nearest = quay;
                best = Some(Met { distance: quay, still: true, normal: V::y(), thing: None });
            } else {
                let water = (WATER_Y - from.y) / ray.y;
                if water > 0.0 {
                    nearest = water;
                    best = Some(Met { distance: water, still: false, normal: V::y(), thing: None });
                }
            }
        }
        // The wall of the quay, seen from over the water.
        if ray.x < 0.0 && from.x > EDGE_X {
            let wall = (EDGE_X - from.x) / ray.x;
            let y = from.y + ray.y * wall;
            if wall > 0.0 && wall < nearest && (WATER_Y..=0.0).contains(&y) {
                nearest = wall;
                best = Some(Met { distance: wall, still: true, normal: V::x(), thing: None });
            }
        }
        for i in among {
            let thing = &self.things[i];
            let o = from - (thing.middle + thing.drift * frame);
            let along = -o.dot(&ray);
            if (o + ray * along).norm_squared() > thing.bounding * thing.bounding {
                continue;
            }
            if let Some((distance, normal)) = cross(thing, o, ray) {
                if distance > 1e-4 && distance < nearest {
                    nearest = distance;
                    best = Some(Met { distance, still: thing.drift == V::zeros(), normal, thing: Some(i) });
                }
            }
        }
        best
    }

    /// Light that comes along a ray that can only meet the things `among`. `spread` is the width of a pixel at distance
    /// one.
    pub fn look(&self, among: &[usize], from: V, ray: V, frame: f64, spread: f64, jitter: [f64; 2]) -> Colour {
        let Some(met) = self.meet_among(among.iter().copied(), from, ray, frame) else { return sky(ray) };
        let at = from + ray * met.distance;
        let footprint = spread * met.distance / ray.dot(&met.normal).abs().max(0.15).sqrt();
        let (mut colour, gloss) = self.paint(&met, at, frame, footprint);
        let toward_sun = (self.sun + V::new(jitter[0] - 0.5, 0.0, jitter[1] - 0.5) * 0.05).normalize();
        let facing = met.normal.dot(&toward_sun).max(0.0);
        let lit =
            facing > 0.0 && self.meet_among(self.shade.of(at), at + met.normal * 2e-3, toward_sun, frame).is_none();
        let sun = if lit { facing as f32 * 1.25 } else { 0.0 };
        let open = 0.42 + 0.16 * met.normal.y as f32;
        for (k, c) in colour.iter_mut().enumerate() {
            *c *= sun * [1.0, 0.95, 0.86][k] + open * [0.78, 0.88, 1.0][k];
        }
        if gloss > 0.0 {
            let mirrored = sky(ray - met.normal * (2.0 * ray.dot(&met.normal)));
            let share = gloss * (1.0 - ray.dot(&met.normal).abs() as f32).powi(3).max(0.06);
            (0..3).for_each(|k| colour[k] += share * mirrored[k]);
        }
        // Haze.
        let haze = 1.0 - (-met.distance as f32 / 420.0).exp();
        let air = [0.62, 0.70, 0.78];
        std::array::from_fn(|k| colour[k] * (1.0 - haze) + air[k] * haze)
    }

    fn paint(&self, met: &Met, at: V, frame: f64, footprint: f64) -> (Colour, f32) {
        let Some(i) = met.thing else { return ground(met, at, frame, footprint) };
        let thing = &self.things[i];
        let local = at - thing.middle - thing.drift * frame;
        let local = match thing.form {
            Form::Box { turn: (sin, cos), .. } => {
                V::new(cos * local.x - sin * local.z, local.y, sin * local.x + cos * local.z)
            }
            _ => local,
        };
        // Texture coordinates: along the face, and up.
        let (u, w) = if met.normal.y.abs() > 0.7 { (local.x, local.z) } else { (local.x + local.z, local.y) };
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
                        0.45 * tone
                            + 0.22 * fractal(u * 3.0, w * 0.4, 0.5, 0.03, footprint * 3.0, seed + 5)
                            + 0.16 * grain,
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
        }
    }
}

/// Dark openings in a shed's planks.
fn window(u: f64, w: f64, seed: u64) -> bool {
    let cell = (u / 1.7).floor();
    let inside = (u / 1.7 - cell - 0.5).abs() < 0.22 && (-0.25..0.65).contains(&w);
    inside && value(cell * 3.1, 0.5, seed + 3) > 0.42
}

fn ground(met: &Met, at: V, frame: f64, footprint: f64) -> (Colour, f32) {
    let (x, z) = (at.x, at.z);
    if met.normal.x > 0.5 {
        let stone = fractal(z, at.y, 0.9, 0.02, footprint, 71);
        let seams = boards(z, 1.3, 0.03, footprint) * boards(at.y + 3.0, 0.42, 0.03, footprint);
        let wet = if at.y < -0.75 { 0.5 } else { 1.0 };
        return ([0.24, 0.23, 0.21].map(|v| v * (1.0 + 0.4 * stone) * (0.4 + 0.6 * seams) * wet), 0.0);
    }
    if !met.still {
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

fn sky(ray: V) -> Colour {
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

/// Where a ray meets a thing whose middle is the origin: distance and outward normal.
fn cross(thing: &Thing, o: V, d: V) -> Option<(f64, V)> {
    match thing.form {
        Form::Box { half, turn: (sin, cos) } => {
            let to_local = |p: V| V::new(cos * p.x - sin * p.z, p.y, sin * p.x + cos * p.z);
            let (lo, ld) = (to_local(o), to_local(d));
            let (mut near, mut far, mut axis) = (f64::NEG_INFINITY, f64::INFINITY, 0);
            for k in 0..3 {
                let inverse = 1.0 / ld[k];
                let (a, b) = ((-half[k] - lo[k]) * inverse, (half[k] - lo[k]) * inverse);
                let (a, b) = if a < b { (a, b) } else { (b, a) };
                if a > near {
                    (near, axis) = (a, k);
                }
                far = far.min(b);
            }
            if near > far || near <= 0.0 {
                return None;
            }
            let mut n = V::zeros();
            n[axis] = -ld[axis].signum();
            Some((near, V::new(cos * n.x + sin * n.z, n.y, -sin * n.x + cos * n.z)))
        }
        Form::Cylinder { radius, half } => {
            let a = d.x * d.x + d.z * d.z;
            let b = o.x * d.x + o.z * d.z;
            let root = (b * b - a * (o.x * o.x + o.z * o.z - radius * radius)).max(-1.0);
            if root < 0.0 {
                return None;
            }
            let t = (-b - root.sqrt()) / a;
            let p = o + d * t;
            if t > 0.0 && p.y.abs() <= half {
                return Some((t, V::new(p.x, 0.0, p.z) / radius));
            }
            let t = (half - o.y) / d.y;
            let p = o + d * t;
            (t > 0.0 && d.y < 0.0 && p.x.hypot(p.z) <= radius).then(|| (t, V::y()))
        }
        Form::Ellipsoid { radii } => {
            let (so, sd) = (o.component_div(&radii), d.component_div(&radii));
            let (a, b) = (sd.norm_squared(), so.dot(&sd));
            let root = b * b - a * (so.norm_squared() - 1.0);
            if root < 0.0 {
                return None;
            }
            let t = (-b - root.sqrt()) / a;
            (t > 0.0).then(|| (t, (so + sd * t).component_div(&radii).normalize()))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ray_straight_down_meets_the_quay_and_beyond_the_edge_the_water() {
        let scenery = Scenery::new();
        let quay = scenery.meet(V::new(0.0, 5.0, 8.0), -V::y(), 0.0).unwrap();
        assert!((quay.distance - 5.0).abs() < 1e-12 && quay.still);
        let water = scenery.meet(V::new(30.0, 5.0, 8.0), -V::y(), 0.0).unwrap();
        assert!((water.distance - 6.1).abs() < 1e-12 && !water.still);
    }

    #[test]
    fn things_are_met_on_their_near_side() {
        let scenery = Scenery::new();
        let met = scenery.meet(V::new(-7.0, 20.0, 3.5), -V::y(), 0.0).unwrap();
        assert!((met.distance - (20.0 - 0.9)).abs() < 1e-9, "the low wall is 0.9 m high");
    }
}
