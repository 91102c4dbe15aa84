//! Surroundings: a picture all round that lights what is placed and is mirrored in it.

use super::anim::{NumberError, NumberRule, Numbers};
use super::grading::{BASIC, HUE_RULES};
use super::{Asset, grade_at};
use crate::colour::Grade;
use nalgebra::{Rotation3, Vector3};
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;

/// Turned about the upright, then tilted about X, then rolled about Z, degrees.
pub const TURNS: [NumberRule; 3] = [
    NumberRule::new("turn", 0.0, -36_000.0, 36_000.0),
    NumberRule::new("tilt", 0.0, -36_000.0, 36_000.0),
    NumberRule::new("roll", 0.0, -36_000.0, 36_000.0),
];

static RULES: LazyLock<Vec<NumberRule>> = LazyLock::new(|| {
    let mut all = TURNS.to_vec();
    all.extend(BASIC);
    all.extend(HUE_RULES.as_flattened());
    all
});

/// A picture all round: as far across as all bearings, its top straight up, its middle towards -Z.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Surroundings {
    /// The picture.
    pub asset: Asset,
    /// How it is turned, and what is done to its light, by name.
    #[serde(default)]
    pub numbers: Numbers,
    /// Whether it lights nothing for now.
    #[serde(default)]
    pub hidden: bool,
}

/// Surroundings at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct SurroundingsNow {
    /// The world from the picture.
    pub turn: Rotation3<f64>,
    /// What is done to its light.
    pub grade: Grade,
}

impl Surroundings {
    /// As the file has it.
    pub fn new(asset: Asset) -> Self {
        Self { asset, numbers: Numbers::default(), hidden: false }
    }

    /// What its numbers may be.
    pub fn rules() -> &'static [NumberRule] {
        &RULES
    }

    /// The rule of a number, by its name.
    pub fn rule(name: &str) -> Option<&'static NumberRule> {
        RULES.iter().find(|r| r.name == name)
    }

    /// They at a time, frames.
    pub fn at(&self, frame: f64) -> SurroundingsNow {
        let [turn, tilt, roll] = TURNS.map(|r| self.numbers.at(&r, frame).to_radians());
        let about = |axis, angle| Rotation3::from_axis_angle(&axis, angle);
        let turn = about(Vector3::y_axis(), turn) * about(Vector3::x_axis(), tilt) * about(Vector3::z_axis(), roll);
        SurroundingsNow { turn, grade: grade_at(&self.numbers, frame) }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`NumberError`].
    pub fn validate(&self) -> Result<(), NumberError> {
        self.numbers.validate(&RULES)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::AssetName;

    #[test]
    fn they_turn_about_three_axes_and_are_graded() {
        let mut around = Surroundings::new(Asset { name: AssetName::of_digest(&[3; 32]), file: "yard.hdr".into() });
        assert!(around.at(0.0).grade.is_plain() && around.at(0.0).turn.angle() < 1e-12);
        around.numbers.set_at(&TURNS[0], 0.0, 90.0);
        around.numbers.set_at(&BASIC[0], 0.0, 1.0);
        let now = around.at(0.0);
        assert!((now.turn * -Vector3::z() - -Vector3::x()).norm() < 1e-12, "to the left, seen from above");
        assert_eq!(now.grade.apply([0.25; 3]), [0.5; 3]);
        assert_eq!(around.validate(), Ok(()));
        around.numbers.set_at(&BASIC[0], 0.0, 99.0);
        assert!(around.validate().is_err());
    }
}
