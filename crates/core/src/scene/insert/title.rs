//! Letters.

use super::{InsertError, Lettering, Slot, within};
use serde::{Deserialize, Serialize};

/// Longest text, characters.
const MAX_TEXT: usize = 400;

/// Letters with depth.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Title {
    /// What it says; lines are parted by \n.
    pub text: String,
    /// Name of a font that ships with Fennik.
    pub font: String,
    /// Height of a capital, metres.
    pub height_m: f64,
    /// Depth of the letters, metres.
    pub depth_m: f64,
    /// Width of the bevel, metres.
    pub bevel_m: f64,
    /// Colour as encoded for display, 0 to 255.
    pub colour: [u8; 3],
    /// How they are set and what they are made of.
    #[serde(default)]
    pub lettering: Lettering,
}

impl Title {
    /// A value that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        match name {
            "height" => Some(Slot::Number(&mut self.height_m)),
            "depth" => Some(Slot::Number(&mut self.depth_m)),
            "bevel" => Some(Slot::Number(&mut self.bevel_m)),
            "letter-space" => Some(Slot::Number(&mut self.lettering.letter_space)),
            "line-step" => Some(Slot::Number(&mut self.lettering.line_step)),
            "colour" => Some(Slot::Colour(&mut self.colour)),
            _ => None,
        }
    }

    /// Checks every number and the text.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the height", self.height_m, 1e-3, 1e4)?;
        within("the depth", self.depth_m, 0.0, 1e4)?;
        within("the bevel", self.bevel_m, 0.0, 1e3)?;
        self.lettering.validate()?;
        let length = self.text.chars().count();
        if self.text.trim().is_empty() {
            Err(InsertError::NoText)
        } else if length > MAX_TEXT {
            Err(InsertError::TooLong { length, most: MAX_TEXT })
        } else {
            Ok(())
        }
    }
}
