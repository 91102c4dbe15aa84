//! How what is placed is seen through the plate's lens and on its film: focus, bloom, haze, fringe, grain.

use super::LightColour;
use super::anim::{Animated, NumberError, NumberRule, Numbers};
use crate::image::Grain;
use serde::{Deserialize, Serialize};

/// Lengths on the picture are px of one so wide.
pub const LENS_WIDTH_PX: f64 = 1280.0;

/// How much of the plate's own blur it gets; blur of all, px; and by depth: where it is sharp, m, and how fast it blurs.
pub const FOCUS: [NumberRule; 6] = [
    NumberRule::new("sharpness", 0.0, 0.0, 2.0),
    NumberRule::new("defocus", 0.0, 0.0, 60.0),
    NumberRule::new("focus", 0.0, 0.0, 1e5),
    NumberRule::new("aperture", 4.0, 0.0, 200.0),
    NumberRule::new("blades", 0.0, 0.0, 12.0),
    NumberRule::new("blade-turn", 0.0, -360.0, 360.0),
];
/// Light that spreads about what is bright: how much, from which light on, how far, px.
pub const BLOOM: [NumberRule; 3] = [
    NumberRule::new("bloom", 0.0, 0.0, 4.0),
    NumberRule::new("bloom-from", 0.8, 0.0, 20.0),
    NumberRule::new("bloom-size", 16.0, 0.5, 200.0),
];
/// Of what is so far, m, half is lost; 0: of nothing.
pub const HAZE: NumberRule = NumberRule::new("haze-at", 0.0, 0.0, 1e6);
/// Darker corners and colours that part towards the rim, px.
pub const GLASS: [NumberRule; 2] =
    [NumberRule::new("lens-vignette", 0.0, 0.0, 1.0), NumberRule::new("fringe", 0.0, -10.0, 10.0)];
/// How much of the plate's grain it gets.
pub const GRAIN: NumberRule = NumberRule::new("grain", 0.0, 0.0, 4.0);
/// When the shutter is open, degrees of its turn after the frame's time.
pub const PHASE: NumberRule = NumberRule::new("shutter-phase", 0.0, -360.0, 360.0);

/// All numbers of it.
pub const LENS_RULES: [NumberRule; 14] = [
    FOCUS[0], FOCUS[1], FOCUS[2], FOCUS[3], FOCUS[4], FOCUS[5], BLOOM[0], BLOOM[1], BLOOM[2], HAZE, GLASS[0], GLASS[1],
    GRAIN, PHASE,
];

/// What was measured of the plate.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct PlateMeasure {
    /// Its grain, where any could be told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grain: Option<Grain>,
    /// The blur of its sharpest edges, px of a picture [`LENS_WIDTH_PX`] wide, where there are any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blur_px: Option<f64>,
}

/// The part of the document that is about lens and film.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LensLook {
    /// Its numbers, by name.
    #[serde(default)]
    pub numbers: Numbers,
    /// The colour of the haze, as encoded for display, 0 to 255.
    #[serde(default = "air")]
    pub haze_colour: Animated<LightColour>,
    /// What was measured of the plate.
    #[serde(default)]
    pub measured: PlateMeasure,
}

fn air() -> Animated<LightColour> {
    [196.0, 208.0, 220.0].into()
}

impl Default for LensLook {
    fn default() -> Self {
        Self { numbers: Numbers::default(), haze_colour: air(), measured: PlateMeasure::default() }
    }
}

/// Lens and film at one time. Lengths on the picture are px of one [`LENS_WIDTH_PX`] wide.
#[derive(Debug, Clone, PartialEq)]
pub struct LensNow {
    /// Blur as the plate has it, a Gaussian's radius.
    pub blur_px: f64,
    /// Radius of what is out of focus, everywhere.
    pub defocus_px: f64,
    /// Where it is sharp, m, and the radius of what is endlessly far; `None` where depth does not count.
    pub focus: Option<[f64; 2]>,
    /// Blades of the aperture, 0 for round, and how they are turned, degrees.
    pub blades: u32,
    /// See `blades`.
    pub blade_turn_deg: f64,
    /// How much, from which light on, how far.
    pub bloom: [f64; 3],
    /// Part of the light that is lost a metre.
    pub haze_per_m: f64,
    /// The colour of the haze.
    pub haze_colour: LightColour,
    /// How much darker the corners are.
    pub vignette: f64,
    /// How far colours part at the corners.
    pub fringe_px: f64,
    /// How much grain.
    pub grain: f64,
    /// Frames by which the shutter opens later.
    pub phase: f64,
}

impl LensLook {
    /// The rule of a number, by its name.
    pub fn rule(name: &str) -> Option<&'static NumberRule> {
        LENS_RULES.iter().find(|r| r.name == name)
    }

    /// It at a time, frames.
    pub fn at(&self, frame: f64) -> LensNow {
        let at = |rule: &NumberRule| self.numbers.at(rule, frame);
        let (focus, haze) = (at(&FOCUS[2]), at(&HAZE));
        LensNow {
            blur_px: at(&FOCUS[0]) * self.measured.blur_px.unwrap_or(0.0),
            defocus_px: at(&FOCUS[1]),
            focus: (focus > 0.0).then(|| [focus, at(&FOCUS[3])]),
            blades: at(&FOCUS[4]).round() as u32,
            blade_turn_deg: at(&FOCUS[5]),
            bloom: BLOOM.map(|r| at(&r)),
            haze_per_m: if haze > 0.0 { std::f64::consts::LN_2 / haze } else { 0.0 },
            haze_colour: self.haze_colour.at(frame),
            vignette: at(&GLASS[0]),
            fringe_px: at(&GLASS[1]),
            grain: if self.measured.grain.is_some() { at(&GRAIN) } else { 0.0 },
            phase: at(&PHASE) / 360.0,
        }
    }

    /// Whether it changes over time.
    pub fn changes(&self) -> bool {
        self.numbers.changes() || self.haze_colour.changes()
    }

    /// Moves its keys in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.numbers.shift(by);
        self.haze_colour.shift(by);
    }

    /// Makes lengths of the world so many times as long.
    pub fn scale(&mut self, by: f64) {
        for rule in [&FOCUS[2], &HAZE] {
            self.numbers.with(rule, |v| v.map(|m| (m * by).clamp(rule.low, rule.high)));
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`NumberError`].
    pub fn validate(&self) -> Result<(), NumberError> {
        self.numbers.validate(&LENS_RULES)?;
        let colour = NumberError::Range { name: "the haze's colour", low: 0.0, high: 255.0 };
        let fits =
            |c: &LightColour| if c.iter().all(|v| (0.0..=255.0).contains(v)) { Ok(()) } else { Err(colour.clone()) };
        self.haze_colour.validate(fits)?;
        let sound = self.measured.grain.as_ref().is_none_or(Grain::is_sound)
            && self.measured.blur_px.is_none_or(|b| (0.0..=100.0).contains(&b));
        if sound { Ok(()) } else { Err(NumberError::Range { name: "the measured grain", low: 0.0, high: 16.0 }) }
    }
}

impl LensNow {
    /// Whether it does anything to what was drawn; haze and phase are seen as it is drawn.
    pub fn acts(&self) -> bool {
        self.blur_px > 0.0
            || self.defocus_px > 0.0
            || self.focus.is_some()
            || self.bloom[0] > 0.0
            || self.vignette > 0.0
            || self.fringe_px != 0.0
            || self.grain > 0.0
    }

    /// Radius of what is so far, m, out of focus.
    pub fn defocus_at(&self, distance: f64) -> f64 {
        let by_depth = self.focus.map_or(0.0, |[focus, aperture]| aperture * (1.0 - focus / distance.max(1e-3)).abs());
        (self.defocus_px + by_depth).min(100.0)
    }

    /// How much of what is so far, m, is left in the haze.
    pub fn left_in_haze(&self, distance: f64) -> f64 {
        (-self.haze_per_m * distance).exp()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_mean_what_they_say_and_grow_with_the_world() {
        let mut look = LensLook::default();
        assert!(!look.at(0.0).acts() && look.at(0.0).left_in_haze(1e4) == 1.0);
        let mut set = |name: &str, v: f64| look.numbers.set_at(LensLook::rule(name).unwrap(), 0.0, v);
        set("haze-at", 100.0);
        set("focus", 10.0);
        set("aperture", 6.0);
        set("grain", 1.0);
        set("sharpness", 1.0);
        let now = look.at(0.0);
        assert!((now.left_in_haze(100.0) - 0.5).abs() < 1e-9);
        assert!(now.defocus_at(10.0) < 1e-9 && (now.defocus_at(20.0) - 3.0).abs() < 1e-9 && now.defocus_at(5.0) > 5.9);
        assert_eq!((now.grain, now.blur_px), (0.0, 0.0), "nothing was measured");
        look.measured.blur_px = Some(1.5);
        assert_eq!(look.at(0.0).blur_px, 1.5);
        look.scale(2.0);
        assert!((look.at(0.0).left_in_haze(200.0) - 0.5).abs() < 1e-9);
        assert_eq!(look.validate(), Ok(()));
        look.measured.blur_px = Some(f64::NAN);
        assert!(look.validate().is_err());
        let text = serde_json::to_string(&LensLook::default()).unwrap();
        assert_eq!(serde_json::from_str::<LensLook>(&text).unwrap(), LensLook::default());
    }
}
