//! What is placed.

use super::error::EditError;
use crate::geometry::Similarity;
use crate::scene::insert::within;
use crate::scene::insert::{is_shown, kin_of, world_of};
use crate::scene::{Insert, InsertId, InsertKind, Placement, Stance};
use nalgebra::Vector3;
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
    /// Moves one to another place of the list: of two that lie in one plane the later is seen.
    OrderInsert {
        /// Which.
        id: InsertId,
        /// Its position from now on.
        to: usize,
    },
    /// Hangs one on another, or on nothing; it stays where it is at a time, frames.
    HangInsert {
        /// Which.
        id: InsertId,
        /// On what.
        on: Option<InsertId>,
        /// When.
        #[serde(default)]
        frame: f64,
    },
    /// Hangs several on a marker of their own in their middle.
    GroupInserts {
        /// Which.
        ids: Vec<InsertId>,
        /// What the marker is called.
        #[serde(default)]
        name: String,
        /// When they stay where they are, frames.
        #[serde(default)]
        frame: f64,
    },
    /// Makes a copy an insert of its own.
    TakeOutCopy {
        /// Of which.
        id: InsertId,
        /// Its number.
        copy: u32,
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
                self.add(insert)?;
            }
            PlacingEdit::ChangeInsert { insert } => {
                insert.validate()?;
                let parent = self.found(insert.id)?.parent;
                if insert.locked {
                    self.unlocked(insert.id)?;
                }
                let slot = self.inserts.iter_mut().find(|i| i.id == insert.id);
                // What it hangs on is changed by hanging it there.
                *slot.ok_or(EditError::NoInsert { id: insert.id })? = Insert { parent, ..insert.clone() };
            }
            PlacingEdit::SetShutter { shutter } => {
                within("the shutter", *shutter, 0.0, 1.0)?;
                self.shutter = *shutter;
            }
            PlacingEdit::RemoveInsert { id } => {
                let gone = self.unlocked(*id)?;
                let on = gone.parent;
                let children: Vec<InsertId> =
                    self.inserts.iter().filter(|i| i.parent == Some(*id)).map(|i| i.id).collect();
                children.into_iter().try_for_each(|child| self.hang(child, on, 0.0))?;
                self.inserts.retain(|i| i.id != *id);
            }
            PlacingEdit::OrderInsert { id, to } => {
                self.found(*id)?;
                let from = self.inserts.iter().position(|i| i.id == *id).unwrap_or_default();
                let insert = self.inserts.remove(from);
                self.inserts.insert((*to).min(self.inserts.len()), insert);
            }
            PlacingEdit::HangInsert { id, on, frame } => self.hang(*id, *on, *frame)?,
            PlacingEdit::GroupInserts { ids, name, frame } => self.group(ids, name, *frame)?,
            PlacingEdit::TakeOutCopy { id, copy } => self.take_out(*id, *copy)?,
        }
        Ok(())
    }

    fn found(&self, id: InsertId) -> Result<&Insert, EditError> {
        self.insert(id).ok_or(EditError::NoInsert { id })
    }

    fn unlocked(&self, id: InsertId) -> Result<&Insert, EditError> {
        let insert = self.found(id)?;
        if insert.locked { Err(EditError::Locked { name: insert.shown_name() }) } else { Ok(insert) }
    }

    fn add(&mut self, insert: &Insert) -> Result<InsertId, EditError> {
        insert.validate()?;
        if let Some(parent) = insert.parent {
            self.found(parent)?;
        }
        let id = self.next;
        self.next = InsertId(id.0 + 1);
        let mut insert = Insert { id, ..insert.clone() };
        insert.name = insert.shown_name();
        if insert.began.is_none() {
            insert.began = Some(Box::new(insert.clone()));
        }
        self.inserts.push(insert);
        Ok(id)
    }

    fn hang(&mut self, id: InsertId, on: Option<InsertId>, frame: f64) -> Result<(), EditError> {
        let insert = self.unlocked(id)?;
        if let Some(on) = on {
            let parent = self.found(on)?;
            if kin_of(&self.inserts, parent, id) {
                return Err(EditError::HangsOnItself { name: insert.shown_name() });
            }
        }
        let before = world_of(&self.inserts, insert, frame);
        let mut hung = Insert { parent: on, ..insert.clone() };
        let now = world_of(&self.inserts, &hung, frame);
        hung.move_with(&before.then(&now.inverse()));
        hung.validate()?;
        if let Some(slot) = self.inserts.iter_mut().find(|i| i.id == id) {
            *slot = hung;
        }
        Ok(())
    }

    fn group(&mut self, ids: &[InsertId], name: &str, frame: f64) -> Result<(), EditError> {
        let mut feet = Vec::new();
        for id in ids {
            let insert = self.unlocked(*id)?;
            feet.push(world_of(&self.inserts, insert, frame).point(insert.placement.origin(frame)));
        }
        if feet.is_empty() {
            return Err(EditError::NothingToGroup);
        }
        let middle = feet.iter().sum::<Vector3<f64>>() / feet.len() as f64;
        let placement = Placement::on(middle.into(), [0.0, 1.0, 0.0], Stance::Standing);
        let mut marker = Insert::new(InsertKind::Marker, placement);
        marker.name = name.to_owned();
        let marker = self.add(&marker)?;
        ids.iter().try_for_each(|id| self.hang(*id, Some(marker), frame))
    }

    fn take_out(&mut self, id: InsertId, copy: u32) -> Result<(), EditError> {
        let mut own = self.unlocked(id)?.clone();
        let Some(mut copies) = own.copies.take() else { return Err(EditError::NoCopy { number: copy }) };
        let only = copies.count as usize == copies.out.len() + 1;
        if copy >= copies.count || copies.out.contains(&copy) || only {
            return Err(EditError::NoCopy { number: copy });
        }
        own.take_place_of(&copies.one(copy));
        own.name = format!("{} {}", own.shown_name(), copy + 1);
        // It begins where it stood among the others.
        own.began = None;
        copies.out.insert(copy);
        if let Some(slot) = self.inserts.iter_mut().find(|i| i.id == id) {
            slot.copies = Some(copies);
        }
        self.add(&own)?;
        Ok(())
    }

    /// Those that are to be drawn.
    pub fn shown(&self) -> impl Iterator<Item = &Insert> {
        self.inserts.iter().filter(|i| is_shown(&self.inserts, i))
    }

    /// Moves all keys in time by frames.
    pub(super) fn shift(&mut self, by: f64) {
        self.inserts.iter_mut().for_each(|i| i.shift(by));
    }

    /// Moves everything with the world, so that it stays where it is in the picture.
    pub(super) fn move_with(&mut self, world: &Similarity) {
        // What hangs on another moves with that.
        self.inserts.iter_mut().filter(|i| i.parent.is_none()).for_each(|i| i.move_with(world));
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
            Self::OrderInsert { .. } => "order of inserts".to_owned(),
            Self::HangInsert { on: Some(_), .. } => "hang insert".to_owned(),
            Self::HangInsert { on: None, .. } => "let insert go".to_owned(),
            Self::GroupInserts { .. } => "group inserts".to_owned(),
            Self::TakeOutCopy { .. } => "take out copy".to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::anim::Rotation;
    use crate::scene::{Copies, Variation};

    fn marker(foot: [f64; 3], turn_deg: f64) -> PlacingEdit {
        let mut placement = Placement::on(foot, [0.0, 1.0, 0.0], Stance::Standing);
        placement.anchor.turn = Rotation::from_turn_lean_roll([turn_deg, 0.0, 0.0]).into();
        PlacingEdit::AddInsert { insert: Insert::new(InsertKind::Marker, placement) }
    }

    fn made(edits: &[PlacingEdit]) -> Placing {
        let mut placing = Placing::default();
        edits.iter().for_each(|e| placing.apply(e).unwrap());
        placing
    }

    fn where_is(placing: &Placing, id: u32) -> Vector3<f64> {
        let insert = placing.insert(InsertId(id)).unwrap();
        world_of(&placing.inserts, insert, 0.0).point(insert.placement.own(0.0).point(Vector3::new(0.3, 0.2, 0.1)))
    }

    #[test]
    fn what_is_hung_stays_where_it_is_and_goes_with_its_parent() {
        let mut p =
            made(&[marker([1.0, 0.0, 0.0], 30.0), marker([4.0, 0.0, 2.0], -20.0), marker([0.0, 1.0, 0.0], 0.0)]);
        let hang =
            |id: u32, on: Option<u32>| PlacingEdit::HangInsert { id: InsertId(id), on: on.map(InsertId), frame: 0.0 };
        let before = (where_is(&p, 2), where_is(&p, 3));
        p.apply(&hang(2, Some(1))).unwrap();
        p.apply(&hang(3, Some(2))).unwrap();
        assert!((where_is(&p, 2) - before.0).norm() < 1e-9 && (where_is(&p, 3) - before.1).norm() < 1e-9);
        assert!(matches!(p.apply(&hang(1, Some(3))), Err(EditError::HangsOnItself { .. })));
        assert!(matches!(p.apply(&hang(1, Some(9))), Err(EditError::NoInsert { .. })));
        let mut first = p.insert(InsertId(1)).unwrap().clone();
        first.placement.anchor.foot = [1.0, 5.0, 0.0].into();
        p.apply(&PlacingEdit::ChangeInsert { insert: first }).unwrap();
        assert!((where_is(&p, 3) - before.1 - Vector3::new(0.0, 5.0, 0.0)).norm() < 1e-9);
        // When a parent goes, its children stay, on what it hung on.
        let then = where_is(&p, 3);
        p.apply(&PlacingEdit::RemoveInsert { id: InsertId(2) }).unwrap();
        assert!((where_is(&p, 3) - then).norm() < 1e-9);
        assert_eq!(p.insert(InsertId(3)).unwrap().parent, Some(InsertId(1)));
        p.inserts[0].hidden = true;
        assert_eq!(p.shown().count(), 0, "what hangs on something hidden is hidden");
    }

    #[test]
    fn a_group_has_a_marker_in_its_middle() {
        let mut p = made(&[marker([2.0, 0.0, 0.0], 30.0), marker([4.0, 0.0, 2.0], 0.0)]);
        let before = where_is(&p, 1);
        let ids = vec![InsertId(1), InsertId(2)];
        p.apply(&PlacingEdit::GroupInserts { ids, name: "pair".into(), frame: 0.0 }).unwrap();
        let group = &p.inserts[2];
        assert_eq!((group.name.as_str(), group.placement.anchor.foot.at(0.0)), ("pair", [3.0, 0.0, 1.0]));
        assert!((where_is(&p, 1) - before).norm() < 1e-9 && p.inserts[0].parent == Some(InsertId(3)));
        let none = PlacingEdit::GroupInserts { ids: Vec::new(), name: String::new(), frame: 0.0 };
        assert!(matches!(p.apply(&none), Err(EditError::NothingToGroup)));
    }

    #[test]
    fn a_locked_one_is_not_changed_until_it_is_unlocked() {
        let mut p = made(&[marker([2.0, 0.0, 0.0], 0.0)]);
        let mut one = Insert { locked: true, ..p.inserts[0].clone() };
        p.apply(&PlacingEdit::ChangeInsert { insert: one.clone() }).unwrap();
        one.hidden = true;
        let refused = p.apply(&PlacingEdit::ChangeInsert { insert: one.clone() });
        assert!(matches!(refused, Err(EditError::Locked { .. })));
        assert!(matches!(p.apply(&PlacingEdit::RemoveInsert { id: InsertId(1) }), Err(EditError::Locked { .. })));
        one.locked = false;
        p.apply(&PlacingEdit::ChangeInsert { insert: one }).unwrap();
        assert!(p.inserts[0].hidden);
    }

    #[test]
    fn a_copy_that_is_taken_out_stands_where_it_stood() {
        let mut p = made(&[marker([2.0, 0.0, 0.0], 90.0)]);
        let each = Variation { turn_deg: 30.0, scale: 2.0, frames: 0.0 };
        let copies = Copies { each, ..Copies::row(3, [1.0, 0.0, 0.0]) };
        p.inserts[0].copies = Some(copies.clone());
        let expected = p.inserts[0].placed_as(&copies.one(2));
        p.apply(&PlacingEdit::TakeOutCopy { id: InsertId(1), copy: 2 }).unwrap();
        let (own, out) = (&p.inserts[0], &p.inserts[1]);
        assert_eq!(own.copies.as_ref().unwrap().all().len(), 2);
        let (a, b) = (expected.own(0.0), out.placement.own(0.0));
        let corner = Vector3::new(0.1, 0.5, 0.2);
        assert!((a.point(corner) - b.point(corner)).norm() < 1e-9 && out.copies.is_none());
        assert_eq!(out.began.as_ref().unwrap().placement, out.placement);
        // Along the baseline, which points to -z for one that looks along x.
        assert!((b.point(Vector3::zeros()) - Vector3::new(2.0, 0.0, -2.0)).norm() < 1e-9);
        assert!(matches!(
            p.apply(&PlacingEdit::TakeOutCopy { id: InsertId(1), copy: 2 }),
            Err(EditError::NoCopy { .. })
        ));
        let order = PlacingEdit::OrderInsert { id: InsertId(2), to: 0 };
        p.apply(&order).unwrap();
        assert_eq!(p.inserts[0].id, InsertId(2));
    }
}
