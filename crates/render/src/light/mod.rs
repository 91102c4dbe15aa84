//! Light on a face: the sun with its shadow, and what comes from everywhere.
//!
//! Matt faces give light back evenly (Lambert); those that shine also mirror it in lobes of micro facets (Walter et al.,
//! "Microfacet Models for Refraction", 2007, with Schlick's terms, as glTF 2.0, appendix B), and of the sky what
//! Karis gives for it ("Physically Based Shading on Mobile", 2014).

mod lamp;
mod surroundings;

pub(crate) use lamp::{LampNow, scattered};
pub(crate) use surroundings::AroundNow;
pub use surroundings::Panorama;

use crate::catching::caught;
use crate::colour::linear_colour;
use crate::material::ChannelMap;
use crate::placed::{Face, PlacedScene};
use crate::texture::Footprint;
use fennik_core::scene::LightNow;
use nalgebra::Vector3;
use std::f32::consts::PI;

/// A shadow ray starts this far off its surface, of the distance to the camera.
const OFFSET: f32 = 1e-4;
/// Light that what is no metal mirrors head-on.
const DIELECTRIC: f32 = 0.04;
/// Smallest roughness: a sun of no size would not be seen in a perfect mirror.
const SMOOTHEST: f32 = 0.06;

type V = Vector3<f32>;

/// A point of a face that is looked at.
pub(crate) struct Seen<'a> {
    pub face: &'a Face,
    /// Its position in the scene.
    pub index: usize,
    /// World.
    pub at: V,
    /// Unit direction in which it is looked at.
    pub along: V,
    /// World units from the eye.
    pub distance: f32,
    /// Radians that a pixel spans.
    pub pixel: f32,
}

/// What a face sends towards the eye.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Sent {
    /// Linear light times alpha, and alpha.
    pub light: [f32; 4],
    /// How much is left of each channel of what lies behind.
    pub kept: [f32; 3],
    /// Whether the sun reaches it.
    pub lit: bool,
}

impl Sent {
    /// What covers all channels alike.
    pub fn new(light: [f32; 4], lit: bool) -> Self {
        Self { light, kept: [1.0 - light[3]; 3], lit }
    }
}

/// The light that falls on everything, linear.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Falling {
    /// Unit direction to the sun.
    pub toward_sun: V,
    /// Light of the sun on what faces it.
    pub sun: V,
    /// How much of it is kept off in the shadow of a thing, 0 to 1.
    pub shadow: f32,
    /// Light from everywhere.
    pub ambient: V,
}

impl Falling {
    pub fn new(light: &LightNow) -> Self {
        Self {
            toward_sun: light.toward_sun().cast(),
            sun: linear_colour(light.sun_colour) * light.sun as f32,
            shadow: light.sun_shadow as f32,
            ambient: linear_colour(light.ambient_colour) * light.ambient as f32,
        }
    }
}

/// How carefully light is looked at.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Care {
    /// Whether faces keep the sun from one another.
    pub shadows: bool,
    /// Whether shadows on the floor are fine.
    pub fine: bool,
    /// Whether pictures are looked at but once, and directions on a face not at all.
    pub quick: bool,
}

/// Places of the pictures of a face.
struct Places {
    uv: [f32; 2],
    /// How they grow, per world unit.
    slopes: [V; 2],
    long: V,
    short: V,
    quick: bool,
}

impl Places {
    fn footprint(&self, map: &crate::Map) -> Footprint {
        let way = |d: &V| map.way([self.slopes[0].dot(d), self.slopes[1].dot(d)]);
        Footprint { at: map.at(self.uv), long: way(&self.long), short: way(&self.short) }
    }

    fn look(&self, map: Option<&crate::Map>) -> Option<[f32; 4]> {
        map.map(|m| {
            let over = self.footprint(m);
            if self.quick { m.texture.glance(&over, m.wrap) } else { m.texture.look(&over, m.wrap) }
        })
    }
}

/// What a point of a face sends towards the eye.
pub(crate) fn shade(scene: &PlacedScene, light: &Falling, seen: &Seen, care: Care) -> Sent {
    let material = scene.material(seen.face);
    if let Some(plane) = material.catches {
        return caught(scene, light, seen, care, plane);
    }
    let sun = light.toward_sun;
    // Both sides of a face are lit alike: the camera may fly through.
    let back = seen.face.normal.dot(&seen.along) > 0.0;
    let flat = if back { -seen.face.normal } else { seen.face.normal };
    let corners = scene.triangles[seen.index];
    let smooth = scene.is_smooth(seen.index);
    let pictured = material.is_pictured();
    let coloured = !scene.colours.is_empty();
    let between = if smooth || pictured || coloured { scene.between(seen.index, seen.at) } else { None };
    let mut normal = flat;
    let mut places = None;
    if let Some(b) = &between {
        if smooth {
            let sum: V = corners.iter().zip(b.weights).map(|(k, w)| scene.normals[*k as usize] * w).sum();
            normal = sum.try_normalize(1e-6).map_or(flat, |n| if back { -n } else { n });
        }
        if pictured {
            let [p, q, r] = corners.map(|k| scene.uvs[k as usize]);
            let uv = std::array::from_fn(|k| p[k] * b.weights[0] + q[k] * b.weights[1] + r[k] * b.weights[2]);
            let slopes = std::array::from_fn(|k| b.slopes[0] * (q[k] - p[k]) + b.slopes[1] * (r[k] - p[k]));
            let width = seen.distance * seen.pixel;
            let level = (seen.along - flat * seen.along.dot(&flat)).try_normalize(1e-6);
            let way =
                level.unwrap_or_else(|| flat.cross(&if flat.y.abs() < 0.9 { V::y() } else { V::x() }).normalize());
            let steep = seen.along.dot(&flat).abs().max(0.02);
            let (long, short) = (way * (width / steep), flat.cross(&way) * width);
            places = Some(Places { uv, slopes, long, short, quick: care.quick });
        }
    }
    let base = places.as_ref().and_then(|p| p.look(material.base_map.as_ref()));
    let mut colour: [f32; 4] = std::array::from_fn(|k| material.base[k] * base.map_or(1.0, |b| b[k]));
    if let Some(b) = between.as_ref().filter(|_| coloured) {
        let own = corners.map(|k| scene.colours[k as usize]);
        let mixed: [f32; 4] = std::array::from_fn(|k| own.iter().zip(b.weights).map(|(c, w)| c[k] * w).sum());
        // What is clear is clear of light as well.
        (0..3).for_each(|k| colour[k] *= mixed[k] * mixed[3]);
        colour[3] *= mixed[3];
    }
    // A picture's light is times its alpha already; the material's own alpha is not.
    let mut alpha = colour[3];
    let mut albedo = V::new(colour[0], colour[1], colour[2]) * material.base[3];
    match material.cover {
        crate::Cover::Opaque => {
            albedo /= alpha.max(1e-4);
            alpha = 1.0;
        }
        crate::Cover::Mask(from) => {
            albedo /= alpha.max(1e-4);
            alpha = if alpha >= from { 1.0 } else { 0.0 };
        }
        crate::Cover::Blend => {}
    }
    if alpha <= 0.0 {
        return Sent::new([0.0; 4], false);
    }
    if let (Some(p), Some(map), false) = (&places, &material.normal_map, care.quick) {
        let [x, y, z, _] = map.texture.look(&p.footprint(map), map.wrap);
        let (u, v) = (p.slopes[0], p.slopes[1]);
        let along = |d: V| (d - normal * d.dot(&normal)).try_normalize(1e-12);
        if let (Some(right), Some(down)) = (along(u), along(v)) {
            let bent = right * (2.0 * x - 1.0) - down * (2.0 * y - 1.0) + normal * (2.0 * z - 1.0).max(0.05);
            normal = bent.try_normalize(1e-6).unwrap_or(normal);
        }
    }
    let glow = material.emission.map(|e| e * alpha);
    let emitted = places.as_ref().and_then(|p| p.look(material.emission_map.as_ref()));
    let glow = V::from(std::array::from_fn(|k| glow[k] * emitted.map_or(1.0, |e| e[k])));
    if material.glows {
        let out = albedo + glow;
        return Sent::new([out.x, out.y, out.z, alpha], false);
    }
    let facing = normal.dot(&sun).max(0.0);
    let lit = facing > 0.0
        && flat.dot(&sun) > 0.0
        && sun.y > 0.0
        && (!care.shadows || {
            let from = seen.at + flat * (OFFSET * seen.distance.max(1.0));
            !scene.blocks(from, sun, f32::INFINITY)
        });
    let direct = light.sun * (facing * if lit { 1.0 } else { 1.0 - light.shadow });
    let number = |of: &Option<ChannelMap>| {
        let of = of.as_ref()?;
        places.as_ref().and_then(|p| p.look(Some(&of.map))).map(|c| of.of(c))
    };
    let open = number(&material.occlusion_map).unwrap_or(1.0);
    let surrounded = scene.look(seen.face).surrounded;
    let around = scene.around.as_ref().filter(|_| surrounded > 0.0);
    // The sky gives more than the ground, so that no side goes flat.
    let mut ambient = light.ambient * (0.85 + 0.15 * normal.y);
    if let Some(around) = around {
        ambient += around.even(normal) * surrounded;
    }
    let ambient = ambient * open;
    let lamps = lamps_on(scene, seen, (normal, flat), care);
    let on_matt: V = lamps.iter().map(|(falling, _)| falling).sum::<V>() + direct + ambient;
    let mut out = albedo.component_mul(&on_matt) + glow;
    if material.shines {
        let metal = material.metal * number(&material.metal_map).unwrap_or(1.0);
        let rough = (material.rough * number(&material.rough_map).unwrap_or(1.0)).clamp(SMOOTHEST, 1.0);
        let toward_eye = -seen.along;
        let head_on = V::repeat(DIELECTRIC * alpha) * (1.0 - metal) + albedo * metal;
        let mirrored = |toward: V| around.map_or_else(V::zeros, |a| a.mirrored(toward, rough) * surrounded);
        let sky = mirrored_sky(light.ambient, normal, toward_eye, rough, head_on, mirrored) * open;
        let sparkle = |falling: &V, from: V| lobe(normal, toward_eye, from, rough, head_on).component_mul(falling) * PI;
        let of_lamps: V = lamps.iter().map(|(falling, toward)| sparkle(falling, *toward)).sum();
        let sparkle = sparkle(&direct, sun) + of_lamps;
        out = albedo.component_mul(&on_matt) * (1.0 - metal) + sky + sparkle + glow;
    }
    Sent::new([out.x, out.y, out.z, alpha], lit)
}

/// Light of the sun that is mirrored, of the light that falls on it.
fn lobe(normal: V, eye: V, sun: V, rough: f32, head_on: V) -> V {
    let Some(half) = (eye + sun).try_normalize(1e-6) else { return V::zeros() };
    let (nh, nl, nv) = (normal.dot(&half).max(0.0), normal.dot(&sun).max(0.0), normal.dot(&eye).max(1e-3));
    let a2 = rough.powi(4);
    let spread = a2 / (PI * (nh * nh * (a2 - 1.0) + 1.0).powi(2));
    // Both ways in and out (Heitz 2014, height-correlated).
    let seen = 0.5 / (nl * (nv * nv * (1.0 - a2) + a2).sqrt() + nv * (nl * nl * (1.0 - a2) + a2).sqrt()).max(1e-4);
    let grazing = (1.0 - eye.dot(&half).clamp(0.0, 1.0)).powi(5);
    (head_on + (V::repeat(1.0) - head_on) * grazing) * (spread * seen)
}

/// Light of lamps on a place of a face, as far as it faces them and nothing is between; with the direction of each.
fn lamps_on(scene: &PlacedScene, seen: &Seen, (normal, flat): (V, V), care: Care) -> Vec<(V, V)> {
    let mut all = Vec::new();
    for lamp in &scene.lamps {
        let looks = if care.shadows && lamp.is_wide() { lamp::LOOKS } else { 1 };
        let turn = if looks > 1 { scattered(seen.at) } else { 0.0 };
        let from = seen.at + flat * (OFFSET * seen.distance.max(1.0));
        let mut sum = V::zeros();
        let mut mean = V::zeros();
        for k in 0..looks {
            let (falling, toward, far) = lamp.falling(lamp.place(k, looks, turn, seen.at), seen.at);
            let facing = normal.dot(&toward);
            if facing <= 0.0 || falling == V::zeros() {
                continue;
            }
            let dark = flat.dot(&toward) <= 0.0 || (care.shadows && scene.blocks(from, toward, far));
            sum += falling * (facing * if dark { 1.0 - lamp.shadow } else { 1.0 });
            mean += toward;
        }
        if let Some(toward) = mean.try_normalize(1e-9).filter(|_| sum != V::zeros()) {
            all.push((sum / looks as f32, toward));
        }
    }
    all
}

/// Light of sky and ground that is mirrored: bright above, dimmer below, the softer the rougher; and what the surroundings
/// show there.
fn mirrored_sky(ambient: V, normal: V, eye: V, rough: f32, head_on: V, around: impl Fn(V) -> V) -> V {
    let toward = normal * (2.0 * normal.dot(&eye)) - eye;
    let soft = 0.15 + 0.85 * rough;
    let up = (toward.y / soft).clamp(-1.0, 1.0);
    let sky = ambient * (0.9 + 0.55 * up) + around(toward);
    // Karis: scale and bias of the light mirrored head-on.
    let nv = normal.dot(&eye).clamp(0.0, 1.0);
    let r = [1.0 - rough, 0.0425 - 0.0275 * rough, 1.04 - 0.572 * rough, 0.022 * rough - 0.04];
    let a = (r[0] * r[0]).min((-9.28 * nv).exp2()) * r[0] + r[1];
    let (scale, bias) = (-1.04 * a + r[2], 1.04 * a + r[3]);
    (head_on * scale + V::repeat(bias.max(0.0))).component_mul(&sky)
}
