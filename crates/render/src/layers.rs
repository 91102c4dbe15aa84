//! Layers of linear light with alpha, and their composition.

use crate::colour::{byte_of, linear_of};
use rayon::prelude::*;

/// Where a layer lies in the picture; ends excluded, px.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bounds {
    /// First column.
    pub left: usize,
    /// First row.
    pub top: usize,
    /// The column after the last.
    pub right: usize,
    /// The row after the last.
    pub bottom: usize,
}

impl Bounds {
    /// Columns.
    pub fn width(&self) -> usize {
        self.right - self.left
    }

    /// Rows.
    pub fn height(&self) -> usize {
        self.bottom - self.top
    }
}

/// A part of a picture: red, green and blue in linear light, times alpha, and alpha.
#[derive(Debug, Clone, PartialEq)]
pub struct Layer {
    /// Where it lies.
    pub bounds: Bounds,
    /// Row by row.
    pub pixels: Vec<[f32; 4]>,
}

impl Layer {
    /// Nothing to be seen.
    pub fn empty(bounds: Bounds) -> Self {
        Self { bounds, pixels: vec![[0.0; 4]; bounds.width() * bounds.height()] }
    }
}

/// Puts a layer over a plate of display bytes, `width` px across, in linear light. Pixels of which the layer covers
/// nothing are left to the byte.
pub fn compose(plate: &mut [u8], width: usize, layer: &Layer) {
    let Bounds { left, top, bottom, .. } = layer.bounds;
    let columns = layer.bounds.width();
    if columns == 0 {
        return;
    }
    let rows = &mut plate[3 * width * top..3 * width * bottom];
    rows.par_chunks_mut(3 * width).zip(layer.pixels.par_chunks(columns)).for_each(|(plate, over)| {
        let plate = plate[3 * left..].chunks_exact_mut(3);
        for (bytes, [r, g, b, alpha]) in plate.zip(over).filter(|(_, p)| p[3] > 0.0) {
            for (byte, light) in bytes.iter_mut().zip([r, g, b]) {
                *byte = byte_of(light + (1.0 - alpha) * linear_of(*byte));
            }
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn light_is_mixed_linear_and_the_rest_of_the_plate_is_untouched() {
        let bounds = Bounds { left: 1, top: 0, right: 3, bottom: 1 };
        let mut layer = Layer::empty(bounds);
        layer.pixels[0] = [0.5, 0.0, 0.5, 0.5];
        let mut plate = [100u8; 4 * 2 * 3];
        compose(&mut plate, 4, &layer);
        let under = linear_of(100);
        let mixed = [0.5 + 0.5 * under, 0.5 * under, 0.5 + 0.5 * under].map(byte_of);
        assert_eq!(plate[3..6], mixed);
        assert!(plate.iter().enumerate().all(|(i, b)| (3..6).contains(&i) || *b == 100));
    }
}
