//! What kind of thing an insert is.

use super::{Backdrop, Effect, InsertError, Lamp, Play, Prop, Sign, Title};
use crate::scene::Asset;
use serde::{Deserialize, Serialize};

/// What kind of thing an insert is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "kind")]
pub enum InsertKind {
    /// Letters.
    Title(Title),
    /// A picture or a clip on a card.
    Sign(Sign),
    /// A model.
    Prop(Prop),
    /// A filmed or drawn element.
    Effect(Effect),
    /// Something far away.
    Backdrop(Backdrop),
    /// A place with a name, for others to hang on.
    Marker,
    /// A light.
    Lamp(Lamp),
}

/// A value that can change over time.
#[derive(Debug)]
pub enum Slot<'a> {
    /// A number.
    Number(&'a mut f64),
    /// A colour as encoded for display, 0 to 255.
    Colour(&'a mut [u8; 3]),
}

impl InsertKind {
    /// What it is, in a word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Title(_) => "title",
            Self::Sign(_) => "sign",
            Self::Prop(_) => "prop",
            Self::Effect(_) => "effect",
            Self::Backdrop(_) => "backdrop",
            Self::Marker => "marker",
            Self::Lamp(_) => "lamp",
        }
    }

    /// What it shows, in a line.
    pub fn label(&self) -> String {
        match self {
            Self::Title(title) => title.text.lines().next().unwrap_or(self.word()).to_owned(),
            Self::Marker | Self::Lamp(_) => self.word().to_owned(),
            _ => self.asset().map_or_else(String::new, |a| a.file.clone()),
        }
    }

    /// Whether it is never seen itself.
    pub fn is_unseen(&self) -> bool {
        matches!(self, Self::Marker | Self::Lamp(_))
    }

    /// Whether it is seen from the front alone, so that it hangs on a wall.
    pub fn is_flat(&self) -> bool {
        matches!(self, Self::Title(_) | Self::Sign(_))
    }

    /// The file that it shows.
    pub fn asset(&self) -> Option<&Asset> {
        match self {
            Self::Title(_) | Self::Marker | Self::Lamp(_) => None,
            Self::Sign(sign) => Some(&sign.asset),
            Self::Prop(prop) => Some(&prop.asset),
            Self::Effect(effect) => Some(&effect.asset),
            Self::Backdrop(backdrop) => Some(&backdrop.asset),
        }
    }

    /// All files that it shows or is made of.
    pub fn assets(&self) -> Vec<&Asset> {
        let mut all: Vec<&Asset> = self.asset().into_iter().collect();
        match self {
            Self::Title(title) => {
                all.extend(&title.lettering.font_file);
                all.extend(title.lettering.coverings().into_iter().flatten().filter_map(|c| c.asset.as_ref()));
            }
            Self::Prop(prop) => all.extend(prop.materials.values().flat_map(|m| m.maps.values())),
            _ => {}
        }
        all
    }

    /// How what it shows runs.
    pub fn play(&self) -> Option<&Play> {
        match self {
            Self::Title(_) | Self::Marker | Self::Lamp(_) => None,
            Self::Prop(prop) => Some(&prop.play),
            Self::Sign(sign) => Some(&sign.play),
            Self::Effect(effect) => Some(&effect.play),
            Self::Backdrop(backdrop) => Some(&backdrop.play),
        }
    }

    /// The same, to be changed.
    pub fn play_mut(&mut self) -> Option<&mut Play> {
        match self {
            Self::Title(_) | Self::Marker | Self::Lamp(_) => None,
            Self::Prop(prop) => Some(&mut prop.play),
            Self::Sign(sign) => Some(&mut sign.play),
            Self::Effect(effect) => Some(&mut effect.play),
            Self::Backdrop(backdrop) => Some(&mut backdrop.play),
        }
    }

    /// Its main colour as encoded for display, 0 to 255.
    pub fn base_colour(&self) -> [u8; 3] {
        match self {
            Self::Title(title) => title.colour,
            Self::Sign(sign) => sign.edge,
            Self::Lamp(lamp) => lamp.colour,
            Self::Prop(_) | Self::Effect(_) | Self::Backdrop(_) | Self::Marker => [200; 3],
        }
    }

    /// Checks all that it holds.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        match self {
            Self::Title(title) => title.validate(),
            Self::Sign(sign) => sign.validate(),
            Self::Prop(prop) => prop.validate(),
            Self::Effect(effect) => effect.validate(),
            Self::Backdrop(backdrop) => backdrop.validate(),
            Self::Marker => Ok(()),
            Self::Lamp(lamp) => lamp.validate(),
        }
    }

    /// A value that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        match self {
            Self::Title(title) => title.slot(name),
            Self::Sign(sign) => sign.slot(name),
            Self::Effect(effect) => effect.slot(name),
            Self::Backdrop(backdrop) => backdrop.slot(name),
            Self::Lamp(lamp) => lamp.slot(name),
            Self::Prop(_) | Self::Marker => None,
        }
    }
}
