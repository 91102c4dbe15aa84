//! Holdouts: what stands in front of what is placed.

use super::anim::Animated;
use super::{Asset, InsertId, NAME_MOST, Play, SurfaceId};
use crate::matte::{Combine, PlateKey};
use serde::{Deserialize, Serialize};

/// Names a holdout within its shot; never used twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct HoldoutId(pub u32);

/// What of an imported picture is the matte.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MatteChannel {
    /// Its brightness.
    #[default]
    Brightness,
    /// Its alpha.
    Alpha,
}

/// What tells what stands in front.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "by")]
pub enum HoldoutBy {
    /// A drawn shape.
    Mask {
        /// Its id among the masks.
        mask: u32,
    },
    /// A flat part of the scene: it hides what lies behind it.
    Surface {
        /// Which.
        surface: SurfaceId,
    },
    /// The plate itself.
    Key {
        /// How.
        key: PlateKey,
    },
    /// An imported picture or clip.
    Matte {
        /// Which.
        asset: Asset,
        /// How it is played.
        play: Play,
        /// What of it counts.
        channel: MatteChannel,
    },
}

/// One holdout.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Holdout {
    /// Its id in the document.
    pub id: HoldoutId,
    /// For people.
    pub name: String,
    /// What it is told by.
    #[serde(flatten)]
    pub by: HoldoutBy,
    /// How it meets those before it.
    #[serde(default)]
    pub combine: Combine,
    /// Whether inside and outside change places.
    #[serde(default)]
    pub inverted: bool,
    /// Whether it does nothing for now.
    #[serde(default)]
    pub hidden: bool,
    /// First and last frame on which it counts; all where there is none.
    #[serde(default)]
    pub span: Option<(u32, u32)>,
    /// What it stands in front of; everything where the list is empty.
    #[serde(default)]
    pub of: Vec<InsertId>,
    /// How much of it counts, 0 to 1.
    #[serde(default = "whole")]
    pub strength: Animated<f64>,
}

fn whole() -> Animated<f64> {
    1.0.into()
}

/// Most inserts that one stands in front of by name.
const MOST: usize = 1000;

/// Why a holdout cannot be used.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum HoldoutError {
    /// A number out of its range.
    #[error("of {name}, {what} lies between {low} and {high}")]
    Range {
        /// The holdout.
        name: String,
        /// Which number.
        what: &'static str,
        /// Least.
        low: f64,
        /// Most.
        high: f64,
    },
    /// A span that ends before it begins.
    #[error("{name} counts from frame {first} to {last}; the span must not end before it begins")]
    Span {
        /// The holdout.
        name: String,
        /// First frame.
        first: u32,
        /// Last frame.
        last: u32,
    },
    /// A name that is none.
    #[error("a holdout's name has 1 to {NAME_MOST} characters of one line")]
    Name,
    /// Too many.
    #[error("{name} stands in front of at most {MOST} things by name; let it stand in front of everything")]
    Most {
        /// The holdout.
        name: String,
    },
}

impl Holdout {
    /// One that is told by something and stands in front of everything; its document gives it an id.
    pub fn new(name: String, by: HoldoutBy) -> Self {
        Self {
            id: HoldoutId(0),
            name,
            by,
            combine: Combine::Add,
            inverted: false,
            hidden: false,
            span: None,
            of: Vec::new(),
            strength: whole(),
        }
    }

    /// Whether it counts on a frame.
    pub fn counts_on(&self, frame: u32) -> bool {
        !self.hidden && self.span.is_none_or(|(first, last)| (first..=last).contains(&frame))
    }

    /// Whether it stands in front of an insert.
    pub fn is_of(&self, insert: InsertId) -> bool {
        self.of.is_empty() || self.of.contains(&insert)
    }

    /// Moves it by frames.
    pub fn shift(&mut self, by: i64) {
        let frame = |f: u32| u32::try_from(i64::from(f) + by).unwrap_or(0);
        self.span = self.span.map(|(first, last)| (frame(first), frame(last)));
        self.strength.shift(by as f64);
        match &mut self.by {
            HoldoutBy::Key { key } => key.clean_frame = frame(key.clean_frame),
            HoldoutBy::Matte { play, .. } => play.shift(by as f64),
            HoldoutBy::Mask { .. } | HoldoutBy::Surface { .. } => {}
        }
    }

    /// Checks every number and text.
    ///
    /// # Errors
    /// The first [`HoldoutError`].
    pub fn validate(&self) -> Result<(), HoldoutError> {
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > NAME_MOST || name.chars().any(char::is_control) {
            return Err(HoldoutError::Name);
        }
        let within = |what: &'static str, v: f64, low: f64, high: f64| {
            let wrong = || HoldoutError::Range { name: self.name.clone(), what, low, high };
            if (low..=high).contains(&v) { Ok(()) } else { Err(wrong()) }
        };
        self.strength.validate(|v| within("the strength", *v, 0.0, 1.0))?;
        if let Some((first, last)) = self.span.filter(|(first, last)| last < first) {
            return Err(HoldoutError::Span { name: self.name.clone(), first, last });
        }
        if self.of.len() > MOST {
            return Err(HoldoutError::Most { name: self.name.clone() });
        }
        match &self.by {
            HoldoutBy::Key { key } => {
                within("where it begins", key.from, 0.0, 4.0)?;
                within("the softness", key.soft, 0.0, 4.0)
            }
            HoldoutBy::Matte { play, .. } => play.validate().map_err(|_| HoldoutError::Range {
                name: self.name.clone(),
                what: "the speed",
                low: 0.01,
                high: 100.0,
            }),
            HoldoutBy::Mask { .. } | HoldoutBy::Surface { .. } => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::AssetName;

    #[test]
    fn holdouts_are_checked_and_written_in_short() {
        let mut one = Holdout::new("mast".into(), HoldoutBy::Mask { mask: 3 });
        assert_eq!(one.validate(), Ok(()));
        let text = serde_json::to_string(&one).unwrap();
        assert_eq!(serde_json::from_str::<Holdout>(&text).unwrap(), one);
        let short = r#"{"id":1,"name":"mast","by":"mask","mask":3}"#;
        assert_eq!(serde_json::from_str::<Holdout>(short).unwrap().strength, 1.0.into());
        one.span = Some((8, 4));
        assert!(matches!(one.validate(), Err(HoldoutError::Span { .. })));
        one.span = Some((4, 8));
        assert!(one.counts_on(4) && !one.counts_on(9) && one.is_of(InsertId(5)));
        one.of = vec![InsertId(2)];
        assert!(one.is_of(InsertId(2)) && !one.is_of(InsertId(5)));
        one.strength = 1.5.into();
        assert!(one.validate().unwrap_err().to_string().contains("strength"));
        one.strength = 1.0.into();
        one.name = " ".into();
        assert_eq!(one.validate(), Err(HoldoutError::Name));
        let file = Asset { name: AssetName::of_digest(&[3; 32]), file: "half.png".into() };
        let matte = HoldoutBy::Matte { asset: file, play: Play::default(), channel: MatteChannel::Alpha };
        for by in [matte, HoldoutBy::Surface { surface: SurfaceId(2) }, HoldoutBy::Key { key: PlateKey::default() }] {
            let one = Holdout { of: vec![InsertId(2)], ..Holdout::new("each".into(), by) };
            let text = serde_json::to_string(&one).unwrap();
            assert_eq!(serde_json::from_str::<Holdout>(&text).unwrap(), one);
        }
        let key = PlateKey { from: f64::NAN, ..PlateKey::default() };
        assert!(Holdout::new("sky".into(), HoldoutBy::Key { key }).validate().is_err());
    }
}
