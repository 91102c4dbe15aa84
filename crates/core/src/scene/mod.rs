//! What a person decides: the shot's document, its datum, surfaces and inserts.

mod datum;
mod document;
mod insert;
mod surface;

pub use datum::{Datum, FloorFit, FloorReading, fit_floor, suggest_floor};
pub use document::{AnalysisId, Edit, EditError, FrameRange, Light, ShotDocument};
pub use insert::{Insert, InsertId, InsertKind, Placement, Stance, Title};
pub use surface::{FAR_M, Surface, SurfaceKind, fit_plane, surface_at};
