//! The growing scene: frames are registered by points, points triangulated from frames.

pub mod far_points;
pub mod registration;
pub mod resection;
pub mod scene;
pub mod triangulation;
pub mod views;
