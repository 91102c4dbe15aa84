//! What a person can set of an insert, as forms and recipes see it.

use super::{Amount, Measure, Values};
use serde_json::Value;

/// How a value is typed.
#[derive(Debug, Clone, Copy)]
pub enum Input {
    /// Several lines.
    Lines,
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

/// A colour, as JSON has it.
///
/// # Errors
/// What is wrong with it.
pub fn colour(value: &Value) -> Result<[u8; 3], String> {
    let text = text(value)?;
    let digits = text.strip_prefix('#').filter(|d| d.len() == 6 && d.chars().all(|c| c.is_ascii_hexdigit()));
    let number = digits.and_then(|d| u32::from_str_radix(d, 16).ok());
    let [_, r, g, b] = number.ok_or_else(|| format!("{text:?} is no colour; write it as #rrggbb"))?.to_be_bytes();
    Ok([r, g, b])
}

/// A colour as it is written.
pub fn written([r, g, b]: [u8; 3]) -> String {
    format!("#{r:02x}{g:02x}{b:02x}")
}
