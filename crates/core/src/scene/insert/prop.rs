//! A model.

use super::{InsertError, Play, within};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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

/// What a model's foot is the middle of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ModelFoot {
    /// All of it, as documents have it that do not say.
    #[default]
    Whole,
    /// What touches the ground: the pole of a mast, not its flag.
    Ground,
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
    /// What its foot is the middle of.
    #[serde(default)]
    pub foot: ModelFoot,
    /// What of its materials was changed, by their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub materials: BTreeMap<String, MaterialChange>,
    /// How its own motion runs, where it has one.
    #[serde(default)]
    pub play: Play,
    /// Whether it stands still at the start of its own motion.
    #[serde(default)]
    pub held: bool,
}

/// A picture of a material.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ModelMap {
    /// Its colour.
    Base,
    /// Roughness, bright is rough.
    Rough,
    /// Roughness, bright is smooth.
    Gloss,
    /// Metal, bright is metal.
    Metal,
    /// Directions.
    Normal,
    /// Light that it gives by itself.
    Emission,
}

/// What is other about a material than its file says.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct MaterialChange {
    /// Its colour, 0 to 255.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub colour: Option<[u8; 3]>,
    /// 0 is none, 1 is metal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metal: Option<f64>,
    /// 0 is a mirror, 1 is matt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rough: Option<f64>,
    /// How much of its colour it gives as light.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub glow: Option<f64>,
    /// Pictures in place of its own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub maps: BTreeMap<ModelMap, Asset>,
}

impl MaterialChange {
    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the metal", self.metal.unwrap_or(0.0), 0.0, 1.0)?;
        within("the roughness", self.rough.unwrap_or(0.0), 0.0, 1.0)?;
        within("the glow", self.glow.unwrap_or(0.0), 0.0, 100.0)
    }
}

impl Prop {
    /// As its file has it, moving if it does.
    pub fn new(asset: Asset, unit_m: f64, up: ModelUp) -> Self {
        let foot = ModelFoot::Ground;
        Self { asset, unit_m, up, foot, materials: BTreeMap::new(), play: Play::default(), held: false }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the unit", self.unit_m, 1e-9, 1e6)?;
        self.materials.values().try_for_each(MaterialChange::validate)?;
        self.play.validate()
    }
}
