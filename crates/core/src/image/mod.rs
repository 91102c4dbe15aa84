//! Pictures as the analysis sees them: single-channel planes of `f32`, their pyramids and filters; and what is measured of
//! a plate: its grain, its sharpness.

mod grain;
mod grain_field;
mod grain_pair;
mod plane;
mod prepare;
mod pyramid;
mod sharpness;

pub use grain::{GRAIN_BANDS, Grain, GrainSamples};
pub use grain_field::grain_field;
pub use plane::{Plane, PlaneError};
pub use prepare::{Channel, PictureSettings, channel_of, prepare};
pub use pyramid::Pyramid;
pub use sharpness::edge_blur_px;
