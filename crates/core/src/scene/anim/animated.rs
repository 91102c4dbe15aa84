//! One value or a curve.

use super::{Curve, Ease, Interpolate, Key};
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

    /// Gives it a key at a time, frames, with the value that it has then; what stays changes over time from now on.
    pub fn key_at(&mut self, frame: f64) {
        let value = self.at(frame);
        match self {
            Self::Still(_) => *self = Self::Curve(Curve { keys: vec![Key::smooth(frame, value)] }),
            Self::Curve(curve) => curve.set_at(frame, value),
        }
    }

    /// Says how it goes on from the key at a time, frames, where there is one.
    pub fn ease_at(&mut self, frame: f64, ease: Ease) {
        if let Self::Curve(curve) = self {
            curve.keys.iter_mut().filter(|k| k.frame == frame).for_each(|k| k.ease = ease);
        }
    }

    /// How it goes on from the key at a time, frames, where there is one.
    pub fn ease_of(&self, frame: f64) -> Option<Ease> {
        match self {
            Self::Still(_) => None,
            Self::Curve(curve) => curve.keys.iter().find(|k| k.frame == frame).map(|k| k.ease),
        }
    }

    /// Lets the key at a time, frames, go; without any, the value that it had stays.
    pub fn forget_key(&mut self, frame: f64) {
        let Self::Curve(curve) = self else { return };
        let value = curve.at(frame);
        curve.keys.retain(|k| k.frame != frame);
        if curve.keys.is_empty() {
            *self = Self::Still(value);
        }
    }

    /// Lets all keys go; the value of a time, frames, stays.
    pub fn forget_keys(&mut self, frame: f64) {
        *self = Self::Still(self.at(frame));
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

    #[test]
    fn keys_come_and_go_and_the_value_stays() {
        let mut value = Animated::Still(2.0);
        value.key_at(10.0);
        assert!(!value.changes() && value.at(-5.0) == 2.0 && value.key_frames().count() == 1);
        value.set_at(20.0, 6.0);
        value.ease_at(10.0, Ease::Linear);
        assert_eq!((value.changes(), value.at(15.0)), (true, 4.0));
        value.key_at(15.0);
        assert_eq!(value.key_frames().collect::<Vec<_>>(), [10.0, 15.0, 20.0]);
        assert_eq!(value.at(15.0), 4.0);
        value.forget_key(15.0);
        value.forget_key(20.0);
        value.forget_key(11.0);
        assert_eq!(value.at(99.0), 2.0);
        value.forget_key(10.0);
        assert_eq!(value, Animated::Still(2.0));
        let mut other = Animated::Still(1.0);
        other.key_at(0.0);
        other.set_at(10.0, 3.0);
        other.forget_keys(10.0);
        assert_eq!(other, Animated::Still(3.0));
    }
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
