//! Titles.

use super::{Values, amount, text};
use crate::engine::place::colour;
use crate::engine::quantity::Measure;
use fennik_core::scene::Title;
use serde_json::{Value, json};

pub const WORD: &str = "title";
pub const NAMES: [&str; 6] = ["text", "font", "colour", "height", "depth", "bevel"];

/// Height of a capital over the distance from which it reads well.
const READABLE: f64 = 0.07;

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
    let [r, g, b] = title.colour;
    let values = [
        json!(title.text),
        json!(title.font),
        json!(format!("#{r:02x}{g:02x}{b:02x}")),
        json!(title.height_m),
        json!(title.depth_m),
        json!(title.bevel_m),
    ];
    NAMES.iter().map(|n| (*n).to_owned()).zip(values).collect()
}

pub fn set(title: &mut Title, name: &str, value: &Value) -> Result<bool, String> {
    match name {
        "text" => title.text = text(value)?,
        "font" => title.font = text(value)?,
        "colour" => title.colour = colour(&text(value)?).map_err(|e| e.to_string())?,
        "height" => title.height_m = amount(value, Measure::Length)?,
        "depth" => title.depth_m = amount(value, Measure::Length)?,
        "bevel" => title.bevel_m = amount(value, Measure::Length)?,
        _ => return Ok(false),
    }
    Ok(true)
}
