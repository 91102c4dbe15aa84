//! Props.

use super::field::{Field, Input, ValueError, amount, word};
use super::{Measure, Values};
use crate::engine::assets::{AssetInfo, TakenAsset};
use fennik_core::scene::{ModelUp, Prop};
use serde_json::{Value, json};

pub const WORD: &str = "prop";
pub const FIELDS: [Field; 2] = [
    Field::number("unit", "one unit, m", Measure::Length, 0.1),
    Field { name: "up", label: "its up", input: Input::Choice(|| vec!["y", "z"]) },
];

pub fn first(shows: &TakenAsset) -> Prop {
    let (unit_m, z_up) = match &shows.info {
        AssetInfo::Model { unit_m, z_up, .. } => (*unit_m, *z_up),
        _ => (1.0, false),
    };
    Prop { asset: shows.asset.clone(), unit_m, up: if z_up { ModelUp::Z } else { ModelUp::Y } }
}

pub fn values(prop: &Prop) -> Values {
    FIELDS.iter().map(|f| f.name.to_owned()).zip([json!(prop.unit_m), json!(prop.up)]).collect()
}

pub fn set(prop: &mut Prop, name: &str, value: &Value) -> Result<bool, ValueError> {
    match name {
        "unit" => prop.unit_m = amount(value, Measure::Length)?,
        "up" => prop.up = word::<ModelUp>(value)?,
        _ => return Ok(false),
    }
    Ok(true)
}
