//! Checks of a finished camera against the plate or a known truth.

mod by_hand;
mod card;
mod datum;
mod lock;

pub use by_hand::{ByEdges, ByHand, by_edges, by_hand};
pub use card::{CardError, card_error};
pub use datum::{DatumScore, SurfaceScore, TrueSurface, datum_score};
pub use lock::{LockError, TruePoint, lock_error, turning_lock_error};

/// The value under which a part of some sorted ones lies; `None` of nothing.
fn at_share(sorted: &[f64], share: f64) -> Option<f64> {
    sorted.get(((sorted.len() as f64 - 1.0) * share).round() as usize).copied()
}
