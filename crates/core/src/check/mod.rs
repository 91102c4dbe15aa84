//! Checks of a finished camera against the plate or a known truth.

mod lock;

pub use lock::{LockError, TruePoint, lock_error, turning_lock_error};
