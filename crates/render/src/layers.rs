//! Layers of linear light with alpha, and their composition.

use crate::canvas::{Canvas, Fronts};

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

/// Puts a layer over a plate, `width` px across, in linear light, but for what stands in front of it. Pixels of which the
/// layer covers nothing are left as they are.
pub fn compose(plate: &mut Canvas, width: usize, layer: &Layer, fronts: &Fronts) {
    let Bounds { left, top, bottom, right } = layer.bounds;
    let columns = layer.bounds.width();
    if columns == 0 {
        return;
    }
    plate.each_pixel(width, top..bottom, |x, y, behind| {
        if x < left || x >= right {
            return None;
        }
        let [r, g, b, alpha] = layer.pixels[(y - top) * columns + x - left];
        let part = 1.0 - fronts.all_at(y * width + x);
        if alpha <= 0.0 || part <= 0.0 {
            return None;
        }
        let kept = 1.0 - alpha * part;
        Some([r * part + kept * behind[0], g * part + kept * behind[1], b * part + kept * behind[2]])
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::{byte_of, linear_of};

    #[test]
    fn light_is_mixed_linear_and_the_rest_of_the_plate_is_untouched() {
        let bounds = Bounds { left: 1, top: 0, right: 3, bottom: 1 };
        let mut layer = Layer::empty(bounds);
        layer.pixels[0] = [0.5, 0.0, 0.5, 0.5];
        let mut plate = [100u8; 4 * 2 * 3];
        compose(&mut Canvas::Bytes(&mut plate), 4, &layer, &Fronts::none());
        let under = linear_of(100);
        let mixed = [0.5 + 0.5 * under, 0.5 * under, 0.5 + 0.5 * under].map(byte_of);
        assert_eq!(plate[3..6], mixed);
        assert!(plate.iter().enumerate().all(|(i, b)| (3..6).contains(&i) || *b == 100));
    }
}
