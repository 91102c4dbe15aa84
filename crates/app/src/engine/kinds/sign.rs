//! Signs.

use super::field::{Field, Input, ValueError, amount, colour, word, written};
use super::{Measure, Values, play, rounded_size};
use crate::engine::assets::TakenAsset;
use fennik_core::scene::{Alpha, Sign};
use serde_json::{Value, json};

pub const WORD: &str = "sign";
pub const FIELDS: [Field; 16] = [
    Field::number("height", "height, m", Measure::Length, 0.1),
    Field { name: "light", label: "light", input: Input::Choice(|| vec!["lit", "glows"]) },
    Field { name: "alpha", label: "alpha", input: Input::Choice(|| vec!["auto", "straight", "premultiplied"]) },
    Field::number("thickness", "thickness, m", Measure::Length, 0.01),
    Field::number("corner", "corners, m", Measure::Length, 0.01),
    Field::number("bend", "pillar, m", Measure::Length, 0.1),
    Field { name: "edge", label: "edge", input: Input::Colour },
    Field::number("crop-left", "cut left", Measure::Plain, 0.01),
    Field::number("crop-top", "cut top", Measure::Plain, 0.01),
    Field::number("crop-right", "cut right", Measure::Plain, 0.01),
    Field::number("crop-bottom", "cut bottom", Measure::Plain, 0.01),
    play::FIELDS[0],
    play::FIELDS[1],
    play::FIELDS[2],
    play::FIELDS[3],
    play::FIELDS[4],
];

/// Height over the distance from which it is well seen.
const READABLE: f64 = 0.14;

pub fn first(shows: &TakenAsset, distance_m: f64) -> Sign {
    Sign::new(shows.asset.clone(), shows.info.aspect(), rounded_size(READABLE * distance_m))
}

pub fn values(sign: &Sign) -> Values {
    let [left, top, right, bottom] = sign.crop;
    let own = [
        json!(sign.height_m),
        json!(if sign.glows { "glows" } else { "lit" }),
        json!(sign.alpha),
        json!(sign.thickness_m),
        json!(sign.corner_m),
        json!(sign.bend_m),
        json!(written(sign.edge)),
        json!(left),
        json!(top),
        json!(right),
        json!(bottom),
    ];
    let mut values: Values = FIELDS.iter().map(|f| f.name.to_owned()).zip(own).collect();
    values.extend(play::values(&sign.play));
    values
}

pub fn set(sign: &mut Sign, name: &str, value: &Value) -> Result<bool, ValueError> {
    let length = || amount(value, Measure::Length);
    let part = || amount(value, Measure::Plain);
    match name {
        "height" => sign.height_m = length()?,
        "light" => sign.glows = one_of(value, "lit", "glows")?,
        "alpha" => sign.alpha = word::<Alpha>(value)?,
        "thickness" => sign.thickness_m = length()?,
        "corner" => sign.corner_m = length()?,
        "bend" => sign.bend_m = length()?,
        "edge" => sign.edge = colour(value)?,
        "crop-left" => sign.crop[0] = part()?,
        "crop-top" => sign.crop[1] = part()?,
        "crop-right" => sign.crop[2] = part()?,
        "crop-bottom" => sign.crop[3] = part()?,
        _ => return play::set(&mut sign.play, name, value),
    }
    Ok(true)
}

/// Whether it is the second of two words.
pub fn one_of(value: &Value, no: &str, yes: &str) -> Result<bool, ValueError> {
    match value.as_str() {
        Some(word) if word == yes => Ok(true),
        Some(word) if word == no => Ok(false),
        _ => Err(ValueError::NoWord { value: value.clone() }),
    }
}
