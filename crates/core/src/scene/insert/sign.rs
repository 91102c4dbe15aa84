//! A picture or a clip on a flat card.

use super::{InsertError, Play, Slot, within};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// What a picture's colours were multiplied by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Alpha {
    /// Told by the picture: where no colour is brighter than its alpha, it was multiplied.
    #[default]
    Auto,
    /// Colours as they are.
    Straight,
    /// Colours times alpha.
    Premultiplied,
}

/// A picture or a clip on a card that stands or lies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sign {
    /// What it shows.
    pub asset: Asset,
    /// Width over height of what it shows, as it was taken in.
    pub aspect: f64,
    /// Height of the card, metres.
    pub height_m: f64,
    /// Cut off at the left, top, right and bottom, as parts of the whole.
    #[serde(default)]
    pub crop: [f64; 4],
    /// Metres; a card of none is seen from both sides.
    #[serde(default)]
    pub thickness_m: f64,
    /// Radius of its corners, metres.
    #[serde(default)]
    pub corner_m: f64,
    /// Radius of the pillar that it is bent about, metres; 0 is flat.
    #[serde(default)]
    pub bend_m: f64,
    /// Colour of its edge and back as encoded for display, 0 to 255.
    #[serde(default = "edge")]
    pub edge: [u8; 3],
    /// It shines by itself, as a screen does; otherwise it is lit, as a print is.
    #[serde(default)]
    pub glows: bool,
    /// What its colours were multiplied by.
    #[serde(default)]
    pub alpha: Alpha,
    /// How it runs, where it is a clip.
    #[serde(default)]
    pub play: Play,
}

fn edge() -> [u8; 3] {
    [70, 68, 64]
}

impl Sign {
    /// A plain card.
    pub fn new(asset: Asset, aspect: f64, height_m: f64) -> Self {
        Self {
            asset,
            aspect,
            height_m,
            crop: [0.0; 4],
            thickness_m: 0.0,
            corner_m: 0.0,
            bend_m: 0.0,
            edge: edge(),
            glows: false,
            alpha: Alpha::default(),
            play: Play::default(),
        }
    }

    /// Width of the card, metres: what is left of the picture keeps its proportions.
    pub fn width_m(&self) -> f64 {
        let [left, top, right, bottom] = self.crop;
        self.height_m * self.aspect * (1.0 - left - right) / (1.0 - top - bottom)
    }

    /// A value that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        match name {
            "height" => Some(Slot::Number(&mut self.height_m)),
            "thickness" => Some(Slot::Number(&mut self.thickness_m)),
            "corner" => Some(Slot::Number(&mut self.corner_m)),
            "bend" => Some(Slot::Number(&mut self.bend_m)),
            "edge" => Some(Slot::Colour(&mut self.edge)),
            "crop-left" => Some(Slot::Number(&mut self.crop[0])),
            "crop-top" => Some(Slot::Number(&mut self.crop[1])),
            "crop-right" => Some(Slot::Number(&mut self.crop[2])),
            "crop-bottom" => Some(Slot::Number(&mut self.crop[3])),
            _ => None,
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the height", self.height_m, 1e-3, 1e4)?;
        within("the proportion", self.aspect, 1e-3, 1e3)?;
        self.crop.iter().try_for_each(|c| within("what is cut off", *c, 0.0, 0.99))?;
        let [left, top, right, bottom] = self.crop;
        within("what is cut off at both sides", left + right, 0.0, 0.99)?;
        within("what is cut off at top and bottom", top + bottom, 0.0, 0.99)?;
        within("the thickness", self.thickness_m, 0.0, 1e3)?;
        within("the corners' radius", self.corner_m, 0.0, 1e4)?;
        within("the pillar's radius", self.bend_m, 0.0, 1e4)?;
        self.play.validate()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::AssetName;

    #[test]
    fn what_is_cut_off_changes_the_proportions_and_something_stays() {
        let asset = Asset { name: AssetName::of_digest(&[1; 32]), file: "crest.png".into() };
        let mut sign = Sign::new(asset, 2.0, 1.5);
        assert!((sign.width_m() - 3.0).abs() < 1e-12);
        sign.crop = [0.25, 0.0, 0.25, 0.5];
        assert!((sign.width_m() - 3.0).abs() < 1e-12 && sign.validate().is_ok());
        sign.crop = [0.6, 0.0, 0.5, 0.0];
        assert!(sign.validate().unwrap_err().to_string().contains("both sides"));
        let kept =
            serde_json::json!({ "asset": { "name": "01".repeat(16), "file": "a" }, "aspect": 1.0, "height_m": 1.0 });
        assert!(serde_json::from_value::<Sign>(kept).unwrap().validate().is_ok());
    }
}
