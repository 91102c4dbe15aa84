//! One value or a curve.

use super::{Curve, Interpolate};
use serde::{Deserialize, Serialize};

/// A value that stays or changes over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Animated<T> {
    /// It stays; written as the value itself.
    Still(T),
    /// It changes; written as an object with keys.
    Curve(Curve<T>),
}

impl<T: Default> Default for Animated<T> {
    fn default() -> Self {
        Self::Still(T::default())
    }
}

impl<T> From<T> for Animated<T> {
    fn from(value: T) -> Self {
        Self::Still(value)
    }
}

impl<T: Interpolate> Animated<T> {
    /// The value at a time, frames of the trimmed clip.
    pub fn at(&self, frame: f64) -> T {
        match self {
            Self::Still(value) => value.clone(),
            Self::Curve(curve) => curve.at(frame),
        }
    }

    /// Whether it changes.
    pub fn changes(&self) -> bool {
        matches!(self, Self::Curve(curve) if curve.keys.len() > 1)
    }

    /// Times of its keys, frames; none where it stays.
    pub fn key_frames(&self) -> impl Iterator<Item = f64> + '_ {
        let keys = match self {
            Self::Still(_) => &[][..],
            Self::Curve(curve) => &curve.keys,
        };
        keys.iter().map(|k| k.frame)
    }

    /// Makes it this value: at a time, frames, where it changes over time, else for good.
    pub fn set_at(&mut self, frame: f64, value: T) {
        match self {
            Self::Still(now) => *now = value,
            Self::Curve(curve) => curve.set_at(frame, value),
        }
    }

    /// Makes another of every value.
    pub fn map(&mut self, mut with: impl FnMut(&T) -> T) {
        match self {
            Self::Still(value) => *value = with(value),
            Self::Curve(curve) => curve.keys.iter_mut().for_each(|k| k.value = with(&k.value)),
        }
    }

    /// Moves it in time by frames.
    pub fn shift(&mut self, by: f64) {
        if let Self::Curve(curve) = self {
            curve.keys.iter_mut().for_each(|k| k.frame += by);
        }
    }

    /// Checks every value.
    ///
    /// # Errors
    /// What `check` says of the first value that it refuses.
    pub fn validate<E>(&self, mut check: impl FnMut(&T) -> Result<(), E>) -> Result<(), E> {
        match self {
            Self::Still(value) => check(value),
            Self::Curve(curve) => curve.keys.iter().try_for_each(|k| check(&k.value)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_stays_is_written_as_it_is_and_what_changes_with_its_keys() {
        let still: Animated<f64> = serde_json::from_value(json!(1.5)).unwrap();
        assert_eq!((still.clone(), serde_json::to_value(&still).unwrap()), (Animated::Still(1.5), json!(1.5)));
        let written = json!({ "keys": [
            { "frame": 4.0, "value": [0.0, 1.0, 2.0], "ease": "linear" },
            { "frame": 8.0, "value": [4.0, 1.0, 2.0], "ease": "smooth" },
        ] });
        let mut place: Animated<[f64; 3]> = serde_json::from_value(written.clone()).unwrap();
        assert_eq!(serde_json::to_value(&place).unwrap(), written);
        assert_eq!((place.at(6.0), place.changes()), ([2.0, 1.0, 2.0], true));
        place.shift(-6.0);
        place.map(|v| v.map(|x| 2.0 * x));
        assert_eq!((place.at(0.0), place.key_frames().collect::<Vec<_>>()), ([4.0, 2.0, 4.0], vec![-2.0, 2.0]));
        place.set_at(1.0, [9.0; 3]);
        place.set_at(2.0, [1.0; 3]);
        assert_eq!(place.key_frames().collect::<Vec<_>>(), [-2.0, 1.0, 2.0]);
        assert_eq!((place.at(1.0), place.at(2.0)), ([9.0; 3], [1.0; 3]));
        let mut still = still;
        still.set_at(7.0, 3.0);
        assert_eq!(still, Animated::Still(3.0));
        assert!(place.validate(|v| if v[0] > 7.0 { Err("far".to_owned()) } else { Ok(()) }).is_err());
    }
}
