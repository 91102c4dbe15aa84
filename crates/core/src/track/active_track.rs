//! A point that is being followed.

use super::align::{Template, Warp, Window};
use crate::image::Plane;
use std::sync::Arc;

/// A point that is being followed.
pub struct ActiveTrack {
    /// Its id in the run.
    pub id: u32,
    /// The frame on which it was found.
    pub first_frame: u32,
    /// Where it was seen from there on, px; not a number on frames on which it was not.
    pub positions: Vec<[f32; 2]>,
    /// The view that it is aligned with.
    pub template: Template<8>,
    /// From that view to the newest.
    pub warp: Warp,
    /// By how much its last step differed from the coarse motion, px: by its parallax, which lasts.
    pub own_motion: (f64, f64),
    /// How far its last step ended from where it was expected, px.
    pub surprise_px: f64,
    /// How often that view was replaced.
    pub renewals: u8,
}

impl ActiveTrack {
    /// A point found at a pixel of `picture`; `None` where its window does not lie inside.
    pub fn begin(id: u32, frame: u32, at: [f64; 2], picture: &Plane, window: &Arc<Window>) -> Option<Self> {
        let template = Template::cut(picture, at[0], at[1], window, &mut Vec::new())?;
        Some(Self {
            id,
            first_frame: frame,
            positions: vec![[at[0] as f32, at[1] as f32]],
            template,
            warp: Warp::shift(at[0], at[1]),
            own_motion: (0.0, 0.0),
            surprise_px: f64::INFINITY,
            renewals: 0,
        })
    }

    /// How it moved last, px.
    pub fn last_step(&self) -> (f64, f64) {
        match self.positions.as_slice() {
            [.., a, b] if a[0].is_finite() && b[0].is_finite() => (f64::from(b[0] - a[0]), f64::from(b[1] - a[1])),
            _ => (0.0, 0.0),
        }
    }
}
