//! The first cameras: keyframes, pairs of them, and what grows from those.

pub mod hypotheses;
pub mod incremental;
pub mod keyframes;
pub mod seed_tracks;
pub mod two_view;
