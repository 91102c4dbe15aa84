//! Anything that stops a piece of work, in words for a person.

use super::focal::FocalError;
use super::import::ImportError;
use super::kinds::ValueError;
use super::output::OutputError;
use super::picture::PictureError;
use super::quantity::QuantityError;
use super::recipe::StepError;
use super::run::WorkError;
use fennik_core::scene::{
    DatumError, InsertError, LineError, SpotError, StandError, SunError, SurfaceEditError, TransferError,
};
use fennik_core::solve::{SettingsError, SolveFailure};
use fennik_core::survey::PlaneError;
use fennik_core::track::TrackError;

/// Anything that stops a piece of work.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The clip or a file.
    #[error(transparent)]
    Media(#[from] fennik_media::MediaError),
    /// A file that an insert shows.
    #[error(transparent)]
    Assets(#[from] super::assets::AssetsError),
    /// The database.
    #[error(transparent)]
    Store(#[from] fennik_store::StoreError),
    /// The tracker.
    #[error(transparent)]
    Track(#[from] TrackError),
    /// The solver.
    #[error(transparent)]
    Solve(#[from] SolveFailure),
    /// What the solver is told.
    #[error(transparent)]
    Settings(#[from] SettingsError),
    /// A focal length.
    #[error(transparent)]
    Focal(#[from] FocalError),
    /// A number with a unit.
    #[error(transparent)]
    Quantity(#[from] QuantityError),
    /// A plane through points.
    #[error(transparent)]
    Plane(#[from] PlaneError),
    /// Lines drawn over the picture.
    #[error(transparent)]
    Line(#[from] LineError),
    /// A surface.
    #[error(transparent)]
    Surface(#[from] SurfaceEditError),
    /// Origin, heading, scale.
    #[error(transparent)]
    Datum(#[from] DatumError),
    /// A place to put something.
    #[error(transparent)]
    Spot(#[from] SpotError),
    /// An outline that is to stand in the scene.
    #[error(transparent)]
    Stand(#[from] StandError),
    /// A shadow that is to tell the sun.
    #[error(transparent)]
    Sun(#[from] SunError),
    /// What is placed.
    #[error(transparent)]
    Insert(#[from] InsertError),
    /// A value of what is placed.
    #[error(transparent)]
    Value(#[from] ValueError),
    /// What is done with something that is placed.
    #[error(transparent)]
    Arrange(#[from] super::arrange::ArrangeError),
    /// The library.
    #[error(transparent)]
    Library(#[from] super::library::LibraryError),
    /// What cannot be measured of a plate or of what is placed.
    #[error(transparent)]
    Match(#[from] super::matching::MatchError),
    /// A look that is kept.
    #[error(transparent)]
    Look(#[from] super::finishing::LookError),
    /// The picture of what is placed.
    #[error(transparent)]
    Render(#[from] fennik_render::RenderError),
    /// What is placed cannot follow a camera.
    #[error("what is placed cannot come along to this camera: {0}")]
    Transfer(#[from] TransferError),
    /// The state of a shot.
    #[error(transparent)]
    Shot(#[from] ShotError),
    /// Taking clips in.
    #[error(transparent)]
    Import(#[from] ImportError),
    /// A frame's picture.
    #[error(transparent)]
    Picture(#[from] PictureError),
    /// Handing over.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// Long work.
    #[error(transparent)]
    Work(#[from] WorkError),
    /// A step of a recipe.
    #[error(transparent)]
    Step(#[from] StepError),
    /// Something that ought to be written down.
    #[error("it could not be written down: {0}")]
    Json(#[from] serde_json::Error),
    /// A job that is not what it should be.
    #[error("what was asked for cannot be read ({why}); ask for it again")]
    Request {
        /// What is wrong with it.
        why: serde_json::Error,
    },
    /// A person asked to stop.
    #[error("stopped")]
    Stopped,
    /// A fault of ours.
    #[error("an unexpected fault stopped this")]
    Fault,
    /// The same in a job, told once and logged.
    #[error("a fault of Fennik stopped this; what was there before is kept. Reference {reference}")]
    Broken {
        /// What to look for in the log.
        reference: String,
    },
}

impl EngineError {
    /// Whether it was for want of room.
    pub fn is_full_disk(&self) -> bool {
        match self {
            Self::Media(error) => matches!(error, fennik_media::MediaError::DiskFull { .. }),
            Self::Store(error) => error.is_full_disk(),
            _ => false,
        }
    }
}

/// What a shot has not got, or cannot do as it stands.
#[derive(Debug, thiserror::Error)]
pub enum ShotError {
    /// It was taken away meanwhile.
    #[error("this {what} is gone; reload the page")]
    Gone {
        /// What was asked for.
        what: &'static str,
    },
    /// No solve.
    #[error("this shot has no solved camera yet; solve it first")]
    NoCamera,
    /// Ids of one run mean nothing in another.
    #[error("the camera is of other tracks than those in use; solve afresh first")]
    OtherTracks,
    /// Nothing was rendered.
    #[error("there is no rendered video of this shot yet; render it first")]
    NoVideo,
    /// A frame that is still being made.
    #[error("frame {frame} has not been decoded yet; try again in a moment")]
    NotDecoded {
        /// Of the file.
        frame: u32,
    },
    /// The page asks for what is no more.
    #[error("the shot looks otherwise by now; the page shows the newer picture")]
    Overtaken,
    /// Nothing to draw round.
    #[error("select tracks first; the keep-out is drawn round them")]
    NothingSelected,
    /// A track without a place.
    #[error("that track has no solved point; choose one that the camera uses")]
    NoPoint,
    /// Nothing level enough.
    #[error("no floor was found: {why}")]
    NoFloor {
        /// What is missing, and what to click.
        why: &'static str,
    },
    /// A surface that there is not.
    #[error("there is no surface called {name:?}")]
    NoSurface {
        /// As it was written.
        name: String,
    },
    /// A corner whose sight never meets the plane.
    #[error("a corner looks past the plane that was found there; draw the corners nearer together")]
    CornersBehind,
    /// What the database says of the clip.
    #[error("the clip's record cannot be read: {why}")]
    ClipRecord {
        /// What is wrong with it.
        why: serde_json::Error,
    },
    /// What is kept of a track run.
    #[error(transparent)]
    TrackData(#[from] fennik_core::track::TrackBytesError),
    /// What is kept of a solve.
    #[error("the data of solve {id} cannot be read ({why}); solve again")]
    SolveData {
        /// Which.
        id: i64,
        /// What is wrong with it.
        why: String,
    },
    /// Another part of the clip by now.
    #[error("the trim was changed while this was at work; run it again for the new part")]
    TrimChanged,
    /// Another part of the clip then.
    #[error("this solve is of frames {first} to {last} of the file; trim the shot to them to use it")]
    OtherTrim {
        /// First frame.
        first: u32,
        /// Last frame.
        last: u32,
    },
    /// A page that cannot be made.
    #[error("the page could not be drawn: {why}")]
    Page {
        /// What is wrong with it.
        why: String,
    },
}
