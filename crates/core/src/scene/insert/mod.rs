//! Inserts: what is placed in the scene. One file a kind; a new kind is a file and a line in [`InsertKind`].

mod backdrop;
mod blend;
mod copies;
mod effect;
mod error;
mod family;
mod haze;
mod kind;
mod lamp;
mod lettering;
mod placement;
mod play;
mod prop;
mod sign;
mod span;
mod title;
mod track;

pub use backdrop::{Backdrop, Cutout, Spread};
pub use blend::Blend;
pub use copies::{Copies, Copy, Layout, MOST_COPIES, Variation};
pub use effect::{Effect, Key, Keyed};
pub use error::InsertError;
pub(crate) use error::within;
pub use family::{is_shown, kin_of, parents_of, world_of};
pub use haze::{Haze, HazeForm};
pub use kind::{InsertKind, Slot};
pub use lamp::{Lamp, LampForm};
pub use lettering::{Align, Covering, Fit, LetterFinish, Lettering, Profile};
pub use placement::{Facing, Placement, Stance};
pub use play::{Ends, Play};
pub use prop::{MaterialChange, ModelFoot, ModelMap, ModelUp, Prop};
pub use sign::{Alpha, Sign};
pub use span::Span;
pub use title::Title;
pub use track::ContentTrack;

use super::anim::{Animated, NumberRule, Numbers, Rotation};
use super::drawn::Drawn;
use crate::colour::{Grade, ToneGrade};
use crate::geometry::Similarity;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::LazyLock;

/// Names an insert within its shot; never used twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct InsertId(pub u32);

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
    #[serde(default, skip_serializing_if = "is_usual")]
    pub blend: Blend,
    /// Whether it is kept from being changed.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub locked: bool,
    /// Whether it, and others like it, are seen alone.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub solo: bool,
    /// The insert in whose frame its placement is written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<InsertId>,
    /// When it is seen.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub span: Span,
    /// Whether it is mirrored across and from top to bottom.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub flipped: [bool; 2],
    /// It fades within so many metres from the lens.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub near_fade_m: f64,
    /// What of it is lost in haze.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub haze: Haze,
    /// How much of the light of the surroundings reaches it, and is mirrored in it.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub surrounded: f64,
    /// What is done to its light, by the names of a grade's numbers.
    #[serde(default, skip_serializing_if = "Numbers::is_usual")]
    pub grade: Numbers,
    /// How its colours are drawn towards the plate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drawn: Option<Drawn>,
    /// Whether it is sharp however it moves while the shutter is open.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub unblurred: bool,
    /// Several of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copies: Option<Copies>,
    /// Those of its other values that change over time, by their names in recipes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tracks: BTreeMap<String, ContentTrack>,
    /// As it was when it was placed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<Box<Insert>>,
}

fn opaque() -> Animated<f64> {
    1.0.into()
}

fn is_opaque(opacity: &Animated<f64>) -> bool {
    *opacity == opaque()
}

fn one() -> f64 {
    1.0
}

fn is_one(value: &f64) -> bool {
    *value == 1.0
}

fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// What is done to an insert's light: first it is drawn towards the plate, then graded by hand.
#[derive(Debug, Clone, PartialEq)]
pub struct InsertGrade {
    /// Towards the plate.
    pub drawn: Option<ToneGrade>,
    /// By hand.
    pub hand: Grade,
}

impl InsertGrade {
    /// The light of a pixel after it.
    pub fn apply(&self, light: [f32; 3]) -> [f32; 3] {
        self.hand.apply(self.drawn.as_ref().map_or(light, |d| d.apply(light)))
    }
}

/// The numbers of a grade.
static GRADE: LazyLock<Vec<NumberRule>> = LazyLock::new(super::grading::grade_rules);

/// Longest name of a thing, characters.
pub const NAME_MOST: usize = 80;

impl Insert {
    /// Something that covers what lies behind it; its document gives it an id and a name.
    pub fn new(content: InsertKind, placement: Placement) -> Self {
        Self {
            id: InsertId(0),
            name: String::new(),
            content,
            placement,
            hidden: false,
            opacity: opaque(),
            blend: Blend::default(),
            locked: false,
            solo: false,
            parent: None,
            span: Span::default(),
            flipped: [false; 2],
            near_fade_m: 0.0,
            haze: Haze::default(),
            surrounded: 1.0,
            grade: Numbers::default(),
            drawn: None,
            unblurred: false,
            copies: None,
            tracks: BTreeMap::new(),
            began: None,
        }
    }

    /// What a number of its grade may be, by its name.
    pub fn grade_rule(name: &str) -> Option<&'static NumberRule> {
        GRADE.iter().find(|r| r.name == name)
    }

    /// What is done to its light at a time, frames; `None` where nothing is.
    pub fn grade_at(&self, frame: f64) -> Option<InsertGrade> {
        let hand = super::grading::grade_at(&self.grade, frame);
        let made = InsertGrade { drawn: self.drawn.as_ref().map(|d| d.at(frame)), hand };
        (made.drawn.is_some() || !made.hand.is_plain()).then_some(made)
    }

    /// Moves its keys, its span, and what it shows, in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.placement.shift(by);
        self.opacity.shift(by);
        self.grade.shift(by);
        self.drawn.iter_mut().for_each(|d| d.shift(by));
        self.span.shift(by);
        self.began.iter_mut().for_each(|b| b.shift(by));
        self.tracks.values_mut().for_each(|t| t.shift(by));
        if let Some(play) = self.content.play_mut() {
            play.shift(by);
        }
        if let InsertKind::Backdrop(Backdrop { cutout: Some(cutout), .. }) = &mut self.content {
            cutout.outline.shift(by.round() as i64);
        }
    }

    /// A value of what it shows, or of how, that can change over time, by its name in recipes.
    pub fn slot(&mut self, name: &str) -> Option<Slot<'_>> {
        match name {
            "near-fade" => Some(Slot::Number(&mut self.near_fade_m)),
            "haze-reach" => Some(Slot::Number(&mut self.haze.reach)),
            "haze-soft" => Some(Slot::Number(&mut self.haze.soft)),
            "surrounded" => Some(Slot::Number(&mut self.surrounded)),
            _ => self.content.slot(name),
        }
    }

    /// As it is at a time, frames, with all that changes in its own tracks; its placement and opacity keep theirs.
    pub fn resolved(&self, frame: f64) -> Cow<'_, Self> {
        if self.tracks.is_empty() {
            return Cow::Borrowed(self);
        }
        let mut now = self.clone();
        for (name, track) in &self.tracks {
            if let Some(slot) = now.slot(name) {
                track.give(frame, slot);
            }
        }
        Cow::Owned(now)
    }

    /// Moves it with the world, so that it stays where it is in the picture.
    pub fn move_with(&mut self, by: &Similarity) {
        self.placement.move_with(by);
        self.began.iter_mut().for_each(|b| b.placement.move_with(by));
    }

    /// Its placement as one of its copies has it.
    pub fn placed_as(&self, copy: &Copy) -> Placement {
        let mut placement = self.placement.clone();
        let shift = copy.frames;
        placement.shift(shift);
        // Offsets are counted from the insert as it is turned at each time; the turn about the normal comes on top.
        let surface = placement.anchor.surface();
        let turn = placement.anchor.turn.clone();
        let level = |frame: f64| {
            let [turn, ..] = turn.at(frame).turn_lean_roll();
            Rotation::from_turn_lean_roll([turn, 0.0, 0.0]).matrix()
        };
        let first = turn.key_frames().next().unwrap_or(shift);
        let by = surface * (level(first) * copy.offset);
        placement.anchor.foot.map(|foot| (Vector3::from(*foot) + by).into());
        let about = Rotation::from_turn_lean_roll([copy.turn_deg, 0.0, 0.0]).matrix();
        placement.anchor.turn.map(|turn| Rotation::from(about * turn.matrix()));
        placement.scale.map(|scale| scale * copy.scale);
        placement
    }

    /// Becomes one of its copies.
    pub fn take_place_of(&mut self, copy: &Copy) {
        let placement = self.placed_as(copy);
        self.shift(copy.frames);
        self.placement = placement;
        self.copies = None;
    }

    /// Whether it looks or stands otherwise at another time.
    pub fn changes(&self) -> bool {
        self.placement.moves()
            || self.opacity.changes()
            || self.grade.changes()
            || self.drawn.as_ref().is_some_and(Drawn::changes)
            || !self.span.is_everywhere()
            || self.tracks.values().any(|t| t.key_frames().len() > 1)
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
        if self.name.chars().count() > NAME_MOST || self.name.chars().any(char::is_control) {
            return Err(InsertError::Name { most: NAME_MOST });
        }
        self.span.validate()?;
        within("the distance of the fade", self.near_fade_m, 0.0, 1e5)?;
        self.haze.validate()?;
        within("the light of the surroundings", self.surrounded, 0.0, 100.0)?;
        self.grade.validate(&GRADE)?;
        self.drawn.as_ref().map_or(Ok(()), Drawn::validate)?;
        self.copies.iter().try_for_each(Copies::validate)?;
        self.content.validate()?;
        // What changes is checked at each of its keys.
        for frame in self.tracks.values().flat_map(ContentTrack::key_frames) {
            let now = self.resolved(frame);
            now.haze.validate()?;
            now.content.validate()?;
        }
        Ok(())
    }
}
