//! The made-up Varrick Basin as it is filmed for the demo: sheds on a quay, a boathouse, hills round the water; sun,
//! sky, and the light that goes between what stands there.

mod build;
mod green;
mod light;
mod people;
mod skin;
mod soup;
mod tree;

pub use green::lookout_eye;
pub use light::Air;

use crate::paint::Colour;
use crate::scene::{Met, Scene};
use crate::uprights::Upright;
use light::{Around, SUN, SUN_HALF, SUNLIGHT, across, open_sky, sky, through_air};
use nalgebra::Vector3;
use people::{Limb, Person};
use skin::{Look, Skin};
use soup::{Soup, Triangle, V};
use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};
use tree::{Hit, Tree};

/// Who and what is about in a clip.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum About {
    /// Walkers on the quay, boats.
    Quay,
    /// People along the boathouse.
    Boathouse,
    /// Boats from afar.
    Lookout,
}

/// The basin at one moment: what moves.
struct Moving {
    tree: Tree,
    feet: Vec<V>,
    limbs: Vec<Vec<Limb>>,
    time: f64,
}

/// The basin.
pub struct Basin {
    still: Tree,
    uprights: Vec<Upright>,
    people: Vec<Person>,
    about: About,
    air: Air,
    around: Around,
    moments: RwLock<HashMap<i64, Arc<Moving>>>,
}

/// Parts of a frame that what moves is told apart by.
const MOMENTS: f64 = 4.0;
/// What the triangles of the first person are numbered by.
const FIRST_PERSON: u32 = 20_000;
/// Moments that are kept.
const KEPT: usize = 24;
/// Part of the light that goes through a leaf or cloth without being scattered.
const THIN: f32 = 0.30;
/// What the ground and walls round about give back, for rays that find nothing near.
const FAR_M: f32 = 60.0;

fn person(from: [f32; 2], heading_deg: f32, pace: f32, coat: Colour, legs: Colour, seed: u32) -> Person {
    let part = |g: f32| (seed as f32 * g + 0.37).fract();
    let hair = [[0.03, 0.022, 0.018], [0.09, 0.05, 0.025], [0.22, 0.15, 0.07], [0.16, 0.16, 0.16]][seed as usize % 4];
    let face = [[0.44, 0.27, 0.19], [0.20, 0.11, 0.07], [0.36, 0.21, 0.14]][seed as usize % 3];
    Person {
        from,
        heading_deg,
        pace,
        tall: 1.62 + 0.24 * part(0.618),
        coat,
        legs,
        hair,
        face,
        long: seed % 3 == 1,
        stride: part(0.41),
    }
}

fn people(about: About) -> Vec<Person> {
    let navy = [0.022, 0.034, 0.075];
    let denim = [0.055, 0.085, 0.15];
    let grey = [0.10, 0.10, 0.11];
    match about {
        // They leave the open ground before the sheds free.
        About::Quay => vec![
            person([-5.7, 8.6], 178.0, 0.037, [0.42, 0.06, 0.045], navy, 1),
            person([5.15, 1.3], -75.0, 0.0, [0.05, 0.09, 0.26], grey, 2),
            person([2.7, -7.2], 15.0, 0.0, [0.46, 0.36, 0.08], denim, 3),
            person([-5.0, -2.4], 60.0, 0.0, [0.05, 0.17, 0.16], navy, 4),
            person([-4.3, -2.1], -115.0, 0.0, [0.55, 0.52, 0.46], denim, 5),
            person([6.2, 2.2], 178.0, 0.041, [0.13, 0.13, 0.14], navy, 6),
        ],
        About::Boathouse => vec![
            person([4.1, 40.6], 4.0, 0.050, [0.40, 0.065, 0.045], navy, 11),
            person([3.5, 41.3], 2.0, 0.049, [0.05, 0.16, 0.165], grey, 12),
            person([3.9, 58.0], 184.0, 0.040, [0.46, 0.37, 0.10], denim, 13),
            person([2.75, 45.0], 80.0, 0.0, [0.10, 0.11, 0.13], navy, 14),
            person([3.3, 45.9], -140.0, 0.0, [0.52, 0.50, 0.45], denim, 15),
            person([5.6, 61.0], 181.0, 0.05, [0.06, 0.09, 0.22], grey, 16),
        ],
        About::Lookout => Vec::new(),
    }
}

impl Basin {
    /// Builds it.
    pub fn new(about: About, air: Air) -> Self {
        let mut soup = build::basin();
        let uprights = std::mem::take(&mut soup.uprights);
        Self {
            still: Tree::new(soup),
            uprights,
            people: people(about),
            about,
            air,
            around: Around::default(),
            moments: RwLock::default(),
        }
    }

    fn moving(&self, frame: f64) -> Arc<Moving> {
        let key = (frame * MOMENTS).round() as i64;
        if let Some(m) = self.moments.read().unwrap_or_else(PoisonError::into_inner).get(&key) {
            return m.clone();
        }
        let mut moments = self.moments.write().unwrap_or_else(PoisonError::into_inner);
        if let Some(m) = moments.get(&key) {
            return m.clone();
        }
        if moments.len() >= KEPT {
            moments.clear();
        }
        let time = key as f64 / MOMENTS;
        let mut soup = Soup::default();
        for (p, seed) in self.people.iter().zip(FIRST_PERSON..) {
            soup.triangles.extend(p.body(time, seed, if self.about == About::Quay { 0.034 } else { 0.025 }).triangles);
        }
        if self.about != About::Lookout {
            for (line, seed) in build::lines().iter().zip(0..) {
                build::flags(line, time, &mut soup, seed);
            }
        }
        build::boats(time, &mut soup);
        let made = Arc::new(Moving {
            tree: Tree::new(soup),
            feet: self.people.iter().map(|p| p.at(time)).collect(),
            limbs: self.people.iter().map(|p| p.limbs(time)).collect(),
            time,
        });
        moments.insert(key, made.clone());
        made
    }

    fn nearest<'a>(&'a self, moving: &'a Moving, from: V, ray: V) -> Option<(Hit<'a>, bool)> {
        let still = self.still.meet(from, ray, f32::INFINITY);
        let within = still.as_ref().map_or(f32::INFINITY, |h| h.distance);
        match moving.tree.meet(from, ray, within) {
            Some(hit) => Some((hit, false)),
            None => still.map(|h| (h, true)),
        }
    }

    /// What light comes from a surface that was met; `depth` counts mirrors on the way.
    fn shaded(&self, (hit, still): (&Hit, bool), moving: &Moving, from: V, ray: V, by: &Ask, depth: u32) -> Colour {
        let at = from + ray * hit.distance;
        let footprint = by.spread * (by.travelled + hit.distance);
        let mut s = surface(hit, at, ray, footprint, by.frame);
        if !still && hit.triangle.seed >= FIRST_PERSON {
            let i = (hit.triangle.seed - FIRST_PERSON) as usize;
            if let (Some(person), Some(limbs)) = (self.people.get(i), moving.limbs.get(i)) {
                s.look.colour = person.worn(limbs, moving.time, at);
            }
        }
        let toward_sun = {
            let sun = V::from(SUN).normalize();
            let (a, b) = across(sun);
            let (sin, cos) = (by.unit[0] * std::f32::consts::TAU).sin_cos();
            (sun + (a * sin + b * cos) * (SUN_HALF * by.unit[1].sqrt())).normalize()
        };
        let facing = s.normal.dot(&toward_sun);
        let clear = s.flat.dot(&toward_sun);
        let behind = s.look.through > 0.0 && clear < 0.0;
        let sun = if (facing > 0.0 && clear > 0.0) || behind {
            let out = at + s.flat * if clear > 0.0 { 3e-3 } else { -3e-3 };
            let thin = |t: &Triangle| if matches!(t.skin, Skin::Leaf(_) | Skin::Cloth(_)) { THIN } else { 0.0 };
            let passed = self.still.passes(out, toward_sun, 400.0, thin);
            let passed = if passed > 0.0 { passed * moving.tree.passes(out, toward_sun, 60.0, thin) } else { 0.0 };
            passed * if behind { s.look.through * -clear } else { facing * (1.0 - 0.5 * s.look.through) }
        } else {
            0.0
        };
        // What moves, leaves and water ask for the light of their whereabouts only.
        let fine = match hit.triangle.skin {
            Skin::Leaf(_) | Skin::Cloth(_) => 0.25,
            Skin::Water | Skin::Hill => 0.8,
            _ if !still => 0.12,
            _ => 0.0,
        };
        let round =
            self.around.at(at, s.flat, footprint.max(fine), [by.unit[2], by.unit[3]], |o, r| self.arriving(o, r));
        let mut hidden = 1.0f32;
        if still && s.flat.y > 0.5 {
            for foot in &moving.feet {
                let d = (at - foot).norm_squared();
                hidden *= 1.0 - 0.62 * (-d / 0.10).exp();
            }
        }
        let mut light: Colour = std::array::from_fn(|k| s.look.colour[k] * (sun * SUNLIGHT[k] + round[k] * hidden));
        if s.look.gloss > 0.0 && depth < 2 {
            let cos = (-ray.dot(&s.normal)).clamp(0.0, 1.0);
            // Schlick, "An inexpensive BRDF model for physically-based rendering", 1994.
            let share = s.look.gloss
                + (1.0 - s.look.gloss) * (1.0 - cos).powi(5) * if s.look.gloss > 0.015 { 1.0 } else { 0.3 };
            let mirrored = (ray + s.normal * (2.0 * cos)).normalize();
            let mirrored = if mirrored.dot(&s.flat) < 0.02 {
                (mirrored + s.flat * (0.04 - mirrored.dot(&s.flat))).normalize()
            } else {
                mirrored
            };
            let smooth = matches!(hit.triangle.skin, Skin::Water | Skin::Glass);
            let seen = if smooth {
                let next = Ask { travelled: by.travelled + hit.distance, ..*by };
                self.seen(moving, at + s.flat * 3e-3, mirrored, &next, depth + 1)
            } else {
                // What is rough mirrors the sky at large, and the sun as a soft spot.
                let spot = mirrored.dot(&toward_sun).max(0.0).powi(40) * if sun > 0.0 { 6.0 } else { 0.0 };
                let open = round.map(|v| 0.9 * v);
                std::array::from_fn(|k| open[k] + spot * SUNLIGHT[k])
            };
            (0..3).for_each(|k| light[k] += share * (seen[k] - light[k] * if smooth { 1.0 } else { 0.0 }));
        }
        light
    }

    /// What a ray sees.
    fn seen(&self, moving: &Moving, from: V, ray: V, by: &Ask, depth: u32) -> Colour {
        match self.nearest(moving, from, ray) {
            None => sky(self.air, ray),
            Some((hit, still)) => {
                let light = self.shaded((&hit, still), moving, from, ray, by, depth);
                through_air(light, hit.distance, ray)
            }
        }
    }

    /// What comes from around along a ray, for matt surfaces: the sky, or what stands there in the sun and the shade.
    fn arriving(&self, from: V, ray: V) -> Colour {
        let Some(hit) = self.still.meet(from, ray, FAR_M) else {
            return if ray.y > -0.02 { open_sky(ray) } else { [0.10, 0.11, 0.11] };
        };
        let at = from + ray * hit.distance;
        let s = surface(&hit, at, ray, 0.4, 0.0);
        let sun = V::from(SUN).normalize();
        let facing = s.flat.dot(&sun);
        let lit = facing > 0.0 && self.still.passes(at + s.flat * 3e-3, sun, 100.0, |_| 0.0) > 0.0;
        let sun = if lit { facing } else { 0.0 };
        // What is met is itself in some of the sky's light.
        let round = open_sky(s.flat).map(|c| c * (0.42 + 0.22 * s.flat.y));
        std::array::from_fn(|k| s.look.colour[k] * (sun * SUNLIGHT[k] + round[k]))
    }
}

/// What is asked of a ray.
#[derive(Clone, Copy)]
struct Ask {
    frame: f64,
    /// Width of a pixel at distance one.
    spread: f32,
    travelled: f32,
    unit: [f32; 4],
}

/// A surface where it was met.
struct Surface {
    look: Look,
    /// Towards the viewer's side, without relief.
    flat: V,
    normal: V,
}

fn surface(hit: &Hit, at: V, ray: V, footprint: f32, frame: f64) -> Surface {
    let t = hit.triangle;
    let [b, c] = hit.weights;
    let a = 1.0 - b - c;
    let [u, v] = [0, 1].map(|k| f64::from(a * t.uv[0][k] + b * t.uv[1][k] + c * t.uv[2][k]));
    let mut flat = (t.normals[0] * a + t.normals[1] * b + t.normals[2] * c).try_normalize(1e-9).unwrap_or_else(V::y);
    let slant = ray.dot(&flat).abs().max(0.15).sqrt();
    let world = [at.x, at.y, at.z].map(f64::from);
    let look = skin::look(t.skin, t.seed, [u, v], world, f64::from(footprint / slant), frame);
    if flat.dot(&ray) > 0.0 {
        flat = -flat;
    }
    let mut normal = flat;
    if look.rise != [0.0; 2] {
        let (along_u, along_v) = match t.skin {
            Skin::Ground | Skin::Hill | Skin::Water => (V::x(), V::z()),
            _ => along(t, flat),
        };
        normal = (flat - along_u * look.rise[0] - along_v * look.rise[1]).normalize();
        if normal.dot(&ray) > -0.02 {
            normal = (normal - ray * (normal.dot(&ray) + 0.02)).normalize();
        }
    }
    Surface { look, flat, normal }
}

/// Directions in which `u` and `v` grow.
fn along(t: &Triangle, flat: V) -> (V, V) {
    let (p, q) = (t.at[1] - t.at[0], t.at[2] - t.at[0]);
    let (a, b) =
        ([t.uv[1][0] - t.uv[0][0], t.uv[1][1] - t.uv[0][1]], [t.uv[2][0] - t.uv[0][0], t.uv[2][1] - t.uv[0][1]]);
    let det = a[0] * b[1] - a[1] * b[0];
    if det.abs() < 1e-12 {
        return across(flat);
    }
    let u = (p * b[1] - q * a[1]) / det;
    let v = (q * a[0] - p * b[0]) / det;
    (u.try_normalize(1e-9).unwrap_or_else(V::x), v.try_normalize(1e-9).unwrap_or_else(V::y))
}

impl Scene for Basin {
    fn meet(&self, from: Vector3<f64>, ray: Vector3<f64>, frame: f64) -> Option<Met> {
        let (o, d): (V, V) = (from.cast(), ray.cast());
        let hit = self.still.meet(o, d, f32::INFINITY);
        let water = hit.as_ref().is_some_and(|h| h.triangle.skin == Skin::Water);
        let mut distance = hit.as_ref().map(|h| f64::from(h.distance));
        let mut moves = false;
        // People are told by an upright capsule here.
        for p in &self.people {
            let middle = p.at(frame) + V::y() * (0.5 * p.tall);
            let off = o - middle;
            let squeeze = V::new(1.0 / 0.34, 1.0 / (0.55 * p.tall), 1.0 / 0.34);
            let (so, sd) = (off.component_mul(&squeeze), d.component_mul(&squeeze));
            let (a, b) = (sd.norm_squared(), so.dot(&sd));
            let root = b * b - a * (so.norm_squared() - 1.0);
            let t = f64::from((-b - root.max(0.0).sqrt()) / a);
            if root > 0.0 && t > 0.0 && distance.is_none_or(|d| t < d) {
                (distance, moves) = (Some(t), true);
            }
        }
        let still = !moves && !water;
        let hit = if moves { None } else { hit };
        let ground = hit.as_ref().is_some_and(|h| h.triangle.skin == Skin::Ground);
        let face = hit.as_ref().filter(|h| still && h.triangle.face > 0).map(|h| h.triangle.face);
        let surface = if ground { Some("ground".to_owned()) } else { face.map(|f| format!("face-{f}")) };
        Some(Met { distance: distance?, still, ground, moves, surface })
    }

    fn walker(&self, from: Vector3<f64>, ray: Vector3<f64>, frame: f64) -> Option<u32> {
        let moving = self.moving(frame);
        let (hit, _) = self.nearest(&moving, from.cast(), ray.cast())?;
        let person = hit.triangle.seed.checked_sub(FIRST_PERSON)?;
        self.people.get(person as usize).filter(|p| p.pace > 0.0).map(|_| person)
    }

    fn look(
        &self,
        _: &[usize],
        from: Vector3<f64>,
        ray: Vector3<f64>,
        frame: f64,
        spread: f64,
        unit: [f64; 4],
    ) -> Colour {
        let moving = self.moving(frame);
        let by = Ask { frame, spread: spread as f32, travelled: 0.0, unit: unit.map(|v| v as f32) };
        self.seen(&moving, from.cast(), ray.cast(), &by, 0)
    }

    fn uprights(&self) -> Vec<Upright> {
        self.uprights.clone()
    }
}
