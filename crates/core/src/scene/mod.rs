//! What a person decides: the shot's document, its datum, surfaces and inserts.

mod anchor;
pub mod anim;
mod asset;
mod catcher;
mod datum;
mod document;
mod drawn;
mod finish;
mod grading;
mod holdout;
mod insert;
mod lens;
mod pull;
mod spot;
mod standing;
mod sun;
mod surface;
mod surroundings;
mod transfer;
mod transfer_fit;

pub use anchor::Anchor;
pub use asset::{Asset, AssetName, AssetNameError};
pub use catcher::{CATCH_SHADOW, CATCHER_RULES, CONTACT, Catcher, CatcherNow, MIRROR};
use datum::letters as datum_letters;
pub use datum::{
    Datum, DatumError, Distance, DrawnLine, FloorReading, HeadingBasis, LineError, LineRole, Proposal, ScaleBasis,
    ScaleReading, guessed_height_m, mean_roll_deg, points_inside, propose,
};
pub use document::{
    AnalysisId, DatumEdit, DocumentError, Edit, EditError, FinishEdit, Follow, FootageEdit, FrameRange, Holding,
    HoldoutEdit, Light, LightColour, LightEdit, LightNow, Masking, MaskingEdit, Placing, PlacingEdit, PlateColour,
    ShotDocument, Solving, SolvingEdit, Surfacing, SurfacingEdit, Tracking, TrackingEdit,
};
pub use drawn::{DRAW, Drawn};
pub use finish::{BARS, FADES, Finish, FinishNow, TABLE_STRENGTH, VIGNETTE};
pub use grading::{BASIC, CURVES, HUE_RULES, TONES, grade_at, grade_rules};
pub use holdout::{Holdout, HoldoutBy, HoldoutError, HoldoutId, MatteChannel};
pub use insert::*;
pub use lens::{BLOOM, FOCUS, GLASS, GRAIN, HAZE, LENS_RULES, LENS_WIDTH_PX, LensLook, LensNow, PHASE, PlateMeasure};
pub use pull::{PullError, PulledCorners, Rectangle, pulled};
pub use spot::{FAR_M, Spot, SpotError, SpotKind, spot_at, spot_far, spot_on};
pub use standing::{StandError, foot_of, standing};
pub use sun::{SunError, SunSeen, sun_by_shadow};
pub use surface::{Surface, SurfaceEditError, SurfaceId, SurfaceReading};
pub use surroundings::{Surroundings, SurroundingsNow, TURNS};
pub use transfer::{SolveOfClip, Transfer, TransferError, floor_corners, marks_of, transfer};
pub use transfer_fit::TransferFit;
