//! Inserts: what is placed in the scene. One file a kind; a new kind is a file and a line in [`InsertKind`].

mod backdrop;
mod blend;
mod effect;
mod error;
mod placement;
mod play;
mod prop;
mod sign;
mod title;

pub use backdrop::{Backdrop, Spread};
pub use blend::Blend;
pub use effect::{Effect, Key, Keyed};
pub use error::InsertError;
pub(crate) use error::within;
pub use placement::{Facing, Placement, Stance};
pub use play::{Ends, Play};
pub use prop::{ModelUp, Prop};
pub use sign::{Alpha, Sign};
pub use title::Title;

use super::Asset;
use super::anim::Animated;
use serde::{Deserialize, Serialize};

/// Names an insert within its shot; never used twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct InsertId(pub u32);

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
}

/// Something placed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Insert {
    /// Its id in the document.
    pub id: InsertId,
    /// What people call it; its document gives it one where it has none.
    #[serde(default)]
    pub name: String,
    /// What it shows.
    pub content: InsertKind,
    /// Where it is.
    pub placement: Placement,
    /// Whether it is left out of the picture.
    pub hidden: bool,
    /// How much of it is seen, 0 to 1.
    #[serde(default = "opaque", skip_serializing_if = "is_opaque")]
    pub opacity: Animated<f64>,
    /// How it is mixed with what lies behind it.
    #[serde(default, skip_serializing_if = "is_normal")]
    pub blend: Blend,
}

fn opaque() -> Animated<f64> {
    1.0.into()
}

fn is_opaque(opacity: &Animated<f64>) -> bool {
    *opacity == opaque()
}

fn is_normal(blend: &Blend) -> bool {
    *blend == Blend::Normal
}

/// Longest name, characters.
const MAX_NAME: usize = 80;

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
        }
    }

    /// What it shows, in a line.
    pub fn label(&self) -> String {
        match self {
            Self::Title(title) => title.text.lines().next().unwrap_or(self.word()).to_owned(),
            Self::Marker => self.word().to_owned(),
            _ => self.asset().map_or_else(String::new, |a| a.file.clone()),
        }
    }

    /// Whether it is seen from the front alone, so that it hangs on a wall.
    pub fn is_flat(&self) -> bool {
        matches!(self, Self::Title(_) | Self::Sign(_))
    }

    /// The file that it shows.
    pub fn asset(&self) -> Option<&Asset> {
        match self {
            Self::Title(_) | Self::Marker => None,
            Self::Sign(sign) => Some(&sign.asset),
            Self::Prop(prop) => Some(&prop.asset),
            Self::Effect(effect) => Some(&effect.asset),
            Self::Backdrop(backdrop) => Some(&backdrop.asset),
        }
    }

    /// How what it shows runs.
    pub fn play(&self) -> Option<&Play> {
        match self {
            Self::Title(_) | Self::Prop(_) | Self::Marker => None,
            Self::Sign(sign) => Some(&sign.play),
            Self::Effect(effect) => Some(&effect.play),
            Self::Backdrop(backdrop) => Some(&backdrop.play),
        }
    }

    /// The same, to be changed.
    pub fn play_mut(&mut self) -> Option<&mut Play> {
        match self {
            Self::Title(_) | Self::Prop(_) | Self::Marker => None,
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
        }
    }
}

impl Insert {
    /// Something that covers what lies behind it; its document gives it an id and a name.
    pub fn new(content: InsertKind, placement: Placement) -> Self {
        let (id, name) = (InsertId(0), String::new());
        Self { id, name, content, placement, hidden: false, opacity: opaque(), blend: Blend::default() }
    }

    /// Moves its keys, and what it shows, in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.placement.shift(by);
        self.opacity.shift(by);
        if let Some(play) = self.content.play_mut() {
            play.shift(by);
        }
    }

    /// Gives place, turn, size and opacity a key at a time, frames.
    pub fn key_at(&mut self, frame: f64) {
        let Placement { anchor, scale, .. } = &mut self.placement;
        anchor.foot.key_at(frame);
        anchor.turn.key_at(frame);
        anchor.lift_m.key_at(frame);
        scale.key_at(frame);
        self.opacity.key_at(frame);
    }

    /// Lets its keys at a time, frames, go.
    pub fn forget_key(&mut self, frame: f64) {
        let Placement { anchor, scale, .. } = &mut self.placement;
        anchor.foot.forget_key(frame);
        anchor.turn.forget_key(frame);
        anchor.lift_m.forget_key(frame);
        scale.forget_key(frame);
        self.opacity.forget_key(frame);
    }

    /// Lets all its keys go; it stays as it is at a time, frames.
    pub fn forget_keys(&mut self, frame: f64) {
        let Placement { anchor, scale, .. } = &mut self.placement;
        anchor.foot.forget_keys(frame);
        anchor.turn.forget_keys(frame);
        anchor.lift_m.forget_keys(frame);
        scale.forget_keys(frame);
        self.opacity.forget_keys(frame);
    }

    /// Times at which it has a key, frames.
    pub fn key_frames(&self) -> Vec<f64> {
        let Placement { anchor, scale, .. } = &self.placement;
        let own = anchor.foot.key_frames().chain(anchor.turn.key_frames()).chain(anchor.lift_m.key_frames());
        let mut frames: Vec<f64> = own.chain(scale.key_frames()).chain(self.opacity.key_frames()).collect();
        frames.sort_by(f64::total_cmp);
        frames.dedup();
        frames
    }

    /// Whether it looks or stands otherwise at another time.
    pub fn changes(&self) -> bool {
        self.placement.moves() || self.opacity.changes()
    }

    /// What it is called: its name, or for those of earlier versions its kind and number.
    pub fn shown_name(&self) -> String {
        if self.name.trim().is_empty() { format!("{} {}", self.content.word(), self.id.0) } else { self.name.clone() }
    }

    /// Checks every number and text.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        self.placement.validate()?;
        self.opacity.validate(|v| within("the opacity", *v, 0.0, 1.0))?;
        if self.name.chars().count() > MAX_NAME || self.name.chars().any(char::is_control) {
            return Err(InsertError::Name { most: MAX_NAME });
        }
        self.content.validate()
    }
}
