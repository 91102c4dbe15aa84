//! What can be changed of a model's materials.

use super::Measure;
use super::field::{ValueError, amount, colour};
use fennik_core::scene::MaterialChange;
use serde_json::Value;

/// Sets one value of a material; nothing (`null`) leaves it to the file again.
///
/// # Errors
/// [`ValueError`] says what is wrong with it, or that there is none of that name.
pub fn set_material(change: &mut MaterialChange, name: &str, value: &Value) -> Result<(), ValueError> {
    if name == "plain" {
        *change = MaterialChange::default();
        return Ok(());
    }
    let number = || if value.is_null() { Ok(None) } else { amount(value, Measure::Plain).map(Some) };
    match name {
        "colour" => change.colour = if value.is_null() { None } else { Some(colour(value)?) },
        "metal" => change.metal = number()?,
        "rough" => change.rough = number()?,
        "glow" => change.glow = number()?,
        _ => {
            return Err(ValueError::Unknown {
                kind: "material",
                all: vec!["colour", "metal", "rough", "glow", "plain"],
            });
        }
    }
    Ok(())
}
