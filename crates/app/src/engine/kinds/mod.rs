//! What pages and recipes know of each kind of insert: one file a kind, and the lists here.

mod title;

use super::quantity::Amount;
use super::{EngineError, quantity::Measure};
use fennik_core::scene::InsertKind;
use serde_json::Value;
use std::collections::BTreeMap;

/// Values by their names in a recipe.
pub type Values = BTreeMap<String, Value>;

/// Kinds that can be placed.
const KINDS: [&str; 1] = [title::WORD];

/// Checks that there is a kind.
///
/// # Errors
/// A message that names the kinds that there are.
pub fn check(word: &str) -> Result<(), EngineError> {
    if KINDS.contains(&word) {
        return Ok(());
    }
    Err(EngineError::Message(format!("{word:?} cannot be placed; a {} can", KINDS.join(" or a "))))
}

/// A first one of a kind, of a readable size for its distance, metres.
///
/// # Errors
/// A message that names the kinds that there are.
pub fn first(word: &str, distance_m: f64) -> Result<InsertKind, EngineError> {
    check(word)?;
    match word {
        title::WORD => Ok(InsertKind::Title(title::first(distance_m))),
        // Every kind of the list has its arm.
        _ => Err(EngineError::Fault),
    }
}

/// All values of what an insert shows.
pub fn values(kind: &InsertKind) -> Values {
    match kind {
        InsertKind::Title(title) => title::values(title),
    }
}

/// Sets a value of what an insert shows; `false` where it has none of that name.
///
/// # Errors
/// What is wrong with the value.
pub fn set(kind: &mut InsertKind, name: &str, value: &Value) -> Result<bool, String> {
    match kind {
        InsertKind::Title(title) => title::set(title, name, value),
    }
}

/// The names of its values.
pub fn names(kind: &InsertKind) -> &'static [&'static str] {
    match kind {
        InsertKind::Title(_) => &title::NAMES,
    }
}

/// A number of a measure, as JSON has it.
///
/// # Errors
/// What is wrong with it.
pub fn amount(value: &Value, measure: Measure) -> Result<f64, String> {
    let amount: Amount = serde_json::from_value(value.clone()).map_err(|_| format!("{value} is no number"))?;
    amount.value(measure)
}

/// A text, as JSON has it.
///
/// # Errors
/// What is wrong with it.
pub fn text(value: &Value) -> Result<String, String> {
    value.as_str().map(str::to_owned).ok_or_else(|| format!("{value} is no text"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_is_made_anew_from_its_values() {
        for word in KINDS {
            let made = first(word, 12.0).unwrap();
            assert_eq!((made.word(), made.validate()), (word, Ok(())));
            let mut other = first(word, 3.0).unwrap();
            let values = values(&made);
            assert_eq!(values.keys().map(String::as_str).collect::<Vec<_>>(), {
                let mut names = names(&made).to_vec();
                names.sort_unstable();
                names
            });
            for (name, value) in &values {
                assert_eq!(set(&mut other, name, value), Ok(true), "{name}");
            }
            assert_eq!(other, made);
            assert_eq!(set(&mut other, "moons", &Value::from(1)), Ok(false));
        }
        assert!(first("kiosk", 1.0).unwrap_err().to_string().contains("a title can"));
    }
}
