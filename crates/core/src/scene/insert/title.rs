//! Letters.

use super::{InsertError, within};
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
}

impl Title {
    /// Checks every number and the text.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the height", self.height_m, 1e-3, 1e4)?;
        within("the depth", self.depth_m, 0.0, 1e4)?;
        within("the bevel", self.bevel_m, 0.0, 1e3)?;
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
