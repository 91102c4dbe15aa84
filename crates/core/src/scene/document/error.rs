//! Why an edit is refused.

use crate::matte::MaskError;
use crate::scene::anim::NumberError;
use crate::scene::{DatumError, HoldoutError, InsertError, InsertId, SurfaceEditError};
use crate::solve::SettingsError;
use crate::track::TrackError;

/// Why an edit was refused; the document is as it was.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The range is empty.
    #[error("the trim runs from frame {first} to {last}; it must hold at least one frame")]
    EmptyTrim {
        /// First frame.
        first: u32,
        /// Last frame.
        last: u32,
    },
    /// No such insert.
    #[error("there is no insert {id} any more; reload the page", id = id.0)]
    NoInsert {
        /// Which.
        id: InsertId,
    },
    /// It is kept from being changed.
    #[error("{name} is locked; unlock it first")]
    Locked {
        /// What it is called.
        name: String,
    },
    /// A circle of parents.
    #[error("{name} cannot hang on something that hangs on it; let that go first")]
    HangsOnItself {
        /// What it is called.
        name: String,
    },
    /// No such copy, or the last one.
    #[error("there is no copy {} that could be taken out", number + 1)]
    NoCopy {
        /// Which, from 0.
        number: u32,
    },
    /// A group of nothing.
    #[error("nothing is chosen to be grouped; choose at least one insert")]
    NothingToGroup,
    /// No such mask.
    #[error("there is no mask {id} any more; reload the page")]
    NoMask {
        /// Which.
        id: u32,
    },
    /// No such holdout.
    #[error("there is no holdout {id} any more; reload the page")]
    NoHoldout {
        /// Which.
        id: u32,
    },
    /// A holdout that cannot be used.
    #[error(transparent)]
    Holdout(#[from] HoldoutError),
    /// A number that cannot be.
    #[error(transparent)]
    Number(#[from] NumberError),
    /// Something placed with a value that cannot be used.
    #[error(transparent)]
    Insert(#[from] InsertError),
    /// A mask that cannot be used.
    #[error(transparent)]
    Mask(#[from] MaskError),
    /// Settings of the tracker that cannot be used.
    #[error(transparent)]
    Track(#[from] TrackError),
    /// Settings of the solve that cannot be used.
    #[error(transparent)]
    Solve(#[from] SettingsError),
    /// A datum that is none.
    #[error(transparent)]
    Datum(#[from] DatumError),
    /// A surface that cannot be.
    #[error(transparent)]
    Surface(#[from] SurfaceEditError),
    /// A light that cannot be.
    #[error(
        "the sun's height lies between -90 and 90 degrees, its width between 0 and 60, strengths between 0 and 20, shadows between 0 and 1"
    )]
    Light,
}
