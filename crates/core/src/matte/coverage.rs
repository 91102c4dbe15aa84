//! How much of each pixel a shape covers.

use super::polygon::{bounding, contains};

/// An edge is never sharper than this, px.
const SHARPEST_PX: f64 = 1.0;

/// Parts of pixels, 0 to 1, row by row.
#[derive(Debug, Clone, PartialEq)]
pub struct Coverage {
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// Of each pixel.
    pub parts: Vec<f32>,
}

/// A closed shape with the softness of its edge.
#[derive(Debug, Clone, PartialEq)]
pub struct SoftShape {
    /// Corners, px.
    pub corners: Vec<[f64; 2]>,
    /// Over how many px the edge fades, half of it on either side; of each corner.
    pub feathers: Vec<f64>,
}

/// How a shape meets those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Combine {
    /// What either covers.
    #[default]
    Add,
    /// What it leaves of those before.
    Subtract,
    /// What both cover.
    Cross,
}

impl Combine {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Add, Self::Subtract, Self::Cross];

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Add => "add",
            Self::Subtract => "subtract",
            Self::Cross => "cross",
        }
    }

    fn of(self, before: f32, part: f32) -> f32 {
        match self {
            Self::Add => before + part - before * part,
            Self::Subtract => before * (1.0 - part),
            Self::Cross => before * part,
        }
    }
}

impl Coverage {
    /// Nothing is covered.
    pub fn empty(width: usize, height: usize) -> Self {
        Self { width, height, parts: vec![0.0; width * height] }
    }

    /// Whether nothing is covered.
    pub fn is_empty(&self) -> bool {
        self.parts.iter().all(|p| *p <= 0.0)
    }

    /// What a shape covers. Pixels are counted by their middles; the edge fades straight, over at least a pixel.
    /// An edge that is there twice bounds nothing: a shape can go in to a hole and out again by one way.
    pub fn of_shape(width: usize, height: usize, shape: &SoftShape) -> Self {
        let mut made = Self::empty(width, height);
        let n = shape.corners.len();
        if n < 3 || width == 0 || height == 0 {
            return made;
        }
        let edges = bounding(&shape.corners);
        made.fill(&shape.corners, &edges);
        let feather = |k: usize| shape.feathers.get(k % n).copied().unwrap_or(0.0).max(SHARPEST_PX);
        // Signed parts of a feather from the nearest edge; beyond half a feather nothing is known, and nothing need be.
        let mut near: Vec<(f32, f32)> = Vec::new();
        let most = (0..n).map(feather).fold(0.0, f64::max) * 0.5;
        let [low, high] = bounds(&shape.corners);
        let span = |low: f64, high: f64, end: usize| {
            let from = (low - most - 1.0).floor().clamp(0.0, end as f64) as usize;
            from..((high + most + 2.0).ceil().clamp(from as f64, end as f64) as usize)
        };
        let (columns, rows) = (span(low[0], high[0], width), span(low[1], high[1], height));
        near.resize(columns.len() * rows.len(), (f32::INFINITY, 1.0));
        for &k in &edges {
            let ([ax, ay], [bx, by]) = (shape.corners[k], shape.corners[(k + 1) % n]);
            let (fa, fb) = (feather(k), feather(k + 1));
            let reach = 0.5 * fa.max(fb) + 1.0;
            let (wx, wy) = (bx - ax, by - ay);
            let along = (wx * wx + wy * wy).max(1e-12);
            let within = |low: f64, high: f64, of: &std::ops::Range<usize>| {
                let from = ((low - reach).floor().max(of.start as f64) as usize).min(of.end);
                from..((high + reach + 1.0).ceil().max(from as f64) as usize).clamp(from, of.end)
            };
            for y in within(ay.min(by), ay.max(by), &rows) {
                for x in within(ax.min(bx), ax.max(bx), &columns) {
                    let (px, py) = (x as f64, y as f64);
                    let t = (((px - ax) * wx + (py - ay) * wy) / along).clamp(0.0, 1.0);
                    let off = (ax + t * wx - px).hypot(ay + t * wy - py) as f32;
                    let slot = &mut near[(y - rows.start) * columns.len() + x - columns.start];
                    if off < slot.0 {
                        *slot = (off, (fa + (fb - fa) * t) as f32);
                    }
                }
            }
        }
        for y in rows.clone() {
            for x in columns.clone() {
                let (off, feather) = near[(y - rows.start) * columns.len() + x - columns.start];
                if off < 0.5 * feather {
                    let part = &mut made.parts[y * width + x];
                    let signed = if *part > 0.5 { off } else { -off };
                    *part = (signed / feather + 0.5).clamp(0.0, 1.0);
                }
            }
        }
        made
    }

    /// What an outline covers of a window of its picture; its edge fades over `feather` px.
    pub fn of_outline(outline: &[[f64; 2]], window: &Window, feather: f64) -> Self {
        let corners = outline.iter().map(|c| window.own(*c)).collect();
        let shape = SoftShape { corners, feathers: vec![feather; outline.len()] };
        Self::of_shape(window.width, window.height, &shape)
    }

    /// Fills what lies inside of corners (even-odd rule), by the middles of pixels.
    fn fill(&mut self, corners: &[[f64; 2]], edges: &[usize]) {
        let n = corners.len();
        let [low, high] = bounds(corners);
        let first = low[1].ceil().clamp(0.0, self.height as f64) as usize;
        let last = (high[1].floor() + 1.0).clamp(first as f64, self.height as f64) as usize;
        let mut crossings = Vec::new();
        for row in first..last {
            let y = row as f64;
            crossings.clear();
            for &k in edges {
                let ([ax, ay], [bx, by]) = (corners[k], corners[(k + 1) % n]);
                if (ay > y) != (by > y) {
                    crossings.push((bx - ax) * (y - ay) / (by - ay) + ax);
                }
            }
            crossings.sort_by(f64::total_cmp);
            for pair in crossings.chunks_exact(2) {
                let from = pair[0].ceil().clamp(0.0, self.width as f64) as usize;
                let to = (pair[1].floor() + 1.0).clamp(from as f64, self.width as f64) as usize;
                self.parts[row * self.width + from..row * self.width + to].fill(1.0);
            }
        }
    }

    /// The other way round.
    #[must_use]
    pub fn inverted(mut self) -> Self {
        self.parts.iter_mut().for_each(|p| *p = 1.0 - *p);
        self
    }

    /// So much of it.
    #[must_use]
    pub fn times(mut self, strength: f32) -> Self {
        self.parts.iter_mut().for_each(|p| *p *= strength);
        self
    }

    /// Lets another meet it.
    pub fn meet(&mut self, other: &Self, how: Combine) {
        for (own, part) in self.parts.iter_mut().zip(&other.parts) {
            *own = how.of(*own, *part);
        }
    }
}

/// The low and the high corner of the box round places.
pub fn bounds<'a>(places: impl IntoIterator<Item = &'a [f64; 2]>) -> [[f64; 2]; 2] {
    places.into_iter().fold([[f64::INFINITY; 2], [f64::NEG_INFINITY; 2]], |[low, high], p| {
        [std::array::from_fn(|k| low[k].min(p[k])), std::array::from_fn(|k| high[k].max(p[k]))]
    })
}

/// Whole columns and rows of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    /// The first column.
    pub left: i32,
    /// The first row.
    pub top: i32,
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
}

impl Window {
    /// Round a box with so much room about it, px.
    pub fn about([low, high]: [[f64; 2]; 2], room: f64) -> Self {
        let [from, to] = [low.map(|v| (v - room).floor() as i32), high.map(|v| (v + room).ceil() as i32)];
        let [width, height] = [0, 1].map(|k| (to[k] - from[k] + 1).max(0) as usize);
        Self { left: from[0], top: from[1], width, height }
    }

    /// What of it lies in a picture, one pixel at least.
    #[must_use]
    pub fn within(self, (width, height): (usize, usize)) -> Self {
        let cut = |from: i32, count: usize, most: usize| {
            let end = |v: i32| v.clamp(0, most as i32 - 1);
            let (first, last) = (end(from), end(from + count as i32 - 1));
            (first, (last - first + 1) as usize)
        };
        let ((left, width), (top, height)) = (cut(self.left, self.width, width), cut(self.top, self.height, height));
        Self { left, top, width, height }
    }

    /// Column and row, of the picture, of its pixel `k`, row by row.
    pub fn place(&self, k: usize) -> [i32; 2] {
        [self.left + (k % self.width) as i32, self.top + (k / self.width) as i32]
    }

    /// A place of the picture in it.
    pub fn own(&self, at: [f64; 2]) -> [f64; 2] {
        [at[0] - f64::from(self.left), at[1] - f64::from(self.top)]
    }

    /// A place in it, of the picture.
    pub fn of_picture(&self, own: [f64; 2]) -> [f64; 2] {
        [own[0] + f64::from(self.left), own[1] + f64::from(self.top)]
    }
}

impl SoftShape {
    /// How much of a place it covers, px, as [`Coverage::of_shape`] says of pixels.
    pub fn part_at(&self, x: f64, y: f64) -> f32 {
        let n = self.corners.len();
        let mut nearest = (f64::INFINITY, SHARPEST_PX);
        for (k, [ax, ay]) in self.corners.iter().enumerate() {
            let [bx, by] = self.corners[(k + 1) % n];
            let (wx, wy) = (bx - ax, by - ay);
            let t = (((x - ax) * wx + (y - ay) * wy) / (wx * wx + wy * wy).max(1e-12)).clamp(0.0, 1.0);
            let off = (ax + t * wx - x).hypot(ay + t * wy - y);
            if off < nearest.0 {
                let feather = |k: usize| self.feathers.get(k % n).copied().unwrap_or(0.0).max(SHARPEST_PX);
                nearest = (off, feather(k) + (feather(k + 1) - feather(k)) * t);
            }
        }
        let signed = if contains(&self.corners, x, y) { nearest.0 } else { -nearest.0 };
        (signed / nearest.1 + 0.5).clamp(0.0, 1.0) as f32
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn square(side: f64, feathers: &[f64]) -> SoftShape {
        let corners = vec![[10.0, 10.0], [10.0 + side, 10.0], [10.0 + side, 10.0 + side], [10.0, 10.0 + side]];
        SoftShape { corners, feathers: feathers.to_vec() }
    }

    fn sum(c: &Coverage) -> f32 {
        c.parts.iter().sum()
    }

    #[test]
    fn a_sharp_shape_covers_its_area_and_a_soft_one_fades_evenly_about_its_edge() {
        let sharp = Coverage::of_shape(64, 64, &square(20.0, &[]));
        assert!((sum(&sharp) - 400.0).abs() < 2.0, "{}", sum(&sharp));
        let soft = Coverage::of_shape(64, 64, &square(20.0, &[8.0; 4]));
        let row = |x: usize| soft.parts[20 * 64 + x];
        assert!((row(10) - 0.5).abs() < 1e-6 && (row(8) - 0.25).abs() < 1e-6 && (row(12) - 0.75).abs() < 1e-6);
        assert_eq!((row(5), row(15), row(20)), (0.0, 1.0, 1.0));
        // Softer on the right, where its corners are.
        let mixed = Coverage::of_shape(64, 64, &square(20.0, &[2.0, 12.0, 12.0, 2.0]));
        let width = |edge: f64, step: f64| {
            (0..12)
                .filter(|k| {
                    (0.01..0.99).contains(&mixed.parts[20 * 64 + (edge + step * (f64::from(*k) - 6.0)) as usize])
                })
                .count()
        };
        assert!(width(30.0, 1.0) > 2 * width(10.0, 1.0));
    }

    proptest! {
        #[test]
        fn pixels_are_covered_as_places_are(
            corners in prop::collection::vec(prop::array::uniform2(-10f64..40.0), 3..8), feather in 0f64..10.0,
        ) {
            let shape = SoftShape { feathers: vec![feather; corners.len()], corners };
            let made = Coverage::of_shape(30, 24, &shape);
            for y in 0..24 {
                for x in 0..30 {
                    let wanted = shape.part_at(x as f64, y as f64);
                    prop_assert!((made.parts[y * 30 + x] - wanted).abs() < 1e-4, "({x}, {y})");
                }
            }
        }
    }

    #[test]
    fn shapes_add_up_take_away_and_cross() {
        let two = |how| {
            let mut all = Coverage::of_shape(64, 64, &square(20.0, &[]));
            let mut other = square(20.0, &[]);
            other.corners.iter_mut().for_each(|c| c[0] += 10.0);
            all.meet(&Coverage::of_shape(64, 64, &other), how);
            sum(&all)
        };
        // Where edges of both lie on one another, half and half make three quarters.
        assert!((two(Combine::Add) - 605.0).abs() < 4.0, "{}", two(Combine::Add));
        assert!((two(Combine::Subtract) - 205.0).abs() < 4.0);
        assert!((two(Combine::Cross) - 195.0).abs() < 4.0);
        let rest = Coverage::of_shape(64, 64, &square(20.0, &[])).inverted();
        assert!((sum(&rest) - (64.0 * 64.0 - 400.0)).abs() < 2.0);
        assert!(Coverage::empty(3, 3).is_empty() && !rest.times(0.5).is_empty());
    }
}
