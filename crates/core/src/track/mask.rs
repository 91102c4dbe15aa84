//! Outlines that keep the analysis out of, or inside, a part of the frame.

use serde::{Deserialize, Serialize};

/// Which side of an outline the analysis may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MaskMode {
    /// Nothing inside is used.
    KeepOut,
    /// Only what is inside is used.
    KeepIn,
}

/// The outline at one frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MaskKey {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// Corners, px.
    pub outline: Vec<[f64; 2]>,
}

/// Pieces into which the curve between two corners is cut.
const CURVE_PIECES: usize = 10;

/// One outline, interpolated linearly between its keys and held outside them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Mask {
    /// Names it within its document.
    #[serde(default)]
    pub id: u32,
    /// For people.
    #[serde(default)]
    pub name: String,
    /// Which side is used.
    pub mode: MaskMode,
    /// At least one key, by rising frame, all with the same number of corners.
    pub keys: Vec<MaskKey>,
    /// Whether each corner is smooth; those beyond the list are not.
    #[serde(default)]
    pub smooth: Vec<bool>,
    /// Whether inside and outside change places.
    #[serde(default)]
    pub inverted: bool,
    /// First and last frame on which it counts; all where there is none.
    #[serde(default)]
    pub span: Option<(u32, u32)>,
}

/// All masks of an analysis.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Masks {
    /// In no particular order.
    pub masks: Vec<Mask>,
}

/// What can be wrong with a mask.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum MaskError {
    /// A mask without a key says nothing.
    #[error("mask {mask} has no keys; give it at least one outline")]
    NoKeys {
        /// Position in the list, from 0.
        mask: usize,
    },
    /// Keys cannot be interpolated between outlines of different corners.
    #[error(
        "mask {mask} has {found} corners at frame {frame}, but {expected} at its first key; all keys need the same \
            number, at least 3"
    )]
    Corners {
        /// Position in the list, from 0.
        mask: usize,
        /// Frame of the key.
        frame: u32,
        /// Corners found.
        found: usize,
        /// Corners of the first key.
        expected: usize,
    },
    /// Keys must stand in the order of their frames.
    #[error("mask {mask} has its keys out of order at frame {frame}; sort them by frame, one key a frame")]
    Order {
        /// Position in the list, from 0.
        mask: usize,
        /// Frame of the key.
        frame: u32,
    },
    /// A span that ends before it begins.
    #[error("mask {mask} counts from frame {first} to {last}; the span must not end before it begins")]
    Span {
        /// Position in the list, from 0.
        mask: usize,
        /// First frame.
        first: u32,
        /// Last frame.
        last: u32,
    },
    /// A corner is no number.
    #[error("mask {mask} has a corner at frame {frame} that is not a finite number")]
    NotFinite {
        /// Position in the list, from 0.
        mask: usize,
        /// Frame of the key.
        frame: u32,
    },
}

impl Mask {
    /// A mask with straight corners that counts on all frames.
    pub fn new(mode: MaskMode, keys: Vec<MaskKey>) -> Self {
        Self { id: 0, name: String::new(), mode, keys, smooth: Vec::new(), inverted: false, span: None }
    }

    /// Whether it counts on a frame.
    pub fn counts_on(&self, frame: u32) -> bool {
        self.span.is_none_or(|(first, last)| (first..=last).contains(&frame))
    }

    /// Its corners at `frame`, px.
    pub fn outline_at(&self, frame: u32) -> Vec<[f64; 2]> {
        let after = self.keys.partition_point(|k| k.frame <= frame);
        match (after.checked_sub(1).and_then(|i| self.keys.get(i)), self.keys.get(after)) {
            (Some(a), Some(b)) => {
                let t = f64::from(frame - a.frame) / f64::from(b.frame - a.frame);
                a.outline
                    .iter()
                    .zip(&b.outline)
                    .map(|(p, q)| [p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1])])
                    .collect()
            }
            (Some(only), None) | (None, Some(only)) => only.outline.clone(),
            (None, None) => Vec::new(),
        }
    }

    /// Its shape at `frame` as a polygon, px: smooth corners are rounded by the curve through them whose tangent is
    /// that of their neighbours (Catmull & Rom 1974).
    pub fn shape_at(&self, frame: u32) -> Vec<[f64; 2]> {
        let corners = self.outline_at(frame);
        let n = corners.len();
        let is_smooth = |i: usize| self.smooth.get(i).copied().unwrap_or(false);
        if !(0..n).any(is_smooth) {
            return corners;
        }
        let mut shape = Vec::with_capacity(n * CURVE_PIECES);
        for i in 0..n {
            let (a, b) = (corners[i], corners[(i + 1) % n]);
            let (before, behind) = (corners[(i + n - 1) % n], corners[(i + 2) % n]);
            // Control points a third along the tangent; a straight corner looks at the next one.
            let control = |at: [f64; 2], from: [f64; 2], to: [f64; 2], by: f64| {
                [at[0] + by * (to[0] - from[0]), at[1] + by * (to[1] - from[1])]
            };
            let c = if is_smooth(i) { control(a, before, b, 1.0 / 6.0) } else { control(a, a, b, 1.0 / 3.0) };
            let d = if is_smooth((i + 1) % n) { control(b, behind, a, 1.0 / 6.0) } else { control(b, b, a, 1.0 / 3.0) };
            let pieces = if is_smooth(i) || is_smooth((i + 1) % n) { CURVE_PIECES } else { 1 };
            shape.extend((0..pieces).map(|k| {
                let t = k as f64 / pieces as f64;
                let u = 1.0 - t;
                let w = [u * u * u, 3.0 * u * u * t, 3.0 * u * t * t, t * t * t];
                std::array::from_fn(|x| w[0] * a[x] + w[1] * c[x] + w[2] * d[x] + w[3] * b[x])
            }));
        }
        shape
    }

    /// Moves it by frames. What falls before frame 0 goes; the shape on frame 0 stays what it was.
    pub fn shift(&mut self, by: i64) {
        let frame = |f: u32| u32::try_from(i64::from(f) + by).ok();
        let at_start = u32::try_from(-by).ok().map(|f| self.outline_at(f));
        let kept: Vec<MaskKey> = self
            .keys
            .iter()
            .filter_map(|k| Some(MaskKey { frame: frame(k.frame)?, outline: k.outline.clone() }))
            .collect();
        let cut = kept.len() < self.keys.len();
        self.keys = kept;
        if let Some(outline) = at_start.filter(|_| cut && self.keys.first().is_none_or(|k| k.frame > 0)) {
            self.set_key(0, outline);
        }
        self.span = self.span.map(|(first, last)| (frame(first).unwrap_or(0), frame(last).unwrap_or(0)));
    }

    /// Sets the outline at a frame: a key that is there is replaced, else one is added.
    pub fn set_key(&mut self, frame: u32, outline: Vec<[f64; 2]>) {
        match self.keys.binary_search_by_key(&frame, |k| k.frame) {
            Ok(i) => self.keys[i].outline = outline,
            Err(i) => self.keys.insert(i, MaskKey { frame, outline }),
        }
    }

    /// Takes over outlines of frames that follow one another, from `from` on, with no more keys than keep every outline
    /// within `tolerance_px`. Keys that lie among those frames are replaced.
    pub fn take_run(&mut self, from: u32, outlines: &[Vec<[f64; 2]>], tolerance_px: f64) {
        let Some(last) = outlines.len().checked_sub(1) else { return };
        self.keys.retain(|k| !(from..=from + last as u32).contains(&k.frame));
        let mut chosen = std::collections::BTreeSet::from([0, last]);
        let mut spans = vec![(0, last)];
        // Douglas & Peucker 1973, over time.
        while let Some((a, b)) = spans.pop() {
            let error = |i: usize| {
                let t = (i - a) as f64 / (b - a) as f64;
                let corner = |k: usize, x: usize| {
                    outlines[a][k][x] + t * (outlines[b][k][x] - outlines[a][k][x]) - outlines[i][k][x]
                };
                (0..outlines[i].len()).map(|k| corner(k, 0).hypot(corner(k, 1))).fold(0.0, f64::max)
            };
            let worst = (a + 1..b).map(|i| (error(i), i)).max_by(|p, q| p.0.total_cmp(&q.0));
            if let Some((_, i)) = worst.filter(|w| w.0 > tolerance_px) {
                chosen.insert(i);
                spans.extend([(a, i), (i, b)]);
            }
        }
        for i in chosen {
            self.set_key(from + i as u32, outlines[i].clone());
        }
    }
}

impl Masks {
    /// Checks every mask.
    ///
    /// # Errors
    /// The first [`MaskError`].
    pub fn validate(&self) -> Result<(), MaskError> {
        for (mask, m) in self.masks.iter().enumerate() {
            if let Some((first, last)) = m.span.filter(|(first, last)| last < first) {
                return Err(MaskError::Span { mask, first, last });
            }
            let expected = m.keys.first().ok_or(MaskError::NoKeys { mask })?.outline.len();
            for (i, key) in m.keys.iter().enumerate() {
                let (frame, found) = (key.frame, key.outline.len());
                if found != expected || found < 3 {
                    return Err(MaskError::Corners { mask, frame, found, expected });
                }
                if i > 0 && m.keys[i - 1].frame >= frame {
                    return Err(MaskError::Order { mask, frame });
                }
                if key.outline.iter().flatten().any(|c| !c.is_finite()) {
                    return Err(MaskError::NotFinite { mask, frame });
                }
            }
        }
        Ok(())
    }

    /// The outlines at `frame`, ready for tests of many points.
    pub fn at(&self, frame: u32) -> MasksAtFrame {
        let there = self.masks.iter().filter(|m| m.counts_on(frame));
        MasksAtFrame { outlines: there.map(|m| AtFrame::new(m, frame)).collect() }
    }
}

/// One mask on one frame.
#[derive(Debug, Clone)]
struct AtFrame {
    mode: MaskMode,
    inverted: bool,
    shape: Vec<[f64; 2]>,
    low: [f64; 2],
    high: [f64; 2],
}

impl AtFrame {
    fn new(mask: &Mask, frame: u32) -> Self {
        let shape = mask.shape_at(frame);
        let end = |start: f64, pick: fn(f64, f64) -> f64| {
            std::array::from_fn(|x| shape.iter().map(|p| p[x]).fold(start, pick))
        };
        Self {
            low: end(f64::INFINITY, f64::min),
            high: end(f64::NEG_INFINITY, f64::max),
            mode: mask.mode,
            inverted: mask.inverted,
            shape,
        }
    }

    /// Whether the window lies inside the shape, and whether it touches its border.
    fn relation(&self, x: f64, y: f64, half: f64) -> (bool, bool) {
        if x + half < self.low[0] || x - half > self.high[0] || y + half < self.low[1] || y - half > self.high[1] {
            return (false, false);
        }
        (contains(&self.shape, x, y), touches_window(&self.shape, x, y, half))
    }
}

/// The masks of one frame.
#[derive(Debug, Clone)]
pub struct MasksAtFrame {
    outlines: Vec<AtFrame>,
}

impl MasksAtFrame {
    /// Whether a square window of half side `half` px round (x, y) may be used: it touches no
    /// keep-out, and if there are keep-ins, it lies inside one of them.
    pub fn allows(&self, x: f64, y: f64, half: f64) -> bool {
        let mut needs_inside = false;
        let mut is_inside = false;
        for mask in &self.outlines {
            let (inside, touches) = mask.relation(x, y, half);
            let within = inside != mask.inverted;
            match mask.mode {
                MaskMode::KeepOut if touches || within => return false,
                MaskMode::KeepOut => {}
                MaskMode::KeepIn => {
                    needs_inside = true;
                    is_inside |= within && !touches;
                }
            }
        }
        is_inside || !needs_inside
    }
}

/// Even-odd rule (Shimrat, "Algorithm 112", 1962).
fn contains(outline: &[[f64; 2]], x: f64, y: f64) -> bool {
    let mut inside = false;
    for (i, a) in outline.iter().enumerate() {
        let b = outline[(i + 1) % outline.len()];
        if (a[1] > y) != (b[1] > y) && x < (b[0] - a[0]) * (y - a[1]) / (b[1] - a[1]) + a[0] {
            inside = !inside;
        }
    }
    inside
}

/// Whether any edge of the outline crosses the window (clipping by Liang & Barsky 1984).
fn touches_window(outline: &[[f64; 2]], x: f64, y: f64, half: f64) -> bool {
    outline.iter().enumerate().any(|(i, a)| {
        let b = outline[(i + 1) % outline.len()];
        let (mut t0, mut t1) = (0.0f64, 1.0f64);
        for axis in 0..2 {
            let centre = if axis == 0 { x } else { y };
            let (low, high, from, d) = (centre - half, centre + half, a[axis], b[axis] - a[axis]);
            if d.abs() < 1e-12 {
                if from < low || from > high {
                    return false;
                }
                continue;
            }
            let (u, v) = ((low - from) / d, (high - from) / d);
            t0 = t0.max(u.min(v));
            t1 = t1.min(u.max(v));
        }
        t0 <= t1
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn square(frame: u32, x: f64, side: f64) -> MaskKey {
        MaskKey { frame, outline: vec![[x, 10.0], [x + side, 10.0], [x + side, 10.0 + side], [x, 10.0 + side]] }
    }

    #[test]
    fn an_outline_moves_between_its_keys_and_is_held_outside() {
        let mask = Mask::new(MaskMode::KeepOut, vec![square(10, 0.0, 20.0), square(20, 40.0, 20.0)]);
        assert_eq!(mask.outline_at(0)[0], [0.0, 10.0]);
        assert_eq!(mask.outline_at(15)[0], [20.0, 10.0]);
        assert_eq!(mask.outline_at(99)[0], [40.0, 10.0]);
    }

    #[test]
    fn a_window_that_touches_a_keep_out_is_not_used() {
        let masks = Masks { masks: vec![Mask::new(MaskMode::KeepOut, vec![square(0, 10.0, 20.0)])] }.at(3);
        assert!(!masks.allows(20.0, 20.0, 2.0), "inside");
        assert!(!masks.allows(35.0, 20.0, 6.0), "one edge in the window");
        assert!(masks.allows(35.0, 20.0, 4.0), "beside it");
        assert!(!masks.allows(20.0, 20.0, 50.0), "the outline inside the window");
    }

    #[test]
    fn a_keep_in_leaves_out_all_the_rest() {
        let masks = Masks { masks: vec![Mask::new(MaskMode::KeepIn, vec![square(0, 10.0, 20.0)])] }.at(0);
        assert!(masks.allows(20.0, 20.0, 3.0) && !masks.allows(60.0, 20.0, 3.0) && !masks.allows(12.0, 20.0, 3.0));
    }

    #[test]
    fn bad_masks_are_named() {
        let bad = |keys| Masks { masks: vec![Mask::new(MaskMode::KeepIn, keys)] }.validate();
        assert_eq!(bad(vec![]), Err(MaskError::NoKeys { mask: 0 }));
        let mut short = square(5, 0.0, 9.0);
        short.outline.pop();
        assert_eq!(
            bad(vec![square(0, 0.0, 9.0), short]),
            Err(MaskError::Corners { mask: 0, frame: 5, found: 3, expected: 4 })
        );
        assert_eq!(bad(vec![square(4, 0.0, 9.0), square(4, 0.0, 9.0)]), Err(MaskError::Order { mask: 0, frame: 4 }));
        assert_eq!(bad(vec![square(4, f64::NAN, 9.0)]), Err(MaskError::NotFinite { mask: 0, frame: 4 }));
    }

    #[test]
    fn an_inverted_mask_counts_the_other_way_and_a_span_ends_it() {
        let mut mask = Mask::new(MaskMode::KeepOut, vec![square(0, 10.0, 20.0)]);
        mask.inverted = true;
        mask.span = Some((5, 9));
        let allows = |m: &Mask, frame, x, half| Masks { masks: vec![m.clone()] }.at(frame).allows(x, 20.0, half);
        assert!(allows(&mask, 5, 20.0, 3.0) && !allows(&mask, 5, 60.0, 3.0) && !allows(&mask, 9, 12.0, 3.0));
        assert!(allows(&mask, 4, 60.0, 3.0) && allows(&mask, 10, 12.0, 3.0), "outside its span it says nothing");
        mask.mode = MaskMode::KeepIn;
        assert!(!allows(&mask, 6, 20.0, 3.0) && allows(&mask, 6, 60.0, 3.0));
        mask.span = Some((9, 5));
        assert_eq!(Masks { masks: vec![mask] }.validate(), Err(MaskError::Span { mask: 0, first: 9, last: 5 }));
    }

    #[test]
    fn smooth_corners_round_the_shape_and_straight_ones_stay() {
        let mut mask = Mask::new(MaskMode::KeepOut, vec![square(0, 0.0, 100.0)]);
        let area = |m: &Mask| {
            let s = m.shape_at(0);
            (0..s.len()).map(|i| s[i][0] * s[(i + 1) % s.len()][1] - s[(i + 1) % s.len()][0] * s[i][1]).sum::<f64>()
                / 2.0
        };
        assert!((area(&mask) - 1e4).abs() < 1e-9);
        mask.smooth = vec![true; 4];
        assert!(area(&mask) > 1.2e4, "the curve bulges through the corners: {}", area(&mask));
        mask.smooth = vec![true];
        assert!(mask.shape_at(0).contains(&[100.0, 110.0]), "a straight corner is still a corner");
    }

    #[test]
    fn a_run_of_outlines_becomes_few_keys_that_keep_it() {
        let at =
            |f: u32| square(f, if f < 30 { 2.0 * f64::from(f) } else { 60.0 + 5.0 * f64::from(f - 30) }, 20.0).outline;
        let outlines: Vec<_> = (10..50).map(at).collect();
        let mut mask = Mask::new(MaskMode::KeepOut, vec![square(3, -5.0, 20.0), square(20, 900.0, 20.0)]);
        mask.take_run(10, &outlines, 0.5);
        assert_eq!(mask.keys.iter().map(|k| k.frame).collect::<Vec<_>>(), [3, 10, 30, 49]);
        for f in 10..50 {
            assert!((mask.outline_at(f)[0][0] - at(f)[0][0]).abs() <= 0.5);
        }
        mask.set_key(30, square(30, 0.0, 20.0).outline);
        assert_eq!(mask.keys.len(), 4);
    }
}
