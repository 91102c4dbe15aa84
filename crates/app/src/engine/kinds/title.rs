//! Titles.

use super::field::{Field, Input, ValueError, amount, colour, text, word, written};
use super::{Measure, Values};
use crate::engine::assets::TakenAsset;
use fennik_core::scene::{Align, LetterFinish, Lettering, Profile, Title};
use serde_json::{Value, json};

pub const WORD: &str = "title";
pub const FIELDS: [Field; 13] = [
    Field { name: "text", label: "text", input: Input::Lines },
    Field { name: "font", label: "font", input: Input::Choice(fonts) },
    Field::number("height", "height, m", Measure::Length, 0.1),
    Field::number("depth", "depth, m", Measure::Length, 0.05),
    Field { name: "colour", label: "colour", input: Input::Colour },
    Field { name: "finish", label: "finish", input: Input::Choice(|| vec!["matt", "satin", "metal", "glass", "glow"]) },
    Field { name: "align", label: "lines", input: Input::Choice(|| vec!["middle", "left", "right"]) },
    Field::number("bevel", "bevel, m", Measure::Length, 0.01),
    Field {
        name: "profile",
        label: "its form",
        input: Input::Choice(|| vec!["straight", "round", "hollow", "stepped"]),
    },
    Field { name: "bevel-colour", label: "bevel", input: Input::Colour },
    Field { name: "side-colour", label: "sides", input: Input::Colour },
    Field::number("letter-space", "letters apart", Measure::Plain, 0.02),
    Field::number("line-step", "line to line", Measure::Plain, 0.05),
];

/// Height of a capital over the distance from which it reads well.
const READABLE: f64 = 0.07;

fn fonts() -> Vec<&'static str> {
    fennik_render::fonts().iter().map(|f| f.name).collect()
}

/// Set in a font of one's own, or in the first that ships.
pub fn first(font: Option<&TakenAsset>, distance_m: f64) -> Title {
    let height_m = (READABLE * distance_m * 10.0).round().max(1.0) / 10.0;
    Title {
        text: "VARRICK".to_owned(),
        font: fennik_render::fonts()[0].name.to_owned(),
        height_m,
        depth_m: 0.25 * height_m,
        bevel_m: 0.02 * height_m,
        colour: [236, 228, 210],
        lettering: Lettering { font_file: font.map(|f| f.asset.clone()), ..Lettering::default() },
    }
}

pub fn values(title: &Title) -> Values {
    let set = &title.lettering;
    let values = [
        json!(title.text),
        json!(title.font),
        json!(title.height_m),
        json!(title.depth_m),
        json!(written(title.colour)),
        json!(set.finish),
        json!(set.align),
        json!(title.bevel_m),
        json!(set.profile),
        json!(written(set.bevel_colour.unwrap_or(title.colour))),
        json!(written(set.side_colour.unwrap_or(title.colour))),
        json!(set.letter_space),
        json!(set.line_step),
    ];
    FIELDS.iter().map(|f| f.name.to_owned()).zip(values).collect()
}

pub fn set(title: &mut Title, name: &str, value: &Value) -> Result<bool, ValueError> {
    let length = || amount(value, Measure::Length);
    let own_colour = |of: [u8; 3]| Ok::<_, ValueError>(Some(colour(value)?).filter(|c| *c != of));
    let letters = &mut title.lettering;
    match name {
        "text" => {
            title.text = text(value)?.replace("\r\n", "\n");
            // Letters that the font lacks are set in one that ships and has them all, if there is one.
            if letters.font_file.is_none() && !fennik_render::font_has(&title.font, &title.text) {
                if let Some(font) = fennik_render::font_with(&title.text) {
                    font.name.clone_into(&mut title.font);
                }
            }
        }
        "font" => (title.font, letters.font_file) = (text(value)?, None),
        "colour" => title.colour = colour(value)?,
        "height" => title.height_m = length()?,
        "depth" => title.depth_m = length()?,
        "bevel" => title.bevel_m = length()?,
        "finish" => letters.finish = word::<LetterFinish>(value)?,
        "align" => letters.align = word::<Align>(value)?,
        "profile" => letters.profile = word::<Profile>(value)?,
        "bevel-colour" => letters.bevel_colour = own_colour(title.colour)?,
        "side-colour" => letters.side_colour = own_colour(title.colour)?,
        "letter-space" => letters.letter_space = amount(value, Measure::Plain)?,
        "line-step" => letters.line_step = amount(value, Measure::Plain)?,
        _ => return Ok(false),
    }
    Ok(true)
}
