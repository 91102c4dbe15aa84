//! Where an insert stands, as forms and recipes see it: the same for all kinds.

use super::field::{Field, Input, ValueError, amount, word};
use super::{Measure, Values};
use fennik_core::scene::Placement;
use serde_json::{Value, json};

pub const FIELDS: [Field; 8] = [
    Field::number("x", "X, m", Measure::Length, 0.1),
    Field::number("y", "Y, m", Measure::Length, 0.1),
    Field::number("z", "Z, m", Measure::Length, 0.1),
    Field::number("turn", "turn, deg", Measure::Angle, 1.0),
    Field::number("lean", "lean, deg", Measure::Angle, 1.0),
    Field::number("lift", "lift, m", Measure::Length, 0.05),
    Field::number("scale", "scale", Measure::Plain, 0.05),
    Field { name: "stance", label: "stance", input: Input::Choice(|| vec!["standing", "lying"]) },
];

/// The place of its own frame that it turns and grows about.
pub const PIVOT_FIELDS: [Field; 3] = [
    Field::number("pivot-x", "pivot X, m", Measure::Length, 0.05),
    Field::number("pivot-y", "pivot Y, m", Measure::Length, 0.05),
    Field::number("pivot-z", "pivot Z, m", Measure::Length, 0.05),
];

/// Its values at a time, frames.
pub fn values(placement: &Placement, frame: f64) -> Values {
    let ([x, y, z], [turn, lean]) = (placement.anchor.foot.at(frame), placement.turn_lean_deg(frame));
    let (lift, scale) = (placement.anchor.lift_m.at(frame), placement.scale.at(frame));
    let values =
        [json!(x), json!(y), json!(z), json!(turn), json!(lean), json!(lift), json!(scale), json!(placement.stance)];
    let pivot = PIVOT_FIELDS.iter().zip(placement.pivot).map(|(f, v)| (f.name.to_owned(), json!(v)));
    FIELDS.iter().map(|f| f.name.to_owned()).zip(values).chain(pivot).collect()
}

/// Sets one: at a time, frames, where it changes, else for good; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(placement: &mut Placement, frame: f64, name: &str, value: &Value) -> Result<bool, ValueError> {
    let length = || amount(value, Measure::Length);
    let [turn, lean] = placement.turn_lean_deg(frame);
    match name {
        "x" | "y" | "z" => {
            let mut foot = placement.anchor.foot.at(frame);
            foot[usize::from(name.as_bytes()[0] - b'x')] = length()?;
            placement.anchor.foot.set_at(frame, foot);
        }
        "turn" => placement.set_turn_lean_deg(frame, [amount(value, Measure::Angle)?, lean]),
        "lean" => placement.set_turn_lean_deg(frame, [turn, amount(value, Measure::Angle)?]),
        "lift" => placement.anchor.lift_m.set_at(frame, length()?),
        "scale" => placement.scale.set_at(frame, amount(value, Measure::Plain)?),
        "stance" => {
            placement.stance = word(value)?;
        }
        "pivot-x" | "pivot-y" | "pivot-z" => {
            let mut pivot = placement.pivot;
            pivot[usize::from(name.as_bytes()[6] - b'x')] = length()?;
            placement.set_pivot(frame, pivot);
        }
        _ => return Ok(false),
    }
    Ok(true)
}
