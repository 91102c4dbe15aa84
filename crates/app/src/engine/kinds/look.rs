//! How an insert as a whole is seen, and when: the same for all kinds.

use super::field::{Field, Input, ValueError, amount, word};
use super::{Measure, Values};
use fennik_core::scene::{Blend, Facing, HazeForm, Insert};
use serde_json::{Value, json};

pub const FIELDS: [Field; 10] = [
    Field::number("opacity", "opacity, 0 to 1", Measure::Plain, 0.05),
    Field { name: "blend", label: "blend", input: Input::Choice(|| Blend::ALL.map(Blend::word).into()) },
    Field { name: "facing", label: "camera", input: Input::Choice(|| vec!["stays", "upright", "wholly"]) },
    Field { name: "flip", label: "flip", input: Input::Choice(|| FLIPS.map(|f| f.0).into()) },
    Field::number("near-fade", "near fade, m", Measure::Length, 0.1),
    Field { name: "haze", label: "haze", input: Input::Choice(|| vec!["none", "oval", "box", "foot", "head"]) },
    Field::number("haze-reach", "haze reach", Measure::Plain, 0.05),
    Field::number("haze-soft", "haze soft", Measure::Plain, 0.05),
    Field::number("surrounded", "surroundings", Measure::Plain, 0.1),
    Field { name: "motion-blur", label: "motion blur", input: Input::Choice(|| vec!["on", "off"]) },
];

/// Those that only what stands somewhere has.
pub const OF_PLACE: [&str; 2] = ["facing", "near-fade"];

/// When it is seen.
pub const SPAN_FIELDS: [Field; 4] = [
    Field::number("from", "from frame", Measure::Plain, 1.0),
    Field::number("to", "to frame", Measure::Plain, 1.0),
    Field::number("fade-in", "fade in, frames", Measure::Plain, 1.0),
    Field::number("fade-out", "fade out", Measure::Plain, 1.0),
];

const FLIPS: [(&str, [bool; 2]); 4] =
    [("none", [false, false]), ("across", [true, false]), ("upside-down", [false, true]), ("both", [true, true])];

/// Its values at a time, frames. What has no end says -1.
pub fn values(insert: &Insert, frame: f64) -> Values {
    let flip = FLIPS.iter().find(|f| f.1 == insert.flipped).map_or("none", |f| f.0);
    let values = [
        json!(insert.opacity.at(frame)),
        json!(insert.blend),
        json!(insert.placement.facing),
        json!(flip),
        json!(insert.near_fade_m),
        json!(insert.haze.form),
        json!(insert.haze.reach),
        json!(insert.haze.soft),
        json!(insert.surrounded),
        json!(if insert.unblurred { "off" } else { "on" }),
    ];
    let span = &insert.span;
    let times = [
        json!(span.first.unwrap_or(-1.0)),
        json!(span.last.unwrap_or(-1.0)),
        json!(span.fade_in),
        json!(span.fade_out),
    ];
    let of = |fields: &'static [Field]| fields.iter().map(|f| f.name.to_owned());
    of(&FIELDS).zip(values).chain(of(&SPAN_FIELDS).zip(times)).collect()
}

/// Sets one: at a time, frames, where it changes, else for good; `false` where there is none of that name.
pub fn set(insert: &mut Insert, frame: f64, name: &str, value: &Value) -> Result<bool, ValueError> {
    let plain = || amount(value, Measure::Plain);
    match name {
        "opacity" => insert.opacity.set_at(frame, plain()?),
        "blend" => insert.blend = word::<Blend>(value)?,
        "facing" => insert.placement.facing = word::<Facing>(value)?,
        "flip" => {
            let found = FLIPS.iter().find(|f| value.as_str() == Some(f.0));
            insert.flipped = found.ok_or_else(|| ValueError::NoWord { value: value.clone() })?.1;
        }
        "near-fade" => insert.near_fade_m = amount(value, Measure::Length)?,
        "haze" => insert.haze.form = word::<HazeForm>(value)?,
        "haze-reach" => insert.haze.reach = plain()?,
        "haze-soft" => insert.haze.soft = plain()?,
        "surrounded" => insert.surrounded = plain()?,
        "motion-blur" => insert.unblurred = super::sign::one_of(value, "on", "off")?,
        "from" => insert.span.first = Some(plain()?).filter(|f| *f >= 0.0),
        "to" => insert.span.last = Some(plain()?).filter(|f| *f >= 0.0),
        "fade-in" => insert.span.fade_in = plain()?,
        "fade-out" => insert.span.fade_out = plain()?,
        _ => return Ok(false),
    }
    Ok(true)
}
