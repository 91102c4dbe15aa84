//! How a clip runs that an insert shows: the same for all kinds that show one.

use super::field::{Field, Input, ValueError, amount, word};
use super::{Measure, Values};
use fennik_core::scene::{Ends, Play};
use serde_json::{Value, json};

pub const FIELDS: [Field; 5] = [
    Field::number("start", "begins at frame", Measure::Plain, 1.0),
    Field::number("first", "first of clip", Measure::Plain, 1.0),
    Field::number("last", "last, -1: end", Measure::Plain, 1.0),
    Field::number("speed", "speed, times", Measure::Plain, 0.1),
    Field { name: "ends", label: "at its end it", input: Input::Choice(|| vec!["loop", "hold", "vanish"]) },
];

pub fn values(play: &Play) -> Values {
    let last = play.last.map_or(-1, i64::from);
    let values = [json!(play.start), json!(play.first), json!(last), json!(play.speed), json!(play.ends)];
    FIELDS.iter().map(|f| f.name.to_owned()).zip(values).collect()
}

pub fn set(play: &mut Play, name: &str, value: &Value) -> Result<bool, ValueError> {
    let number = || amount(value, Measure::Plain);
    let frame = |v: f64| v.round().clamp(0.0, 1e6) as u32;
    match name {
        "start" => play.start = number()?,
        "first" => play.first = frame(number()?),
        "last" => play.last = Some(number()?).filter(|v| *v >= 0.0).map(frame),
        "speed" => play.speed = number()?,
        "ends" => play.ends = word::<Ends>(value)?,
        _ => return Ok(false),
    }
    Ok(true)
}
