//! Sun and ambient light.

use super::error::EditError;
use crate::scene::anim::Animated;
use crate::scene::{Catcher, SurfaceId, Surroundings};
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// A colour of light: red, green and blue as encoded for display, 0 to 255; white leaves the light as it is.
pub type LightColour = [f64; 3];

const WHITE: LightColour = [255.0; 3];
/// The sun has about half a degree; thin haze makes it seem more.
const SUN_WIDTH_DEG: f64 = 1.375;

/// Sun and ambient light.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Light {
    /// Compass bearing of the sun about Y, degrees; 0 is +Z, 90 is +X.
    pub bearing_deg: Animated<f64>,
    /// Height of the sun over the floor, degrees.
    pub height_deg: Animated<f64>,
    /// Strength of the sun; 1 shows a facing white surface white.
    pub sun: Animated<f64>,
    /// Colour of the sun.
    #[serde(default = "white")]
    pub sun_colour: Animated<LightColour>,
    /// The angle under which the sun is seen, degrees: the wider, the softer its shadows.
    #[serde(default = "sun_width")]
    pub sun_width_deg: Animated<f64>,
    /// How much of the sun is kept off where a thing lies in the shadow of another, 0 to 1.
    #[serde(default = "whole")]
    pub sun_shadow: Animated<f64>,
    /// Strength of the light from everywhere.
    pub ambient: Animated<f64>,
    /// Colour of the light from everywhere.
    #[serde(default = "white")]
    pub ambient_colour: Animated<LightColour>,
    /// How much of the shadow of what is placed falls on the floor, 0 to 1.
    #[serde(default)]
    pub floor_shadow: Animated<f64>,
    /// What lights and is mirrored from all round, beside the light from everywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub surroundings: Option<Surroundings>,
    /// What flat parts of the plate do with what is placed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub catchers: Vec<Catcher>,
}

fn white() -> Animated<LightColour> {
    WHITE.into()
}

fn sun_width() -> Animated<f64> {
    SUN_WIDTH_DEG.into()
}

fn whole() -> Animated<f64> {
    1.0.into()
}

impl Default for Light {
    fn default() -> Self {
        LightNow::default().into()
    }
}

impl From<LightNow> for Light {
    fn from(l: LightNow) -> Self {
        Self {
            bearing_deg: l.bearing_deg.into(),
            height_deg: l.height_deg.into(),
            sun: l.sun.into(),
            sun_colour: l.sun_colour.into(),
            sun_width_deg: l.sun_width_deg.into(),
            sun_shadow: l.sun_shadow.into(),
            ambient: l.ambient.into(),
            ambient_colour: l.ambient_colour.into(),
            floor_shadow: l.floor_shadow.into(),
            surroundings: None,
            catchers: Vec::new(),
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
            sun_colour: self.sun_colour.at(frame),
            sun_width_deg: self.sun_width_deg.at(frame),
            sun_shadow: self.sun_shadow.at(frame),
            ambient: self.ambient.at(frame),
            ambient_colour: self.ambient_colour.at(frame),
            floor_shadow: self.floor_shadow.at(frame),
        }
    }

    /// What the floor, or a surface, does with what is placed.
    pub fn catcher(&self, surface: Option<SurfaceId>) -> Option<&Catcher> {
        self.catchers.iter().find(|c| c.surface == surface)
    }

    /// The same, to be changed; one that does nothing is there from now on.
    pub fn catcher_mut(&mut self, surface: Option<SurfaceId>) -> &mut Catcher {
        let at = self.catchers.iter().position(|c| c.surface == surface).unwrap_or_else(|| {
            self.catchers.push(Catcher::new(surface));
            self.catchers.len() - 1
        });
        &mut self.catchers[at]
    }

    /// Makes lengths so many times as long.
    pub(super) fn scale(&mut self, by: f64) {
        self.catchers.iter_mut().for_each(|c| c.scale(by));
    }

    /// Whether it changes over time.
    pub fn changes(&self) -> bool {
        let Self { bearing_deg, height_deg, sun, sun_width_deg, sun_shadow, ambient, floor_shadow, .. } = self;
        let numbers = [bearing_deg, height_deg, sun, sun_width_deg, sun_shadow, ambient, floor_shadow];
        numbers.iter().any(|v| v.changes())
            || [&self.sun_colour, &self.ambient_colour].iter().any(|c| c.changes())
            || self.surroundings.as_ref().is_some_and(|s| s.numbers.changes())
            || self.catchers.iter().any(Catcher::changes)
    }

    /// Moves its keys in time by frames.
    pub(super) fn shift(&mut self, by: f64) {
        let Self { bearing_deg, height_deg, sun, sun_width_deg, sun_shadow, ambient, floor_shadow, .. } = self;
        let numbers = [bearing_deg, height_deg, sun, sun_width_deg, sun_shadow, ambient, floor_shadow];
        numbers.into_iter().for_each(|v| v.shift(by));
        [&mut self.sun_colour, &mut self.ambient_colour].into_iter().for_each(|c| c.shift(by));
        self.surroundings.iter_mut().for_each(|s| s.numbers.shift(by));
        self.catchers.iter_mut().for_each(|c| c.shift(by));
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
    /// Colour of the sun.
    pub sun_colour: LightColour,
    /// The angle under which the sun is seen, degrees.
    pub sun_width_deg: f64,
    /// How much of the sun is kept off where a thing lies in the shadow of another, 0 to 1.
    pub sun_shadow: f64,
    /// Strength of the light from everywhere.
    pub ambient: f64,
    /// Colour of the light from everywhere.
    pub ambient_colour: LightColour,
    /// How much of the shadow of what is placed falls on the floor, 0 to 1.
    pub floor_shadow: f64,
}

impl Default for LightNow {
    fn default() -> Self {
        Self {
            bearing_deg: 40.0,
            height_deg: 45.0,
            sun: 0.8,
            sun_colour: WHITE,
            sun_width_deg: SUN_WIDTH_DEG,
            sun_shadow: 1.0,
            ambient: 0.35,
            ambient_colour: WHITE,
            floor_shadow: 1.0,
        }
    }
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
        within(&light.sun_width_deg, 0.0, 60.0)?;
        within(&light.sun_shadow, 0.0, 1.0)?;
        within(&light.ambient, 0.0, 20.0)?;
        for colour in [&light.sun_colour, &light.ambient_colour] {
            let fits = |c: &LightColour| c.iter().all(|v| (0.0..=255.0).contains(v));
            colour.validate(|c| if fits(c) { Ok(()) } else { Err(EditError::Light) })?;
        }
        within(&light.floor_shadow, 0.0, 1.0)?;
        light.surroundings.as_ref().map_or(Ok(()), Surroundings::validate)?;
        light.catchers.iter().try_for_each(Catcher::validate)?;
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::anim::{Curve, Key};

    /// What earlier versions wrote has a white sun as wide as it was drawn then.
    #[test]
    fn light_of_earlier_versions_is_read_as_it_looked() {
        let text = r#"{ "bearing_deg": 10.0, "height_deg": 20.0, "sun": 0.5, "ambient": 0.25, "floor_shadow": 0.75 }"#;
        let light: Light = serde_json::from_str(text).unwrap();
        let wanted = LightNow {
            bearing_deg: 10.0,
            height_deg: 20.0,
            sun: 0.5,
            ambient: 0.25,
            floor_shadow: 0.75,
            ..LightNow::default()
        };
        assert_eq!(light.at(3.0), wanted);
        assert_eq!(serde_json::from_str::<Light>(&serde_json::to_string(&light).unwrap()).unwrap(), light);
    }

    #[test]
    fn every_value_is_bounded_can_change_and_moves_in_time() {
        let turns = |from: f64, to: f64| {
            Animated::Curve(Curve::new(vec![Key::smooth(0.0, from), Key::smooth(10.0, to)]).unwrap())
        };
        let red = |r: f64| [r, 0.0, 0.0];
        let mut light = Light {
            sun_width_deg: turns(1.0, 3.0),
            sun_colour: Animated::Curve(
                Curve::new(vec![Key::smooth(0.0, red(0.0)), Key::smooth(10.0, red(100.0))]).unwrap(),
            ),
            ..Light::default()
        };
        assert!(light.changes() && !Light::default().changes());
        light.shift(5.0);
        assert!(
            (light.at(10.0).sun_width_deg - 2.0).abs() < 1e-9 && (light.at(10.0).sun_colour[0] - 50.0).abs() < 1e-9
        );
        let wrong: [fn(&mut Light); 4] = [
            |l| l.sun_width_deg = 61.0.into(),
            |l| l.sun_shadow = (-0.1).into(),
            |l| l.sun_colour = [0.0, 256.0, 0.0].into(),
            |l| l.ambient_colour = [f64::NAN; 3].into(),
        ];
        for spoil in wrong {
            let mut spoiled = light.clone();
            spoil(&mut spoiled);
            assert_eq!(Light::default().apply(&LightEdit::Light { light: spoiled }), Err(EditError::Light));
        }
        assert_eq!(Light::default().apply(&LightEdit::Light { light }), Ok(()));
    }
}
