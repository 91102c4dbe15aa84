//! What can go wrong with what is kept.

use std::path::PathBuf;

/// Each text says what was found and what to do.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// SQLite refused.
    #[error("the database refused: {0}. Check that the data folder can be written and the disk has space")]
    Sqlite(#[from] rusqlite::Error),
    /// The database is of another version.
    #[error("the database could not be brought up to date: {0}. It may belong to a newer Fennik")]
    Migration(#[from] rusqlite_migration::Error),
    /// A folder could not be made.
    #[error("the folder {path} cannot be written: {source}")]
    Folder {
        /// Which.
        path: PathBuf,
        /// The cause.
        source: std::io::Error,
    },
    /// A file could not be read or written.
    #[error("{what}: {source}")]
    File {
        /// What was being done.
        what: String,
        /// The cause.
        source: std::io::Error,
    },
    /// No such row.
    #[error("there is no {what} {id} any more")]
    Missing {
        /// What kind of thing.
        what: &'static str,
        /// Its number.
        id: i64,
    },
    /// Someone else changed the shot.
    #[error(
        "the shot was changed in another window (it is at revision {found}, this page began from {expected}); the \
            page shows the newer state now, do the change again"
    )]
    Stale {
        /// The revision that the edit started from.
        expected: i64,
        /// The head.
        found: i64,
    },
    /// The edit makes no sense.
    #[error("{0}")]
    Edit(#[from] fennik_core::scene::EditError),
    /// Nothing to undo or redo.
    #[error("there is nothing to {0}")]
    NoStep(&'static str),
    /// Another server has the folder.
    #[error("another Fennik already serves {path}; use that one, end it, or name another folder with --data")]
    Served {
        /// The data folder.
        path: PathBuf,
    },
    /// A revision that cannot be read.
    #[error(
        "revision {revision} of this shot cannot be read ({cause}). Go back to the one before it; nothing else is lost"
    )]
    Document {
        /// The revision.
        revision: i64,
        /// What is wrong with it.
        cause: String,
    },
    /// An analysis that is not what it is to be used as.
    #[error("analysis {id} is no {wanted} of this shot; choose one of its own")]
    WrongAnalysis {
        /// Its number.
        id: i64,
        /// What it was to be.
        wanted: &'static str,
    },
    /// A trim beyond the clip.
    #[error("the clip ends at frame {end}; type a last frame up to that")]
    BeyondClip {
        /// Its last frame.
        end: u32,
    },
    /// A value that cannot be kept.
    #[error("what was to be stored cannot be written down: {0}")]
    Json(#[from] serde_json::Error),
}

impl StoreError {
    /// Whether it was for want of room.
    #[must_use]
    pub fn is_full_disk(&self) -> bool {
        match self {
            Self::Sqlite(error) => error.sqlite_error_code() == Some(rusqlite::ErrorCode::DiskFull),
            Self::Folder { source, .. } | Self::File { source, .. } => source.kind() == std::io::ErrorKind::StorageFull,
            _ => false,
        }
    }
}
