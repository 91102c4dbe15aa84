//! What pages and recipes know of a grade: its numbers in groups, and how they are set.

use super::kinds::{Field, Measure, ValueError, Values, When, amount};
use fennik_core::colour::Likeness;
use fennik_core::scene::anim::{NumberRule, Numbers};
use fennik_core::scene::{BASIC, CURVES, HUE_RULES, TONES};
use serde_json::{Value, json};
use std::sync::LazyLock;

/// Numbers that belong together.
#[derive(Debug)]
pub struct GradeGroup {
    /// What it is called.
    pub name: &'static str,
    /// Its fields, in rows of so many.
    pub fields: Vec<Field>,
    /// How many stand in a row.
    pub across: usize,
}

/// How the basic numbers are called and stepped.
const BASIC_FIELDS: [Field; 5] = [
    Field::number("exposure", "exposure, stops", Measure::Plain, 0.1),
    Field::number("warmth", "warmth, mired", Measure::Plain, 5.0),
    Field::number("tint", "tint, green to magenta", Measure::Plain, 0.05),
    Field::number("contrast", "contrast", Measure::Plain, 0.05),
    Field::number("saturation", "saturation", Measure::Plain, 0.05),
];

/// What a number is called where it stands in its table: `black-red` is `red` beside `black`, `curve-red-dark` is `red dark`.
fn label(name: &'static str) -> &'static str {
    let parts: Vec<&str> = name.split('-').collect();
    match parts[..] {
        ["black" | "gamma" | "gain", channel] => channel,
        ["curve", place] => place,
        // Made once for all.
        ["curve", channel, place] => Box::leak(format!("{channel} {place}").into_boxed_str()),
        [hue, what] => Box::leak(format!("{hue} {what}").into_boxed_str()),
        _ => name,
    }
}

/// The groups of a grade, what people change most first.
pub static GROUPS: LazyLock<Vec<GradeGroup>> = LazyLock::new(|| {
    let of = |rules: &[NumberRule], step: fn(&NumberRule) -> f64| -> Vec<Field> {
        rules.iter().map(|r| Field::number(r.name, label(r.name), Measure::Plain, step(r))).collect()
    };
    let turns = |r: &NumberRule| if r.high > 100.0 { 5.0 } else { 0.05 };
    vec![
        GradeGroup { name: "grade", fields: BASIC_FIELDS.to_vec(), across: 3 },
        GradeGroup { name: "tones", fields: of(TONES.as_flattened(), |_| 0.02), across: 4 },
        GradeGroup { name: "curves", fields: of(CURVES.as_flattened(), |_| 0.02), across: 5 },
        GradeGroup { name: "hues", fields: of(HUE_RULES.as_flattened(), turns), across: 3 },
    ]
});

/// The values of numbers at a time, frames.
pub fn values(numbers: &Numbers, rules: &[NumberRule], frame: f64) -> Values {
    rules.iter().map(|r| (r.name.to_owned(), json!(numbers.at(r, frame)))).collect()
}

/// Sets a number; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(numbers: &mut Numbers, rule: Option<&NumberRule>, when: When, value: &Value) -> Result<bool, ValueError> {
    let Some(rule) = rule else { return Ok(false) };
    let value = amount(value, Measure::Plain)?;
    numbers.with(rule, |of| when.put(of, value));
    Ok(true)
}

/// Numbers with what makes one colour another on top.
pub fn with_likeness(numbers: &Numbers, like: &Likeness) -> Numbers {
    let mut all = numbers.clone();
    for (rule, more) in BASIC.iter().zip([like.exposure, like.warmth, like.tint]) {
        all.with(rule, |v| v.map(|now| (now + more).clamp(rule.low, rule.high)));
    }
    all
}

/// Those of numbers that are other than usual, as steps of a recipe say them: still ones by name, and the keys of the
/// others.
pub fn told(numbers: &Numbers) -> (Values, Vec<super::kinds::ToldKey>) {
    let mut still = Values::new();
    let mut keys = Vec::new();
    for (name, value) in numbers.told() {
        super::kinds::tell(name, value, |v| json!(v), &mut still, &mut keys);
    }
    (still, keys)
}

/// Whether a number has keys, by its name.
pub fn keyed(numbers: &Numbers, name: &str) -> bool {
    numbers.told().any(|(n, track)| n == name && track.key_frames().next().is_some())
}
