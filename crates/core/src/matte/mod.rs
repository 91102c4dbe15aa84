//! Outlines: shapes drawn over the picture that change over time, and what lies inside them.
//!
//! Corners are px of the full picture, frames those of the trimmed clip. A shape that follows what it was drawn round
//! is made by [`crate::track::Follower`], which hands it back as outlines. The same shapes keep the analysis out of parts
//! of the picture and what is placed behind parts of it.

mod contour;
mod coverage;
mod inbetween;
mod key;
mod likeness;
mod mask;
mod minimal_cut;
mod outline;
mod polygon;
mod trace;

pub use contour::{agree, agreement, centroid, contour, doubled_area, holes, largest, simplified, thinned};
pub use coverage::{Combine, Coverage, SoftShape, Window, bounds};
pub use inbetween::{Inbetween, Part};
pub use key::{KeyBy, LightPicture, PlateKey};
pub use mask::{Mask, MaskError, MaskMode, Masks, MasksAtFrame};
pub use outline::{Outline, OutlineError, OutlineKey};
pub use polygon::contains;
pub use trace::Trace;
