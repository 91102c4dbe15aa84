//! What inserts are drawn over: display bytes for a quick look, linear light for what is delivered.

use crate::colour::{byte_of, linear_of};
use fennik_core::matte::Coverage;
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

/// A picture that is drawn on, row by row.
pub enum Canvas<'a> {
    /// Display values, three bytes a pixel.
    Bytes(&'a mut [u8]),
    /// Linear light.
    Light(&'a mut [[f32; 3]]),
}

/// The same to be looked at.
#[derive(Clone, Copy)]
pub(crate) enum Behind<'a> {
    Bytes(&'a [u8]),
    Light(&'a [[f32; 3]]),
}

impl Behind<'_> {
    /// The plate at a pixel, linear light.
    pub(crate) fn at(self, i: usize) -> [f32; 4] {
        let [r, g, b] = match self {
            Self::Bytes(rgb) => [rgb[3 * i], rgb[3 * i + 1], rgb[3 * i + 2]].map(linear_of),
            Self::Light(light) => light[i],
        };
        [r, g, b, 1.0]
    }
}

impl Canvas<'_> {
    /// Pixels.
    pub(crate) fn len(&self) -> usize {
        match self {
            Self::Bytes(rgb) => rgb.len() / 3,
            Self::Light(light) => light.len(),
        }
    }

    pub(crate) fn behind(&self) -> Behind<'_> {
        match self {
            Self::Bytes(rgb) => Behind::Bytes(rgb),
            Self::Light(light) => Behind::Light(light),
        }
    }

    /// Does something to bands of rows, so many rows each, several at once: of each its number, and its own pixels.
    pub(crate) fn each_band(
        &mut self,
        width: usize,
        rows: std::ops::Range<usize>,
        high: usize,
        act: impl Fn(usize, Canvas) + Sync,
    ) {
        let all = width * rows.start..width * rows.end;
        match self {
            Self::Bytes(rgb) => {
                let bands = rgb[3 * all.start..3 * all.end].par_chunks_mut(3 * width * high).enumerate();
                bands.for_each(|(i, band)| act(i, Canvas::Bytes(band)));
            }
            Self::Light(light) => {
                let bands = light[all].par_chunks_mut(width * high).enumerate();
                bands.for_each(|(i, band)| act(i, Canvas::Light(band)));
            }
        }
    }

    /// Writes light to a pixel.
    pub(crate) fn put(&mut self, i: usize, light: [f32; 3]) {
        match self {
            Self::Bytes(rgb) => rgb[3 * i..3 * i + 3].copy_from_slice(&light.map(byte_of)),
            Self::Light(all) => all[i] = light,
        }
    }

    /// Does something to the pixels of rows, several rows at once: of each its column, its row and its light; `None` leaves it
    /// as it is.
    pub(crate) fn each_pixel(
        &mut self,
        width: usize,
        rows: std::ops::Range<usize>,
        act: impl Fn(usize, usize, [f32; 3]) -> Option<[f32; 3]> + Sync,
    ) {
        let all = width * rows.start..width * rows.end;
        match self {
            Self::Bytes(rgb) => {
                let lines = rgb[3 * all.start..3 * all.end].par_chunks_mut(3 * width).enumerate();
                lines.for_each(|(row, line)| {
                    for (x, bytes) in line.chunks_exact_mut(3).enumerate() {
                        let light = [bytes[0], bytes[1], bytes[2]].map(linear_of);
                        if let Some(light) = act(x, rows.start + row, light) {
                            bytes.copy_from_slice(&light.map(byte_of));
                        }
                    }
                });
            }
            Self::Light(light) => light[all].par_chunks_mut(width).enumerate().for_each(|(row, line)| {
                for (x, pixel) in line.iter_mut().enumerate() {
                    if let Some(light) = act(x, rows.start + row, *pixel) {
                        *pixel = light;
                    }
                }
            }),
        }
    }
}

/// What stands in front of what is placed, on one frame.
#[derive(Debug, Clone, Default)]
pub struct Fronts {
    /// Of everything.
    pub all: Option<Arc<Coverage>>,
    /// Of inserts by their ids, where any has its own; then nothing is in front of everything alike.
    pub own: BTreeMap<u32, Arc<Coverage>>,
    /// Of what lies on the plate where inserts have their own: shadows and their like.
    pub plate: Option<Arc<Coverage>>,
}

impl Fronts {
    /// Nothing.
    pub fn none() -> Self {
        Self::default()
    }

    /// How much of a pixel is in front of everything.
    pub(crate) fn all_at(&self, i: usize) -> f32 {
        self.all.as_ref().map_or(0.0, |c| c.parts[i])
    }

    /// How much of a pixel is in front of an insert that has its own.
    pub(crate) fn own_at(&self, insert: u32, i: usize) -> f32 {
        self.own.get(&insert).or(self.plate.as_ref()).map_or(0.0, |c| c.parts.get(i).copied().unwrap_or(0.0))
    }
}
