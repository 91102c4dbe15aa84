//! What is done over all once everything is in its place.

use super::anim::{NumberError, NumberRule, Numbers};
use super::grading::grade_rules;
use super::{Asset, grade_at};
use crate::colour::Grade;
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;

/// How much of the table counts.
pub const TABLE_STRENGTH: NumberRule = NumberRule::new("table-strength", 1.0, 0.0, 1.0);
/// How dark the corners become (below 0: how bright), how far in it begins, over how much.
pub const VIGNETTE: [NumberRule; 3] = [
    NumberRule::new("vignette", 0.0, -1.0, 1.0),
    NumberRule::new("vignette-from", 0.5, 0.0, 2.0),
    NumberRule::new("vignette-soft", 0.7, 0.01, 2.0),
];
/// Width over height of what the bars leave, 0 for none; and how much they cover.
pub const BARS: [NumberRule; 2] =
    [NumberRule::new("bars-format", 0.0, 0.0, 20.0), NumberRule::new("bars-cover", 1.0, 0.0, 1.0)];
/// Frames over which it comes out of black, and goes.
pub const FADES: [NumberRule; 2] =
    [NumberRule::new("fade-from-black", 0.0, 0.0, 100_000.0), NumberRule::new("fade-to-black", 0.0, 0.0, 100_000.0)];

static RULES: LazyLock<Vec<NumberRule>> = LazyLock::new(|| {
    let mut all = grade_rules();
    all.push(TABLE_STRENGTH);
    all.extend(VIGNETTE.iter().chain(&BARS).chain(&FADES));
    all
});

/// What is done over all.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Finish {
    /// Its numbers, by name: those of a grade, and its own.
    #[serde(default)]
    pub numbers: Numbers,
    /// A table of colours that comes after the grade.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<Asset>,
    /// Whether it is left off for now.
    #[serde(default)]
    pub off: bool,
}

/// The finish at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct FinishNow {
    /// What is done to the light.
    pub grade: Grade,
    /// How much of the table counts.
    pub table_strength: f32,
    /// Strength, where it begins, over how much.
    pub vignette: [f32; 3],
    /// Width over height, and how much they cover.
    pub bars: Option<[f32; 2]>,
    /// How much of the light is left of it.
    pub fade: f32,
}

impl Finish {
    /// What its numbers may be.
    pub fn rules() -> &'static [NumberRule] {
        &RULES
    }

    /// The rule of a number, by its name.
    pub fn rule(name: &str) -> Option<&'static NumberRule> {
        RULES.iter().find(|r| r.name == name)
    }

    /// Whether it leaves everything as it is.
    pub fn is_plain(&self) -> bool {
        self.off || (self.numbers.is_usual() && self.table.is_none())
    }

    /// Whether it changes over time.
    pub fn changes(&self) -> bool {
        self.numbers.changes() || FADES.iter().any(|r| self.numbers.at(r, 0.0) > 0.0)
    }

    /// It at a time, frames, of a shot of so many.
    pub fn at(&self, frame: f64, frames: u32) -> FinishNow {
        let at = |rule: &NumberRule| self.numbers.at(rule, frame) as f32;
        let format = at(&BARS[0]);
        // The first and the last frame are black.
        let [from, to] = [frame, f64::from(frames.saturating_sub(1)) - frame];
        let part = |rule: &NumberRule, gone: f64| {
            let over = self.numbers.at(rule, frame);
            if over > 0.0 { (gone / over).clamp(0.0, 1.0) as f32 } else { 1.0 }
        };
        FinishNow {
            grade: grade_at(&self.numbers, frame),
            table_strength: if self.table.is_some() { at(&TABLE_STRENGTH) } else { 0.0 },
            vignette: [at(&VIGNETTE[0]), at(&VIGNETTE[1]), at(&VIGNETTE[2])],
            bars: (format > 0.0).then(|| [format, at(&BARS[1])]),
            fade: part(&FADES[0], from) * part(&FADES[1], to),
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`NumberError`].
    pub fn validate(&self) -> Result<(), NumberError> {
        self.numbers.validate(&RULES)
    }
}

impl FinishNow {
    /// Whether it does nothing.
    pub fn is_plain(&self) -> bool {
        self.grade.is_plain()
            && self.table_strength <= 0.0
            && self.vignette[0] == 0.0
            && self.bars.is_none()
            && self.fade >= 1.0
    }

    /// How much of the light is left at a place, px of a picture of a size, by the vignette.
    pub fn vignette_at(&self, at: [f32; 2], size: [f32; 2]) -> f32 {
        let off = |k: usize| 2.0 * (at[k] + 0.5) / size[k] - 1.0;
        self.vignette_of(off(0).hypot(off(1)) / std::f32::consts::SQRT_2)
    }

    /// The same so far off the middle, 1 in the corners.
    pub fn vignette_of(&self, away: f32) -> f32 {
        let [strength, from, soft] = self.vignette;
        let part = ((away - from) / soft).clamp(0.0, 1.0);
        (1.0 - strength * part * part * (3.0 - 2.0 * part)).max(0.0)
    }

    /// The pixels that bars leave of a picture of a size: columns and rows, ends excluded.
    pub fn left_by_bars(&self, [width, height]: [usize; 2]) -> [std::ops::Range<usize>; 2] {
        let Some([format, _]) = self.bars else { return [0..width, 0..height] };
        let (w, h) = (width as f32, height as f32);
        let inner = |all: usize, wanted: f32| {
            let cut = ((all as f32 - wanted) * 0.5).round().max(0.0) as usize;
            cut.min(all / 2)..all - cut.min(all / 2)
        };
        if format >= w / h { [0..width, inner(height, w / format)] } else { [inner(width, h * format), 0..height] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fades_vignette_and_bars_are_where_they_are_said() {
        let mut finish = Finish::default();
        assert!(finish.is_plain() && finish.at(3.0, 10).is_plain());
        for (name, value) in [("fade-from-black", 4.0), ("fade-to-black", 2.0), ("vignette", 0.5), ("bars-format", 2.0)]
        {
            finish.numbers.set_at(Finish::rule(name).unwrap(), 0.0, value);
        }
        assert_eq!(finish.validate(), Ok(()));
        let fades: Vec<_> = [0.0, 1.0, 5.0, 8.0, 9.0].map(|f| finish.at(f, 10).fade).into();
        assert_eq!(fades, [0.0, 0.25, 1.0, 0.5, 0.0]);
        let now = finish.at(5.0, 10);
        let size = [1280.0, 720.0];
        assert_eq!(now.vignette_at([639.5, 359.5], size), 1.0);
        assert!(now.vignette_at([0.0, 0.0], size) < 0.75);
        assert_eq!(now.left_by_bars([1280, 720]), [0..1280, 40..680]);
        finish.numbers.set_at(&BARS[0], 0.0, 1.0);
        assert_eq!(finish.at(5.0, 10).left_by_bars([1280, 720]), [280..1000, 0..720]);
        assert!(finish.changes() && !finish.is_plain());
        finish.off = true;
        assert!(finish.is_plain());
        finish.numbers.set_at(&VIGNETTE[0], 0.0, 7.0);
        assert!(finish.validate().unwrap_err().to_string().contains("vignette"));
    }
}
