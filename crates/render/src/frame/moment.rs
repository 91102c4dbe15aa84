//! What is seen at one moment.

use super::bins::Bins;
use super::view::{Cells, Mixed, Recall, View};
use crate::blend::Rgba;
use crate::canvas::{Behind, Canvas, Fronts};
use crate::layers::{Bounds, Layer};
use crate::raster::{Fragment, SAMPLES, TILE, Tile, sample_offset};
use rayon::prelude::*;

/// What an insert adds to a pixel, for the plate to be put under it: in whole, or apart from the plate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Parted {
    /// Light with the plate's in it, and 1.
    Whole,
    /// Light without the plate's, and how much of that is covered; see [`crate::lens`].
    Apart,
}

impl Parted {
    /// What was seen over a plate.
    pub fn of(self, mixed: &Mixed, plate: &Rgba) -> Rgba {
        match self {
            Self::Whole => [mixed.seen[0], mixed.seen[1], mixed.seen[2], 1.0],
            Self::Apart => {
                let [r, g, b] = [0, 1, 2].map(|k| mixed.seen[k] - mixed.through * plate[k]);
                [r, g, b, 1.0 - mixed.through]
            }
        }
    }
}

/// Draws the inserts over a picture, but for what stands in front: one look at each pixel at most, and no more than is
/// seen of it.
pub(super) fn quickly(view: &View, bins: &Bins, canvas: &mut Canvas, fronts: &Fronts) {
    view.look_ahead();
    let Bounds { left, top, bottom, .. } = bins.bounds;
    let width = view.size[0];
    canvas.each_band(width, top..bottom, TILE, |band, mut rows| {
        let first = top + band * TILE;
        for i in 0..bins.across {
            let tile = drawn(view, bins, band * bins.across + i, false);
            let mut cells = Cells::default();
            tile.each(|k, face, before| {
                let (x, y) = (left + i * TILE + k % tile.size[0], k / tile.size[0]);
                let part = 1.0 - fronts.all_at((first + y) * width + x);
                if part <= 0.0 {
                    return;
                }
                let plate = rows.behind().at(y * width + x);
                let at = [x as f64, (first + y) as f64];
                let Mixed { seen, .. } = view.mixed(face, before, at, plate, Recall::Tile(&mut cells));
                if face > 0 || seen != plate {
                    rows.put(y * width + x, [0, 1, 2].map(|k| seen[k] * part + (1.0 - part) * plate[k]));
                }
            });
        }
    });
}

/// The inserts mixed with the plate that lies behind them, sixteen samples on every edge, and how far away they are where
/// that is asked for.
pub(super) fn inserts(view: &View, bins: &Bins, behind: Behind, parted: Parted) -> (Layer, Vec<f32>) {
    let bounds = bins.bounds;
    view.look_ahead();
    let mut layer = Layer::empty(bounds);
    let mut far = if view.asks_far { vec![f32::INFINITY; layer.pixels.len()] } else { Vec::new() };
    let mut keys = vec![0u32; layer.pixels.len()];
    // Whole rows of tiles, so that each thread has pixels of its own.
    let lines = bounds.width() * TILE;
    let mut tiles: Vec<Vec<Tile>> = Vec::new();
    let bands = bounds.height().div_ceil(TILE);
    let mut fars: Vec<&mut [f32]> =
        if far.is_empty() { (0..bands).map(|_| &mut [][..]).collect() } else { far.chunks_mut(lines).collect() };
    let drawn = layer.pixels.par_chunks_mut(lines).zip(keys.par_chunks_mut(lines)).zip(fars.par_iter_mut()).enumerate();
    drawn
        .map(|(band, ((pixels, keys), far))| middles(view, bins, (behind, band, parted), pixels, keys, far))
        .collect_into_vec(&mut tiles);
    layer.pixels.par_chunks_mut(lines).zip(&tiles).enumerate().for_each(|(band, (pixels, tiles))| {
        let each = tiles.iter().enumerate();
        each.for_each(|(i, tile)| at_edges(view, bins, (behind, band, i, parted), tile, &keys, pixels));
    });
    (layer, far)
}

/// Draws a band of tiles at the middles of its pixels.
fn middles(
    view: &View,
    bins: &Bins,
    (behind, band, parted): (Behind, usize, Parted),
    pixels: &mut [Rgba],
    keys: &mut [u32],
    far: &mut [f32],
) -> Vec<Tile> {
    let columns = bins.bounds.width();
    let draw = |i: usize| {
        let number = band * bins.across + i;
        let tile = drawn(view, bins, number, true);
        tile.each(|k, face, before| {
            let (x, y) = (i * TILE + k % tile.size[0], k / tile.size[0]);
            let (at_x, at_y) = (bins.bounds.left + x, bins.bounds.top + band * TILE + y);
            let plate = behind.at(at_y * view.size[0] + at_x);
            let mixed = view.mixed(face, before, [at_x as f64, at_y as f64], plate, Recall::Nothing);
            let lit = mixed.lit;
            if face == 0 && mixed.seen == plate {
                return;
            }
            pixels[y * columns + x] = parted.of(&mixed, &plate);
            if let Some(slot) = far.get_mut(y * columns + x) {
                *slot = mixed.far;
            }
            // The lowest bit is always set; with the sun the highest changes.
            let own = if face > 0 { view.key(face - 1) ^ (u32::from(lit) << 31) } else { 0 };
            let catches = |f: &Fragment| view.scene.material(&view.scene.faces[f.face as usize]).catches.is_some();
            let through = before.iter().filter(|f| !catches(f));
            keys[y * columns + x] = through.fold(own, |key, f| key.rotate_left(5) ^ view.key(f.face));
        });
        tile
    };
    (0..bins.across).map(draw).collect()
}

/// A tile with all that the middles of its pixels meet.
pub(super) fn drawn(view: &View, bins: &Bins, number: usize, edges: bool) -> Tile {
    let mut tile = bins.tile(number);
    bins.of(number).for_each(|t| tile.draw(t, edges, view.scene.faces[t.face as usize].through));
    tile.settle();
    tile
}

/// Draws the pixels of a tile again in which something begins or ends, sample by sample.
fn at_edges(
    view: &View,
    bins: &Bins,
    (behind, band, i, parted): (Behind, usize, usize, Parted),
    tile: &Tile,
    keys: &[u32],
    pixels: &mut [Rgba],
) {
    let (columns, rows) = (bins.bounds.width(), bins.bounds.height());
    let (left, top) = (i * TILE, band * TILE);
    let differs = |x: usize, y: usize| {
        let own = keys[y * columns + x];
        (y.saturating_sub(1)..=(y + 1).min(rows - 1)).any(|v| {
            let line = &keys[v * columns..][x.saturating_sub(1)..=(x + 1).min(columns - 1)];
            line.iter().any(|k| *k != own)
        })
    };
    let edge: Vec<usize> = (0..tile.faces.len())
        .filter(|k| tile.thin[*k] || differs(left + k % tile.size[0], top + k / tile.size[0]))
        .collect();
    if edge.is_empty() {
        return;
    }
    let through = |face: u32| view.scene.faces[face as usize].through;
    let (sampled, fragments) = tile.sampled(bins.of(band * bins.across + i).copied(), &edge, through);
    let mut rest = &fragments[..];
    for (n, (k, faces)) in edge.into_iter().zip(sampled).enumerate() {
        let (x, y) = (left + k % tile.size[0], k / tile.size[0]);
        let (at_x, at_y) = (bins.bounds.left + x, bins.bounds.top + top + y);
        let count = rest.iter().take_while(|f| f.at as usize / SAMPLES == n).count();
        let (own, after) = rest.split_at(count);
        rest = after;
        if own.is_empty() && faces.iter().all(|f| *f == 0) {
            continue;
        }
        let plate = behind.at(at_y * view.size[0] + at_x);
        pixels[y * columns + x] = from_samples(view, (&faces, own, n), [at_x as f64, at_y as f64], plate, parted);
    }
}

/// Light of a pixel from what its samples see, each lit where it lies.
fn from_samples(
    view: &View,
    (faces, own, n): (&[u32; SAMPLES], &[Fragment], usize),
    at: [f64; 2],
    plate: Rgba,
    parted: Parted,
) -> Rgba {
    let mut sum = [0.0; 4];
    let mut rest = own;
    for (k, face) in faces.iter().enumerate() {
        let count = rest.iter().take_while(|f| f.at as usize == n * SAMPLES + k).count();
        let (before, after) = rest.split_at(count);
        rest = after;
        let mixed = if *face == 0 && before.is_empty() {
            Mixed { seen: plate, lit: false, through: 1.0, far: f32::INFINITY }
        } else {
            let [dx, dy] = sample_offset(k).map(f64::from);
            view.mixed(*face, before, [at[0] + dx, at[1] + dy], plate, Recall::Nothing)
        };
        let part = parted.of(&mixed, &plate);
        (0..4).for_each(|c| sum[c] += part[c] / SAMPLES as f32);
    }
    sum
}
