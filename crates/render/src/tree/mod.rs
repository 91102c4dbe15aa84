//! Rays: for shadows.

mod bvh;

pub(crate) use bvh::Bvh;
