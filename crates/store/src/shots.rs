//! Shots and their revisions.

use crate::ids::{RevisionId, ShotId};
use crate::{AnalysisKind, ClipId, Store, StoreError, documents, now_ms};
use fennik_core::scene::{Edit, FootageEdit, FrameRange, ShotDocument, SolvingEdit, TrackingEdit};
use rusqlite::{Connection, OptionalExtension, TransactionBehavior, named_params};

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
        documents::add(&change, shot, None, "new shot", document)?;
        change.commit()?;
        Ok(shot)
    }

    /// All shots, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn shots(&self) -> Result<Vec<ShotRow>, StoreError> {
        const SQL: &str = "SELECT id, name, clip_id FROM shots WHERE deleted_ms IS NULL ORDER BY id DESC";
        let db = self.read();
        let mut statement = db.prepare(SQL)?;
        let rows = statement.query_map([], shot_row)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }

    /// A shot as it stands.
    ///
    /// # Errors
    /// [`StoreError::Missing`]; [`StoreError::Document`] when its revision cannot be read.
    pub fn shot(&self, id: ShotId) -> Result<ShotState, StoreError> {
        state(&self.read(), id)
    }

    /// Applies an edit to the head and saves the result as the new head, in one transaction.
    ///
    /// # Errors
    /// [`StoreError::Stale`] when the head is not the revision that the edit `started_from`;
    /// [`StoreError::Edit`] when the document refuses it, [`StoreError::WrongAnalysis`] or [`StoreError::BeyondClip`]
    /// when it names what is not the shot's own. Nothing is changed then.
    pub fn edit(&self, id: ShotId, started_from: Option<RevisionId>, edit: &Edit) -> Result<ShotState, StoreError> {
        let mut db = self.lock();
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let now = state(&change, id)?;
        if let Some(expected) = started_from.filter(|r| *r != now.head.id) {
            return Err(StoreError::Stale { expected: expected.0, found: now.head.id.0 });
        }
        check_own(&change, id, edit)?;
        let next = now.head.document.apply(edit)?;
        if next != now.head.document {
            documents::add(&change, id, Some(now.head.id), &edit.label(), &next)?;
        }
        let after = state(&change, id)?;
        change.commit()?;
        Ok(after)
    }

    /// Moves the head one step back. Works where the head itself cannot be read.
    ///
    /// # Errors
    /// [`StoreError::NoStep`] at the beginning, [`StoreError::Stale`] as for an edit.
    pub fn undo(&self, id: ShotId, started_from: RevisionId) -> Result<(), StoreError> {
        const TO: &str = "SELECT parent FROM revisions WHERE id = :head";
        self.step(id, started_from, "undo", TO)
    }

    /// Moves the head forward to its newest child.
    ///
    /// # Errors
    /// [`StoreError::NoStep`] at the end, [`StoreError::Stale`] as for an edit.
    pub fn redo(&self, id: ShotId, started_from: RevisionId) -> Result<(), StoreError> {
        const TO: &str = "SELECT max(id) FROM revisions WHERE parent = :head";
        self.step(id, started_from, "redo", TO)
    }

    fn step(&self, id: ShotId, from: RevisionId, word: &'static str, to: &str) -> Result<(), StoreError> {
        const HEAD: &str = "SELECT head FROM shots WHERE id = :id AND deleted_ms IS NULL";
        const MOVE: &str = "UPDATE shots SET head = :to WHERE id = :id";
        let mut db = self.lock();
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let head: Option<i64> =
            change.query_row(HEAD, named_params! { ":id": id.0 }, |r| r.get(0)).optional()?.flatten();
        let head = head.ok_or(StoreError::Missing { what: "shot", id: id.0 })?;
        if from.0 != head {
            return Err(StoreError::Stale { expected: from.0, found: head });
        }
        let to: Option<i64> = change.query_row(to, named_params! { ":head": head }, |r| r.get(0)).optional()?.flatten();
        let to = to.ok_or(StoreError::NoStep(word))?;
        change.execute(MOVE, named_params! { ":id": id.0, ":to": to })?;
        change.commit()?;
        Ok(())
    }

    /// The head of a shot, whether it can be read or not.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn head(&self, id: ShotId) -> Result<RevisionId, StoreError> {
        const SQL: &str = "SELECT head FROM shots WHERE id = :id AND deleted_ms IS NULL";
        let head: Option<i64> =
            self.read().query_row(SQL, named_params! { ":id": id.0 }, |r| r.get(0)).optional()?.flatten();
        head.map(RevisionId).ok_or(StoreError::Missing { what: "shot", id: id.0 })
    }

    /// The clip of a shot, whether its document can be read or not.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn shot_clip(&self, id: ShotId) -> Result<ClipId, StoreError> {
        const SQL: &str = "SELECT clip_id FROM shots WHERE id = :id AND deleted_ms IS NULL";
        let clip = self.read().query_row(SQL, named_params! { ":id": id.0 }, |r| r.get(0)).optional()?;
        clip.map(ClipId).ok_or(StoreError::Missing { what: "shot", id: id.0 })
    }

    /// Gives a shot another name.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn rename_shot(&self, id: ShotId, name: &str) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE shots SET name = :name WHERE id = :id AND deleted_ms IS NULL";
        match self.lock().execute(SQL, named_params! { ":id": id.0, ":name": name })? {
            0 => Err(StoreError::Missing { what: "shot", id: id.0 }),
            _ => Ok(()),
        }
    }

    /// Deletes a shot. It can be brought back until [`Store::purge_deleted`] frees what it takes.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn delete_shot(&self, id: ShotId) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE shots SET deleted_ms = :now WHERE id = :id AND deleted_ms IS NULL";
        match self.lock().execute(SQL, named_params! { ":id": id.0, ":now": now_ms() })? {
            0 => Err(StoreError::Missing { what: "shot", id: id.0 }),
            _ => Ok(()),
        }
    }

    /// Brings a deleted shot back.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when what it took was freed meanwhile.
    pub fn restore_shot(&self, id: ShotId) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE shots SET deleted_ms = NULL WHERE id = :id AND deleted_ms IS NOT NULL";
        match self.lock().execute(SQL, named_params! { ":id": id.0 })? {
            0 => Err(StoreError::Missing { what: "deleted shot", id: id.0 }),
            _ => Ok(()),
        }
    }

    /// Deleted shots that can still be brought back, the last one first.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn deleted_shots(&self) -> Result<Vec<ShotRow>, StoreError> {
        const SQL: &str =
            "SELECT id, name, clip_id FROM shots WHERE deleted_ms IS NOT NULL ORDER BY deleted_ms DESC, id DESC";
        let db = self.read();
        let mut statement = db.prepare(SQL)?;
        let rows = statement.query_map([], shot_row)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }
}

/// Checks that what an edit names belongs to the shot.
fn check_own(db: &Connection, shot: ShotId, edit: &Edit) -> Result<(), StoreError> {
    const KIND: &str = "SELECT kind FROM analyses WHERE id = :id AND shot_id = :shot";
    const END: &str = "SELECT c.frames FROM shots s JOIN clips c ON c.id = s.clip_id WHERE s.id = :shot";
    let (id, wanted) = match edit {
        Edit::Tracking(TrackingEdit::UseTracks { analysis }) => (*analysis, AnalysisKind::Tracks),
        Edit::Solving(SolvingEdit::UseSolve { analysis, .. }) => (*analysis, AnalysisKind::Solve),
        Edit::Footage(FootageEdit::Trim { range }) => {
            let frames: u32 = db.query_row(END, named_params! { ":shot": shot.0 }, |r| r.get(0))?;
            let end = frames.saturating_sub(1);
            return if range.last > end { Err(StoreError::BeyondClip { end }) } else { Ok(()) };
        }
        _ => return Ok(()),
    };
    let kind: Option<String> =
        db.query_row(KIND, named_params! { ":id": id.0, ":shot": shot.0 }, |r| r.get(0)).optional()?;
    if kind.as_deref() == Some(wanted.word()) {
        Ok(())
    } else {
        Err(StoreError::WrongAnalysis { id: id.0, wanted: wanted.word() })
    }
}

fn state(db: &Connection, id: ShotId) -> Result<ShotState, StoreError> {
    const SQL: &str = "SELECT s.id, s.name, s.clip_id, r.id AS revision, c.frames, c.estimated,
            CASE WHEN r.parent IS NULL THEN NULL ELSE r.label END AS undo,
            (SELECT n.label FROM revisions n WHERE n.parent = r.id ORDER BY n.id DESC LIMIT 1) AS redo
        FROM shots s JOIN revisions r ON r.id = s.head JOIN clips c ON c.id = s.clip_id
        WHERE s.id = :id AND s.deleted_ms IS NULL";
    let found = db
        .query_row(SQL, named_params! { ":id": id.0 }, |r| {
            let clip: (u32, u32) = (r.get("frames")?, r.get("estimated")?);
            Ok((shot_row(r)?, RevisionId(r.get("revision")?), clip, r.get("undo")?, r.get("redo")?))
        })
        .optional()?;
    let (shot, revision, (frames, estimated), undo, redo) =
        found.ok_or(StoreError::Missing { what: "shot", id: id.0 })?;
    let unread = |e: serde_json::Error| StoreError::Document { revision: revision.0, cause: e.to_string() };
    let mut document: ShotDocument = serde_json::from_value(documents::read(db, revision)?).map_err(unread)?;
    document.trim = on_clip(document.trim, frames, estimated);
    Ok(ShotState { shot, head: Revision { id: revision, document }, undo, redo })
}

/// A trim on a clip of `frames` frames of which `estimated` were expected: one to the expected end means the end.
fn on_clip(trim: FrameRange, frames: u32, estimated: u32) -> FrameRange {
    let end = frames.saturating_sub(1);
    let meant_end = frames != estimated && trim.last.saturating_add(1) == estimated;
    let last = if meant_end { end } else { trim.last.min(end) };
    FrameRange { first: trim.first.min(last), last }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{Light, LightEdit};
    use proptest::prelude::*;

    fn fresh() -> (tempfile::TempDir, Store, ShotId) {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a.mp4", "c1", "{}", 100).unwrap();
        let shot = store.add_shot("one", clip, &ShotDocument::new(100)).unwrap();
        (folder, store, shot)
    }

    fn trim(first: u32) -> Edit {
        Edit::Footage(FootageEdit::Trim { range: FrameRange { first, last: 90 } })
    }

    #[test]
    fn undo_and_redo_survive_a_reopening() {
        let (folder, store, shot) = fresh();
        let after = store.edit(shot, None, &trim(5)).unwrap();
        drop(store);
        let store = Store::open(folder.path()).unwrap();
        store.undo(shot, after.head.id).unwrap();
        let back = store.shot(shot).unwrap();
        assert_eq!(back.head.document.trim.first, 0);
        drop(store);
        let store = Store::open(folder.path()).unwrap();
        store.redo(shot, back.head.id).unwrap();
        assert_eq!(store.shot(shot).unwrap().head, after.head);
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
        store.restore_shot(shot).unwrap();
        assert_eq!(
            store.shot(shot).unwrap().head.document.trim.first,
            5,
            "until its room is freed it can be brought back"
        );
        store.delete_shot(shot).unwrap();
        store.purge_deleted().unwrap();
        assert!(store.restore_shot(shot).is_err());
        let left: i64 = store.lock().query_row("SELECT count(*) FROM revisions", [], |r| r.get(0)).unwrap();
        assert_eq!(left, 0);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(12))]
        #[test]
        fn undoing_everything_and_redoing_it_comes_back_to_the_same(edits in prop::collection::vec((0u32..80,
            0.0f64..2.0), 1..8)) {
            let (_folder, store, shot) = fresh();
            let mut states = vec![store.shot(shot).unwrap().head];
            for (first, sun) in edits {
                for edit in [trim(first),
                    Edit::Light(LightEdit::Light { light: Light { sun: sun.into(), ..Light::default() } })] {
                    let head = store.edit(shot, None, &edit).unwrap().head;
                    if head != states[states.len() - 1] {
                        states.push(head);
                    }
                }
            }
            for pair in states.windows(2).rev() {
                store.undo(shot, pair[1].id).unwrap();
                prop_assert_eq!(&store.shot(shot).unwrap().head, &pair[0]);
            }
            for pair in states.windows(2) {
                store.redo(shot, pair[0].id).unwrap();
                prop_assert_eq!(&store.shot(shot).unwrap().head, &pair[1]);
            }
        }
    }
}
