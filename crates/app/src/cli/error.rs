//! Why a command has no result.

use crate::engine::EngineError;
use crate::engine::recipe::{CookError, RecipeError};
use fennik_core::solve::{SettingsError, SolveFailure};
use fennik_core::track::TrackError;
use fennik_media::MediaError;
use fennik_store::StoreError;
use std::path::PathBuf;

/// What is told before a command ends in failure.
#[derive(Debug, thiserror::Error)]
pub enum CliError {
    /// The work itself: clip, database, tracker, solver.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// Masks in a file.
    #[error(transparent)]
    Masks(#[from] fennik_media::MasksFileError),
    /// A recipe that cannot be read.
    #[error(transparent)]
    Recipe(#[from] RecipeError),
    /// A recipe that does not hold.
    #[error("{0}; the steps before it stay")]
    Cook(#[from] CookError),
    /// Something that ought to be JSON.
    #[error(transparent)]
    Json(#[from] serde_json::Error),
    /// What the system says.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// A file that is not there or cannot be opened.
    #[error("{} cannot be read: {why}", path.display())]
    Unread {
        /// Which.
        path: PathBuf,
        /// What the system says.
        why: std::io::Error,
    },
    /// A file that is not what it should be.
    #[error("{}: {why}", path.display())]
    NoJson {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: serde_json::Error,
    },
    /// A file or folder that cannot be made.
    #[error("{} cannot be written: {why}", path.display())]
    Unwritten {
        /// Which.
        path: PathBuf,
        /// What the system says.
        why: std::io::Error,
    },
    /// The server, asked for a picture while it is measured.
    #[error("the server refused {what}: {status}")]
    Refused {
        /// Of a shot.
        what: String,
        /// The first line of its answer.
        status: String,
    },
    /// A made-up clip.
    #[error("{} could not be made: {why}", clip.display())]
    Unmade {
        /// Which.
        clip: PathBuf,
        /// What went wrong.
        why: String,
    },
    /// Nothing to listen with.
    #[error("no signal can be heard: {0}")]
    Signals(std::io::Error),
    /// A folder without a database.
    #[error("{} holds no shots; name the data folder with --data", folder.display())]
    NoShots {
        /// Which.
        folder: PathBuf,
    },
    /// A shot that there is not.
    #[error("there is no shot {shot:?}; there are: {}", all.join(", "))]
    NoShot {
        /// As it was written.
        shot: String,
        /// What there is.
        all: Vec<String>,
    },
    /// A clip that there is not.
    #[error("there is no clip {clip}; there are {}", all.join(", "))]
    NoClip {
        /// As it was written.
        clip: String,
        /// What there is.
        all: Vec<String>,
    },
    /// Somebody's own work.
    #[error(
        "{} is not marked as a demo project's folder, so nothing in it is thrown away; start the demo there once \
            without --reset, or name another folder",
        folder.display()
    )]
    NoDemo {
        /// Which.
        folder: PathBuf,
    },
    /// Another program listens there, or nobody may.
    #[error("port {port} cannot be used ({why}); choose another with --port")]
    Port {
        /// Which.
        port: u16,
        /// What the system says.
        why: std::io::Error,
    },
    /// A clip that nothing is known of.
    #[error("{} has no true points to judge by", clip.display())]
    NoTruth {
        /// Which.
        clip: PathBuf,
    },
    /// A document without its marks.
    #[error("{} has no line {mark}", path.display())]
    NoMark {
        /// Which.
        path: PathBuf,
        /// What was looked for.
        mark: &'static str,
    },
}

/// An argument that cannot be read.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub enum ArgumentError {
    /// A trim that is none.
    #[error("{0:?} is no range of frames; write first:last, as in 10:149")]
    NoTrim(String),
    /// A trim that holds nothing.
    #[error("the range {0} ends before it begins")]
    EmptyTrim(String),
    /// Frames that are none.
    #[error("{0:?} are no frames; write first-last, as in 0-10, or one frame")]
    NoFrames(String),
    /// Frames that hold nothing.
    #[error("the frames {0} end before they begin")]
    EmptyFrames(String),
    /// A channel that there is not.
    #[error("{0:?} is no channel; write brightness, red, green or blue")]
    NoChannel(String),
}

/// What a piece of work may end with ends a command just so.
macro_rules! from_work {
    ($($error:ty),*) => {
        $(impl From<$error> for CliError {
            fn from(why: $error) -> Self {
                Self::Engine(why.into())
            }
        })*
    };
}
from_work!(MediaError, StoreError, TrackError, SolveFailure, SettingsError);
