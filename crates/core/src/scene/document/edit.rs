//! One change, as a person makes it.

use super::finishing::FinishEdit;
use super::footage::FootageEdit;
use super::holding::HoldoutEdit;
use super::laying::DatumEdit;
use super::light::LightEdit;
use super::masking::MaskingEdit;
use super::placing::PlacingEdit;
use super::solving::SolvingEdit;
use super::surfacing::SurfacingEdit;
use super::tracking::TrackingEdit;
use serde::{Deserialize, Serialize};

/// One change of one part of the document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
#[expect(clippy::large_enum_variant, reason = "an edit is made, applied and gone")]
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
    /// Surfaces.
    Surfacing(SurfacingEdit),
    /// What is placed.
    Placing(PlacingEdit),
    /// Light.
    Light(LightEdit),
    /// What stands in front.
    Holding(HoldoutEdit),
    /// What is done over all.
    Finish(FinishEdit),
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
            Self::Surfacing(edit) => edit.label(),
            Self::Placing(edit) => edit.label(),
            Self::Light(edit) => edit.label(),
            Self::Holding(edit) => edit.label(),
            Self::Finish(edit) => edit.label(),
        }
    }
}
