//! Clips that were taken in.

use crate::{Store, StoreError, now_ms};
use rusqlite::{OptionalExtension, named_params};
use serde::{Deserialize, Serialize};

/// Names a clip.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ClipId(pub i64);

/// A clip.
#[derive(Debug, Clone, PartialEq)]
pub struct ClipRow {
    /// Its number.
    pub id: ClipId,
    /// The name of the file that was taken in.
    pub name: String,
    /// Its folder below `clips`.
    pub folder: String,
    /// What the media layer knows of it, JSON.
    pub info: String,
    /// Frames; an estimate until the proxies are made.
    pub frames: u32,
    /// Whether all preview frames are there.
    pub proxies: bool,
}

fn row(r: &rusqlite::Row) -> rusqlite::Result<ClipRow> {
    Ok(ClipRow {
        id: ClipId(r.get("id")?),
        name: r.get("name")?,
        folder: r.get("folder")?,
        info: r.get("info")?,
        frames: r.get("frames")?,
        proxies: r.get("proxies")?,
    })
}

impl Store {
    /// Takes in a clip whose files are in `folder` below `clips`.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn add_clip(&self, name: &str, folder: &str, info: &str, frames: u32) -> Result<ClipId, StoreError> {
        const SQL: &str = "INSERT INTO clips (name, folder, info, frames, proxies, created_ms)
            VALUES (:name, :folder, :info, :frames, 0, :now)";
        let db = self.lock();
        db.execute(SQL, named_params! { ":name": name, ":folder": folder, ":info": info, ":frames": frames, ":now": now_ms() })?;
        Ok(ClipId(db.last_insert_rowid()))
    }

    /// One clip.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn clip(&self, id: ClipId) -> Result<ClipRow, StoreError> {
        const SQL: &str = "SELECT id, name, folder, info, frames, proxies FROM clips WHERE id = :id";
        let found = self.lock().query_row(SQL, named_params! { ":id": id.0 }, row).optional()?;
        found.ok_or(StoreError::Missing { what: "clip", id: id.0 })
    }

    /// Notes that all preview frames are there, and how many frames the clip really has. Untouched
    /// documents that believed the estimate are put right.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn finish_proxies(&self, id: ClipId, frames: u32) -> Result<(), StoreError> {
        const MARK: &str = "UPDATE clips SET frames = :frames, proxies = 1 WHERE id = :id";
        const TRIM: &str = "UPDATE revisions SET document = json_set(document, '$.trim.last', :last)
            WHERE json_extract(document, '$.trim.last') > :last
            AND shot_id IN (SELECT id FROM shots WHERE clip_id = :id)";
        const GROW: &str = "UPDATE revisions SET document = json_set(document, '$.trim.last', :last)
            WHERE parent IS NULL AND json_extract(document, '$.trim.first') = 0
            AND shot_id IN (SELECT id FROM shots WHERE clip_id = :id)";
        let mut db = self.lock();
        let change = db.transaction()?;
        change.execute(MARK, named_params! { ":frames": frames, ":id": id.0 })?;
        let last = frames.saturating_sub(1);
        change.execute(TRIM, named_params! { ":last": last, ":id": id.0 })?;
        change.execute(GROW, named_params! { ":last": last, ":id": id.0 })?;
        change.commit()?;
        Ok(())
    }
}
