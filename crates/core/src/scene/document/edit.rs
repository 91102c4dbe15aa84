//! One change, as a person makes it, and why it may be refused.

use super::footage::FootageEdit;
use super::laying::DatumEdit;
use super::light::LightEdit;
use super::masking::MaskingEdit;
use super::placing::PlacingEdit;
use super::solving::SolvingEdit;
use super::tracking::TrackingEdit;
use crate::matte::MaskError;
use crate::scene::{DatumError, InsertError, InsertId};
use crate::solve::SettingsError;
use crate::track::TrackError;
use serde::{Deserialize, Serialize};

/// One change of one part of the document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Edit {
    /// Which part of the clip is used.
    Footage(FootageEdit),
    /// Tracks.
    Tracking(TrackingEdit),
    /// Masks of the analysis.
    Masking(MaskingEdit),
    /// The camera.
    Solving(SolvingEdit),
    /// The datum.
    Datum(DatumEdit),
    /// What is placed.
    Placing(PlacingEdit),
    /// Light.
    Light(LightEdit),
}

impl Edit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::Footage(edit) => edit.label(),
            Self::Tracking(edit) => edit.label(),
            Self::Masking(edit) => edit.label(),
            Self::Solving(edit) => edit.label(),
            Self::Datum(edit) => edit.label(),
            Self::Placing(edit) => edit.label(),
            Self::Light(edit) => edit.label(),
        }
    }
}

/// Why an edit was refused; the document is as it was.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The range is empty.
    #[error("the trim runs from frame {first} to {last}; it must hold at least one frame")]
    EmptyTrim {
        /// First frame.
        first: u32,
        /// Last frame.
        last: u32,
    },
    /// No such insert.
    #[error("there is no insert {id} any more; reload the page", id = id.0)]
    NoInsert {
        /// Which.
        id: InsertId,
    },
    /// No such mask.
    #[error("there is no mask {id} any more; reload the page")]
    NoMask {
        /// Which.
        id: u32,
    },
    /// Something placed with a value that cannot be used.
    #[error(transparent)]
    Insert(#[from] InsertError),
    /// A mask that cannot be used.
    #[error(transparent)]
    Mask(#[from] MaskError),
    /// Settings of the tracker that cannot be used.
    #[error(transparent)]
    Track(#[from] TrackError),
    /// Settings of the solve that cannot be used.
    #[error(transparent)]
    Solve(#[from] SettingsError),
    /// A datum that is none.
    #[error(transparent)]
    Datum(#[from] DatumError),
    /// A light that cannot be.
    #[error("the sun's height lies between -90 and 90 degrees, strengths between 0 and 20")]
    Light,
}
