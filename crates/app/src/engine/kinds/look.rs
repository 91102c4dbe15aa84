//! How an insert as a whole is seen: the same for all kinds.

use super::field::{Field, Input, ValueError, amount, word};
use super::{Measure, Values};
use fennik_core::scene::{Blend, Facing, Insert};
use serde_json::{Value, json};

pub const FIELDS: [Field; 3] = [
    Field::number("opacity", "opacity, 0 to 1", Measure::Plain, 0.05),
    Field { name: "blend", label: "blend", input: Input::Choice(|| Blend::ALL.map(Blend::word).into()) },
    Field { name: "facing", label: "camera", input: Input::Choice(|| vec!["stays", "upright", "wholly"]) },
];

/// Its values at a time, frames.
pub fn values(insert: &Insert, frame: f64) -> Values {
    let values = [json!(insert.opacity.at(frame)), json!(insert.blend), json!(insert.placement.facing)];
    FIELDS.iter().map(|f| f.name.to_owned()).zip(values).collect()
}

/// Sets one: at a time, frames, where it changes, else for good; `false` where there is none of that name.
pub fn set(insert: &mut Insert, frame: f64, name: &str, value: &Value) -> Result<bool, ValueError> {
    match name {
        "opacity" => insert.opacity.set_at(frame, amount(value, Measure::Plain)?),
        "blend" => insert.blend = word::<Blend>(value)?,
        "facing" => insert.placement.facing = word::<Facing>(value)?,
        _ => return Ok(false),
    }
    Ok(true)
}
