//! Pictures as the analysis sees them: single-channel planes of `f32`, their pyramids and filters.

mod plane;
mod pyramid;

pub use plane::{Plane, PlaneError};
pub use pyramid::Pyramid;
