//! What a person can tell the solve.

use serde::{Deserialize, Serialize};

/// How the camera moves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MotionChoice {
    /// Decided from the tracks.
    #[default]
    Auto,
    /// It travels.
    Free,
    /// It turns on the spot.
    Nodal,
}

/// What the lens does.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LensChoice {
    /// Decided from the tracks.
    #[default]
    Auto,
    /// One focal length for all frames.
    Fixed,
    /// A focal length for every frame.
    Zoom,
}

/// How the sensor is read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ReadoutChoice {
    /// Decided from the tracks.
    #[default]
    Auto,
    /// All rows at once.
    None,
    /// Row by row, over this part of the frame time.
    Given(f64),
}

/// The longest readout that makes sense, as a part of the frame time.
pub const MOST_READOUT: f64 = 1.2;

/// All of it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SolveSettings {
    /// The focal length in px, where it is known; else it is found.
    pub focal_px: Option<f64>,
    /// How the camera moves.
    pub motion: MotionChoice,
    /// What the lens does.
    pub lens: LensChoice,
    /// How the sensor is read.
    pub readout: ReadoutChoice,
}

impl SolveSettings {
    /// Checks every value.
    ///
    /// # Errors
    /// A sentence that says which value is out of range.
    pub fn validate(&self) -> Result<(), String> {
        if self.focal_px.is_some_and(|f| !(f > 1.0 && f < 1e6)) {
            return Err("the focal length must be a number of px above 1".to_owned());
        }
        if matches!(self.readout, ReadoutChoice::Given(r) if !(-MOST_READOUT..=MOST_READOUT).contains(&r)) {
            return Err(format!("the readout is a part of the frame time, from {} to {MOST_READOUT}", -MOST_READOUT));
        }
        Ok(())
    }
}
