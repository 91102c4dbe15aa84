//! Values that may change over time: one value, or a curve through keys.
//!
//! Time is counted in frames of the trimmed clip and need not be whole, so that a shutter that is open for a while, or
//! that runs down the picture, sees how things move within a frame. A value that does not change is written as it is;
//! only a curve is written as an object with keys.

mod animated;
mod curve;
mod interpolate;
mod numbers;
mod rotation;
mod track;

pub use animated::Animated;
pub use curve::{Curve, CurveError, Ease, Key};
pub use interpolate::Interpolate;
pub use numbers::{NumberError, NumberRule, Numbers};
pub use rotation::{Rotation, RotationError};
pub use track::Track;
