//! What a solved clip tells of its scene: floor, walls and other flat parts.

mod by_points;
mod cloud;
mod edge;
mod extent;
mod find;
mod flats;
mod floor;
mod head_on;
mod plane;
mod refine;
mod sky;
mod slide;
mod split;
mod upright;
pub mod vanishing;
mod views;
mod windows;

pub use by_points::{ByPoints, PlaneError, plane_through};
pub use edge::edge_along;
pub use extent::{Inside, convex};
pub use find::{FoundPlane, NoFloor, PlaneKind, Survey, kind_of, survey};
pub use plane::{Plane, fit_weighted};
pub use slide::{Slide, slide};
pub use upright::{mean_up, up_by_turning};
pub use vanishing::Sighted;
pub use views::{View, expected_frames, views, wanted_frames};
