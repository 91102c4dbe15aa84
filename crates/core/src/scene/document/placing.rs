//! What is placed.

use super::error::EditError;
use crate::geometry::Similarity;
use crate::scene::insert::within;
use crate::scene::{Insert, InsertId};
use serde::{Deserialize, Serialize};

/// 180 degrees of a turning shutter, as most cameras are set.
const HALF_OPEN: f64 = 0.5;

/// The part of the document that is about what is placed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placing {
    /// In the order in which they were placed.
    pub inserts: Vec<Insert>,
    /// The id that the next insert gets.
    pub next: InsertId,
    /// Part of a frame for which the shutter is open, 0 to 1: what moves is blurred by as much as it moves meanwhile.
    #[serde(default)]
    pub shutter: f64,
}

impl Default for Placing {
    fn default() -> Self {
        Self { inserts: Vec::new(), next: InsertId(1), shutter: HALF_OPEN }
    }
}

/// A change of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum PlacingEdit {
    /// Places something; its id is given by the document.
    AddInsert {
        /// What and where.
        insert: Insert,
    },
    /// Changes what is placed.
    ChangeInsert {
        /// With the id of the one it replaces.
        insert: Insert,
    },
    /// Opens the shutter for another part of a frame.
    SetShutter {
        /// 0 to 1.
        shutter: f64,
    },
    /// Takes something away.
    RemoveInsert {
        /// Which.
        id: InsertId,
    },
}

impl Placing {
    /// The insert with an id.
    pub fn insert(&self, id: InsertId) -> Option<&Insert> {
        self.inserts.iter().find(|i| i.id == id)
    }

    pub(super) fn apply(&mut self, edit: &PlacingEdit) -> Result<(), EditError> {
        match edit {
            PlacingEdit::AddInsert { insert } => {
                insert.validate()?;
                let id = self.next;
                self.next = InsertId(id.0 + 1);
                let mut insert = Insert { id, ..insert.clone() };
                insert.name = insert.shown_name();
                self.inserts.push(insert);
            }
            PlacingEdit::ChangeInsert { insert } => {
                insert.validate()?;
                let slot = self.inserts.iter_mut().find(|i| i.id == insert.id);
                *slot.ok_or(EditError::NoInsert { id: insert.id })? = insert.clone();
            }
            PlacingEdit::SetShutter { shutter } => {
                within("the shutter", *shutter, 0.0, 1.0)?;
                self.shutter = *shutter;
            }
            PlacingEdit::RemoveInsert { id } => {
                if self.insert(*id).is_none() {
                    return Err(EditError::NoInsert { id: *id });
                }
                self.inserts.retain(|i| i.id != *id);
            }
        }
        Ok(())
    }

    /// Moves all keys in time by frames.
    pub(super) fn shift(&mut self, by: f64) {
        self.inserts.iter_mut().for_each(|i| i.shift(by));
    }

    /// Moves everything with the world, so that it stays where it is in the picture.
    pub(super) fn move_with(&mut self, world: &Similarity) {
        self.inserts.iter_mut().for_each(|i| i.placement.move_with(world));
    }
}

impl PlacingEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::AddInsert { .. } => "place insert".to_owned(),
            Self::ChangeInsert { .. } => "change insert".to_owned(),
            Self::SetShutter { .. } => "shutter".to_owned(),
            Self::RemoveInsert { .. } => "remove insert".to_owned(),
        }
    }
}
