//! What a person decides: the shot's document, its datum, surfaces and inserts.

mod anchor;
pub mod anim;
mod asset;
mod datum;
mod document;
mod insert;
mod pull;
mod spot;
mod sun;
mod surface;
mod transfer;
mod transfer_fit;

pub use anchor::Anchor;
pub use asset::{Asset, AssetName, AssetNameError};
use datum::letters as datum_letters;
pub use datum::{
    Datum, DatumError, Distance, DrawnLine, FloorReading, HeadingBasis, LineError, LineRole, Proposal, ScaleBasis,
    ScaleReading, guessed_height_m, mean_roll_deg, points_inside, propose,
};
pub use document::{
    AnalysisId, DatumEdit, DocumentError, Edit, EditError, Follow, FootageEdit, FrameRange, Light, LightColour,
    LightEdit, LightNow, Masking, MaskingEdit, Placing, PlacingEdit, ShotDocument, Solving, SolvingEdit, Surfacing,
    SurfacingEdit, Tracking, TrackingEdit,
};
pub use insert::*;
pub use pull::{PullError, PulledCorners, Rectangle, pulled};
pub use spot::{FAR_M, Spot, SpotError, SpotKind, spot_at, spot_far, spot_on};
pub use sun::{SunError, SunSeen, sun_by_shadow};
pub use surface::{Surface, SurfaceEditError, SurfaceId, SurfaceReading};
pub use transfer::{SolveOfClip, Transfer, TransferError, floor_corners, marks_of, transfer};
pub use transfer_fit::TransferFit;
