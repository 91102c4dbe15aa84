//! The picture: rays through the solved lens into the inserts, over the plate.

mod bvh;
mod composite;
mod fonts;
mod mesh;
mod title;

pub use composite::{Quality, Stage, StageError, composite};
pub use fonts::{TitleFont, font, fonts};
pub use mesh::Mesh;
pub use title::{TitleError, title_mesh};
