//! An insert whose colours are drawn towards the plate.

use super::anim::{NumberError, NumberRule, Numbers};
use crate::colour::{Likeness, ToneGrade};
use serde::{Deserialize, Serialize};

/// What was measured: what makes the insert look like the plate about it.
pub const MEASURED: [NumberRule; 5] = [
    NumberRule::new("exposure", 0.0, -6.0, 6.0),
    NumberRule::new("warmth", 0.0, -110.0, 300.0),
    NumberRule::new("tint", 0.0, -2.0, 2.0),
    NumberRule::new("contrast", 1.0, 0.1, 4.0),
    NumberRule::new("saturation", 1.0, 0.0, 4.0),
];
/// How much of each counts; and for dark, middle and bright tones.
pub const DRAW: [NumberRule; 8] = [
    NumberRule::new("draw", 1.0, 0.0, 1.0),
    NumberRule::new("draw-exposure", 1.0, 0.0, 1.0),
    NumberRule::new("draw-white", 1.0, 0.0, 1.0),
    NumberRule::new("draw-contrast", 1.0, 0.0, 1.0),
    NumberRule::new("draw-saturation", 1.0, 0.0, 1.0),
    NumberRule::new("draw-dark", 1.0, 0.0, 1.0),
    NumberRule::new("draw-middle", 1.0, 0.0, 1.0),
    NumberRule::new("draw-bright", 1.0, 0.0, 1.0),
];

/// How an insert's colours are drawn towards the plate.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Drawn {
    /// What was measured: over the whole shot, or with keys where it follows the plate.
    pub measured: Numbers,
    /// How much of it counts.
    #[serde(default)]
    pub strengths: Numbers,
}

impl Drawn {
    /// What was measured at times, frames; one alone holds all the time. Between several it goes straight.
    pub fn measured(all: &[(f64, Likeness)]) -> Self {
        let mut made = Self::default();
        for (frame, like) in all {
            let values = [like.exposure, like.warmth, like.tint, like.contrast, like.saturation];
            for (rule, value) in MEASURED.iter().zip(values) {
                let value = value.clamp(rule.low, rule.high);
                if all.len() == 1 {
                    made.measured.set_at(rule, 0.0, value);
                } else {
                    made.measured.key_at(rule, *frame, value, super::anim::Ease::Linear);
                }
            }
        }
        made
    }

    /// The rule of a strength, by its name.
    pub fn rule(name: &str) -> Option<&'static NumberRule> {
        DRAW.iter().find(|r| r.name == name)
    }

    /// What is done to the light at a time, frames.
    pub fn at(&self, frame: f64) -> ToneGrade {
        let [all, exposure, white, contrast, saturation, dark, middle, bright] =
            DRAW.map(|r| self.strengths.at(&r, frame));
        let of = |k: usize| self.measured.at(&MEASURED[k], frame);
        let times = |value: f64, strength: f64| value.powf(strength * all);
        let like = Likeness {
            exposure: of(0) * exposure * all,
            warmth: of(1) * white * all,
            tint: of(2) * white * all,
            contrast: times(of(3), contrast),
            saturation: if of(4) > 0.0 { times(of(4), saturation) } else { 1.0 - saturation * all },
        };
        ToneGrade { grade: like.grade(), tones: [dark, middle, bright].map(|v| v as f32) }
    }

    /// Whether it changes over time.
    pub fn changes(&self) -> bool {
        self.measured.changes() || self.strengths.changes()
    }

    /// Moves its keys in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.measured.shift(by);
        self.strengths.shift(by);
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`NumberError`].
    pub fn validate(&self) -> Result<(), NumberError> {
        self.measured.validate(&MEASURED)?;
        self.strengths.validate(&DRAW)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_much_is_drawn_as_is_told() {
        let like = Likeness { exposure: 1.0, warmth: 40.0, tint: 0.2, contrast: 1.5, saturation: 0.5 };
        let mut drawn = Drawn::measured(&[(0.0, like)]);
        assert_eq!(drawn.at(5.0).grade, like.grade());
        drawn.strengths.set_at(&DRAW[0], 0.0, 0.0);
        let kept = drawn.at(5.0).apply([0.3, 0.2, 0.1]);
        assert!((kept[0] - 0.3).abs() < 1e-5 && (kept[2] - 0.1).abs() < 1e-5);
        drawn.strengths.set_at(&DRAW[0], 0.0, 1.0);
        for name in ["draw-white", "draw-contrast", "draw-saturation"] {
            drawn.strengths.set_at(Drawn::rule(name).unwrap(), 0.0, 0.0);
        }
        let brighter = drawn.at(0.0).apply([0.1; 3]);
        assert!((brighter[0] - 0.2).abs() < 1e-4);
        let two = Drawn::measured(&[(0.0, Likeness::PLAIN), (10.0, like)]);
        assert!(two.changes() && (two.measured.at(&MEASURED[0], 5.0) - 0.5).abs() < 1e-9);
        assert_eq!(two.validate(), Ok(()));
    }
}
