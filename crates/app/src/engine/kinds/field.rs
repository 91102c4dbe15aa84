//! What a person can set of an insert, as forms and recipes see it.

use super::{Amount, Measure, Values};
use crate::engine::quantity::QuantityError;
use fennik_core::scene::LightColour;
use fennik_core::scene::anim::{Animated, Ease, Interpolate};
use serde_json::Value;
use std::collections::BTreeMap;

/// A value that cannot be used.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum ValueError {
    /// Not a number.
    #[error("{value} is no number")]
    NoNumber {
        /// As it was written.
        value: Value,
    },
    /// A number that is none.
    #[error(transparent)]
    Quantity(#[from] QuantityError),
    /// Not a text.
    #[error("{value} is no text")]
    NoText {
        /// As it was written.
        value: Value,
    },
    /// A colour that is none.
    #[error("{text:?} is no colour; write it as #rrggbb")]
    NoColour {
        /// As it was written.
        text: String,
    },
    /// Neither yes nor no.
    #[error("{value} is neither true nor false")]
    NoSwitch {
        /// As it was written.
        value: Value,
    },
    /// None of the words that it may be.
    #[error("{value} is none of the words that it can be")]
    NoWord {
        /// As it was written.
        value: Value,
    },
    /// No such value.
    #[error("a {kind} has name, {} and hidden", all.join(", "))]
    Unknown {
        /// What was asked.
        kind: &'static str,
        /// What it has.
        all: Vec<&'static str>,
    },
    /// No such kind.
    #[error("{word:?} cannot be placed; a {} can", kinds.join(", a "))]
    NoKind {
        /// What was asked for.
        word: String,
        /// What there is.
        kinds: Vec<&'static str>,
    },
    /// A kind that shows a file, and none that it can show.
    #[error("a {kind} shows a {shows}; choose one")]
    NoAsset {
        /// The kind.
        kind: &'static str,
        /// What it shows.
        shows: &'static str,
    },
    /// A value that stays the same all the time.
    #[error("{name} cannot change over time; numbers and colours can")]
    NotKeyed {
        /// Which.
        name: String,
    },
    /// A value of copies where there are none.
    #[error("{name} is of copies, and there are none; set copies first, to row, ring, grid, path or scatter")]
    NoCopies {
        /// Which.
        name: String,
    },
    /// One of several.
    #[error("{name}: {why}")]
    Named {
        /// Which.
        name: String,
        /// What is wrong with it.
        why: Box<ValueError>,
    },
}

impl ValueError {
    /// The same, with the value's name.
    pub fn of(self, name: &str) -> Self {
        Self::Named { name: name.to_owned(), why: Box::new(self) }
    }
}

/// When a value is set.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum When {
    /// At a time, frames, where it changes over time, else for good.
    At(f64),
    /// With a key at a time, frames, from which it goes on so.
    Key(f64, Ease),
}

impl When {
    /// Puts a value where it belongs.
    pub fn put<T: Interpolate>(self, of: &mut Animated<T>, value: T) {
        match self {
            Self::At(frame) => of.set_at(frame, value),
            Self::Key(frame, ease) => {
                of.key_at(frame);
                of.set_at(frame, value);
                of.ease_at(frame, ease);
            }
        }
    }
}

/// A key as a step of a recipe says it: when, how it goes on, of which value, and what.
#[derive(Debug, Clone, PartialEq)]
pub struct ToldKey {
    /// Frames.
    pub frame: f64,
    /// How it goes on from there.
    pub ease: Ease,
    /// Of which value.
    pub name: String,
    /// What.
    pub value: Value,
}

/// Tells a value over time: a still one by its name, the keys of the others one by one.
pub fn tell<T: Interpolate>(
    name: &str,
    of: &Animated<T>,
    written: impl Fn(&T) -> Value,
    still: &mut Values,
    keys: &mut Vec<ToldKey>,
) {
    match of {
        Animated::Still(value) => {
            still.insert(name.to_owned(), written(value));
        }
        Animated::Curve(curve) => keys.extend(curve.keys().iter().map(|k| ToldKey {
            frame: k.frame,
            ease: k.ease,
            name: name.to_owned(),
            value: written(&k.value),
        })),
    }
}

/// How a value is typed.
#[derive(Debug, Clone, Copy)]
pub enum Input {
    /// Several lines.
    Lines,
    /// One line.
    Text,
    /// A number of a measure, stepped by the arrow keys.
    Number(Measure, f64),
    /// A colour, #rrggbb.
    Colour,
    /// One of some words.
    Choice(fn() -> Vec<&'static str>),
}

/// One value.
#[derive(Debug, Clone, Copy)]
pub struct Field {
    /// Its name in forms and recipes.
    pub name: &'static str,
    /// What it is called on the page.
    pub label: &'static str,
    /// How it is typed.
    pub input: Input,
}

impl Field {
    /// A number.
    pub const fn number(name: &'static str, label: &'static str, measure: Measure, step: f64) -> Self {
        Self { name, label, input: Input::Number(measure, step) }
    }

    /// Whether what was typed is another value than the one that is there.
    pub fn differs(&self, now: &Values, typed: &str) -> bool {
        match (now.get(self.name), self.input) {
            // What was not touched comes back as it went, to the last digit.
            (Some(now), Input::Number(..)) => now.as_f64() != typed.parse().ok(),
            (Some(now), _) => now.as_str() != Some(typed),
            (None, _) => true,
        }
    }
}

/// Sets those fields that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_anew(
    fields: impl Iterator<Item = &'static Field>,
    now: &Values,
    typed: &BTreeMap<String, String>,
    mut set: impl FnMut(&str, &Value) -> Result<bool, ValueError>,
) -> Result<(), ValueError> {
    for (name, typed) in typed_anew(fields, now, typed) {
        set(name, &Value::from(typed)).map_err(|why| why.of(name))?;
    }
    Ok(())
}

/// The names of those fields that were typed as others than are there, and what was typed.
pub fn typed_anew<'t>(
    fields: impl Iterator<Item = &'static Field>,
    now: &Values,
    typed: &'t BTreeMap<String, String>,
) -> Vec<(&'static str, &'t str)> {
    let typed = |f: &'static Field| Some((f, typed.get(f.name)?.as_str()));
    fields.filter_map(typed).filter(|(f, typed)| f.differs(now, typed)).map(|(f, typed)| (f.name, typed)).collect()
}

/// A number of a measure, as JSON has it.
///
/// # Errors
/// [`ValueError`] says what is wrong with it.
pub fn amount(value: &Value, measure: Measure) -> Result<f64, ValueError> {
    let amount: Amount =
        serde_json::from_value(value.clone()).map_err(|_| ValueError::NoNumber { value: value.clone() })?;
    Ok(amount.value(measure)?)
}

/// A text, as JSON has it.
///
/// # Errors
/// [`ValueError`] says what is wrong with it.
pub fn text(value: &Value) -> Result<String, ValueError> {
    value.as_str().map(str::to_owned).ok_or_else(|| ValueError::NoText { value: value.clone() })
}

/// One of some words, as JSON has it.
///
/// # Errors
/// [`ValueError::NoWord`].
pub fn word<T: serde::de::DeserializeOwned>(value: &Value) -> Result<T, ValueError> {
    serde_json::from_value(value.clone()).map_err(|_| ValueError::NoWord { value: value.clone() })
}

/// A colour, as JSON has it.
///
/// # Errors
/// [`ValueError`] says what is wrong with it.
pub fn colour(value: &Value) -> Result<[u8; 3], ValueError> {
    let text = text(value)?;
    let digits = text.strip_prefix('#').filter(|d| d.len() == 6 && d.chars().all(|c| c.is_ascii_hexdigit()));
    let number = digits.and_then(|d| u32::from_str_radix(d, 16).ok());
    let [_, r, g, b] = number.ok_or(ValueError::NoColour { text })?.to_be_bytes();
    Ok([r, g, b])
}

/// Whether something is so.
///
/// # Errors
/// [`ValueError::NoSwitch`].
pub fn switch(value: &Value) -> Result<bool, ValueError> {
    value.as_bool().ok_or_else(|| ValueError::NoSwitch { value: value.clone() })
}

/// A colour that may change over time as it is written.
pub fn written_light(colour: LightColour) -> String {
    written(colour.map(|v| v.round().clamp(0.0, 255.0) as u8))
}

/// A colour as it is written.
pub fn written([r, g, b]: [u8; 3]) -> String {
    format!("#{r:02x}{g:02x}{b:02x}")
}
