//! What a person decides: the shot's document, its datum, surfaces and inserts.

mod anchor;
pub mod anim;
mod datum;
mod document;
mod insert;
mod surface;
mod transfer;
mod transfer_fit;

pub use anchor::Anchor;
pub use datum::{
    Datum, DatumError, FloorError, FloorFit, FloorReading, fit_floor, fit_floor_to_most, points_inside, suggest_floor,
};
pub use document::{
    AnalysisId, DatumEdit, DocumentError, Edit, EditError, FootageEdit, FrameRange, Light, LightEdit, LightNow,
    Masking, MaskingEdit, Placing, PlacingEdit, ShotDocument, Solving, SolvingEdit, Tracking, TrackingEdit,
};
pub use insert::*;
pub use surface::{FAR_M, Surface, SurfaceError, SurfaceKind, fit_plane, floor_at, surface_at};
pub use transfer::{SolveOfClip, Transfer, TransferError, floor_corners, marks_of, transfer};
pub use transfer_fit::TransferFit;
