//! Masks of the analysis: outlines that keep it out of, or inside, a part of the frame.

use super::SoftShape;
use super::coverage::bounds;
use super::outline::{Outline, OutlineError, OutlineKey};
use super::polygon::{contains, touches_window};
use serde::{Deserialize, Serialize};

/// Which side of an outline the analysis may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MaskMode {
    /// Nothing inside is used.
    KeepOut,
    /// Only what is inside is used.
    KeepIn,
    /// It says nothing to the analysis: it is drawn for something else.
    Shape,
}

/// One outline with what it means to the analysis.
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
    /// Its shape.
    #[serde(flatten)]
    pub outline: Outline,
    /// Whether inside and outside change places.
    #[serde(default)]
    pub inverted: bool,
    /// First and last frame on which it counts; all where there is none.
    #[serde(default)]
    pub span: Option<(u32, u32)>,
    /// Over how many px its edge fades, half of it on either side.
    #[serde(default, skip_serializing_if = "is_none")]
    pub feather_px: f64,
    /// How much more it does so at each corner; none beyond the list.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub corner_feathers_px: Vec<f64>,
}

fn is_none(px: &f64) -> bool {
    *px == 0.0
}

/// Widest feather, px.
const WIDEST_PX: f64 = 4000.0;

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
    /// Its shape.
    #[error("mask {mask} {cause}")]
    Outline {
        /// Position in the list, from 0.
        mask: usize,
        /// Why.
        cause: OutlineError,
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
    /// An edge that cannot be.
    #[error("mask {mask} fades over a width that is none; widths lie between 0 and {WIDEST_PX} px")]
    Feather {
        /// Position in the list, from 0.
        mask: usize,
    },
}

impl Mask {
    /// A mask with straight corners that counts on all frames.
    pub fn new(mode: MaskMode, keys: Vec<OutlineKey>) -> Self {
        Self {
            id: 0,
            name: String::new(),
            mode,
            outline: Outline::new(keys),
            inverted: false,
            span: None,
            feather_px: 0.0,
            corner_feathers_px: Vec::new(),
        }
    }

    /// Whether it counts on a frame.
    pub fn counts_on(&self, frame: u32) -> bool {
        self.span.is_none_or(|(first, last)| (first..=last).contains(&frame))
    }

    /// Its shape at a frame with the softness of its edge, px times `scale`.
    pub fn soft_shape_at(&self, frame: u32, scale: f64) -> SoftShape {
        let (corners, own) = self.outline.corners_at(frame);
        let more = |corner: f64| {
            let (k, t) = (corner.floor() as usize, corner.fract());
            let of = |k: usize| self.corner_feathers_px.get(k).copied().unwrap_or(0.0);
            let next = (k + 1) % self.outline.keys.first().map_or(1, |key| key.outline.len()).max(1);
            self.feather_px + of(k) + t * (of(next) - of(k))
        };
        SoftShape {
            // Pixels are counted by their middles at every size.
            corners: corners.iter().map(|c| c.map(|v| (v + 0.5) * scale - 0.5)).collect(),
            feathers: own.into_iter().map(|corner| more(corner) * scale).collect(),
        }
    }

    /// What of it the analysis knows.
    #[must_use]
    pub fn of_analysis(&self) -> Self {
        Self { feather_px: 0.0, corner_feathers_px: Vec::new(), ..self.clone() }
    }

    /// Moves it by frames. What falls before frame 0 goes; the shape on frame 0 stays what it was.
    pub fn shift(&mut self, by: i64) {
        let frame = |f: u32| u32::try_from(i64::from(f) + by).unwrap_or(0);
        self.outline.shift(by);
        self.span = self.span.map(|(first, last)| (frame(first), frame(last)));
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
            let wide = |px: &f64| (0.0..=WIDEST_PX).contains(px);
            let extra = |px: &f64| (-WIDEST_PX..=WIDEST_PX).contains(px);
            if !wide(&m.feather_px) || !m.corner_feathers_px.iter().all(extra) {
                return Err(MaskError::Feather { mask });
            }
            m.outline.validate().map_err(|cause| MaskError::Outline { mask, cause })?;
        }
        Ok(())
    }

    /// Those that the analysis heeds, and what of them it knows.
    #[must_use]
    pub fn of_analysis(&self) -> Self {
        let heeded = self.masks.iter().filter(|m| m.mode != MaskMode::Shape);
        Self { masks: heeded.map(Mask::of_analysis).collect() }
    }

    /// The outlines at `frame`, ready for tests of many points.
    pub fn at(&self, frame: u32) -> MasksAtFrame {
        let there = self.masks.iter().filter(|m| m.mode != MaskMode::Shape && m.counts_on(frame));
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
        let shape = mask.outline.shape_at(frame);
        let [low, high] = bounds(&shape);
        Self { low, high, mode: mask.mode, inverted: mask.inverted, shape }
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
                MaskMode::Shape => {}
            }
        }
        is_inside || !needs_inside
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn square(frame: u32, x: f64, side: f64) -> OutlineKey {
        OutlineKey::new(frame, vec![[x, 10.0], [x + side, 10.0], [x + side, 10.0 + side], [x, 10.0 + side]])
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
    fn a_shape_says_nothing_to_the_analysis_and_has_a_soft_edge() {
        let mut mask = Mask::new(MaskMode::Shape, vec![square(0, 10.0, 20.0)]);
        (mask.feather_px, mask.corner_feathers_px) = (4.0, vec![0.0, 6.0]);
        let masks = Masks { masks: vec![mask.clone()] };
        assert!(masks.at(0).allows(20.0, 20.0, 3.0) && masks.of_analysis().masks.is_empty());
        let half = mask.soft_shape_at(0, 0.5);
        assert_eq!((half.corners[0], half.feathers[..].to_vec()), ([4.75, 4.75], vec![2.0, 5.0, 2.0, 2.0]));
        mask.outline.smooth = vec![true; 4];
        let round = mask.soft_shape_at(0, 1.0);
        assert!(
            round.feathers.len() == 40 && round.feathers[5] > 6.5 && round.feathers[5] < 7.5,
            "{:?}",
            round.feathers
        );
        let kept = Masks { masks: vec![Mask { mode: MaskMode::KeepOut, ..mask.clone() }] }.of_analysis();
        assert_eq!(kept.masks[0].feather_px, 0.0);
        mask.feather_px = f64::NAN;
        assert_eq!(Masks { masks: vec![mask] }.validate(), Err(MaskError::Feather { mask: 0 }));
    }

    #[test]
    fn bad_masks_are_named() {
        let bad = |keys| Masks { masks: vec![Mask::new(MaskMode::KeepIn, keys)] }.validate();
        let wrong = |cause| Err(MaskError::Outline { mask: 0, cause });
        assert_eq!(bad(vec![]), wrong(OutlineError::NoKeys));
        let mut short = square(5, 0.0, 9.0);
        short.outline.pop();
        assert_eq!(
            bad(vec![square(0, 0.0, 9.0), short]),
            wrong(OutlineError::Corners { frame: 5, found: 3, expected: 4 })
        );
        assert_eq!(bad(vec![square(4, 0.0, 9.0), square(4, 0.0, 9.0)]), wrong(OutlineError::Order { frame: 4 }));
        assert_eq!(bad(vec![square(4, f64::NAN, 9.0)]), wrong(OutlineError::NotFinite { frame: 4 }));
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
}
