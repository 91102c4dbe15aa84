//! Clips in: videos, and stills that follow one another.

pub mod chosen;
pub mod decode;
pub mod info;
pub mod note;
mod open;
pub mod probe;
pub mod rate;
pub mod sequence;
pub mod source;
pub mod still;
mod timing;
