//! What pages and recipes know of each kind of insert: one file a kind, and the lists here.

mod title;

use super::quantity::Amount;
use super::{EngineError, quantity::Measure};
use fennik_core::scene::InsertKind;
use serde_json::Value;
use std::collections::BTreeMap;

/// Values by their names in a recipe.
pub type Values = BTreeMap<String, Value>;

/// Makes the first one of a kind, of a readable size for its distance, metres.
pub type MakeFirst = fn(f64) -> InsertKind;

/// Kinds that can be placed, by their words.
const KINDS: [(&str, MakeFirst); 1] = [(title::WORD, |distance_m| InsertKind::Title(title::first(distance_m)))];

/// What makes the first one of a kind.
///
/// # Errors
/// A message that names the kinds that there are.
pub fn first_of(word: &str) -> Result<MakeFirst, EngineError> {
    KINDS.iter().find(|(kind, _)| *kind == word).map(|(_, first)| *first).ok_or_else(|| {
        EngineError::Message(format!("{word:?} cannot be placed; a {} can", KINDS.map(|(kind, _)| kind).join(" or a ")))
    })
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
        for (word, first) in KINDS {
            let made = first(12.0);
            assert_eq!((made.word(), made.validate()), (word, Ok(())));
            let mut other = first(3.0);
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
        assert!(first_of("kiosk").unwrap_err().to_string().contains("a title can"));
    }
}
