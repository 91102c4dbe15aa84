//! A far picture or clip: it follows the turn of the camera and nothing else.

use super::{InsertError, Play, Slot, within};
use crate::matte::Outline;
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// What the picture is spread over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Spread {
    /// A flat card, far away.
    #[default]
    Flat,
    /// All directions: the picture is equirectangular.
    Dome,
}

/// A shape on the picture, drawn by hand, in which a far picture is seen, or outside of which.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Cutout {
    /// The shape over time, px.
    pub outline: Outline,
    /// Width of the picture that these are px of.
    pub width_px: f64,
    /// Over how much it fades across the outline, px.
    #[serde(default)]
    pub soft_px: f64,
    /// Whether it is seen outside.
    #[serde(default)]
    pub inverted: bool,
}

impl Cutout {
    fn validate(&self) -> Result<(), InsertError> {
        self.outline.validate().map_err(InsertError::Outline)?;
        within("the width of the picture", self.width_px, 1.0, 1e5)?;
        within("the softness of the outline", self.soft_px, 0.0, 1e4)
    }
}

/// A far picture or clip. It stands behind everything that is placed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Backdrop {
    /// What it shows.
    pub asset: Asset,
    /// Width over height of what it shows.
    pub aspect: f64,
    /// What it is spread over.
    #[serde(default)]
    pub spread: Spread,
    /// Where its middle is seen: about the upright, 0 is ahead (-Z), to the right positive, degrees.
    #[serde(default)]
    pub bearing_deg: f64,
    /// Where its lower edge, or the horizon of a dome, is seen above the horizon, degrees.
    #[serde(default)]
    pub height_deg: f64,
    /// How wide a card is seen, degrees.
    #[serde(default = "width")]
    pub width_deg: f64,
    /// Only what lies above the horizon is covered.
    #[serde(default = "yes")]
    pub above_horizon: bool,
    /// Over how much it fades there, degrees.
    #[serde(default = "fade")]
    pub fade_deg: f64,
    /// Only what is at least so bright in the plate is covered, 0 to 1; 0 covers all.
    #[serde(default)]
    pub plate_from: f64,
    /// Over how much brightness that fades.
    #[serde(default = "soft")]
    pub plate_soft: f64,
    /// How it runs, where it is a clip.
    #[serde(default)]
    pub play: Play,
    /// Where on the picture it is seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cutout: Option<Cutout>,
}

fn width() -> f64 {
    40.0
}

fn fade() -> f64 {
    0.5
}

fn soft() -> f64 {
    0.1
}

fn yes() -> bool {
    true
}

impl Backdrop {
    /// Straight ahead on the horizon.
    pub fn new(asset: Asset, aspect: f64, spread: Spread) -> Self {
        Self {
            asset,
            aspect,
            spread,
            bearing_deg: 0.0,
            height_deg: 0.0,
            width_deg: width(),
            above_horizon: spread == Spread::Dome,
            fade_deg: fade(),
            plate_from: 0.0,
            plate_soft: soft(),
            play: Play::default(),
            cutout: None,
        }
    }

    /// A value that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        match name {
            "bearing" => Some(Slot::Number(&mut self.bearing_deg)),
            "rise" => Some(Slot::Number(&mut self.height_deg)),
            "width" => Some(Slot::Number(&mut self.width_deg)),
            "fade" => Some(Slot::Number(&mut self.fade_deg)),
            "plate-from" => Some(Slot::Number(&mut self.plate_from)),
            "plate-soft" => Some(Slot::Number(&mut self.plate_soft)),
            _ => None,
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the proportion", self.aspect, 1e-3, 1e3)?;
        within("the bearing", self.bearing_deg, -1e4, 1e4)?;
        within("the height over the horizon", self.height_deg, -90.0, 90.0)?;
        within("the width", self.width_deg, 0.01, 160.0)?;
        within("the fade at the horizon", self.fade_deg, 0.0, 45.0)?;
        within("the least brightness", self.plate_from, 0.0, 1.0)?;
        within("the softness", self.plate_soft, 0.0, 1.0)?;
        self.cutout.iter().try_for_each(Cutout::validate)?;
        self.play.validate()
    }
}
