//! Shots and their revisions.

use crate::{ClipId, Store, StoreError, now_ms};
use fennik_core::scene::{Edit, ShotDocument};
use rusqlite::{Connection, OptionalExtension, TransactionBehavior, named_params};
use serde::{Deserialize, Serialize};

/// Names a shot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ShotId(pub i64);

/// Names a revision of a shot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RevisionId(pub i64);

/// A shot in the list.
#[derive(Debug, Clone, PartialEq)]
pub struct ShotRow {
    /// Its number.
    pub id: ShotId,
    /// Its name.
    pub name: String,
    /// Its clip.
    pub clip: ClipId,
}

/// A state of the document.
#[derive(Debug, Clone, PartialEq)]
pub struct Revision {
    /// Its number.
    pub id: RevisionId,
    /// The document.
    pub document: ShotDocument,
}

/// A shot as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct ShotState {
    /// The shot.
    pub shot: ShotRow,
    /// The head.
    pub head: Revision,
    /// What undo would take back.
    pub undo: Option<String>,
    /// What redo would bring back.
    pub redo: Option<String>,
}

fn shot_row(r: &rusqlite::Row) -> rusqlite::Result<ShotRow> {
    Ok(ShotRow { id: ShotId(r.get("id")?), name: r.get("name")?, clip: ClipId(r.get("clip_id")?) })
}

impl Store {
    /// Starts a shot with its first document.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn add_shot(&self, name: &str, clip: ClipId, document: &ShotDocument) -> Result<ShotId, StoreError> {
        const SHOT: &str = "INSERT INTO shots (name, clip_id, created_ms) VALUES (:name, :clip, :now)";
        let mut db = self.lock();
        let change = db.transaction()?;
        change.execute(SHOT, named_params! { ":name": name, ":clip": clip.0, ":now": now_ms() })?;
        let shot = ShotId(change.last_insert_rowid());
        add_revision(&change, shot, None, "new shot", document)?;
        change.commit()?;
        Ok(shot)
    }

    /// All shots, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn shots(&self) -> Result<Vec<ShotRow>, StoreError> {
        const SQL: &str = "SELECT id, name, clip_id FROM shots ORDER BY id DESC";
        let db = self.lock();
        let mut statement = db.prepare(SQL)?;
        let rows = statement.query_map([], shot_row)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }

    /// A shot as it stands.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn shot(&self, id: ShotId) -> Result<ShotState, StoreError> {
        state(&self.lock(), id)
    }

    /// Applies an edit to the head and saves the result as the new head, in one transaction.
    ///
    /// # Errors
    /// [`StoreError::Stale`] when the head is not the revision that the edit `started_from`;
    /// [`StoreError::Edit`] when the document refuses it. Nothing is changed then.
    pub fn edit(&self, id: ShotId, started_from: Option<RevisionId>, edit: &Edit) -> Result<ShotState, StoreError> {
        let mut db = self.lock();
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let now = state(&change, id)?;
        if let Some(expected) = started_from.filter(|r| *r != now.head.id) {
            return Err(StoreError::Stale { expected: expected.0, found: now.head.id.0 });
        }
        let next = now.head.document.apply(edit)?;
        if next != now.head.document {
            add_revision(&change, id, Some(now.head.id), &edit.label(), &next)?;
        }
        let after = state(&change, id)?;
        change.commit()?;
        Ok(after)
    }

    /// Moves the head one step back.
    ///
    /// # Errors
    /// [`StoreError::NoStep`] at the beginning, [`StoreError::Stale`] as for an edit.
    pub fn undo(&self, id: ShotId, started_from: RevisionId) -> Result<ShotState, StoreError> {
        const SQL: &str = "UPDATE shots SET head = (SELECT parent FROM revisions WHERE id = shots.head) WHERE id = :id";
        self.step(id, started_from, "undo", SQL, |s| s.undo.is_some())
    }

    /// Moves the head forward to its newest child.
    ///
    /// # Errors
    /// [`StoreError::NoStep`] at the end, [`StoreError::Stale`] as for an edit.
    pub fn redo(&self, id: ShotId, started_from: RevisionId) -> Result<ShotState, StoreError> {
        const SQL: &str = "UPDATE shots SET head = (SELECT max(id) FROM revisions WHERE parent = shots.head) WHERE id = :id";
        self.step(id, started_from, "redo", SQL, |s| s.redo.is_some())
    }

    fn step(
        &self,
        id: ShotId,
        from: RevisionId,
        word: &'static str,
        sql: &str,
        can: impl Fn(&ShotState) -> bool,
    ) -> Result<ShotState, StoreError> {
        let mut db = self.lock();
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let now = state(&change, id)?;
        if from != now.head.id {
            return Err(StoreError::Stale { expected: from.0, found: now.head.id.0 });
        }
        if !can(&now) {
            return Err(StoreError::NoStep(word));
        }
        change.execute(sql, named_params! { ":id": id.0 })?;
        let after = state(&change, id)?;
        change.commit()?;
        Ok(after)
    }

    /// Deletes a shot with its revisions and jobs; its clip stays for other shots.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn delete_shot(&self, id: ShotId) -> Result<(), StoreError> {
        const FREE: &str = "UPDATE shots SET head = NULL WHERE id = :id";
        const ORPHAN: &str = "UPDATE revisions SET parent = NULL WHERE shot_id = :id";
        const DELETE: &str = "DELETE FROM shots WHERE id = :id";
        let mut db = self.lock();
        let change = db.transaction()?;
        change.execute(FREE, named_params! { ":id": id.0 })?;
        change.execute(ORPHAN, named_params! { ":id": id.0 })?;
        let gone = change.execute(DELETE, named_params! { ":id": id.0 })?;
        change.commit()?;
        if gone == 0 { Err(StoreError::Missing { what: "shot", id: id.0 }) } else { Ok(()) }
    }
}

fn add_revision(db: &Connection, shot: ShotId, parent: Option<RevisionId>, label: &str, document: &ShotDocument) -> Result<(), StoreError> {
    const ADD: &str = "INSERT INTO revisions (shot_id, parent, label, document, created_ms)
        VALUES (:shot, :parent, :label, :document, :now)";
    const HEAD: &str = "UPDATE shots SET head = :head WHERE id = :shot";
    let document = serde_json::to_string(document)?;
    let parent = parent.map(|p| p.0);
    db.execute(ADD, named_params! { ":shot": shot.0, ":parent": parent, ":label": label, ":document": document, ":now": now_ms() })?;
    db.execute(HEAD, named_params! { ":head": db.last_insert_rowid(), ":shot": shot.0 })?;
    Ok(())
}

fn state(db: &Connection, id: ShotId) -> Result<ShotState, StoreError> {
    const SQL: &str = "SELECT s.id, s.name, s.clip_id, r.id AS revision, r.document,
            CASE WHEN r.parent IS NULL THEN NULL ELSE r.label END AS undo,
            (SELECT c.label FROM revisions c WHERE c.parent = r.id ORDER BY c.id DESC LIMIT 1) AS redo
        FROM shots s JOIN revisions r ON r.id = s.head WHERE s.id = :id";
    let found = db
        .query_row(SQL, named_params! { ":id": id.0 }, |r| {
            let document: String = r.get("document")?;
            Ok((shot_row(r)?, RevisionId(r.get("revision")?), document, r.get("undo")?, r.get("redo")?))
        })
        .optional()?;
    let (shot, revision, document, undo, redo) = found.ok_or(StoreError::Missing { what: "shot", id: id.0 })?;
    let document = serde_json::from_str(&document)?;
    Ok(ShotState { shot, head: Revision { id: revision, document }, undo, redo })
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{FrameRange, Light};
    use proptest::prelude::*;

    fn fresh() -> (tempfile::TempDir, Store, ShotId) {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a.mp4", "c1", "{}", 100).unwrap();
        let shot = store.add_shot("one", clip, &ShotDocument::new(100)).unwrap();
        (folder, store, shot)
    }

    fn trim(first: u32) -> Edit {
        Edit::Trim { range: FrameRange { first, last: 90 } }
    }

    #[test]
    fn undo_and_redo_survive_a_reopening() {
        let (folder, store, shot) = fresh();
        let after = store.edit(shot, None, &trim(5)).unwrap();
        drop(store);
        let store = Store::open(folder.path()).unwrap();
        let back = store.undo(shot, after.head.id).unwrap();
        assert_eq!(back.head.document.trim.first, 0);
        drop(store);
        let store = Store::open(folder.path()).unwrap();
        assert_eq!(store.redo(shot, back.head.id).unwrap().head, after.head);
        assert!(matches!(store.redo(shot, after.head.id), Err(StoreError::NoStep("redo"))));
    }

    #[test]
    fn a_stale_edit_changes_nothing() {
        let (_folder, store, shot) = fresh();
        let first = store.shot(shot).unwrap().head.id;
        let now = store.edit(shot, Some(first), &trim(5)).unwrap();
        assert!(matches!(store.edit(shot, Some(first), &trim(7)), Err(StoreError::Stale { .. })));
        assert!(matches!(store.undo(shot, first), Err(StoreError::Stale { .. })));
        assert_eq!(store.shot(shot).unwrap(), now);
    }

    #[test]
    fn a_deleted_shot_is_gone_with_its_revisions() {
        let (_folder, store, shot) = fresh();
        store.edit(shot, None, &trim(5)).unwrap();
        store.delete_shot(shot).unwrap();
        assert!(matches!(store.shot(shot), Err(StoreError::Missing { .. })));
        assert!(store.delete_shot(shot).is_err());
        let left: i64 = store.lock().query_row("SELECT count(*) FROM revisions", [], |r| r.get(0)).unwrap();
        assert_eq!(left, 0);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(12))]
        #[test]
        fn undoing_everything_and_redoing_it_comes_back_to_the_same(edits in prop::collection::vec((0u32..80, 0.0f64..2.0), 1..8)) {
            let (_folder, store, shot) = fresh();
            let mut states = vec![store.shot(shot).unwrap().head];
            for (first, sun) in edits {
                for edit in [trim(first), Edit::Light { light: Light { sun, ..Light::default() } }] {
                    let head = store.edit(shot, None, &edit).unwrap().head;
                    if head != states[states.len() - 1] {
                        states.push(head);
                    }
                }
            }
            for pair in states.windows(2).rev() {
                prop_assert_eq!(&store.undo(shot, pair[1].id).unwrap().head, &pair[0]);
            }
            for pair in states.windows(2) {
                prop_assert_eq!(&store.redo(shot, pair[0].id).unwrap().head, &pair[1]);
            }
        }
    }
}
