//! Made-up footage with known cameras: a drone over the quay of the made-up Varrick Basin, and other places.
//!
//! Everything is computed: a small ray caster over planes, boxes, cylinders and ellipsoids with noise
//! textures, a sun, a shutter, a lens and a noisy sensor. The film and its true cameras are
//! deterministic; `cargo run --release -p fennik-demo --bin film` makes them again.

mod basin;
pub mod encode;
pub mod flight;
mod form;
pub mod library;
mod paint;
pub mod passing;
pub mod places;
pub mod scene;
pub mod scenery;
pub mod sensor;
pub mod take;
pub mod texture;
pub mod trials;
pub mod truth;
pub mod uprights;

/// The drone over the basin's quay (H.264 in MP4).
pub const BASIN_CLIP: &[u8] = include_bytes!("../assets/basin-quay.mp4");
/// The walk along its boathouse.
pub const BOATHOUSE_CLIP: &[u8] = include_bytes!("../assets/basin-boathouse.mp4");
/// The pan from the lookout over it.
pub const LOOKOUT_CLIP: &[u8] = include_bytes!("../assets/basin-lookout.mp4");
/// The plain clip that everything is measured on.
pub const QUAY_CLIP: &[u8] = include_bytes!("../assets/varrick-quay.mp4");
/// Its true cameras and points (JSON, see [`truth`]).
pub const QUAY_TRUTH: &[u8] = include_bytes!("../assets/varrick-quay.truth.json");
