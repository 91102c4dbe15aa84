//! The picture: inserts, seen through the solved lens, over the plate.
//!
//! * [`colour`] holds the only laws between display values and linear light.
//! * A [`RenderScene`] is what is placed: instances of shapes, which a [`ShapeCache`] keeps by what they are made from;
//!   a [`PlacedScene`] is all of it at one time.
//! * `raster` tells which face each pixel sees, `light` how bright it is there; rays (`tree`) are only for shadows.
//! * [`layers`] are linear light with alpha; they are put over the plate at the end.

mod assets;
mod blend;
mod bytes;
mod canvas;
mod catching;
pub mod colour;
mod dressed;
mod finish;
mod frame;
pub mod layers;
mod lens;
mod light;
mod material;
mod mesh;
mod placed;
mod raster;
#[cfg(test)]
mod sample;
mod scene;
mod shadow;
mod shape;
mod texture;
mod tree;
mod wall;

pub use assets::{AssetError, Assets, Model, NoAssets, Rig, Run, Treatment};
pub use bytes::ByteCube;
pub use canvas::{Canvas, Fronts};
pub use finish::Finisher;
pub use frame::{Drawing, Projected, Quality, composite, composite_on};
pub use lens::LensPass;
pub use light::Panorama;
pub use material::{ChannelMap, Cover, Map, Material, Matte};
pub use mesh::Mesh;
pub use placed::PlacedScene;
pub use scene::{Body, RenderError, RenderScene};
pub use shape::{ShapeCache, ShapeError, TitleError, TitleFont, font, font_has, font_with, fonts, triangulated};
pub use texture::{Texture, Wrap};
pub use wall::Wall;
