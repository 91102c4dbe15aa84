//! Values as forms show them.

use crate::engine::kinds::{Field, Input, Values};

/// A value as the form shows it.
pub struct Line {
    pub field: Field,
    pub value: String,
    /// What it began with, where that is another.
    pub began: Option<String>,
    /// Whether it changes over time.
    pub keyed: bool,
}

fn written(value: Option<&serde_json::Value>) -> String {
    match value {
        Some(serde_json::Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
        None => String::new(),
    }
}

impl Line {
    /// A field among all values, and what they began with.
    pub fn of(field: &Field, values: &Values, began: Option<&Values>, keyed: bool) -> Self {
        let now = values.get(field.name);
        let then = began.and_then(|b| b.get(field.name)).filter(|then| !same(now, then));
        Self { field: *field, value: written(now), began: then.map(|t| written(Some(t))), keyed }
    }

    /// A number with its measure and step.
    pub fn number(&self) -> Option<(&'static str, f64, f64)> {
        match self.field.input {
            Input::Number(measure, step) => Some((measure.word(), step, self.value.parse().unwrap_or_default())),
            _ => None,
        }
    }

    /// The words that there are, where it is one of several.
    pub fn choices(&self) -> Option<Vec<&'static str>> {
        match self.field.input {
            Input::Choice(of) => Some(of()),
            _ => None,
        }
    }

    /// Whether it can change over time.
    pub fn can_change(&self) -> bool {
        matches!(self.field.input, Input::Number(..) | Input::Colour)
    }

    /// Whether it is a colour.
    pub fn is_colour(&self) -> bool {
        matches!(self.field.input, Input::Colour)
    }

    /// Whether it has several lines.
    pub fn is_long(&self) -> bool {
        matches!(self.field.input, Input::Lines)
    }

    /// Whether it needs the whole breadth.
    pub fn is_wide(&self) -> bool {
        matches!(self.field.input, Input::Lines | Input::Text) || self.field.name == "font"
    }
}

/// Whether two values look the same.
fn same(now: Option<&serde_json::Value>, then: &serde_json::Value) -> bool {
    match (now.and_then(serde_json::Value::as_f64), then.as_f64()) {
        (Some(a), Some(b)) => (a - b).abs() <= 5e-4,
        _ => now == Some(then),
    }
}
