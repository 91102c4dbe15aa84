//! Many numbers by name, of which most are as usual.

use super::{Animated, Ease, Track};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What a number may be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NumberRule {
    /// Its name in documents and recipes.
    pub name: &'static str,
    /// What it is where nothing is said.
    pub usual: f64,
    /// Least.
    pub low: f64,
    /// Most.
    pub high: f64,
}

impl NumberRule {
    /// A number between two ends.
    pub const fn new(name: &'static str, usual: f64, low: f64, high: f64) -> Self {
        Self { name, usual, low, high }
    }
}

/// A number that cannot be.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum NumberError {
    /// Out of its range.
    #[error("{name} lies between {low} and {high}")]
    Range {
        /// Which.
        name: &'static str,
        /// Least.
        low: f64,
        /// Most.
        high: f64,
    },
    /// None of that name.
    #[error("there is no number {name:?}")]
    Unknown {
        /// As it was written.
        name: String,
    },
}

/// Numbers by name, each still or a curve; those that are as usual are left out.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Numbers(BTreeMap<String, Animated<f64>>);

impl Numbers {
    /// Whether all are as usual.
    pub fn is_usual(&self) -> bool {
        self.0.is_empty()
    }

    /// One at a time, frames.
    pub fn at(&self, rule: &NumberRule, frame: f64) -> f64 {
        self.0.get(rule.name).map_or(rule.usual, |v| v.at(frame))
    }

    /// Makes one this value: at a time, frames, where it changes over time, else for good.
    pub fn set_at(&mut self, rule: &NumberRule, frame: f64, value: f64) {
        self.with(rule, |v| v.set_at(frame, value));
    }

    /// Gives one a key with a value at a time, frames, and says how it goes on from there.
    pub fn key_at(&mut self, rule: &NumberRule, frame: f64, value: f64, ease: Ease) {
        self.with(rule, |v| {
            v.key_at(frame);
            v.set_at(frame, value);
            v.ease_at(frame, ease);
        });
    }

    /// Does something to one over time.
    pub fn with<R>(&mut self, rule: &NumberRule, act: impl FnOnce(&mut Animated<f64>) -> R) -> R {
        let slot = self.0.entry(rule.name.to_owned()).or_insert_with(|| rule.usual.into());
        let done = act(slot);
        if *slot == Animated::Still(rule.usual) {
            self.0.remove(rule.name);
        }
        done
    }

    /// Those that are other than usual, by name.
    pub fn told(&self) -> impl Iterator<Item = (&str, &Animated<f64>)> {
        self.0.iter().map(|(name, value)| (name.as_str(), value))
    }

    /// Those that have keys, by name.
    pub fn tracks(&mut self) -> impl Iterator<Item = (&str, &mut dyn Track)> {
        let keyed = |v: &Animated<f64>| matches!(v, Animated::Curve(_));
        self.0.iter_mut().filter(move |(_, v)| keyed(v)).map(|(name, v)| (name.as_str(), v as &mut dyn Track))
    }

    /// Whether any changes over time.
    pub fn changes(&self) -> bool {
        self.0.values().any(Animated::changes)
    }

    /// Moves them in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.0.values_mut().for_each(|v| v.shift(by));
    }

    /// Checks every one.
    ///
    /// # Errors
    /// The first [`NumberError`].
    pub fn validate(&self, rules: &[NumberRule]) -> Result<(), NumberError> {
        for (name, value) in &self.0 {
            let rule = rules.iter().find(|r| r.name == name);
            let NumberRule { name, low, high, .. } =
                *rule.ok_or_else(|| NumberError::Unknown { name: name.clone() })?;
            let within = |v: &f64| {
                if (low..=high).contains(v) { Ok(()) } else { Err(NumberError::Range { name, low, high }) }
            };
            value.validate(within)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RULES: [NumberRule; 2] =
        [NumberRule::new("exposure", 0.0, -8.0, 8.0), NumberRule::new("contrast", 1.0, 0.0, 4.0)];

    #[test]
    fn what_is_usual_is_left_out_and_what_is_keyed_is_kept() {
        let mut all = Numbers::default();
        all.set_at(&RULES[0], 0.0, 2.0);
        all.set_at(&RULES[1], 0.0, 1.5);
        all.set_at(&RULES[1], 3.0, 1.0);
        assert_eq!(serde_json::to_string(&all).unwrap(), r#"{"exposure":2.0}"#);
        all.key_at(&RULES[1], 0.0, 1.0, Ease::Smooth);
        all.key_at(&RULES[1], 10.0, 3.0, Ease::Smooth);
        assert_eq!((all.at(&RULES[1], 5.0), all.at(&RULES[0], 5.0), all.changes()), (2.0, 2.0, true));
        assert_eq!(
            all.tracks().map(|(name, t)| (name.to_owned(), t.key_frames())).collect::<Vec<_>>(),
            [("contrast".to_owned(), vec![0.0, 10.0])]
        );
        let back: Numbers = serde_json::from_str(&serde_json::to_string(&all).unwrap()).unwrap();
        assert_eq!(back, all);
        assert_eq!(all.validate(&RULES), Ok(()));
        all.key_at(&RULES[1], 4.0, 9.0, Ease::Smooth);
        assert!(all.validate(&RULES).unwrap_err().to_string().contains("contrast"));
        assert!(all.validate(&RULES[..1]).is_err());
    }
}
