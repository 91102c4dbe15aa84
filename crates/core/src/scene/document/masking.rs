//! Where the analysis looks.

use super::error::EditError;
use crate::matte::{Mask, Masks};
use serde::{Deserialize, Serialize};

/// The part of the document that is about masks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Masking {
    /// Where the analysis looks.
    pub masks: Masks,
    /// The id that the next mask gets.
    pub next: u32,
}

impl Default for Masking {
    fn default() -> Self {
        Self { masks: Masks::default(), next: 1 }
    }
}

/// A change of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum MaskingEdit {
    /// Draws a mask; its id is given by the document.
    AddMask {
        /// Its shape.
        mask: Mask,
    },
    /// Draws several.
    AddMasks {
        /// Their shapes.
        masks: Vec<Mask>,
    },
    /// Changes a mask.
    ChangeMask {
        /// With the id of the one it replaces.
        mask: Mask,
    },
    /// Takes a mask away.
    RemoveMask {
        /// Which.
        id: u32,
    },
}

impl Masking {
    /// The mask with an id.
    pub fn mask(&self, id: u32) -> Option<&Mask> {
        self.masks.masks.iter().find(|m| m.id == id)
    }

    fn add(&mut self, mask: &Mask) {
        let id = self.next.max(1);
        self.next = id + 1;
        let name = if mask.name.trim().is_empty() { format!("mask {id}") } else { mask.name.clone() };
        self.masks.masks.push(Mask { id, name, ..mask.clone() });
    }

    pub(super) fn apply(&mut self, edit: &MaskingEdit) -> Result<(), EditError> {
        match edit {
            MaskingEdit::AddMask { mask } => self.add(mask),
            MaskingEdit::AddMasks { masks } => masks.iter().for_each(|m| self.add(m)),
            MaskingEdit::ChangeMask { mask } => {
                let slot = self.masks.masks.iter_mut().find(|m| m.id == mask.id);
                *slot.ok_or(EditError::NoMask { id: mask.id })? = mask.clone();
            }
            MaskingEdit::RemoveMask { id } => {
                if self.mask(*id).is_none() {
                    return Err(EditError::NoMask { id: *id });
                }
                self.masks.masks.retain(|m| m.id != *id);
            }
        }
        self.validate()
    }

    /// Moves all of it by frames.
    pub(super) fn shift(&mut self, by: i64) -> Result<(), EditError> {
        self.masks.masks.iter_mut().for_each(|m| m.shift(by));
        self.validate()
    }

    fn validate(&self) -> Result<(), EditError> {
        Ok(self.masks.validate()?)
    }
}

impl MaskingEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::AddMask { .. } => "draw mask".to_owned(),
            Self::AddMasks { masks } => format!("draw {} masks", masks.len()),
            Self::ChangeMask { .. } => "change mask".to_owned(),
            Self::RemoveMask { .. } => "remove mask".to_owned(),
        }
    }
}
