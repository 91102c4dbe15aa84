//! The solved camera in the world of the datum, at any time and picture row: the one place that applies the datum.
//!
//! Everybody who wants to know where something is seen, or what a pixel sees, asks [`CameraPath`]. A rolling shutter
//! exposes row by row, so a frame has not one pose but one for every row; [`Camera`] knows which.

mod path;

pub use path::{Camera, CameraPath, Ray};
