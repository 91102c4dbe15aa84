//! Clips that were taken in.

use crate::{Store, StoreError, now_ms};
use rusqlite::{OptionalExtension, named_params};
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::path::{Path, PathBuf};

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

/// The folder of a clip that is being taken in. It is this process's alone: what is left behind by one that ended is
/// cleared away by the next start, what is being filled is not.
pub struct ClipFolder {
    name: String,
    path: PathBuf,
    lock: Option<File>,
}

/// While this file of a clip's folder is locked, somebody is filling the folder.
pub(crate) const FILLING: &str = ".filling";

impl ClipFolder {
    /// Its name below `clips`.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Notes that a row tells of it now: it stays.
    fn keep(mut self) {
        let _ = std::fs::remove_file(self.path.join(FILLING));
        self.lock = None;
    }
}

impl Drop for ClipFolder {
    fn drop(&mut self) {
        if self.lock.take().is_some() {
            let _ = std::fs::remove_dir_all(&self.path);
        }
    }
}

impl Store {
    /// Makes a fresh folder for a clip. It goes again unless [`Store::add_clip_in`] takes it.
    ///
    /// # Errors
    /// [`StoreError::Folder`] when the disk refuses.
    pub fn new_clip_folder(&self) -> Result<ClipFolder, StoreError> {
        let name = ulid::Ulid::generate().to_string();
        let path = self.root.join("clips").join(&name);
        let failed = |source| StoreError::Folder { path: path.clone(), source };
        std::fs::create_dir_all(&path).map_err(failed)?;
        let lock = File::create(path.join(FILLING)).map_err(failed)?;
        lock.lock().map_err(failed)?;
        Ok(ClipFolder { name, path, lock: Some(lock) })
    }

    /// Takes in a clip whose files are in `folder`; they are on the disk for good before the row is.
    ///
    /// # Errors
    /// [`StoreError`] when the disk or the database refuses; the folder is removed then.
    pub fn add_clip_in(&self, folder: ClipFolder, name: &str, info: &str, frames: u32) -> Result<ClipId, StoreError> {
        // Once for all files of a sequence, the folders that name them included.
        File::open(&folder.path)
            .and_then(|f| Ok(rustix::fs::syncfs(f)?))
            .map_err(|source| StoreError::File { what: "the clip could not be stored for good".to_owned(), source })?;
        let id = self.add_clip(name, &folder.name, info, frames)?;
        folder.keep();
        Ok(id)
    }

    /// Takes in a clip whose files are in `folder` below `clips`.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn add_clip(&self, name: &str, folder: &str, info: &str, frames: u32) -> Result<ClipId, StoreError> {
        const SQL: &str = "INSERT INTO clips (name, folder, info, frames, estimated, proxies, created_ms)
            VALUES (:name, :folder, :info, :frames, :frames, 0, :now)";
        let db = self.lock();
        db.execute(
            SQL,
            named_params! { ":name": name, ":folder": folder, ":info": info, ":frames": frames, ":now": now_ms() },
        )?;
        Ok(ClipId(db.last_insert_rowid()))
    }

    /// One clip.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn clip(&self, id: ClipId) -> Result<ClipRow, StoreError> {
        const SQL: &str = "SELECT id, name, folder, info, frames, proxies FROM clips WHERE id = :id";
        let found = self.read().query_row(SQL, named_params! { ":id": id.0 }, row).optional()?;
        found.ok_or(StoreError::Missing { what: "clip", id: id.0 })
    }

    /// Notes that all preview frames are there, and how many frames the clip really has. No revision is touched: a trim
    /// that reached to the expected end is read as one to the real end, and none reaches further.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the clip is gone.
    pub fn finish_proxies(&self, id: ClipId, frames: u32) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE clips SET frames = :frames, proxies = 1 WHERE id = :id";
        match self.lock().execute(SQL, named_params! { ":frames": frames, ":id": id.0 })? {
            0 => Err(StoreError::Missing { what: "clip", id: id.0 }),
            _ => Ok(()),
        }
    }

    /// Removes the preview frames of a clip but the first; they are made again when somebody looks at it.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn drop_proxies(&self, id: ClipId) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE clips SET proxies = 0 WHERE id = :id";
        let clip = self.clip(id)?;
        self.lock().execute(SQL, named_params! { ":id": id.0 })?;
        // The first one stays for the list of shots.
        let previews = std::fs::read_dir(self.root.join("clips").join(clip.folder).join("proxies"));
        for entry in previews.into_iter().flatten().flatten().filter(|e| e.file_name() != "000000.jpg") {
            let _ = std::fs::remove_file(entry.path());
        }
        Ok(())
    }
}
