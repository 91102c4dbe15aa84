//! A light that is placed.

use super::{InsertError, Slot, within};
use serde::{Deserialize, Serialize};

/// How a lamp sends its light.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LampForm {
    /// Everywhere.
    #[default]
    Point,
    /// Into a cone.
    Spot,
    /// From a rectangle, to one side.
    Area,
}

/// A light that is placed. A spot and a rectangle shine along -Y of its own frame, and the rectangle lies in X and Z; what
/// is in metres grows with the insert, and the strength with the square of that, so that what it lights stays as bright
/// when the world is scaled.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Lamp {
    /// How it sends its light.
    pub form: LampForm,
    /// Light on white that faces it a metre away; 1 shows it white.
    pub strength: f64,
    /// Its colour as encoded for display, 0 to 255.
    pub colour: [u8; 3],
    /// Its radius, metres: the larger, the softer its shadows.
    pub radius_m: f64,
    /// Of a spot: the angle of the whole cone, degrees.
    pub cone_deg: f64,
    /// Of a spot: how much of the cone fades at its edge, 0 to 1.
    pub edge: f64,
    /// Of a rectangle: along X and along Z, metres.
    pub size_m: [f64; 2],
    /// How much of its light is kept off where a thing lies in the shadow of another, 0 to 1.
    pub shadow: f64,
    /// How much of its shadows falls on the plate, 0 to 1.
    pub floor_shadow: f64,
}

impl Default for Lamp {
    fn default() -> Self {
        Self {
            form: LampForm::Point,
            strength: 10.0,
            colour: [255, 244, 229],
            radius_m: 0.1,
            cone_deg: 60.0,
            edge: 0.3,
            size_m: [1.0, 1.0],
            shadow: 1.0,
            floor_shadow: 1.0,
        }
    }
}

impl Lamp {
    /// A value that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        Some(match name {
            "strength" => Slot::Number(&mut self.strength),
            "colour" => Slot::Colour(&mut self.colour),
            "radius" => Slot::Number(&mut self.radius_m),
            "cone" => Slot::Number(&mut self.cone_deg),
            "edge" => Slot::Number(&mut self.edge),
            "wide" => Slot::Number(&mut self.size_m[0]),
            "deep" => Slot::Number(&mut self.size_m[1]),
            "shadow" => Slot::Number(&mut self.shadow),
            "floor-shadow" => Slot::Number(&mut self.floor_shadow),
            _ => return None,
        })
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the strength", self.strength, 0.0, 1e6)?;
        within("the radius", self.radius_m, 0.0, 1e3)?;
        within("the cone", self.cone_deg, 1.0, 179.0)?;
        within("the edge", self.edge, 0.0, 1.0)?;
        self.size_m.iter().try_for_each(|v| within("the size", *v, 1e-3, 1e3))?;
        within("the shadow", self.shadow, 0.0, 1.0)?;
        within("the shadow on the plate", self.floor_shadow, 0.0, 1.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_number_is_bounded_and_can_change() {
        assert_eq!(Lamp::default().validate(), Ok(()));
        for name in ["strength", "radius", "cone", "edge", "wide", "deep", "shadow", "floor-shadow"] {
            let mut lamp = Lamp::default();
            let Some(Slot::Number(value)) = lamp.slot(name) else { panic!("{name}") };
            *value = -1.0;
            assert!(lamp.validate().is_err(), "{name}");
        }
        assert!(Lamp::default().slot("glow").is_none());
    }
}
