//! Titles.

use super::field::{Field, Input, ValueError, amount, colour, text, written};
use super::{Measure, Values};
use fennik_core::scene::Title;
use serde_json::{Value, json};

pub const WORD: &str = "title";
pub const FIELDS: [Field; 6] = [
    Field { name: "text", label: "text", input: Input::Lines },
    Field { name: "font", label: "font", input: Input::Choice(fonts) },
    Field { name: "colour", label: "colour", input: Input::Colour },
    Field::number("height", "height, m", Measure::Length, 0.1),
    Field::number("depth", "depth, m", Measure::Length, 0.05),
    Field::number("bevel", "bevel, m", Measure::Length, 0.01),
];

/// Height of a capital over the distance from which it reads well.
const READABLE: f64 = 0.07;

fn fonts() -> Vec<&'static str> {
    fennik_render::fonts().iter().map(|f| f.name).collect()
}

pub fn first(distance_m: f64) -> Title {
    let height_m = (READABLE * distance_m * 10.0).round().max(1.0) / 10.0;
    Title {
        text: "VARRICK".to_owned(),
        font: fennik_render::fonts()[0].name.to_owned(),
        height_m,
        depth_m: 0.25 * height_m,
        bevel_m: 0.02 * height_m,
        colour: [236, 228, 210],
    }
}

pub fn values(title: &Title) -> Values {
    let values = [
        json!(title.text),
        json!(title.font),
        json!(written(title.colour)),
        json!(title.height_m),
        json!(title.depth_m),
        json!(title.bevel_m),
    ];
    FIELDS.iter().map(|f| f.name.to_owned()).zip(values).collect()
}

pub fn set(title: &mut Title, name: &str, value: &Value) -> Result<bool, ValueError> {
    match name {
        "text" => title.text = text(value)?.replace("\r\n", "\n"),
        "font" => title.font = text(value)?,
        "colour" => title.colour = colour(value)?,
        "height" => title.height_m = amount(value, Measure::Length)?,
        "depth" => title.depth_m = amount(value, Measure::Length)?,
        "bevel" => title.bevel_m = amount(value, Measure::Length)?,
        _ => return Ok(false),
    }
    Ok(true)
}
