//! What pages and recipes know of each kind of insert: one file a kind, and the lists here.

mod field;
mod placed;
mod title;

pub use field::{Field, Input, ValueError, amount, text};
pub use placed::FIELDS as PLACE_FIELDS;

pub use super::quantity::{Amount, Measure};
use fennik_core::scene::{Insert, InsertKind};
use serde_json::Value;
use std::collections::BTreeMap;

/// Values by their names in a recipe.
pub type Values = BTreeMap<String, Value>;

/// Makes the first one of a kind, of a readable size for its distance, metres.
pub type MakeFirst = fn(f64) -> InsertKind;

/// Kinds that can be placed, by their words.
const KINDS: [(&str, MakeFirst); 1] = [(title::WORD, |distance_m| InsertKind::Title(title::first(distance_m)))];

/// The words of all kinds.
pub fn words() -> impl Iterator<Item = &'static str> {
    KINDS.iter().map(|(word, _)| *word)
}

/// What makes the first one of a kind.
///
/// # Errors
/// [`ValueError::NoKind`] names the kinds that there are.
pub fn first_of(word: &str) -> Result<MakeFirst, ValueError> {
    KINDS
        .iter()
        .find(|(kind, _)| *kind == word)
        .map(|(_, first)| *first)
        .ok_or_else(|| ValueError::NoKind { word: word.to_owned(), kinds: words().collect() })
}

/// What can be set of what a kind shows.
pub fn fields(kind: &InsertKind) -> &'static [Field] {
    match kind {
        InsertKind::Title(_) => &title::FIELDS,
    }
}

/// All values of what an insert shows.
pub fn content_values(kind: &InsertKind) -> Values {
    match kind {
        InsertKind::Title(title) => title::values(title),
    }
}

/// Sets a value of what an insert shows; `false` where it has none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set_content(kind: &mut InsertKind, name: &str, value: &Value) -> Result<bool, ValueError> {
    match kind {
        InsertKind::Title(title) => title::set(title, name, value),
    }
}

/// All values of an insert at a time, frames, but for its name.
pub fn values(insert: &Insert, frame: f64) -> Values {
    let mut values = placed::values(&insert.placement, frame);
    values.extend(content_values(&insert.content));
    values
}

/// Sets a value of an insert: at a time, frames, where it changes, else for good.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value, or what values there are.
pub fn set(insert: &mut Insert, frame: f64, name: &str, value: &Value) -> Result<(), ValueError> {
    match name {
        "name" => insert.name = text(value)?.trim().to_owned(),
        "hidden" => insert.hidden = value.as_bool().ok_or_else(|| ValueError::NoSwitch { value: value.clone() })?,
        _ if placed::set(&mut insert.placement, frame, name, value)? => {}
        _ if set_content(&mut insert.content, name, value)? => {}
        _ => {
            let all = fields(&insert.content).iter().chain(&PLACE_FIELDS).map(|f| f.name).collect();
            return Err(ValueError::Unknown { kind: insert.content.word(), all });
        }
    }
    Ok(())
}

/// Sets those values of an insert at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_typed(insert: &mut Insert, frame: f64, typed: &BTreeMap<String, String>) -> Result<(), ValueError> {
    let now = values(insert, frame);
    let all = fields(&insert.content).iter().chain(&PLACE_FIELDS);
    let changed: Vec<&Field> = all.filter(|f| typed.get(f.name).is_some_and(|typed| f.differs(&now, typed))).collect();
    let name = typed.get("name").map(|name| ("name", name));
    for (name, typed) in changed.iter().map(|f| (f.name, &typed[f.name])).chain(name) {
        set(insert, frame, name, &Value::from(typed.as_str())).map_err(|why| why.of(name))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::{InsertId, Placement, Stance};

    fn insert(content: InsertKind) -> Insert {
        let placement = Placement::on([1.0, 0.0, -2.0], [0.0, 1.0, 0.0], Stance::Standing);
        Insert { id: InsertId(1), name: "one".into(), content, placement, hidden: false }
    }

    #[test]
    fn every_kind_is_made_anew_from_its_values() {
        for (word, first) in KINDS {
            let made = first(12.0);
            assert_eq!((made.word(), made.validate()), (word, Ok(())));
            let mut other = first(3.0);
            let values = content_values(&made);
            let mut names: Vec<_> = fields(&made).iter().map(|f| f.name).collect();
            names.sort_unstable();
            assert_eq!(values.keys().map(String::as_str).collect::<Vec<_>>(), names);
            for (name, value) in &values {
                assert_eq!(set_content(&mut other, name, value), Ok(true), "{name}");
            }
            assert_eq!(other, made);
            let wrong = set(&mut insert(other), 0.0, "moons", &Value::from(1)).unwrap_err().to_string();
            assert!(wrong.contains("turn") && wrong.contains(names[0]), "{wrong}");
        }
        assert!(first_of("kiosk").unwrap_err().to_string().contains("a title can"));
    }

    #[test]
    fn only_what_was_typed_anew_is_set() {
        let mut one = insert(first_of("title").unwrap()(10.0));
        one.placement.set_turn_lean_deg(0.0, [-77.123_456_789_012, 11.1]);
        let before = one.clone();
        let shown = |v: &Value| v.as_str().map_or_else(|| v.to_string(), str::to_owned);
        let mut typed: BTreeMap<String, String> =
            values(&one, 0.0).iter().map(|(k, v)| (k.clone(), shown(v))).collect();
        set_typed(&mut one, 0.0, &typed).unwrap();
        assert_eq!(one, before, "to the last digit");
        typed.insert("turn".into(), "12.5".into());
        typed.insert("colour".into(), "#102030".into());
        typed.insert("name".into(), " two ".into());
        set_typed(&mut one, 0.0, &typed).unwrap();
        let [turn, lean] = one.placement.turn_lean_deg(0.0);
        assert!((turn - 12.5).abs() < 1e-9 && (lean - 11.1).abs() < 1e-9);
        assert_eq!((one.name.as_str(), one.content.base_colour()), ("two", [16, 32, 48]));
        assert!(
            set_typed(&mut one, 0.0, &[("height".to_owned(), "high".to_owned())].into())
                .unwrap_err()
                .to_string()
                .contains("height: ")
        );
    }
}
