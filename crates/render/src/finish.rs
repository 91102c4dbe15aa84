//! What is done over all once everything is in its place.

use crate::bytes::{ByteCube, Dimmed};
use crate::canvas::Canvas;
use crate::colour::{decode, encode};
use fennik_core::colour::ColourTable;
use fennik_core::scene::FinishNow;
use rayon::prelude::*;
use std::sync::{Arc, OnceLock};

/// A finish at one time, ready to be applied.
#[derive(Debug)]
pub struct Finisher {
    now: FinishNow,
    table: Option<Arc<ColourTable>>,
    /// The same for bytes: what it does to colours, where it does, and to light by where it is.
    quick: OnceLock<(Option<ByteCube>, Option<Dimmed>)>,
}

impl Finisher {
    /// With the table that it names.
    pub fn new(now: FinishNow, table: Option<Arc<ColourTable>>) -> Self {
        Self { now, table, quick: OnceLock::new() }
    }

    /// Whether it does nothing.
    pub fn is_plain(&self) -> bool {
        self.now.is_plain()
    }

    /// What becomes of a colour, linear light, wherever it is.
    pub fn coloured(&self, light: [f32; 3]) -> [f32; 3] {
        let light = self.now.grade.apply(light);
        let strength = self.now.table_strength;
        let Some(table) = self.table.as_ref().filter(|_| strength > 0.0) else { return light };
        let shown = light.map(encode);
        let looked = table.look(shown);
        std::array::from_fn(|k| decode(shown[k] + (looked[k] - shown[k]) * strength))
    }

    /// Applies it to a picture of a size. Bytes are looked up in a cube made from it, which is quick and good to a few steps;
    /// light is reckoned in full.
    pub fn apply(&self, canvas: &mut Canvas, size: [usize; 2]) {
        if self.is_plain() {
            return;
        }
        let [width, height] = size;
        let shaped = self.now.vignette[0] != 0.0 || self.now.fade < 1.0;
        let wide = size.map(|v| v as f32);
        let dimmed = |x: usize, y: usize| self.now.fade * self.now.vignette_at([x as f32, y as f32], wide);
        let coloured = !self.now.grade.is_plain() || self.now.table_strength > 0.0;
        match canvas {
            Canvas::Bytes(rgb) => {
                let (cube, dim) = self.quick.get_or_init(|| {
                    let cube = coloured.then(|| self.cube());
                    (cube, shaped.then(|| Dimmed::of(|away| self.now.fade * self.now.vignette_of(away))))
                });
                let columns: Vec<u32> = (0..width).map(|x| Dimmed::off(x, width)).collect();
                rgb.par_chunks_mut(3 * width).enumerate().for_each(|(y, line)| {
                    let row = Dimmed::off(y, height);
                    for (p, column) in line.chunks_exact_mut(3).zip(&columns) {
                        let mut colour = [p[0], p[1], p[2]];
                        if let Some(cube) = cube {
                            colour = cube.look(colour);
                        }
                        if let Some(dim) = dim {
                            let left = dim.at(row + column);
                            colour = colour.map(|v| left[usize::from(v)]);
                        }
                        p.copy_from_slice(&colour);
                    }
                });
            }
            Canvas::Light(_) => canvas.each_pixel(width, 0..height, |x, y, light| {
                let light = if coloured { self.coloured(light) } else { light };
                let part = if shaped { dimmed(x, y) } else { 1.0 };
                Some(light.map(|v| v * part))
            }),
        }
        self.bars(canvas, size);
    }

    fn bars(&self, canvas: &mut Canvas, size: [usize; 2]) {
        let Some([_, cover]) = self.now.bars else { return };
        let [columns, rows] = self.now.left_by_bars(size);
        canvas.each_pixel(size[0], 0..size[1], |x, y, light| {
            let inside = columns.contains(&x) && rows.contains(&y);
            (!inside).then(|| light.map(|v| v * (1.0 - cover)))
        });
    }

    fn cube(&self) -> ByteCube {
        ByteCube::of(|c| self.coloured(c.map(decode)).map(|v| encode(v.min(1.0))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::{byte_of, linear_of};
    use fennik_core::scene::Finish;

    fn finish(values: &[(&str, f64)]) -> Finisher {
        let mut finish = Finish::default();
        for (name, value) in values {
            finish.numbers.set_at(Finish::rule(name).unwrap(), 0.0, *value);
        }
        Finisher::new(finish.at(5.0, 10), None)
    }

    fn ramp() -> (Vec<u8>, Vec<[f32; 3]>) {
        let bytes: Vec<u8> = (0..64 * 32).flat_map(|i| [(i % 64 * 4) as u8, (i / 64 * 8) as u8, 90]).collect();
        let light = bytes.chunks_exact(3).map(|p| [p[0], p[1], p[2]].map(linear_of)).collect();
        (bytes, light)
    }

    #[test]
    fn a_quick_look_is_what_is_delivered_but_for_a_step() {
        let graded =
            finish(&[("exposure", 0.4), ("contrast", 1.2), ("warmth", 30.0), ("saturation", 0.8), ("vignette", 0.4)]);
        let (mut bytes, mut light) = ramp();
        graded.apply(&mut Canvas::Bytes(&mut bytes), [64, 32]);
        graded.apply(&mut Canvas::Light(&mut light), [64, 32]);
        let exact: Vec<u8> = light.iter().flatten().map(|v| byte_of(*v)).collect();
        let mut off: Vec<u8> = bytes.iter().zip(&exact).map(|(a, b)| a.abs_diff(*b)).collect();
        off.sort_unstable();
        let mean = off.iter().map(|v| f64::from(*v)).sum::<f64>() / off.len() as f64;
        assert!(mean < 1.5 && off[off.len() * 95 / 100] <= 10, "{mean} {}", off[off.len() * 95 / 100]);
        assert!(bytes != ramp().0);
    }

    #[test]
    fn bars_cover_what_is_out_of_the_format_and_a_plain_finish_nothing() {
        let (mut bytes, _) = ramp();
        finish(&[]).apply(&mut Canvas::Bytes(&mut bytes), [64, 32]);
        assert_eq!(bytes, ramp().0);
        finish(&[("bars-format", 4.0)]).apply(&mut Canvas::Bytes(&mut bytes), [64, 32]);
        assert!(bytes[..3 * 64 * 8].iter().all(|b| *b == 0) && bytes[3 * 64 * 24..].iter().all(|b| *b == 0));
        assert_eq!(bytes[3 * 64 * 8..3 * 64 * 24], ramp().0[3 * 64 * 8..3 * 64 * 24]);
    }

    #[test]
    fn a_table_counts_as_much_as_it_is_told() {
        let table = ColourTable::cube_of(3, |[r, g, b]| [1.0 - r, 1.0 - g, 1.0 - b]);
        let mut with = Finish::default();
        let name = fennik_core::scene::AssetName::of_digest(&[1; 32]);
        with.table = Some(fennik_core::scene::Asset { name, file: "n.cube".into() });
        let look = |strength: f64| {
            let mut with = with.clone();
            with.numbers.set_at(&fennik_core::scene::TABLE_STRENGTH, 0.0, strength);
            let made = Finisher::new(with.at(0.0, 9), Some(Arc::new(table.clone())));
            encode(made.coloured([decode(0.2); 3])[0])
        };
        assert!((look(1.0) - 0.8).abs() < 1e-4 && (look(0.5) - 0.5).abs() < 1e-4 && (look(0.0) - 0.2).abs() < 1e-4);
    }
}
