//! How the letters of a title are set and what they are made of.

use super::{InsertError, within};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// The form of the bevel round the front.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Profile {
    /// One slope.
    #[default]
    Straight,
    /// A quarter of a circle that bulges.
    Round,
    /// A quarter of a circle cut out.
    Hollow,
    /// Two steps.
    Stepped,
}

/// Where the lines of a title meet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Align {
    /// In the middle.
    #[default]
    Middle,
    /// On the left.
    Left,
    /// On the right.
    Right,
}

/// What letters are made of, as far as light goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LetterFinish {
    /// Gives light back evenly.
    #[default]
    Matt,
    /// With a wide highlight.
    Satin,
    /// Mirrors in its own colour.
    Metal,
    /// Mirrors, and lets some of what lies behind it through.
    Glass,
    /// Gives light by itself.
    Glow,
}

/// To what a picture on letters is fitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Fit {
    /// All letters together.
    #[default]
    Whole,
    /// Each letter.
    Letter,
}

/// A picture on a part of the letters.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Covering {
    /// The picture; the plate itself where there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asset: Option<Asset>,
    /// To what it is fitted.
    #[serde(default)]
    pub fit: Fit,
}

/// How the letters of a title are set and what they are made of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Lettering {
    /// Of the bevel.
    #[serde(default)]
    pub profile: Profile,
    /// Of its lines.
    #[serde(default)]
    pub align: Align,
    /// More room between letters than the font says, of the height of a capital.
    #[serde(default)]
    pub letter_space: f64,
    /// From line to line, of the height of a capital.
    #[serde(default = "line_step")]
    pub line_step: f64,
    /// A font of one's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub font_file: Option<Asset>,
    /// What it is made of.
    #[serde(default)]
    pub finish: LetterFinish,
    /// Of the bevel, where it is another than that of the face.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bevel_colour: Option<[u8; 3]>,
    /// Of the sides, where it is another than that of the face.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side_colour: Option<[u8; 3]>,
    /// On the face.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub face: Option<Covering>,
    /// On the bevel.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bevel: Option<Covering>,
    /// On the sides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Covering>,
}

fn line_step() -> f64 {
    1.55
}

impl Default for Lettering {
    fn default() -> Self {
        Self {
            profile: Profile::default(),
            align: Align::default(),
            letter_space: 0.0,
            line_step: line_step(),
            font_file: None,
            finish: LetterFinish::default(),
            bevel_colour: None,
            side_colour: None,
            face: None,
            bevel: None,
            side: None,
        }
    }
}

impl Lettering {
    /// Pictures on face, bevel and sides, as far as there are.
    pub fn coverings(&self) -> [Option<&Covering>; 3] {
        [self.face.as_ref(), self.bevel.as_ref(), self.side.as_ref()]
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the room between letters", self.letter_space, -0.5, 10.0)?;
        within("the step from line to line", self.line_step, 0.2, 20.0)
    }
}
