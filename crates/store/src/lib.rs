//! What is kept: clips, shots with their revisions, analyses, jobs. SQLite, with bulk data in files
//! beside the database.

mod analyses;
mod clips;
mod error;
mod jobs;
mod shots;

pub use analyses::{AnalysisKind, AnalysisRow, NewAnalysis};
pub use clips::{ClipId, ClipRow};
pub use error::StoreError;
pub use jobs::{JobId, JobKind, JobRow, JobState};
pub use shots::{Revision, RevisionId, ShotId, ShotRow, ShotState};

use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard};

const MIGRATIONS: &[M<'static>] = &[
    M::up(include_str!("../migrations/0001_init.sql")),
    M::up(include_str!("../migrations/0002_kept_solves.sql")),
    M::up(include_str!("../migrations/0003_more_jobs.sql")),
];

/// The data folder: `fennik.sqlite` and the folders `clips` and `analyses`.
pub struct Store {
    connection: Mutex<Connection>,
    root: PathBuf,
}

impl Store {
    /// Opens the data folder, making what is not there yet and bringing an older one up to date.
    ///
    /// # Errors
    /// [`StoreError`] when the folder cannot be written or holds something else.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        for folder in ["clips", "analyses"] {
            let path = root.join(folder);
            std::fs::create_dir_all(&path).map_err(|source| StoreError::Folder { path, source })?;
        }
        let mut connection = Connection::open(root.join("fennik.sqlite"))?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        connection.busy_timeout(std::time::Duration::from_secs(10))?;
        Migrations::from_slice(MIGRATIONS).to_latest(&mut connection)?;
        Ok(Self { connection: Mutex::new(connection), root: root.to_owned() })
    }

    /// The data folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn lock(&self) -> MutexGuard<'_, Connection> {
        // A panic while the lock was held leaves SQLite's own transaction to roll back.
        self.connection.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// Milliseconds since 1970.
fn now_ms() -> i64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_millis()).unwrap_or(i64::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_migrations_are_sound_and_run_twice_without_harm() {
        assert!(Migrations::from_slice(MIGRATIONS).validate().is_ok());
        let folder = tempfile::tempdir().unwrap();
        drop(Store::open(folder.path()).unwrap());
        Store::open(folder.path()).unwrap();
    }

    #[test]
    fn a_data_folder_of_the_first_version_is_brought_up_to_date() {
        let folder = tempfile::tempdir().unwrap();
        let mut old = Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        Migrations::from_slice(&MIGRATIONS[..1]).to_latest(&mut old).unwrap();
        let rows = "INSERT INTO clips (name, folder, info, frames, proxies, created_ms) VALUES ('a', 'f', '{}', 9, 0, 0);
            INSERT INTO shots (name, clip_id, created_ms) VALUES ('s', 1, 0);
            INSERT INTO analyses (shot_id, kind, settings, file, created_ms) VALUES (1, 'solve', '{}', 'x.bin', 0);
            INSERT INTO jobs (shot_id, kind, state, message, created_ms, changed_ms) VALUES (1, 'solve', 'done', 'said', 0, 0);";
        old.execute_batch(rows).unwrap();
        drop(old);
        let store = Store::open(folder.path()).unwrap();
        let kept = store.solves(ShotId(1)).unwrap();
        assert_eq!((kept.len(), kept[0].name.as_str(), kept[0].source), (1, "", None));
        let jobs = store.latest_jobs(ShotId(1)).unwrap();
        assert_eq!((jobs.len(), jobs[0].message.as_str(), jobs[0].argument.as_str()), (1, "said", ""));
        assert!(store.add_job(ShotId(1), JobKind::Follow, "3 12").is_ok());
    }

    #[test]
    fn a_file_that_is_no_database_is_refused_and_kept() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("fennik.sqlite");
        std::fs::write(&path, vec![7u8; 5000]).unwrap();
        assert!(Store::open(folder.path()).is_err());
        assert_eq!(std::fs::read(&path).unwrap(), vec![7u8; 5000]);
    }
}
