//! Numbers as people write them: with a unit, with another unit, as a sum. `static/js/math/values.js` reads the same;
//! both are tested against `e2e/golden/quantities.json`.

use serde::{Deserialize, Serialize};

/// What is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Measure {
    /// Metres.
    Length,
    /// Degrees.
    Angle,
    /// A number without a unit.
    Plain,
}

impl Measure {
    /// As the fields of the page name it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Length => "length",
            Self::Angle => "angle",
            Self::Plain => "plain",
        }
    }

    /// How a unit may be written.
    fn with_units(self) -> String {
        let units: Vec<&str> = self.units().iter().map(|u| u.0).collect();
        if units.is_empty() { String::new() } else { format!(", with a unit or without ({})", units.join(", ")) }
    }

    /// The units that may be written, each with what it is of the usual one.
    fn units(self) -> &'static [(&'static str, f64)] {
        match self {
            Self::Length => &[("m", 1.0), ("cm", 0.01), ("mm", 0.001), ("km", 1000.0), ("ft", 0.3048), ("in", 0.0254)],
            Self::Angle => &[("deg", 1.0), ("°", 1.0), ("rad", 180.0 / std::f64::consts::PI), ("turn", 360.0)],
            Self::Plain => &[],
        }
    }
}

/// A number that is none.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{text:?} is no number here; write it as 1.2 or 1.2 + 0.3{}", measure.with_units())]
pub struct QuantityError {
    /// As it was written.
    pub text: String,
    /// What was asked for.
    pub measure: Measure,
}

/// A number with its unit as text, or a plain number in the usual unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Amount {
    /// In the usual unit: metres, degrees, px.
    Number(f64),
    /// As people write it.
    Text(String),
}

impl Amount {
    /// Its value in the usual unit of a measure.
    ///
    /// # Errors
    /// [`QuantityError`] says how to write it.
    pub fn value(&self, measure: Measure) -> Result<f64, QuantityError> {
        match self {
            Self::Number(v) => Ok(*v),
            Self::Text(text) => read(text, measure),
        }
    }
}

/// Reads a number of a measure; one without a unit is in the usual one (metres, degrees).
///
/// # Errors
/// [`QuantityError`] says how to write it.
pub fn read(text: &str, measure: Measure) -> Result<f64, QuantityError> {
    let wrong = || QuantityError { text: text.to_owned(), measure };
    let mut rest = text.trim();
    let (mut sum, mut first) = (0.0, true);
    while first || !rest.is_empty() {
        let (sign, after) = match rest.chars().next() {
            Some('-' | '−') => (-1.0, rest[rest.chars().next().map_or(1, char::len_utf8)..].trim_start()),
            Some('+') => (1.0, rest[1..].trim_start()),
            _ if first => (1.0, rest),
            _ => return Err(wrong()),
        };
        first = false;
        let digits = number_length(after);
        let value: f64 = after[..digits].replace(',', ".").parse().map_err(|_| wrong())?;
        let tail = after[digits..].trim_start();
        let unit_length = tail.find(|c: char| !(c.is_alphabetic() || c == '°')).unwrap_or(tail.len());
        let unit = tail[..unit_length].to_lowercase();
        let factor =
            if unit.is_empty() { 1.0 } else { measure.units().iter().find(|u| u.0 == unit).ok_or_else(wrong)?.1 };
        sum += sign * value * factor;
        rest = tail[unit_length..].trim_start();
    }
    if sum.is_finite() { Ok(sum) } else { Err(wrong()) }
}

/// Bytes of the number that a text begins with: digits, one point or comma, an exponent.
fn number_length(text: &str) -> usize {
    let bytes = text.as_bytes();
    let digits = |from: usize| from + bytes[from.min(bytes.len())..].iter().take_while(|b| b.is_ascii_digit()).count();
    let mut at = digits(0);
    if matches!(bytes.get(at), Some(b'.' | b',')) {
        at = digits(at + 1);
    }
    if at > 0 && matches!(bytes.get(at), Some(b'e' | b'E')) {
        let sign = at + 1 + usize::from(matches!(bytes.get(at + 1), Some(b'+' | b'-')));
        let end = digits(sign);
        if end > sign {
            at = end;
        }
    }
    at
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_write_is_read_as_the_page_reads_it() {
        #[derive(serde::Deserialize)]
        struct Case {
            text: String,
            measure: Measure,
            value: Option<f64>,
        }
        let cases: Vec<Case> = serde_json::from_str(include_str!("../../../../e2e/golden/quantities.json")).unwrap();
        assert!(cases.len() > 20);
        for Case { text, measure, value } in cases {
            match (read(&text, measure), value) {
                (Ok(found), Some(wanted)) => {
                    assert!((found - wanted).abs() < 1e-9 * wanted.abs().max(1.0), "{text}: {found}, not {wanted}")
                }
                (Err(_), None) => {}
                (found, wanted) => panic!("{text}: {found:?}, not {wanted:?}"),
            }
        }
    }
}
