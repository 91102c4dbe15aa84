//! Bundle adjustment: all cameras, points and the lens together.
//!
//! Levenberg-Marquardt with analytic Jacobians and Cauchy weights ([`adjust`]); the points are eliminated ([`schur`])
//! and the reduced system, in the order of time with the lens last, is factored within its skyline ([`normal`],
//! [`skyline`]). The gauge is left free; damping takes care of it. Triggs et al., "Bundle Adjustment: A Modern
//! Synthesis", 1999, sections 4 to 6.
//!
//! A zoom gives every camera a focal length of its own, held together by a prior on how fast the speed of a zoom
//! changes ([`zoom_prior`]). A rolling shutter exposes row by row: each observation is seen from the pose that the
//! camera has at the time of its row, taken from the neighbouring poses ([`crate::geometry::Velocity`]).

mod adjust;
pub(in crate::solve) mod inverse_depth;
pub(in crate::solve) mod jacobian;
pub(in crate::solve) mod normal;
pub(in crate::solve) mod options;
pub(in crate::solve) mod schur;
pub(in crate::solve) mod skyline;
pub(in crate::solve) mod state;
pub(in crate::solve) mod step;
#[cfg(test)]
pub(in crate::solve) mod synthetic;
pub(in crate::solve) mod zoom_prior;

pub use options::{Adjusted, BundleOptions, Stop};
pub use state::{Bundle, Move, Observation};
