//! How well things came over from one solve to another.

use serde::{Deserialize, Serialize};

/// How well things stay where they were on the picture.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct TransferFit {
    /// RMS distance of the marks from where they were, px, over the frames that both solves know.
    pub rms_px: f64,
    /// The largest such distance, px.
    pub worst_px: f64,
    /// The frame of the new solve on which it is.
    pub worst_frame: u32,
    /// Frames that both solves know.
    pub frames: u32,
    /// Whether marks were seen; points of the scene stand in for them else.
    pub marks: bool,
}
