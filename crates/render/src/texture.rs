//! Pictures on faces: filtered so that they neither shimmer nor blur more than they must.
//!
//! Levels of halves (Williams, "Pyramidal Parametrics", 1983), and several looks along the direction in which a face is
//! seen foreshortened (as McCormack et al., "Feline", 1999, in its simplest form).

use crate::colour::{byte_of, linear_of, linear_table};
use rayon::prelude::*;
use std::sync::atomic::{AtomicU64, Ordering};

/// Looks along the longer axis of a footprint at most.
const MOST_LOOKS: f32 = 12.0;

/// What lies beyond the rim of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Wrap {
    /// Its rim.
    #[default]
    Clamp,
    /// The picture again.
    Repeat,
    /// The picture mirrored.
    Mirror,
}

#[derive(Debug, Clone, PartialEq)]
struct Level {
    width: usize,
    height: usize,
    /// Light times alpha, encoded for display, and alpha.
    texels: Vec<[u8; 4]>,
}

/// A picture in levels of halves.
#[derive(Debug, Clone, PartialEq)]
pub struct Texture {
    /// No other has the same.
    id: u64,
    levels: Vec<Level>,
    opaque: bool,
    /// What its numbers are: light, encoded for display; or numbers as they stand, as of a map of directions.
    encoded: bool,
}

/// Where a face is looked at in its picture, of its width and height, and how far a pixel reaches there.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Footprint {
    pub at: [f32; 2],
    /// Along the longer axis of the pixel's picture.
    pub long: [f32; 2],
    /// Along the shorter.
    pub short: [f32; 2],
}

/// The id of the next one.
static NEXT_ID: AtomicU64 = AtomicU64::new(1);

impl Texture {
    /// From straight colours, red, green, blue, alpha, as encoded for display; row by row from the top.
    ///
    /// # Panics
    /// When the buffer is not `4 * width * height` long, or empty.
    pub fn new(width: usize, height: usize, rgba: &[u8]) -> Self {
        let premultiplied = |p: &[u8]| match p[3] {
            255 => [p[0], p[1], p[2], 255],
            a => {
                let part = f32::from(a) / 255.0;
                [byte_of(linear_of(p[0]) * part), byte_of(linear_of(p[1]) * part), byte_of(linear_of(p[2]) * part), a]
            }
        };
        Self::of_texels(width, height, rgba.par_chunks_exact(4).map(premultiplied).collect(), true)
    }

    /// From numbers that are no light: directions, roughness.
    ///
    /// # Panics
    /// As [`Texture::new`].
    pub fn of_numbers(width: usize, height: usize, rgba: &[u8]) -> Self {
        Self::of_texels(width, height, rgba.chunks_exact(4).map(|p| [p[0], p[1], p[2], p[3]]).collect(), false)
    }

    fn of_texels(width: usize, height: usize, texels: Vec<[u8; 4]>, encoded: bool) -> Self {
        assert!(width > 0 && texels.len() == width * height, "four bytes a texel");
        let opaque = texels.par_iter().all(|t| t[3] == 255);
        let mut levels = vec![Level { width, height, texels }];
        while let Some(last) = levels.last().filter(|l| l.width > 1 || l.height > 1) {
            let half = last.halved(encoded);
            levels.push(half);
        }
        Self { id: NEXT_ID.fetch_add(1, Ordering::Relaxed), levels, opaque, encoded }
    }

    /// Tells it from every other.
    pub(crate) fn id(&self) -> u64 {
        self.id
    }

    /// Whether nothing shows through.
    pub fn is_opaque(&self) -> bool {
        self.opaque
    }

    /// Width and height, px.
    pub fn size(&self) -> [usize; 2] {
        [self.levels[0].width, self.levels[0].height]
    }

    /// Bytes that it takes.
    pub fn bytes(&self) -> usize {
        self.levels.iter().map(|l| 4 * l.texels.len()).sum()
    }

    /// Linear light times alpha, and alpha, as a pixel sees it.
    pub(crate) fn look(&self, over: &Footprint, wrap: [Wrap; 2]) -> [f32; 4] {
        let [w, h] = self.size().map(|v| v as f32);
        let length = |d: [f32; 2]| length([d[0] * w, d[1] * h]);
        let (long, short) = (length(over.long), length(over.short).max(1e-6));
        let looks = (long / short.max(1.0)).ceil().clamp(1.0, MOST_LOOKS);
        let level = (long / looks).max(short).max(1.0).log2().min((self.levels.len() - 1) as f32);
        if !level.is_finite() {
            return [0.0; 4];
        }
        let mut sum = [0.0; 4];
        for i in 0..looks as usize {
            let t = (i as f32 + 0.5) / looks - 0.5;
            let at = [over.at[0] + t * over.long[0], over.at[1] + t * over.long[1]];
            let texel = self.trilinear(at, level, wrap);
            (0..4).for_each(|k| sum[k] += texel[k] / looks);
        }
        sum
    }

    /// Linear light times alpha, and alpha, at a place of it, 0 to 1 across and down, for a look that takes in so much of
    /// it; its rim goes on beyond.
    pub fn seen_at(&self, at: [f32; 2], [across, down]: [f32; 2]) -> [f32; 4] {
        self.look(&Footprint { at, long: [across, 0.0], short: [0.0, down] }, [Wrap::Clamp; 2])
    }

    /// The alpha of the texel at a place.
    pub(crate) fn alpha(&self, at: [f32; 2], wrap: [Wrap; 2]) -> f32 {
        let level = &self.levels[0];
        let (x, y) = (floor(at[0] * level.width as f32).0, floor(at[1] * level.height as f32).0);
        let (x, y) = (wrapped(x, level.width, wrap[0]), wrapped(y, level.height, wrap[1]));
        f32::from(level.texels[y * level.width + x][3]) / 255.0
    }

    /// The same at a glance: one look at one level, between a blur and a shimmer.
    pub(crate) fn glance(&self, over: &Footprint, wrap: [Wrap; 2]) -> [f32; 4] {
        let [w, h] = self.size().map(|v| v as f32);
        let length = |d: [f32; 2]| length([d[0] * w, d[1] * h]);
        let reach = (length(over.long) * length(over.short).max(1e-6)).sqrt().max(1.0);
        let level = reach.log2().round().min((self.levels.len() - 1) as f32);
        if level.is_finite() { self.levels[level as usize].bilinear(over.at, wrap, self.encoded) } else { [0.0; 4] }
    }

    fn trilinear(&self, at: [f32; 2], level: f32, wrap: [Wrap; 2]) -> [f32; 4] {
        // Levels are counted from zero, so that cutting off is rounding down.
        let low = level as usize;
        let part = level - low as f32;
        let near = self.levels[low].bilinear(at, wrap, self.encoded);
        if part < 1e-3 || low + 1 >= self.levels.len() {
            return near;
        }
        let far = self.levels[low + 1].bilinear(at, wrap, self.encoded);
        std::array::from_fn(|k| near[k] + part * (far[k] - near[k]))
    }
}

/// What a texel holds; `light` is the table of display values where it holds light.
fn decoded(t: [u8; 4], light: Option<&[f32; 256]>) -> [f32; 4] {
    let number = |v: u8| f32::from(v) * (1.0 / 255.0);
    let alpha = number(t[3]);
    match light {
        Some(light) => [light[usize::from(t[0])], light[usize::from(t[1])], light[usize::from(t[2])], alpha],
        None => [number(t[0]), number(t[1]), number(t[2]), alpha],
    }
}

fn length([x, y]: [f32; 2]) -> f32 {
    (x * x + y * y).sqrt()
}

/// The whole number at or below, and what is left. What is no number, or farther than counts, is far off the rim.
fn floor(v: f32) -> (i32, f32) {
    let v = v.clamp(-1e9, 1e9);
    // Cutting off rounds towards zero, which saves asking the library.
    let cut = v as i32;
    let whole = cut - i32::from(cut as f32 > v);
    (whole, v - whole as f32)
}

impl Level {
    fn halved(&self, encoded: bool) -> Self {
        let (width, height) = (self.width.div_ceil(2), self.height.div_ceil(2));
        let light = encoded.then(linear_table);
        let texel = |x: usize, y: usize| {
            let mut sum = [0.0; 4];
            for (dx, dy) in [(0, 0), (1, 0), (0, 1), (1, 1)] {
                let (u, v) = ((2 * x + dx).min(self.width - 1), (2 * y + dy).min(self.height - 1));
                let t = decoded(self.texels[v * self.width + u], light);
                (0..4).for_each(|k| sum[k] += t[k] / 4.0);
            }
            let byte = |v: f32| (v * 255.0 + 0.5) as u8;
            let coded = |v: f32| if encoded { byte_of(v) } else { byte(v) };
            [coded(sum[0]), coded(sum[1]), coded(sum[2]), byte(sum[3])]
        };
        let texels = (0..width * height).into_par_iter().map(|i| texel(i % width, i / width)).collect();
        Self { width, height, texels }
    }

    fn bilinear(&self, at: [f32; 2], wrap: [Wrap; 2], encoded: bool) -> [f32; 4] {
        let (x, y) = (at[0] * self.width as f32 - 0.5, at[1] * self.height as f32 - 0.5);
        let ((x0, fx), (y0, fy)) = (floor(x), floor(y));
        let columns = [wrapped(x0, self.width, wrap[0]), wrapped(x0 + 1, self.width, wrap[0])];
        let rows = [wrapped(y0, self.height, wrap[1]), wrapped(y0 + 1, self.height, wrap[1])];
        let light = linear_table();
        let mut sum = [0.0; 4];
        for (row, v) in rows.iter().zip([1.0 - fy, fy]) {
            for (column, u) in columns.iter().zip([1.0 - fx, fx]) {
                let t = decoded(self.texels[row * self.width + column], encoded.then_some(light));
                (0..4).for_each(|k| sum[k] += u * v * t[k]);
            }
        }
        sum
    }
}

fn wrapped(i: i32, size: usize, wrap: Wrap) -> usize {
    if (0..size as i64).contains(&i64::from(i)) {
        return i as usize;
    }
    let (i, n) = (i64::from(i), size as i64);
    let at = match wrap {
        Wrap::Clamp => i,
        Wrap::Repeat => i.rem_euclid(n),
        Wrap::Mirror => {
            let k = i.rem_euclid(2 * n);
            if k < n { k } else { 2 * n - 1 - k }
        }
    };
    at.clamp(0, n - 1) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    fn over(at: [f32; 2], long: [f32; 2], short: [f32; 2]) -> Footprint {
        Footprint { at, long, short }
    }

    #[test]
    fn near_by_texels_are_seen_and_from_afar_their_mean() {
        // A board of black and white: seen from afar half of the light comes back.
        let board: Vec<u8> = (0..64 * 64)
            .flat_map(|i| if (i % 64 + i / 64) % 2 == 0 { [255, 255, 255, 255] } else { [0, 0, 0, 255] })
            .collect();
        let texture = Texture::new(64, 64, &board);
        let near = texture.look(&over([0.5 / 64.0, 0.5 / 64.0], [1e-3, 0.0], [0.0, 1e-3]), [Wrap::Clamp; 2]);
        assert!((near[0] - 1.0).abs() < 1e-3 && near[3] == 1.0, "{near:?}");
        for far in [0.2, 1.0, 30.0] {
            let seen = texture.look(&over([0.4, 0.6], [far, 0.0], [0.0, far]), [Wrap::Clamp; 2]);
            assert!((seen[0] - 0.5).abs() < 0.01, "{seen:?} at {far}");
        }
    }

    #[test]
    fn foreshortened_lines_stay_sharp_across() {
        // Lines along x: a pixel that is long along x sees one of them.
        let lines: Vec<u8> =
            (0..64 * 64).flat_map(|i| if i / 64 % 8 < 4 { [255; 4] } else { [0, 0, 0, 255] }).collect();
        let texture = Texture::new(64, 64, &lines);
        let seen = texture.look(&over([0.5, 2.0 / 64.0], [0.15, 0.0], [0.0, 1.0 / 64.0]), [Wrap::Repeat; 2]);
        assert!(seen[0] > 0.95, "{seen:?}");
    }

    #[test]
    fn what_is_clear_gives_no_colour_to_its_neighbours() {
        // Clear red beside solid white: half way, white at half strength.
        let texture = Texture::new(2, 1, &[255, 0, 0, 0, 255, 255, 255, 255]);
        let seen = texture.look(&over([0.5, 0.5], [1e-3, 0.0], [0.0, 1e-3]), [Wrap::Clamp; 2]);
        assert!(seen.iter().all(|v| (v - 0.5).abs() < 1e-3), "{seen:?}");
        assert!(!texture.is_opaque());
    }

    #[test]
    fn beyond_the_rim_it_stays_repeats_or_turns_back() {
        let at = |i: i32, wrap| wrapped(i, 4, wrap);
        assert_eq!([-1, 4, 9].map(|i| at(i, Wrap::Clamp)), [0, 3, 3]);
        assert_eq!([-1, 4, 9].map(|i| at(i, Wrap::Repeat)), [3, 0, 1]);
        assert_eq!([-1, 4, 9].map(|i| at(i, Wrap::Mirror)), [0, 3, 1]);
        assert_eq!([2.5, -0.5, -2.0, 3.0].map(floor), [(2, 0.5), (-1, 0.5), (-2, 0.0), (3, 0.0)]);
        // What is no number ends somewhere within.
        for v in [f32::NAN, f32::INFINITY, f32::NEG_INFINITY, 1e30] {
            for wrap in [Wrap::Clamp, Wrap::Repeat, Wrap::Mirror] {
                assert!(wrapped(floor(v).0, 4, wrap) < 4);
                assert!(wrapped(floor(v).0 + 1, 4, wrap) < 4);
            }
        }
    }
}
