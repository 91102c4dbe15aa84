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

/// One outline, interpolated linearly between its keys and held outside them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Mask {
    /// Which side is used.
    pub mode: MaskMode,
    /// At least one key, by rising frame, all with the same number of corners.
    pub keys: Vec<MaskKey>,
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
    #[error("mask {mask} has {found} corners at frame {frame}, but {expected} at its first key; all keys need the same number, at least 3")]
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
    /// The outline at `frame`, px.
    pub fn outline_at(&self, frame: u32) -> Vec<[f64; 2]> {
        let after = self.keys.partition_point(|k| k.frame <= frame);
        match (after.checked_sub(1).and_then(|i| self.keys.get(i)), self.keys.get(after)) {
            (Some(a), Some(b)) => {
                let t = f64::from(frame - a.frame) / f64::from(b.frame - a.frame);
                a.outline.iter().zip(&b.outline).map(|(p, q)| [p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1])]).collect()
            }
            (Some(only), None) | (None, Some(only)) => only.outline.clone(),
            (None, None) => Vec::new(),
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
    pub(crate) fn at(&self, frame: u32) -> MasksAtFrame {
        MasksAtFrame { outlines: self.masks.iter().map(|m| (m.mode, m.outline_at(frame))).collect() }
    }
}

/// The masks of one frame.
#[derive(Debug, Clone)]
pub(crate) struct MasksAtFrame {
    outlines: Vec<(MaskMode, Vec<[f64; 2]>)>,
}

impl MasksAtFrame {
    /// Whether a square window of half side `half` px round (x, y) may be used: it touches no
    /// keep-out, and if there are keep-ins, it lies inside one of them.
    pub fn allows(&self, x: f64, y: f64, half: f64) -> bool {
        let mut needs_inside = false;
        let mut is_inside = false;
        for (mode, outline) in &self.outlines {
            let touches = touches_window(outline, x, y, half);
            match mode {
                MaskMode::KeepOut if touches || contains(outline, x, y) => return false,
                MaskMode::KeepOut => {}
                MaskMode::KeepIn => {
                    needs_inside = true;
                    is_inside |= contains(outline, x, y) && !touches;
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
        let mask = Mask { mode: MaskMode::KeepOut, keys: vec![square(10, 0.0, 20.0), square(20, 40.0, 20.0)] };
        assert_eq!(mask.outline_at(0)[0], [0.0, 10.0]);
        assert_eq!(mask.outline_at(15)[0], [20.0, 10.0]);
        assert_eq!(mask.outline_at(99)[0], [40.0, 10.0]);
    }

    #[test]
    fn a_window_that_touches_a_keep_out_is_not_used() {
        let masks = Masks { masks: vec![Mask { mode: MaskMode::KeepOut, keys: vec![square(0, 10.0, 20.0)] }] }.at(3);
        assert!(!masks.allows(20.0, 20.0, 2.0), "inside");
        assert!(!masks.allows(35.0, 20.0, 6.0), "one edge in the window");
        assert!(masks.allows(35.0, 20.0, 4.0), "beside it");
        assert!(!masks.allows(20.0, 20.0, 50.0), "the outline inside the window");
    }

    #[test]
    fn a_keep_in_leaves_out_all_the_rest() {
        let masks = Masks { masks: vec![Mask { mode: MaskMode::KeepIn, keys: vec![square(0, 10.0, 20.0)] }] }.at(0);
        assert!(masks.allows(20.0, 20.0, 3.0) && !masks.allows(60.0, 20.0, 3.0) && !masks.allows(12.0, 20.0, 3.0));
    }

    #[test]
    fn bad_masks_are_named() {
        let bad = |keys| Masks { masks: vec![Mask { mode: MaskMode::KeepIn, keys }] }.validate();
        assert_eq!(bad(vec![]), Err(MaskError::NoKeys { mask: 0 }));
        let mut short = square(5, 0.0, 9.0);
        short.outline.pop();
        assert_eq!(bad(vec![square(0, 0.0, 9.0), short]), Err(MaskError::Corners { mask: 0, frame: 5, found: 3, expected: 4 }));
        assert_eq!(bad(vec![square(4, 0.0, 9.0), square(4, 0.0, 9.0)]), Err(MaskError::Order { mask: 0, frame: 4 }));
        assert_eq!(bad(vec![square(4, f64::NAN, 9.0)]), Err(MaskError::NotFinite { mask: 0, frame: 4 }));
    }
}
