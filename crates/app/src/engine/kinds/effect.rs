//! Effects.

use super::field::{Field, Input, ValueError, amount, colour, word, written};
use super::{Measure, Values, play, rounded_size};
use crate::engine::assets::{ShotOn, TakenAsset};
use fennik_core::scene::{Effect, Key, Keyed};
use serde_json::{Value, json};

pub const WORD: &str = "effect";
pub const FIELDS: [Field; 11] = [
    Field::number("height", "height, m", Measure::Length, 0.1),
    Field::number("cards", "crossed cards", Measure::Plain, 1.0),
    Field { name: "key", label: "left out", input: Input::Choice(|| vec!["alpha", "black", "colour"]) },
    Field { name: "key-colour", label: "key", input: Input::Colour },
    Field::number("key-reach", "how much", Measure::Plain, 0.02),
    Field::number("key-soft", "how softly", Measure::Plain, 0.02),
    play::FIELDS[0],
    play::FIELDS[1],
    play::FIELDS[2],
    play::FIELDS[3],
    play::FIELDS[4],
];

/// Height over the distance from which it is well seen.
const READABLE: f64 = 0.2;

pub fn first(shows: &TakenAsset, distance_m: f64, frame: u32) -> Effect {
    let mut effect = Effect::new(shows.asset.clone(), shows.info.aspect(), rounded_size(READABLE * distance_m));
    // It starts where the playhead stands.
    effect.play.start = f64::from(frame);
    match shows.info.ground() {
        // Fire and spray on black give light: black is let go, softly.
        ShotOn::Black => effect.key = Key { by: Keyed::Black, reach: 0.0, soft: 0.6, ..Key::default() },
        ShotOn::Colour(colour) => effect.key = Key { by: Keyed::Colour, colour, ..Key::default() },
        ShotOn::Clear | ShotOn::Anything => {}
    }
    effect
}

pub fn values(effect: &Effect) -> Values {
    let key = &effect.key;
    let own = [
        json!(effect.height_m),
        json!(effect.cards),
        json!(key.by),
        json!(written(key.colour)),
        json!(key.reach),
        json!(key.soft),
    ];
    let mut values: Values = FIELDS.iter().map(|f| f.name.to_owned()).zip(own).collect();
    values.extend(play::values(&effect.play));
    values
}

pub fn set(effect: &mut Effect, name: &str, value: &Value) -> Result<bool, ValueError> {
    let plain = || amount(value, Measure::Plain);
    match name {
        "height" => effect.height_m = amount(value, Measure::Length)?,
        "cards" => effect.cards = plain()?.round().clamp(0.0, 1e3) as u32,
        "key" => effect.key.by = word::<Keyed>(value)?,
        "key-colour" => effect.key.colour = colour(value)?,
        "key-reach" => effect.key.reach = plain()?,
        "key-soft" => effect.key.soft = plain()?,
        _ => return play::set(&mut effect.play, name, value),
    }
    Ok(true)
}
