//! What is kept: clips, shots with their revisions, analyses, jobs. SQLite, with bulk data in files
//! beside the database.

mod analyses;
mod assets;
mod clips;
mod deliveries;
mod documents;
mod error;
mod ids;
mod jobs;
mod looks;
mod room;
mod shots;

pub use analyses::{AnalysisKind, AnalysisRow, NewAnalysis};
pub use assets::{AssetFolder, AssetRow};
pub use clips::{ClipFolder, ClipId, ClipRow};
pub use deliveries::Delivery;
pub use error::StoreError;
pub use ids::{RevisionId, ShotId};
pub use jobs::{JobId, JobKind, JobRow, JobState};
pub use room::Room;
pub use shots::{Revision, ShotRow, ShotState};

use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

const MIGRATIONS: &[M<'static>] = &[
    M::up(include_str!("../migrations/0001_init.sql")),
    M::up(include_str!("../migrations/0002_kept_solves.sql")),
    M::up(include_str!("../migrations/0003_more_jobs.sql")),
    M::up(include_str!("../migrations/0004_ids_once.sql")).foreign_key_check(),
    M::up(include_str!("../migrations/0005_patches.sql")),
    M::up(include_str!("../migrations/0006_requests.sql")),
    M::up(include_str!("../migrations/0007_surveys.sql")).foreign_key_check(),
    M::up(include_str!("../migrations/0008_assets.sql")),
    M::up(include_str!("../migrations/0009_fonts.sql")),
    M::up(include_str!("../migrations/0010_looks.sql")),
    M::up(include_str!("../migrations/0011_plate_jobs.sql")),
];

/// Locked by the server of a folder.
const LOCK: &str = "fennik.lock";
/// How long a change waits for another program that is writing.
const WAIT_FOR_WRITERS: std::time::Duration = std::time::Duration::from_secs(8);
/// Connections that only read: a change that waits holds up nobody who looks.
const READERS: usize = 4;

/// The data folder: `fennik.sqlite` and the folders `clips`, `analyses`, `assets` and `delivered`.
pub struct Store {
    writer: Mutex<Connection>,
    readers: [Mutex<Connection>; READERS],
    root: PathBuf,
}

impl Store {
    /// Opens the data folder, making what is not there yet and bringing an older one up to date.
    ///
    /// # Errors
    /// [`StoreError`] when the folder cannot be written or holds something else.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        for folder in ["clips", "analyses", "assets"] {
            let path = root.join(folder);
            std::fs::create_dir_all(&path).map_err(|source| StoreError::Folder { path, source })?;
        }
        let path = root.join("fennik.sqlite");
        let mut writer = Connection::open(&path)?;
        writer.busy_timeout(WAIT_FOR_WRITERS)?;
        writer.pragma_update(None, "journal_mode", "WAL")?;
        // Tables are made anew by some migrations; what refers to them must outlast that.
        writer.pragma_update(None, "foreign_keys", false)?;
        Migrations::from_slice(MIGRATIONS).to_latest(&mut writer)?;
        writer.pragma_update(None, "foreign_keys", true)?;
        let reader = || -> Result<Mutex<Connection>, StoreError> {
            let reader = Connection::open(&path)?;
            reader.busy_timeout(WAIT_FOR_WRITERS)?;
            reader.pragma_update(None, "query_only", true)?;
            Ok(Mutex::new(reader))
        };
        let readers = [reader()?, reader()?, reader()?, reader()?];
        Ok(Self { writer: Mutex::new(writer), readers, root: root.to_owned() })
    }

    /// The data folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Takes the folder for a server: nobody else can while the lock lives, and it goes with the process.
    ///
    /// # Errors
    /// [`StoreError::Served`] when another server has it.
    pub fn lock_folder(root: &Path) -> Result<std::fs::File, StoreError> {
        let path = root.join(LOCK);
        let failed = |source| StoreError::Folder { path: path.clone(), source };
        std::fs::create_dir_all(root).map_err(failed)?;
        let lock = std::fs::File::create(&path).map_err(failed)?;
        match lock.try_lock() {
            Ok(()) => Ok(lock),
            Err(std::fs::TryLockError::WouldBlock) => Err(StoreError::Served { path: root.to_owned() }),
            Err(std::fs::TryLockError::Error(source)) => Err(failed(source)),
        }
    }

    /// Removes what a store keeps in a folder, and nothing else that is there. The folder must be locked by the caller.
    ///
    /// # Errors
    /// [`StoreError::Folder`] when the disk refuses.
    pub fn remove_own_files(root: &Path) -> Result<(), StoreError> {
        for name in
            ["fennik.sqlite", "fennik.sqlite-wal", "fennik.sqlite-shm", "clips", "analyses", "assets", "delivered"]
        {
            let path = root.join(name);
            let gone = if path.is_dir() { std::fs::remove_dir_all(&path) } else { std::fs::remove_file(&path) };
            if let Err(source) = gone {
                if source.kind() != std::io::ErrorKind::NotFound {
                    return Err(StoreError::Folder { path, source });
                }
            }
        }
        Ok(())
    }

    /// Where the finished video of a shot is kept.
    pub fn delivered_path(&self, shot: ShotId) -> PathBuf {
        self.root.join("delivered").join(format!("{}.mp4", shot.0))
    }

    /// The connection that writes.
    fn lock(&self) -> MutexGuard<'_, Connection> {
        // A panic while the lock was held leaves SQLite's own transaction to roll back.
        self.writer.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A connection that reads: a free one, or the first to become free.
    fn read(&self) -> MutexGuard<'_, Connection> {
        let free = self.readers.iter().find_map(|r| r.try_lock().ok());
        free.unwrap_or_else(|| self.readers[0].lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Milliseconds since 1970.
fn now_ms() -> i64 {
    std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(0, |d| i64::try_from(d.as_millis()).unwrap_or(i64::MAX))
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
    fn what_jobs_of_before_were_asked_for_can_be_asked_for_again() {
        let folder = tempfile::tempdir().unwrap();
        let mut old = Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        Migrations::from_slice(&MIGRATIONS[..5]).to_latest(&mut old).unwrap();
        let rows = "INSERT INTO clips (id, name, folder, info, frames, estimated, proxies, created_ms)
                VALUES (1, 'a', 'f', '{}', 9, 9, 0, 0);
            INSERT INTO shots (id, name, clip_id, created_ms) VALUES (1, 's', 1, 0);
            INSERT INTO jobs (id, shot_id, kind, argument, state, created_ms, changed_ms) VALUES
                (1, 1, 'follow', '3 17', 'running', 0, 0), (2, 1, 'track', '', 'done', 0, 0);";
        old.execute_batch(rows).unwrap();
        drop(old);
        let store = Store::open(folder.path()).unwrap();
        let asked = |id| serde_json::from_str::<serde_json::Value>(&store.job(JobId(id)).unwrap().request).unwrap();
        assert_eq!(asked(1), serde_json::json!({ "mask": 3, "frame": 17 }));
        assert_eq!(asked(2), serde_json::json!({}));
    }

    #[test]
    fn a_data_folder_of_the_first_version_is_brought_up_to_date() {
        let folder = tempfile::tempdir().unwrap();
        let mut old = Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        Migrations::from_slice(&MIGRATIONS[..1]).to_latest(&mut old).unwrap();
        let rows =
            "INSERT INTO clips (name, folder, info, frames, proxies, created_ms) VALUES ('a', 'f', '{}', 9, 0, 0);
            INSERT INTO shots (name, clip_id, created_ms) VALUES ('s', 1, 0);
            INSERT INTO analyses (shot_id, kind, settings, file, created_ms) VALUES (1, 'solve', '{}', 'x.bin', 0);
            INSERT INTO jobs (shot_id, kind, state, message, created_ms, changed_ms) VALUES (1, 'solve', 'done',
                'said', 0, 0);";
        old.execute_batch(rows).unwrap();
        drop(old);
        let store = Store::open(folder.path()).unwrap();
        let kept = store.solves(ShotId(1)).unwrap();
        assert_eq!((kept.len(), kept[0].name.as_str(), kept[0].source), (1, "", None));
        let jobs = store.latest_jobs(ShotId(1)).unwrap();
        assert_eq!((jobs.len(), jobs[0].message.as_str(), jobs[0].request.as_str()), (1, "said", "{}"));
        assert!(store.add_job(ShotId(1), JobKind::Follow, "3 12").is_ok());
    }

    #[test]
    fn ids_of_a_first_version_are_never_given_again_and_its_analyses_know_their_trim() {
        let folder = tempfile::tempdir().unwrap();
        let mut old = Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        Migrations::from_slice(&MIGRATIONS[..3]).to_latest(&mut old).unwrap();
        // As that version wrote it: with the solve 2, from frame 5 to 139.
        let document = include_str!("../../core/tests/fixtures/document-1-first-version.json");
        old.execute_batch(&format!(
            "INSERT INTO clips (id, name, folder, info, frames, proxies, created_ms)
                VALUES (3, 'a', 'f', '{{}}', 144, 1, 0);
            INSERT INTO shots (id, name, clip_id, created_ms) VALUES (7, 's', 3, 0);
            INSERT INTO revisions (id, shot_id, label, document, created_ms) VALUES (5, 7, 'x', '{document}', 0);
            INSERT INTO analyses (id, shot_id, kind, settings, file, created_ms) VALUES (2, 7, 'solve', '{{}}',
                'x.bin', 0);
            UPDATE shots SET head = 5;"
        ))
        .unwrap();
        drop(old);
        let store = Store::open(folder.path()).unwrap();
        let shot = store.shot(ShotId(7)).unwrap();
        assert_eq!((shot.head.id, shot.head.document.trim.last), (RevisionId(5), 139));
        let solve = store.analysis(fennik_core::scene::AnalysisId(2)).unwrap();
        assert_eq!(solve.trim.map(|t| (t.first, t.last)), Some((5, 139)));
        store.delete_shot(ShotId(7)).unwrap();
        store.purge_deleted().unwrap();
        let clip = store.add_clip("b", "g", "{}", 9).unwrap();
        let shot = store.add_shot("t", clip, &fennik_core::scene::ShotDocument::new(9)).unwrap();
        assert!(clip.0 > 3 && shot.0 > 7 && store.shot(shot).unwrap().head.id.0 > 5);
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
