//! The science and the rules of Fennik: no files, no clock, no environment, no interface.
//!
//! Conventions, stated once:
//!
//! * World: right-handed, Y up, metres once the scale is set.
//! * Camera: x right, y down, z forward. A world point `X` is seen at `R X + t`.
//! * Pixels: the centre of the top-left pixel is (0, 0).
//! * Frames count from 0, the first frame of the trimmed clip.

pub mod camera;
pub mod check;
pub mod colour;
pub mod geometry;
pub mod image;
pub mod matte;
pub mod scene;
pub mod solve;
pub mod survey;
pub mod track;

mod random;
mod wide;
