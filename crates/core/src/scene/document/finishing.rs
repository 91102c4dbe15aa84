//! What is done over all.

use super::error::EditError;
use crate::scene::{Finish, LensLook};
use serde::{Deserialize, Serialize};

/// A change of the finish.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum FinishEdit {
    /// Changes it.
    Finish {
        /// The new one.
        finish: Finish,
    },
    /// Changes how what is placed is seen through the plate's lens and on its film.
    Lens {
        /// The new one.
        lens: LensLook,
    },
}

impl Finish {
    pub(super) fn apply(&mut self, edit: &FinishEdit) -> Result<(), EditError> {
        // The other is another part's.
        let FinishEdit::Finish { finish } = edit else { return Ok(()) };
        finish.validate()?;
        *self = finish.clone();
        Ok(())
    }

    /// Moves its keys in time by frames.
    pub(super) fn shift(&mut self, by: f64) {
        self.numbers.shift(by);
    }
}

impl FinishEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::Finish { .. } => "finish".to_owned(),
            Self::Lens { .. } => "lens and grain".to_owned(),
        }
    }
}
