//! What a face looks like.

use crate::texture::{Texture, Wrap};
use fennik_core::matte::contains;
use std::sync::Arc;

/// What of a face shows through.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum Cover {
    /// Nothing, whatever its picture says.
    #[default]
    Opaque,
    /// All or nothing, parted at an alpha.
    Mask(f32),
    /// By its alpha.
    Blend,
}

/// How a picture lies on a face.
#[derive(Debug, Clone, PartialEq)]
pub struct Map {
    /// The picture.
    pub texture: Arc<Texture>,
    /// What lies beyond its rim, across and down.
    pub wrap: [Wrap; 2],
    /// Rows of two, then a shift: from the face's own places to those of the picture.
    pub transform: [f32; 6],
}

impl Map {
    /// As it is.
    pub fn new(texture: Arc<Texture>) -> Self {
        Self { texture, wrap: [Wrap::Clamp; 2], transform: [1.0, 0.0, 0.0, 1.0, 0.0, 0.0] }
    }

    /// A place in it.
    pub(crate) fn at(&self, [u, v]: [f32; 2]) -> [f32; 2] {
        let [a, b, c, d, x, y] = self.transform;
        [a * u + b * v + x, c * u + d * v + y]
    }

    /// A way in it.
    pub(crate) fn way(&self, [u, v]: [f32; 2]) -> [f32; 2] {
        let [a, b, c, d, ..] = self.transform;
        [a * u + b * v, c * u + d * v]
    }
}

/// One number of a picture.
#[derive(Debug, Clone, PartialEq)]
pub struct ChannelMap {
    /// The picture.
    pub map: Map,
    /// Red, green or blue.
    pub channel: usize,
    /// Whether bright stands for little.
    pub inverted: bool,
    /// How much of it counts, 0 to 1.
    pub strength: f32,
}

impl ChannelMap {
    /// A channel of a picture as it is.
    pub fn new(map: Map, channel: usize) -> Self {
        Self { map, channel, inverted: false, strength: 1.0 }
    }

    /// The number where a picture shows a colour.
    pub(crate) fn of(&self, colour: [f32; 4]) -> f32 {
        let v = colour[self.channel.min(2)];
        let v = if self.inverted { 1.0 - v } else { v };
        1.0 + self.strength * (v - 1.0)
    }
}

/// What a face looks like (metal and roughness as in glTF 2.0, appendix B).
#[derive(Debug, Clone, PartialEq)]
pub struct Material {
    /// Linear light that a matt face gives back, and alpha.
    pub base: [f32; 4],
    /// Times this picture.
    pub base_map: Option<Map>,
    /// 0 is none, 1 is metal.
    pub metal: f32,
    /// 0 is a mirror, 1 is matt.
    pub rough: f32,
    /// Times this.
    pub metal_map: Option<ChannelMap>,
    /// Times this.
    pub rough_map: Option<ChannelMap>,
    /// How much of the light that comes from everywhere reaches it.
    pub occlusion_map: Option<ChannelMap>,
    /// Directions.
    pub normal_map: Option<Map>,
    /// Linear light that it gives by itself.
    pub emission: [f32; 3],
    /// Times this picture.
    pub emission_map: Option<Map>,
    /// What shows through.
    pub cover: Cover,
    /// Whether its back is seen.
    pub two_sided: bool,
    /// Whether it shows its base as it is, whatever the light.
    pub glows: bool,
    /// Whether it mirrors light at all; a matt face does not.
    pub shines: bool,
    /// Whether it keeps light from others.
    pub casts: bool,
    /// What is left of it over the plate.
    pub matte: Option<Matte>,
    /// It is not seen itself: what it is of the scene's planes catches shadows and mirrors.
    pub catches: Option<usize>,
    /// It hides what lies behind it and is not seen itself.
    pub holds: bool,
}

/// Where a far picture is left out.
#[derive(Debug, Clone, PartialEq)]
pub struct Matte {
    /// Over how much it fades at the horizon, radians; `None` where it goes on below.
    pub horizon: Option<f32>,
    /// From which brightness of the plate on it covers, display values 0 to 1, and over how much it fades in.
    pub plate: Option<(f32, f32)>,
    /// A shape on the picture.
    pub shape: Option<Arc<MatteShape>>,
}

/// A closed shape on the picture, in parts of the picture's width.
#[derive(Debug, Clone, PartialEq)]
pub struct MatteShape {
    /// Its corners.
    pub corners: Vec<[f64; 2]>,
    /// Over how much it fades.
    pub soft: f64,
    /// Whether it covers outside.
    pub inverted: bool,
}

impl MatteShape {
    /// How much of what it cuts is left at a place.
    pub fn share_at(&self, x: f64, y: f64, least_soft: f64) -> f32 {
        let mut nearest = f64::INFINITY;
        for (i, [ax, ay]) in self.corners.iter().enumerate() {
            let [bx, by] = self.corners[(i + 1) % self.corners.len()];
            let (wx, wy) = (bx - ax, by - ay);
            let along = wx * wx + wy * wy;
            let t = (((x - ax) * wx + (y - ay) * wy) / along.max(1e-18)).clamp(0.0, 1.0);
            nearest = nearest.min((ax + t * wx - x).hypot(ay + t * wy - y));
        }
        let inside = contains(&self.corners, x, y) != self.inverted;
        let signed = if inside { nearest } else { -nearest };
        (signed / self.soft.max(least_soft) + 0.5).clamp(0.0, 1.0) as f32
    }
}

impl Material {
    /// Matt, of one colour, linear light.
    pub fn matt([r, g, b]: [f32; 3]) -> Self {
        Self {
            base: [r, g, b, 1.0],
            base_map: None,
            metal: 0.0,
            rough: 1.0,
            metal_map: None,
            rough_map: None,
            occlusion_map: None,
            normal_map: None,
            emission: [0.0; 3],
            emission_map: None,
            cover: Cover::Opaque,
            two_sided: true,
            glows: false,
            shines: false,
            casts: true,
            matte: None,
            catches: None,
            holds: false,
        }
    }

    /// The picture by which parts of it are clear.
    pub(crate) fn clear_map(&self) -> Option<&Map> {
        self.base_map.as_ref().filter(|m| self.cover != Cover::Opaque && !m.texture.is_opaque())
    }

    /// Whether any picture lies on it.
    pub(crate) fn is_pictured(&self) -> bool {
        let channels = [&self.metal_map, &self.rough_map, &self.occlusion_map];
        [&self.base_map, &self.normal_map, &self.emission_map].iter().any(|m| m.is_some())
            || channels.iter().any(|m| m.is_some())
    }

    /// Whether what lies behind it may be seen.
    pub fn shows_through(&self) -> bool {
        match self.cover {
            Cover::Opaque => self.matte.is_some() || self.catches.is_some(),
            Cover::Mask(_) => true,
            Cover::Blend => {
                self.base[3] < 1.0
                    || self.matte.is_some()
                    || self.base_map.as_ref().is_some_and(|m| !m.texture.is_opaque())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shape_cuts_within_its_outline_or_outside_and_fades_across_it() {
        let corners = vec![[0.2, 0.1], [0.8, 0.1], [0.8, 0.5], [0.2, 0.5]];
        let mut shape = MatteShape { corners, soft: 0.1, inverted: false };
        let share = |s: &MatteShape, x| s.share_at(x, 0.3, 0.001);
        let seen = [0.1, 0.175, 0.2, 0.225, 0.5].map(|x| share(&shape, x));
        for (seen, wanted) in seen.into_iter().zip([0.0, 0.25, 0.5, 0.75, 1.0]) {
            assert!((seen - wanted).abs() < 1e-6, "{seen}, not {wanted}");
        }
        shape.inverted = true;
        assert_eq!([share(&shape, 0.1), share(&shape, 0.5)], [1.0, 0.0]);
        shape.soft = 0.0;
        assert!((share(&shape, 0.2) - 0.5).abs() < 1e-6, "an edge is as soft as a pixel");
    }
}
