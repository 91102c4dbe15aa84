//! A camera that turns on the spot, and whether the tracks speak for one.

pub mod model_selection;
pub mod nodal;
