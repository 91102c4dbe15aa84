//! What a person can set about point tracking.

use crate::image::PictureSettings;
use serde::{Deserialize, Serialize};

/// Area of the frame by which a density is told, px^2.
const FRAME_PX: f64 = 1280.0 * 720.0;

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
#[serde(from = "StoredSettings")]
pub struct TrackSettings {
    /// Points aimed at on a frame of 1280x720 (as many to the square for other shapes): each of so many squares gets
    /// one.
    pub density: f64,
    /// Least distance between two points, px of a picture 1280 wide (in proportion for others).
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
            density: 576.0,
            spacing_px: 28.0,
            threshold: 0.03,
            window_half_px: 10,
            min_agreement: 0.80,
            direction: TrackDirection::Forward,
            picture: PictureSettings::default(),
        }
    }
}

/// The settings as a project may hold them.
#[derive(Deserialize)]
#[serde(default)]
struct StoredSettings {
    density: Option<f64>,
    spacing_px: Option<f64>,
    threshold: f64,
    window_half_px: u32,
    min_agreement: f64,
    direction: TrackDirection,
    picture: PictureSettings,
}

impl Default for StoredSettings {
    fn default() -> Self {
        let TrackSettings { threshold, window_half_px, min_agreement, direction, picture, .. } =
            TrackSettings::default();
        Self { density: None, spacing_px: None, threshold, window_half_px, min_agreement, direction, picture }
    }
}

impl From<StoredSettings> for TrackSettings {
    fn from(stored: StoredSettings) -> Self {
        let usual = Self::default();
        let (density, spacing_px) = match (stored.density, stored.spacing_px) {
            // Before there was a density, the spacing was the side of the squares, and seven tenths of it kept points
            // apart.
            (None, Some(side)) => ((FRAME_PX / (side * side)).round(), (7.0 * side).round() / 10.0),
            (density, spacing) => (density.unwrap_or(usual.density), spacing.unwrap_or(usual.spacing_px)),
        };
        let StoredSettings { threshold, window_half_px, min_agreement, direction, picture, .. } = stored;
        Self { density, spacing_px, threshold, window_half_px, min_agreement, direction, picture }
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
            ("density", self.density, 9.0, 20_000.0),
            ("spacing", self.spacing_px, 4.0, 400.0),
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

    /// Side of the squares of which each gets a point, px of a picture 1280 wide.
    pub(super) fn square_px(&self) -> f64 {
        (FRAME_PX / self.density).sqrt()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_of_before_there_was_a_density_give_the_points_they_gave() {
        let read = |text: &str| serde_json::from_str::<TrackSettings>(text).unwrap();
        let old = read(r#"{"spacing_px": 40.0, "threshold": 0.05}"#);
        assert_eq!(old, TrackSettings { threshold: 0.05, ..TrackSettings::default() });
        let dense = read(r#"{"spacing_px": 20.0}"#);
        assert_eq!((dense.density, dense.spacing_px), (2304.0, 14.0));
        assert_eq!(read("{}"), TrackSettings::default());
        let new = TrackSettings { density: 900.0, spacing_px: 12.5, window_half_px: 8, ..TrackSettings::default() };
        assert_eq!(read(&serde_json::to_string(&new).unwrap()), new);
    }

    #[test]
    fn what_is_out_of_range_is_named() {
        let named = |settings: TrackSettings| match settings.validate() {
            Err(TrackError::Setting { name, .. }) => name,
            other => panic!("{other:?}"),
        };
        let usual = TrackSettings::default;
        assert_eq!(named(TrackSettings { density: 5.0, ..usual() }), "density");
        assert_eq!(named(TrackSettings { density: f64::INFINITY, ..usual() }), "density");
        assert_eq!(named(TrackSettings { spacing_px: f64::NAN, ..usual() }), "spacing");
        assert_eq!(named(TrackSettings { threshold: -0.1, ..usual() }), "threshold");
        assert!(usual().validate().is_ok());
    }
}
