//! The numbers of a grade, and of what is done over all, by name.

use super::anim::{NumberRule, Numbers};
use crate::colour::{CURVE_NODES, Grade, HUES, HueChange, white_matrix};

/// Names of a number for all channels, for red, green and blue.
macro_rules! channels {
    ($name:literal, $usual:expr, $low:expr, $high:expr) => {
        [
            NumberRule::new($name, $usual, $low, $high),
            NumberRule::new(concat!($name, "-red"), $usual, $low, $high),
            NumberRule::new(concat!($name, "-green"), $usual, $low, $high),
            NumberRule::new(concat!($name, "-blue"), $usual, $low, $high),
        ]
    };
}

macro_rules! curve {
    ($name:literal) => {
        [
            NumberRule::new(concat!($name, "-black"), 0.0, 0.0, 1.0),
            NumberRule::new(concat!($name, "-dark"), 0.25, 0.0, 1.0),
            NumberRule::new(concat!($name, "-middle"), 0.5, 0.0, 1.0),
            NumberRule::new(concat!($name, "-bright"), 0.75, 0.0, 1.0),
            NumberRule::new(concat!($name, "-white"), 1.0, 0.0, 1.0),
        ]
    };
}

macro_rules! hue {
    ($name:literal) => {
        [
            NumberRule::new(concat!($name, "-turn"), 0.0, -180.0, 180.0),
            NumberRule::new(concat!($name, "-saturation"), 1.0, 0.0, 4.0),
            NumberRule::new(concat!($name, "-brightness"), 1.0, 0.0, 4.0),
        ]
    };
}

/// Stops of exposure; warmth in mired; tint; contrast; saturation.
pub const BASIC: [NumberRule; 5] = [
    NumberRule::new("exposure", 0.0, -10.0, 10.0),
    NumberRule::new("warmth", 0.0, -110.0, 300.0),
    NumberRule::new("tint", 0.0, -2.0, 2.0),
    NumberRule::new("contrast", 1.0, 0.0, 4.0),
    NumberRule::new("saturation", 1.0, 0.0, 4.0),
];
/// What black becomes, how bright the middle is, what white becomes: of all channels and of each.
pub const TONES: [[NumberRule; 4]; 3] =
    [channels!("black", 0.0, -1.0, 1.0), channels!("gamma", 1.0, 0.1, 10.0), channels!("gain", 1.0, 0.0, 10.0)];
/// Curves through five places: of all channels and of each.
pub const CURVES: [[NumberRule; CURVE_NODES]; 4] =
    [curve!("curve"), curve!("curve-red"), curve!("curve-green"), curve!("curve-blue")];
/// Turn, saturation, brightness of each of six hues.
pub const HUE_RULES: [[NumberRule; 3]; 6] =
    [hue!("red"), hue!("yellow"), hue!("green"), hue!("cyan"), hue!("blue"), hue!("magenta")];

/// All numbers of a grade.
pub fn grade_rules() -> Vec<NumberRule> {
    let mut all = BASIC.to_vec();
    all.extend(TONES.as_flattened());
    all.extend(CURVES.as_flattened());
    all.extend(HUE_RULES.as_flattened());
    all
}

/// The grade that numbers make at a time, frames.
pub fn grade_at(numbers: &Numbers, frame: f64) -> Grade {
    let at = |rule: &NumberRule| numbers.at(rule, frame);
    let [exposure, warmth, tint, contrast, saturation] = BASIC.map(|r| at(&r));
    let mut grade = Grade::default();
    (grade.contrast, grade.saturation) = (contrast as f32, saturation as f32);
    if warmth != 0.0 || tint != 0.0 {
        grade.light = white_matrix(warmth, tint);
    }
    if exposure != 0.0 {
        let times = exposure.exp2() as f32;
        grade.light.as_flattened_mut().iter_mut().for_each(|v| *v *= times);
    }
    let of = |rules: &[NumberRule; 4], both: fn(f64, f64) -> f64| -> [f32; 3] {
        std::array::from_fn(|k| both(at(&rules[0]), at(&rules[k + 1])) as f32)
    };
    grade.lift = of(&TONES[0], |all, own| all + own);
    grade.gamma = of(&TONES[1], |all, own| all * own);
    grade.gain = of(&TONES[2], |all, own| all * own);
    grade.hues = HUE_RULES.map(|[turn, strong, bright]| HueChange {
        turn_deg: at(&turn) as f32,
        saturation: at(&strong) as f32,
        brightness: at(&bright) as f32,
    });
    grade.with_curves(&CURVES.map(|nodes| nodes.map(|n| at(&n) as f32)))
}

/// The names of the six hues stand for their numbers.
const _: () = assert!(HUES.len() == HUE_RULES.len());

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn usual_numbers_change_nothing_and_each_other_one_does() {
        assert!(grade_at(&Numbers::default(), 0.0).is_plain());
        let rules = grade_rules();
        for rule in &rules {
            let mut numbers = Numbers::default();
            numbers.set_at(rule, 0.0, if rule.usual < rule.high { rule.usual + 0.1 } else { rule.usual - 0.1 });
            assert!(!grade_at(&numbers, 0.0).is_plain(), "{}", rule.name);
            assert_eq!(numbers.validate(&rules), Ok(()), "{}", rule.name);
        }
        let mut names: Vec<_> = rules.iter().map(|r| r.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), rules.len());
        assert!(HUES.iter().zip(HUE_RULES).all(|(hue, rules)| rules.iter().all(|r| r.name.starts_with(hue))));
    }

    #[test]
    fn a_stop_is_twice_the_light() {
        let mut numbers = Numbers::default();
        numbers.set_at(&BASIC[0], 0.0, 1.0);
        assert_eq!(grade_at(&numbers, 0.0).apply([0.1, 0.2, 0.3]), [0.2, 0.4, 0.6]);
    }
}
