//! A place: what a ray from the camera sees.

use crate::form::Form;
use crate::paint::{Colour, Skin, ground, skin, sky};
use crate::places::{Place, Thing, boxed, things};
use crate::scene::{Met, Scene};
use crate::uprights::Upright;
use fennik_core::geometry::{Lens, Pose};
use nalgebra::Vector3;

type V = Vector3<f64>;

/// X of the quay's edge; beyond it is water.
const EDGE_X: f64 = 9.0;
/// Height of the water.
pub(crate) const WATER_Y: f64 = -1.1;
/// Towards the sun.
const SUN: [f64; 3] = [0.42, 0.72, 0.55];

/// A place with everything that stands there.
pub struct Scenery {
    place: Place,
    things: Vec<Thing>,
    sun: V,
    shade: Shade,
    light: SceneLight,
}

/// The light of a place.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SceneLight {
    /// Of the sun on what faces it.
    pub sun: Colour,
    /// From everywhere on what is upright.
    pub sky: Colour,
    /// How much more of that what looks up gets, and how much less what looks down.
    pub up: f32,
    /// Whether what is far fades into the air.
    pub haze: bool,
}

impl SceneLight {
    /// A warm sun in a blue sky, with haze.
    pub const DAY: Self = Self { sun: [1.25, 1.1875, 1.075], sky: [0.3276, 0.3696, 0.42], up: 0.16 / 0.42, haze: true };
}

/// A box that is placed in a scene to be compared with: of one colour, its foot on the ground.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Witness {
    /// Middle of its foot.
    pub foot: [f64; 3],
    /// Width, height, depth, m.
    pub size: [f64; 3],
    /// About the upright, degrees.
    pub turn_deg: f64,
    /// Linear light that it gives back.
    pub colour: Colour,
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

/// What a ray met, of the things.
#[derive(Clone, Copy)]
struct Hit {
    distance: f64,
    still: bool,
    normal: V,
    /// `None` for the ground.
    thing: Option<usize>,
}

impl Default for Scenery {
    fn default() -> Self {
        Self::new()
    }
}

impl Scenery {
    /// Builds the quay.
    pub fn new() -> Self {
        Self::of(Place::Quay, 0)
    }

    /// Builds a place with so many people more, who walk to and fro.
    pub fn of(place: Place, crowd: usize) -> Self {
        Self::made(place, things(place, crowd), SceneLight::DAY)
    }

    /// The same place in another light, with boxes to be compared with.
    pub fn with(place: Place, light: SceneLight, witnesses: &[Witness]) -> Self {
        let mut all = things(place, 0);
        for w in witnesses {
            let [hx, hy, hz] = w.size.map(|v| 0.5 * v);
            let form = boxed(hx, hy, hz, w.turn_deg);
            let middle = V::from(w.foot) + V::y() * hy;
            let (skin, drift, bounding) = (Skin::Plain(w.colour), V::zeros(), form.bounding());
            all.push(Thing { middle, form, skin, drift, bounding, seed: 1 });
        }
        Self::made(place, all, light)
    }

    fn made(place: Place, things: Vec<Thing>, light: SceneLight) -> Self {
        let sun = V::from(SUN).normalize();
        Self { place, shade: Shade::new(&things, sun), things, sun, light }
    }

    /// Towards the sun, unit length.
    pub fn toward_sun(&self) -> V {
        self.sun
    }

    /// Names the flat surface that was met: one side of one thing, or the ground; `None` for what is round.
    fn surface_of(&self, hit: &Hit) -> Option<String> {
        let side = [hit.normal.x, hit.normal.y, hit.normal.z].map(|v| (v * 100.0).round() as i32);
        match hit.thing {
            None if hit.still && hit.normal.y > 0.5 => Some("ground".to_owned()),
            None => Some("quay-wall".to_owned()),
            Some(i) if matches!(self.things[i].form, Form::Box { .. }) => {
                Some(format!("box-{i}:{},{},{}", side[0], side[1], side[2]))
            }
            Some(_) => None,
        }
    }

    fn meet_among(&self, among: impl Iterator<Item = usize>, from: V, ray: V, frame: f64) -> Option<Hit> {
        let mut best: Option<Hit> = None;
        let mut nearest = f64::INFINITY;
        if ray.y < 0.0 {
            // The quay, or beyond its edge the water.
            let quay = -from.y / ray.y;
            let at_quay = from + ray * quay;
            if quay > 0.0 && (at_quay.x <= EDGE_X || self.place != Place::Quay) {
                nearest = quay;
                best = Some(Hit { distance: quay, still: true, normal: V::y(), thing: None });
            } else {
                let water = (WATER_Y - from.y) / ray.y;
                if water > 0.0 {
                    nearest = water;
                    best = Some(Hit { distance: water, still: false, normal: V::y(), thing: None });
                }
            }
        }
        // The wall of the quay, seen from over the water.
        if self.place == Place::Quay && ray.x < 0.0 && from.x > EDGE_X {
            let wall = (EDGE_X - from.x) / ray.x;
            let y = from.y + ray.y * wall;
            if wall > 0.0 && wall < nearest && (WATER_Y..=0.0).contains(&y) {
                nearest = wall;
                best = Some(Hit { distance: wall, still: true, normal: V::x(), thing: None });
            }
        }
        for i in among {
            let thing = &self.things[i];
            let o = from - (thing.middle + thing.drift * frame);
            let along = -o.dot(&ray);
            if (o + ray * along).norm_squared() > thing.bounding * thing.bounding {
                continue;
            }
            if let Some((distance, normal)) = thing.form.cross(o, ray) {
                if distance > 1e-4 && distance < nearest {
                    nearest = distance;
                    best = Some(Hit { distance, still: thing.drift == V::zeros(), normal, thing: Some(i) });
                }
            }
        }
        best
    }
}

impl Scene for Scenery {
    fn meet(&self, from: V, ray: V, frame: f64) -> Option<Met> {
        self.meet_among(0..self.things.len(), from, ray, frame).map(|hit| Met {
            distance: hit.distance,
            still: hit.still,
            ground: hit.still && hit.thing.is_none() && hit.normal.y > 0.5,
            moves: !hit.still && hit.thing.is_some(),
            surface: self.surface_of(&hit),
        })
    }

    fn walker(&self, from: V, ray: V, frame: f64) -> Option<u32> {
        let met = &self.things[self.meet_among(0..self.things.len(), from, ray, frame)?.thing?];
        // Boats drift by as well.
        let walks = met.drift != V::zeros() && matches!(met.skin, Skin::Cloth(_) | Skin::Coat(_));
        let of_one = |t: &Thing| t.drift == met.drift && (t.middle - met.middle).xz() == nalgebra::Vector2::zeros();
        if walks { self.things.iter().position(of_one).map(|i| i as u32) } else { None }
    }

    fn uprights(&self) -> Vec<Upright> {
        let still = self.things.iter().filter(|t| t.drift == V::zeros());
        still
            .flat_map(|t| {
                t.form.uprights().into_iter().map(move |(foot, height)| {
                    let outward = V::new(foot.x, 0.0, foot.z).normalize();
                    Upright { foot: t.middle + foot, height, outward }
                })
            })
            .collect()
    }

    fn in_rows(&self, pose: &Pose, lens: &Lens, top: f64, bottom: f64, frame: f64) -> Vec<usize> {
        let seen = |thing: &Thing| {
            let c = pose.to_camera(thing.middle + thing.drift * frame);
            // Distortion, shutter and shake stay well within this margin.
            let reach = 1.3 * lens.focal_px * thing.bounding / (c.z - thing.bounding).max(0.3) + 40.0;
            let y = lens.focal_px * c.y / c.z.max(0.3) + lens.centre_px[1];
            c.z > -thing.bounding && y + reach > top && y - reach < bottom
        };
        (0..self.things.len()).filter(|&i| seen(&self.things[i])).collect()
    }

    fn in_columns(
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

    fn look(&self, among: &[usize], from: V, ray: V, frame: f64, spread: f64, unit: [f64; 4]) -> Colour {
        let Some(met) = self.meet_among(among.iter().copied(), from, ray, frame) else { return sky(ray) };
        let at = from + ray * met.distance;
        let footprint = spread * met.distance / ray.dot(&met.normal).abs().max(0.15).sqrt();
        let (mut colour, gloss) = match met.thing {
            Some(i) => skin(&self.things[i], met.normal, at, frame, footprint),
            None => ground(self.place, met.normal, met.still, at, frame, footprint),
        };
        let toward_sun = (self.sun + V::new(unit[0] - 0.5, 0.0, unit[1] - 0.5) * 0.05).normalize();
        let facing = met.normal.dot(&toward_sun).max(0.0);
        let lit =
            facing > 0.0 && self.meet_among(self.shade.of(at), at + met.normal * 2e-3, toward_sun, frame).is_none();
        let sun = if lit { facing as f32 } else { 0.0 };
        let open = 1.0 + self.light.up * met.normal.y as f32;
        for (k, c) in colour.iter_mut().enumerate() {
            *c *= sun * self.light.sun[k] + open * self.light.sky[k];
        }
        if gloss > 0.0 {
            let mirrored = sky(ray - met.normal * (2.0 * ray.dot(&met.normal)));
            let share = gloss * (1.0 - ray.dot(&met.normal).abs() as f32).powi(3).max(0.06);
            (0..3).for_each(|k| colour[k] += share * mirrored[k]);
        }
        if !self.light.haze {
            return colour;
        }
        let haze = 1.0 - (-met.distance as f32 / 420.0).exp();
        let air = [0.62, 0.70, 0.78];
        std::array::from_fn(|k| colour[k] * (1.0 - haze) + air[k] * haze)
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
