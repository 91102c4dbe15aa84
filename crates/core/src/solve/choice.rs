//! What a person chose among the tracks.

use crate::matte::{Masks, MasksAtFrame};
use crate::track::TrackId;
use std::collections::BTreeSet;

/// Which tracks a solve uses, and where.
#[derive(Debug, Clone, Default)]
pub struct TrackChoice {
    /// Tracks that are not used.
    pub left_out: BTreeSet<TrackId>,
    /// Tracks that are used even where they do not follow the camera.
    pub trusted: BTreeSet<TrackId>,
    /// Where points may be used.
    pub masks: Masks,
    /// Half side of a point's window, px, which no keep-out may touch.
    pub window_half_px: f64,
}

impl TrackChoice {
    /// Everything but these tracks.
    pub fn without(left_out: BTreeSet<TrackId>) -> Self {
        Self { left_out, ..Self::default() }
    }

    /// Whether a point at a pixel of a frame may be used.
    pub fn allowed(&self, frames: u32) -> impl Fn(u32, [f32; 2]) -> bool + '_ {
        let masks: Vec<MasksAtFrame> =
            if self.masks.masks.is_empty() { Vec::new() } else { (0..frames).map(|f| self.masks.at(f)).collect() };
        move |frame, p| {
            masks.get(frame as usize).is_none_or(|m| m.allows(f64::from(p[0]), f64::from(p[1]), self.window_half_px))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::matte::{Mask, MaskMode, OutlineKey};
    use crate::solve::{CentreChoice, Problem};
    use crate::track::{Track, TrackSet};

    #[test]
    fn a_track_that_passes_a_keep_out_is_used_before_and_behind_it() {
        let track =
            Track { id: TrackId(4), first_frame: 0, positions: (0..20).map(|f| [10.0 * f as f32, 50.0]).collect() };
        let set = TrackSet { width: 320, height: 180, frames: 20, cuts: Vec::new(), tracks: vec![track] };
        let outline = vec![[80.0, 0.0], [120.0, 0.0], [120.0, 100.0], [80.0, 100.0]];
        let masks = Masks { masks: vec![Mask::new(MaskMode::KeepOut, vec![OutlineKey::new(0, outline)])] };
        let choice = TrackChoice { masks, window_half_px: 5.0, trusted: [TrackId(4)].into(), ..TrackChoice::default() };
        let problem = Problem::new(&set, 4, &choice, CentreChoice::Given([100.0, 90.0]));
        let frames: Vec<u32> = problem.tracks[0].iter().map(|o| o.0).collect();
        assert_eq!(frames, [0, 1, 2, 3, 4, 5, 6, 7, 13, 14, 15, 16, 17, 18, 19]);
        assert_eq!((problem.trusted[0], problem.lens(300.0).centre_px), (true, [100.0, 90.0]));
        let without = TrackChoice::without([TrackId(4)].into());
        assert!(Problem::new(&set, 4, &without, CentreChoice::Middle).tracks.is_empty());
    }
}
