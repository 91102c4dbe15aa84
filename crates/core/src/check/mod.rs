//! Checks of a finished camera against the plate or a known truth.
