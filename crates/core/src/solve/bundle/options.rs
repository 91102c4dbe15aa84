//! What an adjustment is asked for, and how it went.

use crate::solve::bundle::state::Move;

/// What is adjusted, and how far.
#[derive(Debug, Clone, Copy)]
pub struct BundleOptions {
    /// How cameras move.
    pub motion: Move,
    /// Whether the focal length that all cameras share is adjusted.
    pub focal: bool,
    /// Whether each camera's own focal length is adjusted; `focal` must be off then.
    pub zoom: bool,
    /// Whether k1 is adjusted.
    pub k1: bool,
    /// Whether k2 is adjusted.
    pub k2: bool,
    /// Whether the readout of a rolling shutter is adjusted.
    pub readout: bool,
    /// Whether the principal point is adjusted.
    pub centre: bool,
    /// Residual at which an observation's weight has fallen to a half, px (Cauchy).
    pub loss_px: f64,
    /// Whether steps are taken with the loss's own curvature; the search turns that on by itself near its end.
    pub curved: bool,
    /// Whether steps are accelerated along the valley that they lead through, which costs about half as much again; the
    /// search turns that on by itself where straight ones fail.
    pub accelerated: bool,
    /// Most steps taken.
    pub max_steps: usize,
    /// Relative decrease of the cost that ends the search.
    pub tolerance: f64,
}

impl Default for BundleOptions {
    fn default() -> Self {
        Self {
            motion: Move::Free,
            focal: true,
            zoom: false,
            k1: true,
            k2: false,
            readout: false,
            centre: false,
            loss_px: 1.0,
            curved: false,
            accelerated: false,
            max_steps: 20,
            tolerance: 1e-5,
        }
    }
}

/// Why the search ended; every one of them leaves the best state found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stop {
    /// The cost no longer falls.
    Converged,
    /// The allowed steps were used up.
    OutOfSteps,
    /// No step made the cost smaller.
    Stuck,
}

/// How an adjustment went.
#[derive(Debug, Clone, Copy)]
pub struct Adjusted {
    /// Why it ended.
    pub stop: Stop,
    /// Steps tried.
    pub steps: usize,
    /// Robust cost before, px^2.
    pub cost_first: f64,
    /// Robust cost after, px^2.
    pub cost_last: f64,
}
