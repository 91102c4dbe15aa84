//! Sun and ambient light.

use super::edit::EditError;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// Sun and ambient light.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Light {
    /// Compass bearing of the sun about Y, degrees; 0 is +Z, 90 is +X.
    pub bearing_deg: f64,
    /// Height of the sun over the floor, degrees.
    pub height_deg: f64,
    /// Strength of the sun; 1 shows a facing white surface white.
    pub sun: f64,
    /// Strength of the light from everywhere.
    pub ambient: f64,
}

impl Default for Light {
    fn default() -> Self {
        Self { bearing_deg: 40.0, height_deg: 45.0, sun: 0.8, ambient: 0.35 }
    }
}

impl Light {
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
        let good = light.bearing_deg.is_finite()
            && (-90.0..=90.0).contains(&light.height_deg)
            && (0.0..=20.0).contains(&light.sun)
            && (0.0..=20.0).contains(&light.ambient);
        if !good {
            let why = "the sun's height lies between -90 and 90 degrees, strengths between 0 and 20";
            return Err(EditError::Value(why.to_owned()));
        }
        *self = *light;
        Ok(())
    }
}

impl LightEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        "light".to_owned()
    }
}
