//! Changes of the datum.

use super::error::EditError;
use crate::geometry::Similarity;
use crate::scene::{Datum, DatumError, Surface};
use serde::{Deserialize, Serialize};

/// What becomes of what is placed when the datum changes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Follow {
    /// It stays where it is in the picture; its numbers change.
    #[default]
    Picture,
    /// It keeps its numbers, and goes with the world.
    Numbers,
}

/// A change of the datum.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum DatumEdit {
    /// Changes the datum.
    Datum {
        /// The new one.
        datum: Datum,
        /// What becomes of what is placed.
        #[serde(default)]
        follow: Follow,
    },
    /// Takes a datum that was proposed, with the surfaces that were found.
    TakeDatum {
        /// The new one.
        datum: Datum,
        /// In its world.
        surfaces: Vec<Surface>,
        /// What becomes of what is placed.
        #[serde(default)]
        follow: Follow,
    },
}

impl DatumEdit {
    /// What becomes of what is placed.
    pub fn follow(&self) -> Follow {
        match self {
            Self::Datum { follow, .. } | Self::TakeDatum { follow, .. } => *follow,
        }
    }

    /// Surfaces that come with it.
    pub fn surfaces(&self) -> &[Surface] {
        match self {
            Self::Datum { .. } => &[],
            Self::TakeDatum { surfaces, .. } => surfaces,
        }
    }
}

impl Datum {
    /// Lays another datum; hands back how the world moves by that.
    pub(super) fn apply(&mut self, edit: &DatumEdit) -> Result<Similarity, EditError> {
        let (DatumEdit::Datum { datum, .. } | DatumEdit::TakeDatum { datum, .. }) = edit;
        if !datum.world_from_solve.is_sound() {
            return Err(DatumError::NotSound.into());
        }
        let moves = self.world_from_solve.inverse().then(&datum.world_from_solve);
        *self = datum.clone();
        Ok(moves)
    }

    /// Follows a solve in another world.
    pub(super) fn follow(&mut self, way: Option<&Similarity>, outline: &[[f64; 3]]) -> Result<(), EditError> {
        if let Some(floor) = self.floor.as_mut().filter(|f| f.outline.is_empty()) {
            floor.outline = outline.to_vec();
        }
        if let Some(way) = way {
            if !way.is_sound() {
                return Err(DatumError::NoWay.into());
            }
            // The old datum is reached from the new world by going back first.
            self.world_from_solve = way.inverse().then(&self.world_from_solve);
        }
        Ok(())
    }
}

impl DatumEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::Datum { .. } => "datum".to_owned(),
            Self::TakeDatum { .. } => "take datum".to_owned(),
        }
    }
}
