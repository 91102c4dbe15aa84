//! What pages and recipes know of the finish, and of looks that are kept.

use super::kinds::{Field, Measure, ToldKey, ValueError, Values, When, set_anew, switch};
use super::{EngineError, assets, grading};
use fennik_core::scene::anim::{Numbers, Track};
use fennik_core::scene::{Asset, Finish, Insert, NAME_MOST};
use fennik_store::Store;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Beyond the grade.
pub const FIELDS: [Field; 8] = [
    Field::number("table-strength", "of the table, 0 to 1", Measure::Plain, 0.05),
    Field::number("vignette", "vignette", Measure::Plain, 0.05),
    Field::number("vignette-from", "begins at", Measure::Plain, 0.05),
    Field::number("vignette-soft", "over", Measure::Plain, 0.05),
    Field::number("bars-format", "bars: format", Measure::Plain, 0.05),
    Field::number("bars-cover", "cover, 0 to 1", Measure::Plain, 0.05),
    Field::number("fade-from-black", "from black, frames", Measure::Plain, 1.0),
    Field::number("fade-to-black", "to black, frames", Measure::Plain, 1.0),
];

/// All of its fields.
pub fn fields() -> impl Iterator<Item = &'static Field> {
    grading::GROUPS.iter().flat_map(|g| &g.fields).chain(&FIELDS)
}

/// Its values at a time, frames.
pub fn values(finish: &Finish, frame: f64) -> Values {
    let mut all = grading::values(&finish.numbers, Finish::rules(), frame);
    all.insert("off".to_owned(), json!(finish.off));
    all
}

/// Sets one; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(finish: &mut Finish, when: When, name: &str, value: &Value) -> Result<bool, ValueError> {
    if name == "off" {
        finish.off = switch(value)?;
        return Ok(true);
    }
    grading::set(&mut finish.numbers, Finish::rule(name), when, value)
}

/// Sets those values at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_typed(finish: &mut Finish, frame: f64, typed: &BTreeMap<String, String>) -> Result<(), ValueError> {
    let now = values(finish, frame);
    set_anew(fields(), &now, typed, |name, value| set(finish, When::At(frame), name, value))
}

/// The numbers that have keys, by name, with the times of these.
pub fn keyed(finish: &Finish) -> Vec<(String, Vec<f64>)> {
    finish.numbers.clone().tracks().map(|(name, track)| (name.to_owned(), track.key_frames())).collect()
}

/// Does something to one of its numbers over time, by its name; `false` where there is none.
pub fn with_track(finish: &mut Finish, name: &str, act: impl FnOnce(&mut dyn Track)) -> bool {
    let Some(rule) = Finish::rule(name) else { return false };
    finish.numbers.with(rule, |of| act(of));
    true
}

/// As steps of a recipe say it.
pub fn told(finish: &Finish) -> (Values, Vec<ToldKey>) {
    let (mut still, keys) = grading::told(&finish.numbers);
    if finish.off {
        still.insert("off".to_owned(), json!(true));
    }
    (still, keys)
}

/// Settings that are kept by a name and used on any shot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Look {
    /// Numbers of a grade, and of a finish where they are of one.
    pub numbers: Numbers,
    /// A table of colours.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<Asset>,
}

/// Why a look cannot be kept or used.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum LookError {
    /// A name that is none.
    #[error("a look's name has 1 to {NAME_MOST} characters of one line")]
    Name,
    /// None of that name.
    #[error("there is no look {name:?}; there is: {}", if all.is_empty() { "none yet".to_owned() } else { all.join(", ") })]
    NoSuch {
        /// As it was written.
        name: String,
        /// What there is.
        all: Vec<String>,
    },
}

impl Look {
    /// Of a finish.
    pub fn of(finish: &Finish) -> Self {
        Self { numbers: finish.numbers.clone(), table: finish.table.clone() }
    }

    /// Of an insert.
    pub fn of_insert(insert: &Insert) -> Self {
        Self { numbers: insert.grade.clone(), table: None }
    }

    /// Keeps it under a name; one of that name is replaced.
    ///
    /// # Errors
    /// [`EngineError`] when the name is none or the disk refuses.
    pub fn keep(&self, store: &Store, name: &str) -> Result<(), EngineError> {
        let name = name.trim();
        if name.is_empty() || name.chars().count() > NAME_MOST || name.chars().any(char::is_control) {
            return Err(LookError::Name.into());
        }
        Ok(store.keep_look(name, &serde_json::to_string(self)?)?)
    }

    /// The one that is kept under a name.
    ///
    /// # Errors
    /// [`LookError::NoSuch`] names those that there are.
    pub fn find(store: &Store, name: &str) -> Result<Self, EngineError> {
        let Some(settings) = store.look(name.trim())? else {
            return Err(LookError::NoSuch { name: name.to_owned(), all: store.looks()? }.into());
        };
        let look: Self = serde_json::from_str(&settings)?;
        if let Some(table) = &look.table {
            assets::find(store, &table.name)?;
        }
        Ok(look)
    }

    /// A finish that looks like it.
    #[must_use]
    pub fn on_finish(&self) -> Finish {
        Finish { numbers: self.numbers.clone(), table: self.table.clone(), off: false }
    }

    /// Puts its grade on an insert.
    pub fn on_insert(&self, insert: &mut Insert) {
        insert.grade = Numbers::default();
        for (name, value) in self.numbers.told() {
            if let Some(rule) = Insert::grade_rule(name) {
                insert.grade.with(rule, |of| *of = value.clone());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_finish_is_made_anew_from_its_values_and_none_is_left_out() {
        let mut made = Finish::default();
        for (k, rule) in Finish::rules().iter().enumerate() {
            made.numbers.set_at(rule, 0.0, rule.usual + 0.001 * (k + 1) as f64);
        }
        let mut other = Finish::default();
        for (name, value) in values(&made, 0.0) {
            assert!(set(&mut other, When::At(0.0), &name, &value).unwrap(), "{name}");
        }
        assert_eq!(other, made);
        let mut named: Vec<_> = fields().map(|f| f.name).collect();
        let mut ruled: Vec<_> = Finish::rules().iter().map(|r| r.name).collect();
        named.sort_unstable();
        ruled.sort_unstable();
        assert_eq!(named, ruled, "every number has a field");
        assert!(!set(&mut other, When::At(0.0), "glow", &json!(1)).unwrap());
    }

    #[test]
    fn a_look_is_kept_and_used_on_the_finish_and_on_what_is_placed() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let mut finish = Finish::default();
        for (name, value) in [("exposure", 0.5), ("vignette", 0.2)] {
            set(&mut finish, When::At(0.0), name, &json!(value)).unwrap();
        }
        Look::of(&finish).keep(&store, " evening ").unwrap();
        let found = Look::find(&store, "evening").unwrap();
        assert_eq!(found.on_finish(), finish);
        let placement =
            fennik_core::scene::Placement::on([0.0; 3], [0.0, 1.0, 0.0], fennik_core::scene::Stance::Standing);
        let mut insert = Insert::new(fennik_core::scene::InsertKind::Marker, placement);
        found.on_insert(&mut insert);
        assert_eq!(insert.grade.told().map(|(name, _)| name).collect::<Vec<_>>(), ["exposure"]);
        let wrong = Look::find(&store, "noon").unwrap_err().to_string();
        assert!(wrong.contains("evening"), "{wrong}");
        assert!(Look::of(&finish).keep(&store, "a\nb").is_err());
    }
}
