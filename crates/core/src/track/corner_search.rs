//! Where new tracks begin: the best corner of every cell that has no point.

use super::detect::best_corner;
use super::settings::TrackSettings;
use crate::image::Plane;
use crate::matte::MasksAtFrame;
use rayon::prelude::*;

/// Frames between two searches, while tracks hold.
pub const REPLENISH_EVERY: u32 = 3;
/// Squares across the frame by which its coverage is told.
const COVERAGE_ACROSS: f64 = 32.0;
/// Side of the smallest squares, px.
const MIN_CELL_PX: f64 = 8.0;
/// Part of the spacing that keeps points apart where there is little to hold on to.
pub const SPARSE_SPACING: f64 = 5.0 / 7.0;
/// Corner strength below which there is noise only, (grey levels per px)^2.
const STRENGTH_FLOOR: f32 = 2.0;
/// The smallest picture, as a part of one 1280 wide, whose cells shrink with it: smaller ones are not filled as
/// densely.
const LEAST_SCALE: f64 = 0.35;

/// Searches frame after frame, and remembers what was barren.
pub struct CornerSearch {
    square_px: f64,
    spacing_px: f64,
    threshold: f64,
    window_half_px: u32,
    /// Strength of the strong corners, from the frames on which many cells were searched.
    strong: f32,
    /// The frame from which on each cell may be searched again.
    search_from: Vec<u32>,
}

/// The cells of a picture, of which each gets a point.
struct Cells {
    side_px: f64,
    columns: usize,
    rows: usize,
}

impl Cells {
    fn new((width, height): (usize, usize), side_px: f64) -> Self {
        let count = |size: usize| ((size as f64 / side_px).ceil() as usize).max(1);
        Self { side_px, columns: count(width), rows: count(height) }
    }

    fn len(&self) -> usize {
        self.columns * self.rows
    }

    fn of(&self, x: f64, y: f64) -> usize {
        let place = |v: f64, count: usize| ((v / self.side_px).max(0.0) as usize).min(count - 1);
        place(y, self.rows) * self.columns + place(x, self.columns)
    }

    /// Its first pixel, and the one after its last.
    fn pixels(&self, cell: usize) -> ((usize, usize), (usize, usize)) {
        let (column, row) = (cell % self.columns, cell / self.columns);
        let edge = |n: usize| (n as f64 * self.side_px) as usize;
        ((edge(column), edge(row)), (edge(column + 1), edge(row + 1)))
    }

    /// Those at most `reach` cells away, and itself.
    fn around(&self, cell: usize, reach: usize) -> impl Iterator<Item = usize> + '_ {
        let (column, row) = (cell % self.columns, cell / self.columns);
        let span = move |at: usize, count: usize| at.saturating_sub(reach)..=(at + reach).min(count - 1);
        span(row, self.rows).flat_map(move |r| span(column, self.columns).map(move |c| r * self.columns + c))
    }
}

impl CornerSearch {
    /// A search that has seen no frame yet.
    pub fn new(settings: &TrackSettings) -> Self {
        Self {
            square_px: settings.square_px(),
            spacing_px: settings.spacing_px,
            threshold: settings.threshold,
            window_half_px: settings.window_half_px,
            strong: 0.0,
            search_from: Vec::new(),
        }
    }

    /// Searches everywhere again: the picture is another one.
    pub fn forget(&mut self) {
        self.search_from.clear();
    }

    /// Corners in the cells that hold none of `points`, px, at least the spacing away from those and from one another.
    pub fn search(&mut self, picture: &Plane, frame: u32, points: &[[f64; 2]], masks: &MasksAtFrame) -> Vec<[f64; 2]> {
        let size = (picture.width(), picture.height());
        let scale = (size.0 as f64 / 1280.0).max(LEAST_SCALE);
        let cells = Cells::new(size, (self.square_px * scale).max(MIN_CELL_PX));
        let mut taken: Vec<Vec<[f64; 2]>> = vec![Vec::new(); cells.len()];
        points.iter().for_each(|p| taken[cells.of(p[0], p[1])].push(*p));
        let half = f64::from(self.window_half_px);
        let margin = self.window_half_px as usize + 4;
        // Where there is little to hold on to, everything is held on to.
        let sparse = points.len() * 10 < cells.len() * 7;
        let min_distance = if sparse { SPARSE_SPACING } else { 1.0 } * self.spacing_px * scale;
        let reach = ((min_distance / cells.side_px).ceil() as usize).max(1);
        self.search_from.resize(cells.len(), 0);
        let candidates: Vec<_> = (0..cells.len())
            .into_par_iter()
            .filter(|&i| taken[i].is_empty() && self.search_from[i] <= frame)
            .filter_map(|i| {
                let (from, to) = cells.pixels(i);
                let around: Vec<[f64; 2]> = cells.around(i, reach).flat_map(|c| &taken[c]).copied().collect();
                let near = |x: f64, y: f64| {
                    around.iter().any(|p| (p[0] - x).powi(2) + (p[1] - y).powi(2) < min_distance * min_distance)
                };
                best_corner(picture, from, to, margin, |x, y| !near(x, y) && masks.allows(x, y, half))
            })
            .collect();
        if candidates.len() * 3 > cells.len() || self.strong <= 0.0 {
            let mut strengths: Vec<f32> = candidates.iter().map(|c| c.strength).collect();
            strengths.sort_by(f32::total_cmp);
            if let Some(&strong) = strengths.get(strengths.len() * 9 / 10) {
                self.strong = strong;
            }
        }
        let least = STRENGTH_FLOOR.max(self.threshold as f32 * self.strong);
        // What is barren now still will be in a moment.
        for (i, from) in self.search_from.iter_mut().enumerate() {
            if taken[i].is_empty() && *from <= frame {
                *from = frame + REPLENISH_EVERY;
            }
        }
        let mut fresh: Vec<[f64; 2]> = Vec::new();
        for corner in candidates.iter().filter(|c| c.strength >= least) {
            self.search_from[cells.of(corner.x, corner.y)] = 0;
            // Two neighbouring cells may have found both sides of one corner.
            if !fresh.iter().any(|p| (p[0] - corner.x).hypot(p[1] - corner.y) < min_distance) {
                fresh.push([corner.x, corner.y]);
            }
        }
        fresh
    }
}

/// How evenly points cover a frame: the part of its squares, 32 across, that hold a point or border on one that does.
pub fn coverage(points: &[[f64; 2]], (width, height): (usize, usize)) -> f64 {
    let cell = (width as f64 / COVERAGE_ACROSS).max(MIN_CELL_PX);
    let (columns, rows) = ((width as f64 / cell).ceil() as i64, (height as f64 / cell).ceil() as i64);
    let mut covered = std::collections::BTreeSet::new();
    for point in points {
        let (column, row) = ((point[0] / cell) as i64, (point[1] / cell) as i64);
        for (dc, dr) in [(0, 0), (1, 0), (-1, 0), (0, 1), (0, -1)] {
            let (c, r) = (column + dc, row + dr);
            if (0..columns).contains(&c) && (0..rows).contains(&r) {
                covered.insert((c, r));
            }
        }
    }
    covered.len() as f64 / ((columns * rows).max(1)) as f64
}
