//! What is done over all.

use super::error::EditError;
use crate::scene::Finish;
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
}

impl Finish {
    pub(super) fn apply(&mut self, edit: &FinishEdit) -> Result<(), EditError> {
        let FinishEdit::Finish { finish } = edit;
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
        "finish".to_owned()
    }
}
