//! Visibility: which face each pixel, or each sample of one, sees through the real lens.
//!
//! Triangles are clipped before the camera, cut until what the lens bends strays from a straight edge by less than
//! [`project::CHORD_PX`], and drawn tile by tile into a buffer of depths (Pineda, "A Parallel Algorithm for Polygon
//! Rasterization", 1988).

mod project;
mod tile;

pub(crate) use project::{ScreenTriangle, project};
pub(crate) use tile::{Fragment, SAMPLES, TILE, Tile, sample_offset};
