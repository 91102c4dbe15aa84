//! Which part of the clip is used.

use super::error::EditError;
use crate::colour::{Primaries, Transfer};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// Frames of the file, both ends included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FrameRange {
    /// First frame used.
    pub first: u32,
    /// Last frame used.
    pub last: u32,
}

impl FrameRange {
    /// Number of frames.
    pub fn count(self) -> u32 {
        self.last - self.first + 1
    }

    /// Checks that it holds a frame.
    ///
    /// # Errors
    /// [`EditError::EmptyTrim`].
    pub fn validate(self) -> Result<(), EditError> {
        let Self { first, last } = self;
        if last < first { Err(EditError::EmptyTrim { first, last }) } else { Ok(()) }
    }
}

/// A change of the part that is used.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum FootageEdit {
    /// Uses another part of the clip. Analyses belong to a part and are let go.
    Trim {
        /// The part.
        range: FrameRange,
    },
    /// Takes the code values of the plate for something else than the file says.
    PlateColour {
        /// What.
        colour: PlateColour,
    },
}

/// What the code values of the plate mean, where that is another than the file says.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct PlateColour {
    /// The transfer function.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transfer: Option<Transfer>,
    /// The primaries.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub primaries: Option<Primaries>,
    /// A table that makes display values of them, as comes with footage in log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<Asset>,
}

impl FootageEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::Trim { range } => format!("trim to frames {} to {}", range.first, range.last),
            Self::PlateColour { .. } => "colour of the plate".to_owned(),
        }
    }
}
