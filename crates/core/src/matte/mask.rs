//! Masks of the analysis: outlines that keep it out of, or inside, a part of the frame.

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
}

impl Mask {
    /// A mask with straight corners that counts on all frames.
    pub fn new(mode: MaskMode, keys: Vec<OutlineKey>) -> Self {
        Self { id: 0, name: String::new(), mode, outline: Outline::new(keys), inverted: false, span: None }
    }

    /// Whether it counts on a frame.
    pub fn counts_on(&self, frame: u32) -> bool {
        self.span.is_none_or(|(first, last)| (first..=last).contains(&frame))
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
            m.outline.validate().map_err(|cause| MaskError::Outline { mask, cause })?;
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
        let shape = mask.outline.shape_at(frame);
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

#[cfg(test)]
mod tests {
    use super::*;

    fn square(frame: u32, x: f64, side: f64) -> OutlineKey {
        OutlineKey { frame, outline: vec![[x, 10.0], [x + side, 10.0], [x + side, 10.0 + side], [x, 10.0 + side]] }
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
