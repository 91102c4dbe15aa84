//! Outlines: shapes drawn over the picture that change over time, and what lies inside them.
//!
//! Corners are px of the full picture, frames those of the trimmed clip. A shape that follows what it was drawn round
//! is made by [`crate::track::Follower`], which hands it back as outlines.

mod mask;
mod outline;
mod polygon;

pub use mask::{Mask, MaskError, MaskMode, Masks, MasksAtFrame};
pub use outline::{Outline, OutlineError, OutlineKey};
pub use polygon::contains;
