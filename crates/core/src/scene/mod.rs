//! What a person decides: the shot's document, its datum, surfaces and inserts.

mod datum;
mod document;
mod insert;
mod surface;
mod transfer;

pub use datum::{Datum, FloorFit, FloorReading, fit_floor, fit_floor_to_most, points_inside, suggest_floor};
pub use document::{AnalysisId, Edit, EditError, FrameRange, Light, ShotDocument};
pub use insert::{Insert, InsertId, InsertKind, Placement, Stance, Title};
pub use surface::{FAR_M, Surface, SurfaceKind, fit_plane, floor_at, surface_at};
pub use transfer::{SolveOfClip, Transfer, TransferError, TransferFit, floor_corners, marks_of, transfer};
