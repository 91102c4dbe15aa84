//! A model.

use super::{InsertError, within};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// Which of a model's own axes points up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ModelUp {
    /// As glTF has it.
    #[default]
    Y,
    /// As most of what is made for printing and building has it.
    Z,
}

/// A model on its foot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Prop {
    /// What it shows.
    pub asset: Asset,
    /// Metres of one of its own units.
    pub unit_m: f64,
    /// Which of its own axes points up.
    #[serde(default)]
    pub up: ModelUp,
}

impl Prop {
    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the unit", self.unit_m, 1e-9, 1e6)
    }
}
