//! What is taken away: one file a format.

pub mod camera_file;
pub mod glb;
pub mod video;
