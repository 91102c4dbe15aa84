//! Whole solves on made-up tracks whose cameras are known.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

mod datum;
mod degenerate;
mod made_up;
mod solve_again;
mod solve_crowd;
mod solve_far;
mod solve_free;
mod solve_kinds;
