//! Checks of a finished camera against the plate or a known truth.

mod by_hand;
mod datum;
mod lock;

pub use by_hand::{ByHand, by_hand};
pub use datum::{DatumScore, SurfaceScore, TrueSurface, datum_score};
pub use lock::{LockError, TruePoint, lock_error, turning_lock_error};
