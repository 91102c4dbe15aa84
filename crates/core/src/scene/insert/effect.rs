//! A filmed or drawn element: spray, smoke, fire.

use super::{InsertError, Play, Slot, within};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// What of the pictures is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Keyed {
    /// Nothing: they have their own alpha, or none.
    #[default]
    Alpha,
    /// Black, by brightness.
    Black,
    /// A colour, as of a green screen.
    Colour,
}

/// A key: what is left out of a picture, and how softly.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Key {
    /// What is left out.
    #[serde(default)]
    pub by: Keyed,
    /// The colour that is left out as encoded for display, 0 to 255.
    #[serde(default = "green")]
    pub colour: [u8; 3],
    /// How much is left out, 0 to 1.
    #[serde(default = "reach")]
    pub reach: f64,
    /// Over how much more it fades, 0 to 1.
    #[serde(default = "soft")]
    pub soft: f64,
}

fn green() -> [u8; 3] {
    [0, 177, 64]
}

fn reach() -> f64 {
    0.15
}

fn soft() -> f64 {
    0.25
}

impl Default for Key {
    fn default() -> Self {
        Self { by: Keyed::default(), colour: green(), reach: reach(), soft: soft() }
    }
}

impl Key {
    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the key's reach", self.reach, 0.0, 1.0)?;
        within("the key's softness", self.soft, 0.0, 1.0)
    }
}

/// A filmed or drawn element on one card or several.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Effect {
    /// What it shows.
    pub asset: Asset,
    /// Width over height of what it shows.
    pub aspect: f64,
    /// Height of the cards, metres.
    pub height_m: f64,
    /// Cards that cross in its upright.
    #[serde(default = "one")]
    pub cards: u32,
    /// What is left out of its pictures.
    #[serde(default)]
    pub key: Key,
    /// How it runs.
    #[serde(default)]
    pub play: Play,
}

fn one() -> u32 {
    1
}

/// Cards at most.
const MOST_CARDS: f64 = 12.0;

impl Effect {
    /// On one card.
    pub fn new(asset: Asset, aspect: f64, height_m: f64) -> Self {
        Self { asset, aspect, height_m, cards: one(), key: Key::default(), play: Play::default() }
    }

    /// A value that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        match name {
            "height" => Some(Slot::Number(&mut self.height_m)),
            "key-colour" => Some(Slot::Colour(&mut self.key.colour)),
            "key-reach" => Some(Slot::Number(&mut self.key.reach)),
            "key-soft" => Some(Slot::Number(&mut self.key.soft)),
            _ => None,
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the height", self.height_m, 1e-3, 1e4)?;
        within("the proportion", self.aspect, 1e-3, 1e3)?;
        within("the number of cards", f64::from(self.cards), 1.0, MOST_CARDS)?;
        self.key.validate()?;
        self.play.validate()
    }
}
