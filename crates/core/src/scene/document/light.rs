//! Sun and ambient light.

use super::error::EditError;
use crate::scene::anim::Animated;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// Sun and ambient light.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Light {
    /// Compass bearing of the sun about Y, degrees; 0 is +Z, 90 is +X.
    pub bearing_deg: Animated<f64>,
    /// Height of the sun over the floor, degrees.
    pub height_deg: Animated<f64>,
    /// Strength of the sun; 1 shows a facing white surface white.
    pub sun: Animated<f64>,
    /// Strength of the light from everywhere.
    pub ambient: Animated<f64>,
    /// How much of the shadow of what is placed falls on the floor, 0 to 1.
    #[serde(default)]
    pub floor_shadow: Animated<f64>,
}

impl Default for Light {
    fn default() -> Self {
        LightNow { bearing_deg: 40.0, height_deg: 45.0, sun: 0.8, ambient: 0.35, floor_shadow: 1.0 }.into()
    }
}

impl From<LightNow> for Light {
    fn from(l: LightNow) -> Self {
        Self {
            bearing_deg: l.bearing_deg.into(),
            height_deg: l.height_deg.into(),
            sun: l.sun.into(),
            ambient: l.ambient.into(),
            floor_shadow: l.floor_shadow.into(),
        }
    }
}

impl Light {
    /// The light at a time, frames.
    pub fn at(&self, frame: f64) -> LightNow {
        LightNow {
            bearing_deg: self.bearing_deg.at(frame),
            height_deg: self.height_deg.at(frame),
            sun: self.sun.at(frame),
            ambient: self.ambient.at(frame),
            floor_shadow: self.floor_shadow.at(frame),
        }
    }

    /// Whether it changes over time.
    pub fn changes(&self) -> bool {
        self.all().any(|v| v.changes())
    }

    fn all(&self) -> impl Iterator<Item = &Animated<f64>> {
        [&self.bearing_deg, &self.height_deg, &self.sun, &self.ambient, &self.floor_shadow].into_iter()
    }

    /// Moves its keys in time by frames.
    pub(super) fn shift(&mut self, by: f64) {
        let Self { bearing_deg, height_deg, sun, ambient, floor_shadow } = self;
        [bearing_deg, height_deg, sun, ambient, floor_shadow].into_iter().for_each(|v| v.shift(by));
    }
}

/// Sun and ambient light at one time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LightNow {
    /// Compass bearing of the sun about Y, degrees; 0 is +Z, 90 is +X.
    pub bearing_deg: f64,
    /// Height of the sun over the floor, degrees.
    pub height_deg: f64,
    /// Strength of the sun; 1 shows a facing white surface white.
    pub sun: f64,
    /// Strength of the light from everywhere.
    pub ambient: f64,
    /// How much of the shadow of what is placed falls on the floor, 0 to 1.
    pub floor_shadow: f64,
}

impl LightNow {
    /// Unit direction towards the sun.
    pub fn toward_sun(&self) -> Vector3<f64> {
        let (b, h) = (self.bearing_deg.to_radians(), self.height_deg.to_radians());
        Vector3::new(b.sin() * h.cos(), h.sin(), b.cos() * h.cos())
    }
}

/// A change of the light.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum LightEdit {
    /// Changes sun and ambient light.
    Light {
        /// The new ones.
        light: Light,
    },
}

impl Light {
    pub(super) fn apply(&mut self, edit: &LightEdit) -> Result<(), EditError> {
        let LightEdit::Light { light } = edit;
        let within = |value: &Animated<f64>, low: f64, high: f64| {
            value.validate(|v| if (low..=high).contains(v) { Ok(()) } else { Err(EditError::Light) })
        };
        within(&light.bearing_deg, f64::MIN, f64::MAX)?;
        within(&light.height_deg, -90.0, 90.0)?;
        within(&light.sun, 0.0, 20.0)?;
        within(&light.ambient, 0.0, 20.0)?;
        within(&light.floor_shadow, 0.0, 1.0)?;
        *self = light.clone();
        Ok(())
    }
}

impl LightEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        "light".to_owned()
    }
}
