//! Curves through keys.

use super::Interpolate;
use serde::{Deserialize, Serialize};

/// Farthest frame of a key: beyond that differences of frames lose their parts.
const MOST_FRAMES: f64 = 1e7;

/// How a value goes from a key to the next.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ease {
    /// It stays, and jumps at the next key.
    Hold,
    /// Straight on.
    Linear,
    /// Without a corner at either key, and never beyond them.
    #[default]
    Smooth,
    /// Straight, from rest to ever faster.
    Leaves,
    /// Straight, ever slower, and at rest at the next key.
    Lands,
    /// Straight, from rest to rest.
    Rests,
}

impl Ease {
    /// All ways.
    pub const ALL: [Self; 6] = [Self::Smooth, Self::Linear, Self::Leaves, Self::Lands, Self::Rests, Self::Hold];

    /// Its word in documents and recipes.
    pub fn word(self) -> &'static str {
        match self {
            Self::Hold => "hold",
            Self::Linear => "linear",
            Self::Smooth => "smooth",
            Self::Leaves => "leaves",
            Self::Lands => "lands",
            Self::Rests => "rests",
        }
    }
}

/// A value at a time.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Key<T> {
    /// Frame of the trimmed clip; those before its first count too.
    pub frame: f64,
    /// The value there.
    pub value: T,
    /// How it goes on from here.
    #[serde(default)]
    pub ease: Ease,
}

impl<T> Key<T> {
    /// A key from which the value goes on smoothly.
    pub fn smooth(frame: f64, value: T) -> Self {
        Self { frame, value, ease: Ease::Smooth }
    }
}

/// A value that changes over time: it passes through its keys and is held before the first and after the last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Written<T>")]
pub struct Curve<T> {
    /// At least one, by rising frame.
    pub(super) keys: Vec<Key<T>>,
}

/// The same, before its keys were looked at.
#[derive(Deserialize)]
struct Written<T> {
    keys: Vec<Key<T>>,
}

impl<T> TryFrom<Written<T>> for Curve<T> {
    type Error = CurveError;

    fn try_from(written: Written<T>) -> Result<Self, CurveError> {
        Self::new(written.keys)
    }
}

/// What can be wrong with a curve.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum CurveError {
    /// A curve without a key says nothing.
    #[error("a value that changes has no keys; give it at least one")]
    NoKeys,
    /// Keys must stand in the order of their frames.
    #[error("a value has its keys out of order at frame {frame}; sort them by frame, one key a frame")]
    Order {
        /// Frame of the key.
        frame: f64,
    },
    /// A time is no number.
    #[error("a value has a key at no frame of any clip; give it a number within {MOST_FRAMES}")]
    NotFinite,
}

impl<T> Curve<T> {
    /// Its keys, by rising frame.
    pub fn keys(&self) -> &[Key<T>] {
        &self.keys
    }

    /// A curve through keys.
    ///
    /// # Errors
    /// [`CurveError`] where there are none, or they are out of order.
    pub fn new(keys: Vec<Key<T>>) -> Result<Self, CurveError> {
        if keys.is_empty() {
            return Err(CurveError::NoKeys);
        }
        if keys.iter().any(|k| !(k.frame.abs() <= MOST_FRAMES)) {
            return Err(CurveError::NotFinite);
        }
        match keys.windows(2).find(|w| w[1].frame <= w[0].frame) {
            Some(pair) => Err(CurveError::Order { frame: pair[1].frame }),
            None => Ok(Self { keys }),
        }
    }
}

impl<T: Interpolate> Curve<T> {
    /// Makes it a value at a time, frames: a key that is there keeps how it goes on, a new one goes on smoothly.
    pub fn set_at(&mut self, frame: f64, value: T) {
        let at = self.keys.partition_point(|k| k.frame < frame);
        match self.keys.get_mut(at).filter(|k| k.frame == frame) {
            Some(key) => key.value = value,
            None => self.keys.insert(at, Key::smooth(frame, value)),
        }
    }

    /// The value at a time, frames.
    pub fn at(&self, frame: f64) -> T {
        let after = self.keys.partition_point(|k| k.frame <= frame);
        let (Some(i), Some(b)) = (after.checked_sub(1), self.keys.get(after)) else {
            return self.keys[after.min(self.keys.len() - 1)].value.clone();
        };
        let a = &self.keys[i];
        let t = (frame - a.frame) / (b.frame - a.frame);
        match a.ease {
            Ease::Hold => a.value.clone(),
            Ease::Linear => between(&a.value, &b.value, t),
            Ease::Leaves => between(&a.value, &b.value, t * t),
            Ease::Lands => between(&a.value, &b.value, t * (2.0 - t)),
            Ease::Rests => between(&a.value, &b.value, t * t * (3.0 - 2.0 * t)),
            Ease::Smooth => {
                let third = (b.frame - a.frame) / 3.0;
                let c = a.value.stepped(self.tangent(i).map(|v| v * third));
                let d = b.value.stepped(self.tangent(i + 1).map(|v| -v * third));
                // de Casteljau's construction, which needs nothing but steps.
                let (e, f, g) = (between(&a.value, &c, t), between(&c, &d, t), between(&d, &b.value, t));
                between(&between(&e, &f, t), &between(&f, &g, t), t)
            }
        }
    }

    /// Change per frame at a key: a mean of what it is on either side that never overshoots (Fritsch & Butland, "A
    /// Method for Constructing Local Monotone Piecewise Cubic Interpolants", 1984), none at the ends.
    fn tangent(&self, i: usize) -> [f64; 3] {
        let (Some(before), Some(after)) = (i.checked_sub(1), self.keys.get(i + 1)) else { return [0.0; 3] };
        let (before, key) = (&self.keys[before], &self.keys[i]);
        let (h0, h1) = (key.frame - before.frame, after.frame - key.frame);
        let (d0, d1) = (before.value.step_to(&key.value), key.value.step_to(&after.value));
        std::array::from_fn(|k| {
            let (d0, d1) = (d0[k] / h0, d1[k] / h1);
            if d0 * d1 <= 0.0 {
                return 0.0;
            }
            let (w0, w1) = (2.0 * h1 + h0, h1 + 2.0 * h0);
            (w0 + w1) / (w0 / d0 + w1 / d1)
        })
    }
}

fn between<T: Interpolate>(a: &T, b: &T, t: f64) -> T {
    a.stepped(a.step_to(b).map(|v| v * t))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::anim::Rotation;
    use proptest::prelude::*;

    fn made(ease: Ease, keys: &[(f64, f64)]) -> Result<Curve<f64>, CurveError> {
        Curve::new(keys.iter().map(|(frame, value)| Key { frame: *frame, value: *value, ease }).collect())
    }

    fn curve(ease: Ease, keys: &[(f64, f64)]) -> Curve<f64> {
        made(ease, keys).unwrap()
    }

    #[test]
    fn a_value_holds_goes_straight_or_eases_and_is_held_outside() {
        let keys = [(10.0, 2.0), (20.0, 6.0)];
        let quarters = [
            (Ease::Hold, 2.0),
            (Ease::Linear, 3.0),
            (Ease::Smooth, 2.625),
            (Ease::Leaves, 2.25),
            (Ease::Lands, 3.75),
            (Ease::Rests, 2.625),
        ];
        assert!(Ease::ALL.iter().all(|e| quarters.iter().any(|(q, _)| q == e)));
        for (ease, quarter) in quarters {
            assert_eq!(serde_json::to_string(&ease).unwrap(), format!("\"{}\"", ease.word()));
            let c = curve(ease, &keys);
            assert_eq!([c.at(-5.0), c.at(10.0), c.at(20.0), c.at(99.0)], [2.0, 2.0, 6.0, 6.0], "{ease:?}");
            // Smooth ends at rest: 4 (3 t^2 - 2 t^3) more at a quarter of the way.
            assert!((c.at(12.5) - quarter).abs() < 1e-12, "{ease:?}: {}", c.at(12.5));
        }
        assert_eq!(curve(Ease::Smooth, &[(3.0, 7.0)]).at(0.0), 7.0);
    }

    #[test]
    fn a_smooth_turn_at_a_steady_pace_stays_steady() {
        let turned = |deg: f64| Rotation::from_turn_lean_roll([deg, 0.0, 0.0]);
        let keys = (0..6).map(|i| {
            let i = f64::from(i);
            Key::smooth(10.0 * i, turned(70.0 * i))
        });
        let c = Curve::new(keys.collect()).unwrap();
        let [turn, lean, roll] = c.at(24.0).turn_lean_roll();
        assert!((turn - 168.0).abs() < 1e-9 && lean.abs() < 1e-9 && roll.abs() < 1e-9, "{turn} {lean} {roll}");
    }

    #[test]
    fn bad_curves_are_named() {
        assert_eq!(made(Ease::Hold, &[]), Err(CurveError::NoKeys));
        assert_eq!(made(Ease::Hold, &[(3.0, 0.0), (3.0, 1.0)]), Err(CurveError::Order { frame: 3.0 }));
        for frame in [f64::NAN, f64::INFINITY, 1e300] {
            assert_eq!(made(Ease::Hold, &[(frame, 0.0)]), Err(CurveError::NotFinite));
        }
    }

    proptest! {
        #[test]
        fn a_smooth_curve_passes_its_keys_and_never_overshoots(
            values in prop::collection::vec(-50f64..50.0, 2..7),
            steps in prop::collection::vec(0.5f64..20.0, 7),
            t in 0f64..1.0,
        ) {
            let mut frame = 0.0;
            let keys: Vec<_> = values.iter().zip(&steps).map(|(v, step)| { frame += step; (frame, *v) }).collect();
            let c = curve(Ease::Smooth, &keys);
            for pair in keys.windows(2) {
                let ((a, low), (b, high)) = (pair[0], pair[1]);
                prop_assert!((c.at(a) - low).abs() < 1e-9);
                let v = c.at(a + t * (b - a));
                prop_assert!(v >= low.min(high) - 1e-9 && v <= low.max(high) + 1e-9, "{v} between {low} and {high}");
            }
        }
    }
}
