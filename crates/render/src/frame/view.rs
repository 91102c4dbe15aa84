//! What is seen at a place of the picture.

use super::sight::Sight;
use crate::blend::{Rgba, blend};
use crate::canvas::Fronts;
use crate::colour::{encode, luminance};
use crate::light::{Care, Falling, Seen, Sent, shade};
use crate::material::Matte;
use crate::placed::PlacedScene;
use crate::raster::{Fragment, TILE};
use fennik_core::camera::Camera;
use nalgebra::Vector3;

/// Two faces that share an edge lie there at depths that differ by rounding alone.
const SAME_DEPTH: f32 = 1e-6;

/// What was seen of the last few faces in a pixel, for as long as they look the same there.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Knows {
    /// Of each face, and of its material; 0 for none.
    keys: [[u32; 2]; 3],
    sent: [Sent; 3],
}

impl Knows {
    fn of(&self, key: [u32; 2]) -> Option<Sent> {
        (0..self.keys.len()).find(|k| self.keys[*k] == key).map(|k| self.sent[k])
    }

    /// The one that has been there longest gives way.
    fn learn(&mut self, key: [u32; 2], sent: &Sent) {
        self.keys.rotate_right(1);
        self.sent.rotate_right(1);
        (self.keys[0], self.sent[0]) = (key, *sent);
    }
}

/// What was seen of a face in a cell of a few pixels.
#[derive(Debug, Clone, Copy, Default)]
struct Cell {
    /// Its column and row among cells as wide and high.
    at: [u32; 2],
    /// Of the face and of its material; 0 for none.
    key: [u32; 2],
    sent: Sent,
}

/// What was seen in the cells of a tile: in a draft all of a cell is taken for as much, where a face looks much the same
/// from one pixel to the next. What catches shadows has cells of its own, since something else may show through it.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Cells([[Cell; TILE / NARROW]; 2]);

/// Columns of a cell on a flat matt face, columns of any other, and rows.
const WIDE: usize = 4;
const NARROW: usize = 2;
const HIGH: usize = 2;

impl Cells {
    fn cell(&mut self, width: usize, catches: bool, at: [usize; 2]) -> (&mut Cell, [u32; 2]) {
        let slot = at[0] / width * width / NARROW % (TILE / NARROW);
        (&mut self.0[usize::from(catches)][slot], [(at[0] / width) as u32, (at[1] / HIGH) as u32])
    }
}

/// What is known of faces that are looked at.
pub(super) enum Recall<'a> {
    Nothing,
    /// Of those in this pixel at other moments.
    Pixel(&'a mut Knows),
    /// Of those in the pixels beside this one.
    Tile(&'a mut Cells),
}

/// A scene as a camera sees it over a plate.
pub(super) struct View<'a> {
    pub scene: &'a PlacedScene,
    falling: Falling,
    pub sight: Sight<'a>,
    care: Care,
    fronts: &'a Fronts,
    /// Of the plate, px.
    pub size: [usize; 2],
    /// Whether anybody wants to know how far away things are.
    pub asks_far: bool,
}

/// What is seen at a place of the picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Mixed {
    /// Light, the plate's with it.
    pub seen: Rgba,
    /// Whether the sun reaches the face.
    pub lit: bool,
    /// How much of the plate shows through.
    pub through: f32,
    /// How far away the nearest face is; without end where there is none.
    pub far: f32,
}

impl<'a> View<'a> {
    pub fn new(camera: &'a Camera, scene: &'a PlacedScene, care: Care, size: [usize; 2], fronts: &'a Fronts) -> Self {
        let falling = Falling::new(&scene.light);
        Self { scene, falling, sight: Sight::new(camera, size), care, fronts, size, asks_far: false }
    }

    /// The same, for those who want to know how far away things are.
    pub fn asking_far(self, asks_far: bool) -> Self {
        Self { asks_far, ..self }
    }

    /// Makes what all who draw share, before they begin.
    pub fn look_ahead(&self) {
        self.scene.look_ahead(self.care);
    }
}

impl View<'_> {
    /// Light of a face at a place of the picture, and where that is: world, and how far from the eye.
    fn light(&self, index: u32, x: f64, y: f64) -> (Sent, Vector3<f32>, f32) {
        let face = &self.scene.faces[index as usize];
        let (from, along) = self.sight.ray(x, y);
        let normal = face.normal.cast::<f64>();
        // Where the ray meets the plane of the face; one that is seen edge-on is met anywhere.
        let distance = (f64::from(face.offset) - normal.dot(&from)) / normal.dot(&along);
        let distance = if distance.is_finite() && distance > 0.0 { distance } else { 1.0 };
        let at = from + along * distance;
        let pixel = (1.0 / self.sight.camera.lens.focal_px) as f32;
        let (at, along, distance) = (at.cast(), along.cast(), distance as f32);
        let seen = Seen { face, index: index as usize, at, along, distance, pixel };
        let mut sent = shade(self.scene, &self.falling, &seen, self.care);
        sent.light = self.scene.seen_from(face, sent.light, distance);
        (sent, at, distance)
    }

    /// How much of a far picture is left at a pixel: by the horizon, and by the brightness of the plate.
    fn matte(&self, matte: &Matte, at: [f64; 2], plate: &Rgba) -> f32 {
        let mut part = 1.0;
        if let Some(fade) = matte.horizon {
            let (_, along) = self.sight.ray(at[0], at[1]);
            part *= (along.y.asin() as f32 / fade.max(1e-5) + 0.5).clamp(0.0, 1.0);
        }
        if let Some((from, soft)) = matte.plate {
            let bright = encode(luminance([plate[0], plate[1], plate[2]]));
            part *= ((bright - from) / soft.max(1e-4) + 0.5).clamp(0.0, 1.0);
        }
        if let Some(shape) = &matte.shape {
            // Pixels are counted by their middles; an edge is never sharper than one.
            let pixel = 1.0 / self.size[0] as f64;
            part *= shape.share_at((at[0] + 0.5) * pixel, (at[1] + 0.5) * pixel, pixel);
        }
        part
    }

    /// What is seen at a place of the picture: the plate, a face, and what shows through before it, the farthest first.
    pub fn mixed(&self, face: u32, before: &[Fragment], at: [f64; 2], plate: Rgba, mut recall: Recall) -> Mixed {
        let mut mixed = Mixed { seen: plate, lit: false, through: 1.0, far: f32::INFINITY };
        if face > 0 && !self.scene.material(&self.scene.faces[face as usize - 1]).holds {
            let sent = self.known(face - 1, at, &mut recall);
            (mixed.seen, mixed.lit) = (sent.light, sent.lit);
            (mixed.through, mixed.far) = (0.0, self.far(face - 1, at));
        }
        for (i, fragment) in before.iter().enumerate() {
            let face = &self.scene.faces[fragment.face as usize];
            let (material, look) = (self.scene.material(face), self.scene.look(face));
            let nearer = &before[i + 1..];
            let same = |f: &&Fragment| self.scene.faces[f.face as usize].look == face.look;
            // What is faded as a whole does not show its own far side; and two that share an edge are met once.
            let hidden = if material.shows_through() && material.catches.is_none() {
                nearer.first().filter(same).is_some_and(|f| f.depth - fragment.depth <= SAME_DEPTH * f.depth)
            } else {
                nearer.iter().any(|f| same(&f))
            };
            if hidden {
                continue;
            }
            if material.holds {
                (0..4).for_each(|k| mixed.seen[k] += (plate[k] - mixed.seen[k]) * look.opacity);
                mixed.through += (1.0 - mixed.through) * look.opacity;
                continue;
            }
            let (sent, mut part) = if look.is_even() {
                (self.known(fragment.face, at, &mut recall), look.opacity)
            } else {
                let (sent, place, distance) = self.light(fragment.face, at[0], at[1]);
                (sent, look.share_at(place, distance))
            };
            if let Some(matte) = &material.matte {
                part *= self.matte(matte, at, &plate);
            }
            if look.held {
                part *= 1.0 - self.fronts.own_at(look.insert, self.pixel(at));
            }
            let over = sent.light.map(|v| v * part);
            if material.catches.is_some() {
                // A shadow takes of each channel what it takes.
                (0..3).for_each(|k| mixed.seen[k] = over[k] + mixed.seen[k] * (1.0 - (1.0 - sent.kept[k]) * part));
            } else {
                mixed.seen = blend(over, mixed.seen, look.blend);
            }
            // Other modes add to what is there, or take from it: none covers the plate.
            if look.blend == fennik_core::scene::Blend::Normal {
                mixed.through *= 1.0 - over[3];
            }
            if over[3] > 0.1 && material.catches.is_none() {
                mixed.far = self.far(fragment.face, at);
            }
        }
        mixed
    }

    /// How far from the eye a face is at a place of the picture.
    fn far(&self, index: u32, at: [f64; 2]) -> f32 {
        if !self.asks_far {
            return 0.0;
        }
        let face = &self.scene.faces[index as usize];
        let (from, along) = self.sight.ray(at[0], at[1]);
        let normal = face.normal.cast::<f64>();
        let distance = (f64::from(face.offset) - normal.dot(&from)) / normal.dot(&along);
        if distance.is_finite() && distance > 0.0 { distance as f32 } else { 1.0 }
    }

    /// Columns of the cells in which a draft takes a face for even; `None` where each pixel is looked at.
    fn cell_width(&self, index: u32) -> Option<usize> {
        let material = self.scene.material(&self.scene.faces[index as usize]);
        if material.is_pictured() {
            return None;
        }
        match material.catches {
            Some(plane) => (self.scene.catches[plane].now.mirror <= 0.0).then_some(NARROW),
            None if material.shines || self.scene.is_smooth(index as usize) => Some(NARROW),
            None => Some(WIDE),
        }
    }

    /// Light of a face in a pixel: as it is known there, or looked at now.
    fn known(&self, index: u32, at: [f64; 2], recall: &mut Recall) -> Sent {
        let face = &self.scene.faces[index as usize];
        let key = [face.key, face.material + 1];
        let looked = || self.light(index, at[0], at[1]).0;
        match recall {
            Recall::Nothing => looked(),
            Recall::Pixel(knows) => knows.of(key).unwrap_or_else(|| {
                let sent = looked();
                knows.learn(key, &sent);
                sent
            }),
            Recall::Tile(cells) => {
                let Some(width) = self.cell_width(index) else { return looked() };
                let catches = self.scene.material(face).catches.is_some();
                let (cell, place) = cells.cell(width, catches, at.map(|v| v as usize));
                if cell.key != key || cell.at != place {
                    *cell = Cell { at: place, key, sent: looked() };
                }
                cell.sent
            }
        }
    }

    /// The pixel of a place.
    fn pixel(&self, at: [f64; 2]) -> usize {
        let [x, y] = [0, 1].map(|k| (at[k].round().max(0.0) as usize).min(self.size[k] - 1));
        y * self.size[0] + x
    }

    pub fn key(&self, face: u32) -> u32 {
        self.scene.faces[face as usize].key
    }
}
