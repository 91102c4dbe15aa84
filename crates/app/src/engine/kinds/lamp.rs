//! Lamps.

use super::field::{Field, Input, ValueError, amount, colour, word, written};
use super::{Measure, Values};
use fennik_core::scene::{Lamp, LampForm};
use serde_json::{Value, json};

pub const WORD: &str = "lamp";
pub const FIELDS: [Field; 10] = [
    Field { name: "form", label: "form", input: Input::Choice(|| vec!["point", "spot", "area"]) },
    Field::number("strength", "strength at 1 m", Measure::Plain, 0.5),
    Field { name: "colour", label: "colour", input: Input::Colour },
    Field::number("radius", "radius, m", Measure::Length, 0.05),
    Field::number("cone", "cone, deg", Measure::Angle, 5.0),
    Field::number("edge", "its edge, 0 to 1", Measure::Plain, 0.05),
    Field::number("wide", "wide, m", Measure::Length, 0.1),
    Field::number("deep", "deep, m", Measure::Length, 0.1),
    Field::number("shadow", "shadow, 0 to 1", Measure::Plain, 0.05),
    Field::number("floor-shadow", "on the plate", Measure::Plain, 0.05),
];

/// How high over its foot a lamp hangs at first, of its distance, and metres.
const HIGH: (f64, [f64; 2]) = (0.25, [0.3, 6.0]);

/// How high over its foot it hangs at first, metres.
pub fn lift_m(distance_m: f64) -> f64 {
    let (part, [low, high]) = HIGH;
    (10.0 * (part * distance_m).clamp(low, high)).round() / 10.0
}

/// One that lights white under it as white.
pub fn first(distance_m: f64) -> Lamp {
    let lift = lift_m(distance_m);
    Lamp { strength: (100.0 * lift * lift).round() / 100.0, radius_m: 0.05 * lift, ..Lamp::default() }
}

pub fn values(lamp: &Lamp) -> Values {
    let values = [
        json!(lamp.form),
        json!(lamp.strength),
        json!(written(lamp.colour)),
        json!(lamp.radius_m),
        json!(lamp.cone_deg),
        json!(lamp.edge),
        json!(lamp.size_m[0]),
        json!(lamp.size_m[1]),
        json!(lamp.shadow),
        json!(lamp.floor_shadow),
    ];
    FIELDS.iter().map(|f| f.name.to_owned()).zip(values).collect()
}

pub fn set(lamp: &mut Lamp, name: &str, value: &Value) -> Result<bool, ValueError> {
    let (length, plain) = (|| amount(value, Measure::Length), || amount(value, Measure::Plain));
    match name {
        "form" => lamp.form = word::<LampForm>(value)?,
        "strength" => lamp.strength = plain()?,
        "colour" => lamp.colour = colour(value)?,
        "radius" => lamp.radius_m = length()?,
        "cone" => lamp.cone_deg = amount(value, Measure::Angle)?,
        "edge" => lamp.edge = plain()?,
        "wide" => lamp.size_m[0] = length()?,
        "deep" => lamp.size_m[1] = length()?,
        "shadow" => lamp.shadow = plain()?,
        "floor-shadow" => lamp.floor_shadow = plain()?,
        _ => return Ok(false),
    }
    Ok(true)
}
