//! Which triangles may touch which tile of a picture.

use crate::layers::Bounds;
use crate::raster::{ScreenTriangle, TILE, Tile};

/// The box of pixels that triangles can touch.
pub(super) fn bounds(triangles: &[ScreenTriangle], width: usize, height: usize) -> Option<Bounds> {
    let (mut low, mut high) = ([f32::INFINITY; 2], [f32::NEG_INFINITY; 2]);
    for p in triangles.iter().flat_map(|t| t.at) {
        for k in 0..2 {
            low[k] = low[k].min(p[k]);
            high[k] = high[k].max(p[k]);
        }
    }
    let first = |v: f32, size: usize| (v - 1.0).clamp(0.0, size as f32) as usize;
    let end = |v: f32, size: usize| (v + 2.0).clamp(0.0, size as f32) as usize;
    let found = Bounds {
        left: first(low[0], width),
        top: first(low[1], height),
        right: end(high[0], width),
        bottom: end(high[1], height),
    };
    (found.left < found.right && found.top < found.bottom).then_some(found)
}

/// Triangles by the tiles of a part of a picture, which are counted row by row.
pub(super) struct Bins {
    triangles: Vec<ScreenTriangle>,
    pub bounds: Bounds,
    /// Tiles across.
    pub across: usize,
    /// Where the positions of each tile begin in `list`; one more than there are tiles.
    begins: Vec<u32>,
    /// Positions among the triangles, tile by tile.
    list: Vec<u32>,
}

impl Bins {
    pub fn new(triangles: Vec<ScreenTriangle>, bounds: Bounds) -> Self {
        let (across, down) = (bounds.width().div_ceil(TILE), bounds.height().div_ceil(TILE));
        let span = |t: &ScreenTriangle, axis: usize, from: usize, count: usize| {
            let (a, b, c) = (t.at[0][axis], t.at[1][axis], t.at[2][axis]);
            // One pixel more than it covers, for what is thin.
            let tile = |v: f32| ((v - from as f32) / TILE as f32).floor().clamp(-1.0, count as f32) as i64;
            let (low, high) = (tile(a.min(b).min(c) - 1.0), tile(a.max(b).max(c) + 1.0));
            [low.max(0) as u32, (high + 1).clamp(0, count as i64) as u32]
        };
        let spans: Vec<[[u32; 2]; 2]> =
            triangles.iter().map(|t| [span(t, 0, bounds.left, across), span(t, 1, bounds.top, down)]).collect();
        let tiles = |[columns, rows]: [[u32; 2]; 2]| {
            (rows[0]..rows[1]).flat_map(move |row| {
                (columns[0]..columns[1]).map(move |column| row as usize * across + column as usize)
            })
        };
        let mut begins = vec![0u32; across * down + 1];
        spans.iter().flat_map(|s| tiles(*s)).for_each(|tile| begins[tile + 1] += 1);
        (1..begins.len()).for_each(|k| begins[k] += begins[k - 1]);
        let mut next = begins.clone();
        let mut list = vec![0; begins[across * down] as usize];
        for (i, span) in spans.iter().enumerate() {
            for tile in tiles(*span) {
                list[next[tile] as usize] = i as u32;
                next[tile] += 1;
            }
        }
        Self { triangles, bounds, across, begins, list }
    }

    /// The triangles of a tile.
    pub fn of(&self, tile: usize) -> impl ExactSizeIterator<Item = &ScreenTriangle> + '_ {
        let list = &self.list[self.begins[tile] as usize..self.begins[tile + 1] as usize];
        list.iter().map(|i| &self.triangles[*i as usize])
    }

    /// First pixel of a tile, within the part of the picture.
    pub fn corner(&self, tile: usize) -> [usize; 2] {
        [tile % self.across * TILE, tile / self.across * TILE]
    }

    /// An empty tile.
    pub fn tile(&self, tile: usize) -> Tile {
        let [x, y] = self.corner(tile);
        let (left, top) = (self.bounds.left + x, self.bounds.top + y);
        Tile::new(left, top, [TILE.min(self.bounds.right - left), TILE.min(self.bounds.bottom - top)])
    }
}
