//! Drawing triangles into one tile.

use super::ScreenTriangle;

/// Side of a tile, px.
pub const TILE: usize = 32;
/// Samples of a pixel on an edge.
pub const SAMPLES: usize = 16;
/// Triangles thinner than this may slip between the middles of pixels, px.
const THIN_PX: f32 = 1.0;
/// How near to a thin triangle the middle of a pixel lies that it may touch, px.
const TOUCHES_PX: f32 = 0.75;

/// Where in a pixel a sample lies, px from its middle: a grid of four by four, each shifted so that no two share a row
/// or a column.
pub fn sample_offset(k: usize) -> [f32; 2] {
    let (i, j) = ((k % 4) as f32, (k / 4) as f32);
    [(i + (j + 0.5) / 4.0) / 4.0 - 0.5, (j + (i + 0.5) / 4.0) / 4.0 - 0.5]
}

/// A triangle as far as one tile needs it; places are counted from the tile's first pixel.
struct Edges {
    /// Of each edge: what is to be times x, times y, and added; at least zero inside.
    edges: [[f32; 3]; 3],
    depth: [f32; 3],
    low: [f32; 2],
    high: [f32; 2],
}

impl Edges {
    fn new(t: &ScreenTriangle, left: usize, top: usize) -> Option<Self> {
        let at = t.at.map(|p| [p[0] - left as f32, p[1] - top as f32]);
        let doubled = (at[1][0] - at[0][0]) * (at[2][1] - at[0][1]) - (at[1][1] - at[0][1]) * (at[2][0] - at[0][0]);
        if doubled == 0.0 || !doubled.is_finite() {
            return None;
        }
        let edges: [[f32; 3]; 3] = std::array::from_fn(|k| {
            // An edge is reckoned from the same end by both triangles that share it, so that not even rounding parts
            // them.
            let (a, b) = (at[(k + 1) % 3], at[(k + 2) % 3]);
            let (flip, a, b) = if (a[0], a[1]) <= (b[0], b[1]) { (1.0, a, b) } else { (-1.0, b, a) };
            let sign = flip * doubled.signum();
            let (dx, dy) = (b[0] - a[0], b[1] - a[1]);
            [-dy, dx, dy * a[0] - dx * a[1]].map(|v| v * sign)
        });
        let per = 1.0 / doubled.abs();
        let depth = std::array::from_fn(|i| (0..3).map(|k| edges[k][i] * t.inverse_depth[k]).sum::<f32>() * per);
        let ends = |pick: fn(f32, f32) -> f32| std::array::from_fn(|x| pick(pick(at[0][x], at[1][x]), at[2][x]));
        Some(Self { edges, depth, low: ends(f32::min), high: ends(f32::max) })
    }

    fn at(plane: &[f32; 3], x: f32, y: f32) -> f32 {
        plane[0] * x + plane[1] * y + plane[2]
    }

    /// Its pixels' columns or rows within a tile of `size` px, `wider` px beyond it.
    fn span(&self, axis: usize, size: usize, wider: f32) -> std::ops::Range<usize> {
        let low = (self.low[axis] - wider).ceil().max(0.0);
        let high = (self.high[axis] + wider).floor().min(size as f32 - 1.0);
        if low > high { 0..0 } else { low as usize..high as usize + 1 }
    }
}

/// The columns of a row that lie inside of three edges, of each of which is known what is to be times the column, and
/// added. Where they end is reckoned first, and then asked of the edges themselves, which rounding never parts.
fn covered(planes: &[(f32, f32); 4], columns: std::ops::Range<usize>) -> std::ops::Range<usize> {
    let inside = |x: usize| (0..3).all(|k| planes[k].0 * x as f32 + planes[k].1 >= 0.0);
    let (mut low, mut high) = (columns.start as f32, columns.end as f32 - 1.0);
    for (grows, base) in &planes[..3] {
        // One that hardly grows is of one sign all over a tile.
        if grows.abs() <= 1e-4 * base.abs() {
            if *base < 0.0 {
                return 0..0;
            }
        } else if *grows > 0.0 {
            low = low.max(-base / grows);
        } else {
            high = high.min(-base / grows);
        }
    }
    // One column more on each side than was reckoned, as far as there are any.
    let mut from = ((low - 1.0).max(columns.start as f32) as usize).min(columns.end);
    let mut to = ((high + 2.0).max(0.0) as usize).clamp(from, columns.end);
    while from < to && !inside(from) {
        from += 1;
    }
    while to > from && !inside(to - 1) {
        to -= 1;
    }
    from..to
}

/// A face that something shows through, where a pixel or a sample of it meets it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fragment {
    /// Position of the pixel, or of the sample, in a list of them.
    pub at: u32,
    /// One over the depth.
    pub depth: f32,
    /// The face.
    pub face: u32,
}

/// Sorts fragments by where they are, the farthest first.
pub fn sort(fragments: &mut [Fragment]) {
    fragments.sort_unstable_by(|a, b| a.at.cmp(&b.at).then(a.depth.total_cmp(&b.depth)).then(a.face.cmp(&b.face)));
}

/// What the middles of a tile's pixels see.
pub struct Tile {
    left: usize,
    top: usize,
    /// Pixels across and down; less than [`TILE`] at the rim of the picture.
    pub size: [usize; 2],
    /// One over the depth; 0 where there is nothing.
    depth: Vec<f32>,
    /// One more than the face, or 0 for none, row by row.
    pub faces: Vec<u32>,
    /// Whether something thin may lie in a pixel beside its middle.
    pub thin: Vec<bool>,
    /// Faces that something shows through, as far as they are not hidden.
    pub fragments: Vec<Fragment>,
}

impl Tile {
    /// An empty tile whose first pixel is (`left`, `top`).
    pub fn new(left: usize, top: usize, size: [usize; 2]) -> Self {
        let n = size[0] * size[1];
        Self { left, top, size, depth: vec![0.0; n], faces: vec![0; n], thin: vec![false; n], fragments: Vec::new() }
    }

    /// Draws a triangle at the middles of the pixels. With `edges`, thin ones are noted where they may touch. Of a face
    /// that something shows through, the fragments are kept.
    pub fn draw(&mut self, t: &ScreenTriangle, edges: bool, through: bool) {
        if !edges && !self.meets_middle(t) {
            return;
        }
        let Some(of) = Edges::new(t, self.left, self.top) else { return };
        let columns = of.span(0, self.size[0], 0.0);
        for y in of.span(1, self.size[1], 0.0) {
            let row = y * self.size[0];
            let planes = [&of.edges[0], &of.edges[1], &of.edges[2], &of.depth].map(|p| (p[0], p[1] * y as f32 + p[2]));
            let at = |k: usize, x: usize| planes[k].0 * x as f32 + planes[k].1;
            for x in covered(&planes, columns.clone()) {
                let (depth, i) = (at(3, x), row + x);
                if through {
                    self.fragments.push(Fragment { at: i as u32, depth, face: t.face });
                } else if depth > self.depth[i] {
                    self.depth[i] = depth;
                    self.faces[i] = t.face + 1;
                }
            }
        }
        if edges {
            self.note_thin(&of);
        }
    }

    /// Whether the middle of any pixel lies in the box of a triangle: between them lie most of those that are far away.
    fn meets_middle(&self, t: &ScreenTriangle) -> bool {
        [(self.left, 0), (self.top, 1)].into_iter().all(|(first, axis)| {
            let [a, b, c] = [0, 1, 2].map(|k| t.at[k][axis] - first as f32);
            let (low, high) = (a.min(b).min(c).max(0.0), a.max(b).max(c).min(self.size[axis] as f32 - 1.0));
            low.ceil() <= high
        })
    }

    /// Sorts the fragments by pixel, the farthest first, and drops what is hidden.
    pub fn settle(&mut self) {
        let depth = &self.depth;
        self.fragments.retain(|f| f.depth > depth[f.at as usize]);
        sort(&mut self.fragments);
    }

    /// Goes through the pixels in which anything is met: number of the pixel, one more than its face or 0 for none, and
    /// what shows through before it, the farthest first.
    pub fn each(&self, mut see: impl FnMut(usize, u32, &[Fragment])) {
        let mut rest = &self.fragments[..];
        for (k, face) in self.faces.iter().enumerate() {
            let count = rest.iter().take_while(|f| f.at as usize == k).count();
            let (before, after) = rest.split_at(count);
            rest = after;
            if *face > 0 || !before.is_empty() {
                see(k, *face, before);
            }
        }
    }

    fn note_thin(&mut self, of: &Edges) {
        let lengths = of.edges.map(|e| e[0].hypot(e[1]));
        let longest = lengths.iter().fold(0.0f32, |m, l| m.max(*l));
        let doubled: f32 = Edges::at(&of.edges[0], of.low[0], of.low[1])
            + Edges::at(&of.edges[1], of.low[0], of.low[1])
            + Edges::at(&of.edges[2], of.low[0], of.low[1]);
        if doubled > THIN_PX * longest {
            return;
        }
        for y in of.span(1, self.size[1], TOUCHES_PX) {
            for x in of.span(0, self.size[0], TOUCHES_PX) {
                let touches =
                    |k: usize| Edges::at(&of.edges[k], x as f32, y as f32) >= -TOUCHES_PX * lengths[k].max(1e-6);
                if touches(0) && touches(1) && touches(2) {
                    self.thin[y * self.size[0] + x] = true;
                }
            }
        }
    }

    /// What the samples of some pixels (of this tile, row by row) see: one more than the face, or 0 for none; and the
    /// fragments of all samples, each counted on from those of the pixels before.
    pub fn sampled(
        &self,
        triangles: impl Iterator<Item = ScreenTriangle>,
        pixels: &[usize],
        through: impl Fn(u32) -> bool,
    ) -> (Vec<[u32; SAMPLES]>, Vec<Fragment>) {
        let offsets: [[f32; 2]; SAMPLES] = std::array::from_fn(sample_offset);
        let mut faces = vec![[0u32; SAMPLES]; pixels.len()];
        let mut depths = vec![[0.0f32; SAMPLES]; pixels.len()];
        let mut fragments = Vec::new();
        for t in triangles {
            let shows = through(t.face);
            let Some(of) = Edges::new(&t, self.left, self.top) else { continue };
            // By how much each plane differs at the samples.
            let differ = [&of.edges[0], &of.edges[1], &of.edges[2], &of.depth]
                .map(|p| offsets.map(|[dx, dy]| p[0] * dx + p[1] * dy));
            for (n, &pixel) in pixels.iter().enumerate() {
                let (x, y) = ((pixel % self.size[0]) as f32, (pixel / self.size[0]) as f32);
                if x + 0.5 < of.low[0] || x - 0.5 > of.high[0] || y + 0.5 < of.low[1] || y - 0.5 > of.high[1] {
                    continue;
                }
                let middle = [&of.edges[0], &of.edges[1], &of.edges[2], &of.depth].map(|p| Edges::at(p, x, y));
                let (faces, depths) = (&mut faces[n], &mut depths[n]);
                for k in 0..SAMPLES {
                    let inside = middle[0] + differ[0][k] >= 0.0
                        && middle[1] + differ[1][k] >= 0.0
                        && middle[2] + differ[2][k] >= 0.0;
                    let depth = middle[3] + differ[3][k];
                    if inside && shows {
                        fragments.push(Fragment { at: (n * SAMPLES + k) as u32, depth, face: t.face });
                    } else if inside && depth > depths[k] {
                        depths[k] = depth;
                        faces[k] = t.face + 1;
                    }
                }
            }
        }
        fragments.retain(|f| f.depth > depths[f.at as usize / SAMPLES][f.at as usize % SAMPLES]);
        sort(&mut fragments);
        (faces, fragments)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn triangle(at: [[f32; 2]; 3], inverse_depth: f32, face: u32) -> ScreenTriangle {
        ScreenTriangle { at, inverse_depth: [inverse_depth; 3], face }
    }

    #[test]
    fn samples_share_no_row_and_no_column_and_lie_in_their_pixel() {
        let all: Vec<[f32; 2]> = (0..SAMPLES).map(sample_offset).collect();
        for axis in 0..2 {
            let mut places: Vec<f32> = all.iter().map(|p| p[axis]).collect();
            places.sort_by(f32::total_cmp);
            assert!(places.windows(2).all(|p| p[1] - p[0] > 0.05), "{places:?}");
            assert!(places[0] > -0.5 && places[15] < 0.5 && places.iter().sum::<f32>().abs() < 1e-5);
        }
    }

    #[test]
    fn two_triangles_of_a_square_leave_no_pixel_out_and_the_nearer_one_is_seen() {
        let mut tile = Tile::new(64, 32, [TILE, TILE]);
        let (a, b, c, d) = ([64.3, 32.2], [95.7, 33.9], [94.1, 62.8], [65.2, 61.7]);
        for t in [triangle([a, b, c], 0.5, 0), triangle([c, d, a], 0.5, 1)] {
            tile.draw(&t, false, false);
        }
        for y in 3..28 {
            for x in 3..29 {
                assert_ne!(tile.faces[y * TILE + x], 0, "{x} {y}");
            }
        }
        tile.draw(&triangle([a, b, c], 0.4, 7), false, false);
        assert!(!tile.faces.contains(&8), "it lies behind");
        tile.draw(&triangle([a, c, b], 0.6, 8), false, false);
        assert!(tile.faces.contains(&9) && !tile.faces.contains(&1), "whichever way it runs");
    }

    #[test]
    fn fragments_come_from_afar_and_what_is_hidden_is_dropped() {
        let mut tile = Tile::new(0, 0, [TILE, TILE]);
        let whole = [[-1.0, -1.0], [80.0, -1.0], [-1.0, 80.0]];
        for (depth, face) in [(0.5, 2), (0.9, 3), (0.2, 4), (0.1, 5)] {
            tile.draw(&triangle(whole, depth, face), false, face != 4);
        }
        tile.settle();
        let at: Vec<u32> = tile.fragments.iter().filter(|f| f.at == 5).map(|f| f.face).collect();
        assert_eq!((at, tile.faces[5]), (vec![2, 3], 5));
        let all = [(0.5, 2), (0.9, 3), (0.2, 4), (0.1, 5)].map(|(depth, face)| triangle(whole, depth, face));
        let (faces, fragments) = tile.sampled(all.into_iter(), &[5, 6], |face| face != 4);
        assert_eq!((faces[1], fragments.len()), ([5; SAMPLES], 2 * 2 * SAMPLES));
        assert!(fragments.chunks(2).all(|pair| pair[0].at == pair[1].at && pair[0].face == 2 && pair[1].face == 3));
    }

    #[test]
    fn what_slips_between_the_middles_is_noted_and_found_by_the_samples() {
        let mut tile = Tile::new(0, 0, [TILE, TILE]);
        let sliver = triangle([[2.0, 10.3], [30.0, 10.4], [30.0, 10.5]], 1.0, 4);
        tile.draw(&sliver, true, false);
        assert!(tile.faces.iter().all(|f| *f == 0));
        let noted: Vec<usize> = (0..TILE * TILE).filter(|i| tile.thin[*i]).collect();
        assert!(noted.len() > 20 && noted.iter().all(|i| (9..=12).contains(&(i / TILE))), "{noted:?}");
        let (covered, _) = tile.sampled([sliver].into_iter(), &noted, |_| false);
        let hits = covered.iter().flatten().filter(|f| **f == 5).count() as f32 / SAMPLES as f32;
        assert!((hits - 1.4).abs() < 0.9, "about its area is covered: {hits}");
    }

    proptest::proptest! {
        /// What is covered is what all three edges say of each column.
        #[test]
        fn columns_that_are_covered_are_those_inside(
            planes in proptest::array::uniform3((-3.0f32..3.0, -60.0f32..60.0)),
            steep in proptest::array::uniform3(proptest::sample::select(vec![0.0, 1e-6, 1e-3, 1.0, 1e6f32])),
        ) {
            let planes = std::array::from_fn(|k| if k < 3 { (planes[k].0 * steep[k], planes[k].1) } else { (0.0, 0.0) });
            let inside = |x: &usize| (0..3).all(|k: usize| planes[k].0 * *x as f32 + planes[k].1 >= 0.0);
            let all: Vec<usize> = (3..29).filter(inside).collect();
            proptest::prop_assert_eq!(covered(&planes, 3..29).collect::<Vec<_>>(), all);
        }
    }

    #[test]
    fn samples_cover_as_much_as_the_triangle_does() {
        let tile = Tile::new(0, 0, [TILE, TILE]);
        let t = triangle([[3.1, 2.7], [27.4, 8.2], [11.9, 29.3]], 1.0, 0);
        let all: Vec<usize> = (0..TILE * TILE).collect();
        let covered = tile.sampled([t].into_iter(), &all, |_| false).0;
        let covered = covered.iter().flatten().filter(|f| **f == 1).count();
        let area = 0.5 * ((27.4 - 3.1) * (29.3 - 2.7) - (8.2 - 2.7) * (11.9 - 3.1f32));
        assert!((covered as f32 / SAMPLES as f32 - area).abs() < 1.5, "{covered} samples for {area} px");
    }
}
