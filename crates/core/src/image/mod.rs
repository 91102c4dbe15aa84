//! Pictures as the analysis sees them: single-channel planes of `f32`, their pyramids and filters.

mod plane;
mod prepare;
mod pyramid;

pub use plane::{Plane, PlaneError};
pub use prepare::{Channel, PictureSettings, channel_of, prepare};
pub use pyramid::Pyramid;
