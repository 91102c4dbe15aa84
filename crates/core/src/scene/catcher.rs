//! Flat parts of the plate that catch shadows of what is placed, darken where it stands, and mirror it. They are never
//! seen themselves.

use super::anim::{Animated, NumberError, NumberRule, Numbers};
use super::{LightColour, SurfaceId};
use serde::{Deserialize, Serialize};

/// How much of the shadows falls on it.
pub const CATCH_SHADOW: NumberRule = NumberRule::new("shadow", 0.0, 0.0, 1.0);
/// How dark it is where something stands close, and how far that reaches, metres.
pub const CONTACT: [NumberRule; 2] =
    [NumberRule::new("contact", 0.0, 0.0, 1.0), NumberRule::new("contact-reach", 0.4, 0.01, 100.0)];
/// How much it mirrors, how rough it is, and over how many metres what it mirrors fades (0: not at all).
pub const MIRROR: [NumberRule; 3] = [
    NumberRule::new("mirror", 0.0, 0.0, 1.0),
    NumberRule::new("mirror-rough", 0.05, 0.0, 1.0),
    NumberRule::new("mirror-fade", 0.0, 0.0, 1000.0),
];

/// All numbers of a catcher.
pub const CATCHER_RULES: [NumberRule; 6] = [CATCH_SHADOW, CONTACT[0], CONTACT[1], MIRROR[0], MIRROR[1], MIRROR[2]];

/// What a flat part of the plate does with what is placed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Catcher {
    /// Which surface; the floor where there is none.
    pub surface: Option<SurfaceId>,
    /// Its numbers, by name. The floor's shadow has a number of its own, in the light.
    #[serde(default)]
    pub numbers: Numbers,
    /// The colour of what falls on it, as encoded for display, 0 to 255.
    #[serde(default = "black")]
    pub tint: Animated<LightColour>,
}

fn black() -> Animated<LightColour> {
    [0.0; 3].into()
}

/// A catcher at one time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CatcherNow {
    /// How much of the shadows falls on it, 0 to 1.
    pub shadow: f64,
    /// How dark it is where something stands close, 0 to 1.
    pub contact: f64,
    /// How far that reaches, metres.
    pub contact_reach_m: f64,
    /// How much it mirrors, 0 to 1.
    pub mirror: f64,
    /// How rough the mirror is, 0 to 1.
    pub mirror_rough: f64,
    /// Over how many metres what it mirrors fades; 0: not at all.
    pub mirror_fade_m: f64,
    /// The colour of what falls on it.
    pub tint: LightColour,
}

impl Catcher {
    /// One that does nothing yet.
    pub fn new(surface: Option<SurfaceId>) -> Self {
        Self { surface, numbers: Numbers::default(), tint: black() }
    }

    /// The rule of a number, by its name.
    pub fn rule(name: &str) -> Option<&'static NumberRule> {
        CATCHER_RULES.iter().find(|r| r.name == name)
    }

    /// It at a time, frames.
    pub fn at(&self, frame: f64) -> CatcherNow {
        let [shadow, contact, contact_reach_m, mirror, mirror_rough, mirror_fade_m] =
            CATCHER_RULES.map(|r| self.numbers.at(&r, frame));
        let tint = self.tint.at(frame);
        CatcherNow { shadow, contact, contact_reach_m, mirror, mirror_rough, mirror_fade_m, tint }
    }

    /// Whether it changes over time.
    pub fn changes(&self) -> bool {
        self.numbers.changes() || self.tint.changes()
    }

    /// Moves its keys in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.numbers.shift(by);
        self.tint.shift(by);
    }

    /// Makes lengths so many times as long.
    pub fn scale(&mut self, by: f64) {
        for rule in [&CONTACT[1], &MIRROR[2]] {
            self.numbers.with(rule, |v| v.map(|m| (m * by).clamp(rule.low, rule.high)));
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`NumberError`].
    pub fn validate(&self) -> Result<(), NumberError> {
        self.numbers.validate(&CATCHER_RULES)?;
        let wrong = NumberError::Range { name: "the tint", low: 0.0, high: 255.0 };
        self.tint.validate(|c| if c.iter().all(|v| (0.0..=255.0).contains(v)) { Ok(()) } else { Err(wrong.clone()) })
    }
}

impl CatcherNow {
    /// Whether it does nothing.
    pub fn is_plain(&self) -> bool {
        self.shadow <= 0.0 && self.contact <= 0.0 && self.mirror <= 0.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_catcher_is_bounded_and_grows_with_the_world() {
        let mut floor = Catcher::new(None);
        assert!(floor.at(0.0).is_plain());
        floor.numbers.set_at(&CONTACT[0], 0.0, 0.5);
        floor.numbers.set_at(&MIRROR[2], 0.0, 2.0);
        floor.scale(3.0);
        assert!((floor.at(0.0).contact_reach_m - 1.2).abs() < 1e-9 && (floor.at(0.0).mirror_fade_m - 6.0).abs() < 1e-9);
        assert_eq!(floor.validate(), Ok(()));
        floor.tint = [300.0, 0.0, 0.0].into();
        assert!(floor.validate().is_err());
    }
}
