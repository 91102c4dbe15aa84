//! Props.

use super::field::{Field, Input, ValueError, amount, word};
use super::sign::one_of;
use super::{Measure, Values, play};
use crate::engine::assets::{AssetInfo, TakenAsset};
use fennik_core::scene::{ModelFoot, ModelUp, Prop};
use serde_json::{Value, json};

pub const WORD: &str = "prop";
pub const FIELDS: [Field; 9] = [
    Field::number("unit", "one unit, m", Measure::Length, 0.1),
    Field { name: "up", label: "its up", input: Input::Choice(|| vec!["y", "z"]) },
    Field { name: "foot", label: "its foot is the middle of", input: Input::Choice(|| vec!["ground", "whole"]) },
    Field { name: "motion", label: "its motion", input: Input::Choice(|| vec!["plays", "held"]) },
    play::FIELDS[0],
    play::FIELDS[1],
    play::FIELDS[2],
    play::FIELDS[3],
    play::FIELDS[4],
];

pub fn first(shows: &TakenAsset) -> Prop {
    let (unit_m, z_up) = match &shows.info {
        AssetInfo::Model { unit_m, z_up, .. } => (*unit_m, *z_up),
        _ => (1.0, false),
    };
    Prop::new(shows.asset.clone(), unit_m, if z_up { ModelUp::Z } else { ModelUp::Y })
}

pub fn values(prop: &Prop) -> Values {
    let own = [json!(prop.unit_m), json!(prop.up), json!(prop.foot), json!(if prop.held { "held" } else { "plays" })];
    let mut values: Values = FIELDS.iter().map(|f| f.name.to_owned()).zip(own).collect();
    values.extend(play::values(&prop.play));
    values
}

pub fn set(prop: &mut Prop, name: &str, value: &Value) -> Result<bool, ValueError> {
    match name {
        "unit" => prop.unit_m = amount(value, Measure::Length)?,
        "up" => prop.up = word::<ModelUp>(value)?,
        "foot" => prop.foot = word::<ModelFoot>(value)?,
        "motion" => prop.held = one_of(value, "plays", "held")?,
        _ => return play::set(&mut prop.play, name, value),
    }
    Ok(true)
}
