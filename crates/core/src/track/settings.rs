//! What a person can set about point tracking.

use crate::image::PictureSettings;
use serde::{Deserialize, Serialize};

/// Which ways a clip is run through.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TrackDirection {
    /// From the first frame to the last.
    #[default]
    Forward,
    /// And then back: points that were found late are followed to where they first come into view.
    Both,
}

impl TrackDirection {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Forward => "forward",
            Self::Both => "both",
        }
    }
}

/// What a person can set about point tracking.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct TrackSettings {
    /// Distance between points aimed at, px of a picture 1280 wide (in proportion for others).
    pub spacing_px: f64,
    /// Corners weaker than this part of the strong ones are left alone, 0 to 1.
    pub threshold: f64,
    /// Half side of the window that is compared with the first view, px.
    pub window_half_px: u32,
    /// Least agreement (normalised cross-correlation) with the first view, 0 to 1.
    pub min_agreement: f64,
    /// Which ways the clip is run through.
    pub direction: TrackDirection,
    /// What the tracker sees of each picture.
    pub picture: PictureSettings,
}

impl Default for TrackSettings {
    fn default() -> Self {
        Self {
            spacing_px: 40.0,
            threshold: 0.03,
            window_half_px: 10,
            min_agreement: 0.80,
            direction: TrackDirection::Forward,
            picture: PictureSettings::default(),
        }
    }
}

/// Why a frame or a setting was refused.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum TrackError {
    /// A setting out of its range.
    #[error("{name} is {found}; it must lie between {low} and {high}")]
    Setting {
        /// Which one.
        name: &'static str,
        /// What was given.
        found: f64,
        /// Least allowed.
        low: f64,
        /// Most allowed.
        high: f64,
    },
    /// A frame of another size than the first.
    #[error("frame {frame} is {found_width}x{found_height}, but the clip began with {width}x{height}")]
    Size {
        /// Which frame.
        frame: u32,
        /// Its width, px.
        found_width: usize,
        /// Its height, px.
        found_height: usize,
        /// Width of the first frame, px.
        width: usize,
        /// Height of the first frame, px.
        height: usize,
    },
}

impl TrackSettings {
    /// Checks every value.
    ///
    /// # Errors
    /// [`TrackError::Setting`] names the first that is out of range.
    pub fn validate(&self) -> Result<(), TrackError> {
        let checks = [
            ("spacing", self.spacing_px, 8.0, 400.0),
            ("threshold", self.threshold, 0.0, 1.0),
            ("window", f64::from(self.window_half_px), 5.0, 40.0),
            ("least agreement", self.min_agreement, 0.3, 0.99),
            ("sharpening", self.picture.sharpen, 0.0, 3.0),
            ("local contrast", self.picture.local_contrast, 0.0, 1.0),
            ("denoising", self.picture.denoise_px, 0.0, 5.0),
        ];
        for (name, found, low, high) in checks {
            if !(low..=high).contains(&found) {
                return Err(TrackError::Setting { name, found, low, high });
            }
        }
        Ok(())
    }
}
