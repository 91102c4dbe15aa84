//! What stands in front of what is placed.

use super::error::EditError;
use crate::matte::Mask;
use crate::scene::{Holdout, HoldoutBy, HoldoutId};
use serde::{Deserialize, Serialize};

/// The part of the document that is about holdouts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Holding {
    /// Each meets those before it.
    pub holdouts: Vec<Holdout>,
    /// The id that the next one gets.
    pub next: HoldoutId,
}

impl Default for Holding {
    fn default() -> Self {
        Self { holdouts: Vec::new(), next: HoldoutId(1) }
    }
}

/// A change of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum HoldoutEdit {
    /// Adds one; its id is given by the document.
    AddHoldout {
        /// Which.
        holdout: Holdout,
    },
    /// Draws a shape and holds out what is in it.
    DrawHoldout {
        /// The shape; its id is given by the document.
        mask: Mask,
    },
    /// Draws several.
    DrawHoldouts {
        /// The shapes.
        masks: Vec<Mask>,
    },
    /// Changes one.
    ChangeHoldout {
        /// With the id of the one it replaces.
        holdout: Holdout,
    },
    /// Takes one away, and the shape with it that nothing else uses.
    RemoveHoldout {
        /// Which.
        id: HoldoutId,
    },
    /// Moves one to another place of the list.
    OrderHoldout {
        /// Which.
        id: HoldoutId,
        /// Its position from now on.
        to: usize,
    },
}

impl Holding {
    /// The holdout with an id.
    pub fn holdout(&self, id: HoldoutId) -> Option<&Holdout> {
        self.holdouts.iter().find(|h| h.id == id)
    }

    /// Whether any is told by a mask.
    pub fn uses_mask(&self, id: u32) -> bool {
        self.holdouts.iter().any(|h| h.by == HoldoutBy::Mask { mask: id })
    }

    pub(super) fn add(&mut self, holdout: &Holdout) -> Result<(), EditError> {
        let id = HoldoutId(self.next.0.max(1));
        let name =
            if holdout.name.trim().is_empty() { format!("holdout {}", id.0) } else { holdout.name.trim().to_owned() };
        let made = Holdout { id, name, ..holdout.clone() };
        made.validate()?;
        self.next = HoldoutId(id.0 + 1);
        self.holdouts.push(made);
        Ok(())
    }

    fn position(&self, id: HoldoutId) -> Result<usize, EditError> {
        self.holdouts.iter().position(|h| h.id == id).ok_or(EditError::NoHoldout { id: id.0 })
    }

    /// What was taken away, where one was.
    pub(super) fn apply(&mut self, edit: &HoldoutEdit) -> Result<Option<Holdout>, EditError> {
        match edit {
            HoldoutEdit::AddHoldout { holdout } => self.add(holdout)?,
            // Shapes are another part's.
            HoldoutEdit::DrawHoldout { .. } | HoldoutEdit::DrawHoldouts { .. } => {}
            HoldoutEdit::ChangeHoldout { holdout } => {
                let at = self.position(holdout.id)?;
                holdout.validate()?;
                self.holdouts[at] = holdout.clone();
            }
            HoldoutEdit::RemoveHoldout { id } => {
                let at = self.position(*id)?;
                return Ok(Some(self.holdouts.remove(at)));
            }
            HoldoutEdit::OrderHoldout { id, to } => {
                let at = self.position(*id)?;
                let moved = self.holdouts.remove(at);
                self.holdouts.insert((*to).min(self.holdouts.len()), moved);
            }
        }
        Ok(None)
    }

    /// Moves all of it by frames.
    pub(super) fn shift(&mut self, by: i64) {
        self.holdouts.iter_mut().for_each(|h| h.shift(by));
    }
}

impl HoldoutEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::AddHoldout { .. } => "holdout".to_owned(),
            Self::DrawHoldout { .. } => "draw holdout".to_owned(),
            Self::DrawHoldouts { masks } => format!("draw {} holdouts", masks.len()),
            Self::ChangeHoldout { .. } => "change holdout".to_owned(),
            Self::RemoveHoldout { .. } => "remove holdout".to_owned(),
            Self::OrderHoldout { .. } => "order holdouts".to_owned(),
        }
    }
}
