//! Finished track runs and solves.

use crate::{ShotId, Store, StoreError, now_ms};
use fennik_core::scene::AnalysisId;
use rusqlite::{OptionalExtension, named_params};
use std::io::Write;

/// What was computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AnalysisKind {
    /// Point tracks.
    Tracks,
    /// A camera.
    Solve,
}

impl AnalysisKind {
    fn word(self) -> &'static str {
        match self {
            Self::Tracks => "tracks",
            Self::Solve => "solve",
        }
    }
}

/// One finished analysis.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AnalysisRow {
    /// Its number.
    pub id: AnalysisId,
    /// Its shot.
    pub shot: ShotId,
    /// What it was computed with, JSON.
    pub settings: String,
}

impl Store {
    /// Keeps an analysis whole: the bytes are written under a temporary name, synced and renamed; the
    /// row comes last, so that a crash leaves no row without data.
    ///
    /// # Errors
    /// [`StoreError`] when the disk or the database refuses.
    pub fn add_analysis(&self, shot: ShotId, kind: AnalysisKind, settings: &str, bytes: &[u8]) -> Result<AnalysisId, StoreError> {
        const SQL: &str = "INSERT INTO analyses (shot_id, kind, settings, file, created_ms)
            VALUES (:shot, :kind, :settings, :file, :now)";
        let name = format!("{}-{}.bin", kind.word(), ulid::Ulid::generate());
        let folder = self.root.join("analyses");
        let (partial, target) = (folder.join(format!("{name}.part")), folder.join(&name));
        let failed = |source| StoreError::File { what: format!("the {} could not be kept", kind.word()), source };
        let write = || -> std::io::Result<()> {
            let mut file = std::fs::File::create(&partial)?;
            file.write_all(bytes)?;
            file.sync_all()?;
            std::fs::rename(&partial, &target)
        };
        if let Err(source) = write() {
            let _ = std::fs::remove_file(&partial);
            return Err(failed(source));
        }
        let db = self.lock();
        db.execute(SQL, named_params! { ":shot": shot.0, ":kind": kind.word(), ":settings": settings, ":file": name, ":now": now_ms() })?;
        Ok(AnalysisId(db.last_insert_rowid()))
    }

    /// One analysis.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn analysis(&self, id: AnalysisId) -> Result<AnalysisRow, StoreError> {
        const SQL: &str = "SELECT shot_id, settings FROM analyses WHERE id = :id";
        let found = self
            .lock()
            .query_row(SQL, named_params! { ":id": id.0 }, |r| {
                Ok(AnalysisRow { id, shot: ShotId(r.get("shot_id")?), settings: r.get("settings")? })
            })
            .optional()?;
        found.ok_or(StoreError::Missing { what: "analysis", id: id.0 })
    }

    /// The bytes of an analysis.
    ///
    /// # Errors
    /// [`StoreError`] when it is gone from the database or the disk.
    pub fn analysis_bytes(&self, id: AnalysisId) -> Result<Vec<u8>, StoreError> {
        const SQL: &str = "SELECT file FROM analyses WHERE id = :id";
        let file: Option<String> = self.lock().query_row(SQL, named_params! { ":id": id.0 }, |r| r.get("file")).optional()?;
        let file = file.ok_or(StoreError::Missing { what: "analysis", id: id.0 })?;
        std::fs::read(self.root.join("analyses").join(file))
            .map_err(|source| StoreError::File { what: format!("the data of analysis {} cannot be read; run it again", id.0), source })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::ShotDocument;

    #[test]
    fn bytes_come_back_and_a_lost_file_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a", "c", "{}", 9).unwrap();
        let shot = store.add_shot("s", clip, &ShotDocument::new(9)).unwrap();
        let id = store.add_analysis(shot, AnalysisKind::Tracks, "{}", b"abc").unwrap();
        assert_eq!(store.analysis_bytes(id).unwrap(), b"abc");
        for entry in std::fs::read_dir(folder.path().join("analyses")).unwrap() {
            std::fs::remove_file(entry.unwrap().path()).unwrap();
        }
        assert!(matches!(store.analysis_bytes(id), Err(StoreError::File { .. })));
        assert!(matches!(store.analysis(AnalysisId(99)), Err(StoreError::Missing { .. })));
    }
}
