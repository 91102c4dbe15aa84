//! From tracks to cameras.
//!
//! The way, for a free move with an unknown focal length:
//!
//! 1. [`start`] picks keyframes with enough motion between them.
//! 2. [`rotation`] fits a camera that only turns, with and without a zoom. If that explains the tracks, there is no
//!    parallax (Torr, "An Assessment of Information Criteria for Motion Model Selection", 1997), and every frame is
//!    turned onto the directions of the points; a free move is declined.
//! 3. [`start`] grows a small reconstruction from the best-conditioned pair for several focal lengths and keeps the one
//!    that explains the most; focal length and distortion are unlocked as cameras are added.
//! 4. [`pipeline`] adds all keyframes, then every frame ([`reconstruction`]), and adjusts everything together
//!    ([`bundle`]: Triggs et al., "Bundle Adjustment: A Modern Synthesis", 1999), dropping outliers and taking good
//!    tracks back, round by round ([`refine`]).
//! 5. [`uncertainty`] tells how firmly it is known, and [`report`] what can be trusted, or why there is no camera.
//!
//! Every random choice is seeded and every sum is in a fixed order: the same tracks give the same camera, whatever the
//! number of threads.
//!
//! The rooms stand on one another in this order: `bundle`, `uncertainty`, `reconstruction`, `refine`, `start`,
//! `rotation`, `report`, `pipeline`. What all of them know (problem, settings, solution) stands beside them.

pub mod bundle;
pub mod choice;
mod failure;
mod outlier;
mod pipeline;
mod problem;
mod reconstruction;
mod refine;
mod report;
mod rotation;
pub mod settings;
mod solution;
mod start;
pub(crate) mod stats;
#[cfg(test)]
mod synthetic;
mod uncertainty;

pub use choice::TrackChoice;
pub use failure::{SolveFailure, StartError};
pub use outlier::{Outlier, OutlierReason};
pub use pipeline::{SolveStep, solve_camera, solve_on};
pub use problem::Problem;
pub use settings::{CentreChoice, LensChoice, MotionChoice, ReadoutChoice, SettingsError, SolveSettings};
pub use solution::{
    Asked, Grade, Motion, Reason, Solution, SolutionError, SolvedFrame, SolvedPoint, Verdict, covariance,
};
