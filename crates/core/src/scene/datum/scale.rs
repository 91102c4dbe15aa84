//! How long a metre is, and where that comes from.

use super::{Datum, DatumError};
use crate::geometry::Similarity;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// A real distance between two places.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Distance {
    /// World of the datum.
    pub from: [f64; 3],
    /// World of the datum.
    pub to: [f64; 3],
    /// As it was measured, metres.
    pub metres: f64,
}

impl Distance {
    /// As long as it is in the world of the datum.
    pub fn length(&self) -> f64 {
        (Vector3::from(self.to) - Vector3::from(self.from)).norm()
    }
}

/// Where the scale comes from.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(tag = "basis", rename_all = "kebab-case")]
pub enum ScaleBasis {
    /// Nothing was said of it.
    #[default]
    Unset,
    /// A guess: how high over the floor the camera may have been.
    Guessed {
        /// Metres.
        camera_height_m: f64,
    },
    /// A distance of which only its length is known, as earlier versions kept it, or a scale that was typed.
    Typed {
        /// Metres.
        metres: f64,
    },
    /// Distances between places, averaged.
    Measured {
        /// At least one.
        distances: Vec<Distance>,
    },
}

/// What measured distances say together.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ScaleReading {
    /// How many there are.
    pub distances: usize,
    /// How far the one farthest off lies from the mean, as a part of it; 0 for one alone.
    pub disagreement: f64,
}

impl ScaleBasis {
    pub(super) fn move_with(&mut self, by: &Similarity) {
        if let Self::Measured { distances } = self {
            for d in distances {
                d.from = by.point(Vector3::from(d.from)).into();
                d.to = by.point(Vector3::from(d.to)).into();
            }
        }
    }

    /// Whether something real speaks for it.
    pub fn is_known(&self) -> bool {
        matches!(self, Self::Typed { .. } | Self::Measured { .. })
    }

    /// The measured distances.
    pub fn distances(&self) -> &[Distance] {
        if let Self::Measured { distances } = self { distances } else { &[] }
    }

    /// What measured distances say together; `None` where there are none.
    pub fn reading(&self) -> Option<ScaleReading> {
        let all = self.distances();
        let off = all.iter().map(|d| (d.length() / d.metres - 1.0).abs()).fold(0.0, f64::max);
        (!all.is_empty())
            .then_some(ScaleReading { distances: all.len(), disagreement: if all.len() > 1 { off } else { 0.0 } })
    }
}

impl Datum {
    /// The datum with all its world `by` times as large.
    fn scaled(&self, by: f64) -> Self {
        self.moved(&Similarity { scale: by, ..Similarity::identity() })
    }

    /// The scale that a list of distances asks for together: the mean of their ratios, each by its length, in which
    /// the error of an end counts the less the longer it is.
    fn averaged(&self, distances: Vec<Distance>) -> Self {
        let weight = |d: &Distance| d.length().powi(2);
        let total: f64 = distances.iter().map(weight).sum();
        // Logarithms, so that twice as long and half as long are equally far off.
        let mean = distances.iter().map(|d| weight(d) * (d.metres / d.length()).ln()).sum::<f64>() / total;
        let mut datum = Self { scale: ScaleBasis::Measured { distances }, ..self.clone() };
        datum = datum.scaled(mean.exp());
        datum
    }

    fn measured(&self, a: Vector3<f64>, b: Vector3<f64>, metres: f64) -> Result<Distance, DatumError> {
        let [from, to] = [a, b].map(|p| self.world_from_solve.point(p));
        if !(metres.is_finite() && metres > 0.0) {
            return Err(DatumError::NoDistance);
        }
        if !((to - from).norm() > 1e-12) {
            return Err(DatumError::OnePlace);
        }
        Ok(Distance { from: from.into(), to: to.into(), metres })
    }

    /// Sets the scale so that two points of the solve's world are `distance_m` apart; distances measured before are
    /// let go.
    ///
    /// # Errors
    /// [`DatumError`] when the distance or the points cannot give a scale.
    pub fn with_distance(&self, a: Vector3<f64>, b: Vector3<f64>, distance_m: f64) -> Result<Self, DatumError> {
        Ok(self.averaged(vec![self.measured(a, b, distance_m)?]))
    }

    /// Adds a measured distance between two points of the solve's world; the scale is then the mean of all.
    ///
    /// # Errors
    /// As [`Datum::with_distance`].
    pub fn with_another_distance(&self, a: Vector3<f64>, b: Vector3<f64>, distance_m: f64) -> Result<Self, DatumError> {
        let mut distances = self.scale.distances().to_vec();
        distances.push(self.measured(a, b, distance_m)?);
        Ok(self.averaged(distances))
    }

    /// Lets a measured distance go; the scale is the mean of the others, or stays where it was the last.
    ///
    /// # Errors
    /// [`DatumError::NoSuchDistance`].
    pub fn without_distance(&self, index: usize) -> Result<Self, DatumError> {
        let mut distances = self.scale.distances().to_vec();
        if index >= distances.len() {
            return Err(DatumError::NoSuchDistance { index });
        }
        distances.remove(index);
        if distances.is_empty() {
            return Ok(Self { scale: ScaleBasis::Unset, ..self.clone() });
        }
        Ok(self.averaged(distances))
    }

    /// The scale by a factor that is typed.
    ///
    /// # Errors
    /// [`DatumError::NotSound`] for one that is none.
    pub fn with_scale_by(&self, factor: f64) -> Result<Self, DatumError> {
        if !(factor.is_finite() && factor > 1e-9 && factor < 1e9) {
            return Err(DatumError::NotSound);
        }
        Ok(Self { scale: ScaleBasis::Typed { metres: factor }, ..self.scaled(factor) })
    }

    /// The scale so that the cameras are so high over the floor in the median; said to be a guess.
    ///
    /// # Errors
    /// [`DatumError`] where the height is none, or there are no cameras over the floor.
    pub fn with_camera_height(&self, eyes: &[Vector3<f64>], metres: f64, guessed: bool) -> Result<Self, DatumError> {
        if !(metres.is_finite() && metres > 0.0) {
            return Err(DatumError::NoDistance);
        }
        let mut heights: Vec<f64> = eyes.iter().map(|e| self.world_from_solve.point(*e).y).collect();
        heights.sort_by(f64::total_cmp);
        let height = heights.get(heights.len() / 2).copied().unwrap_or_default();
        if !(height > 1e-12) {
            return Err(DatumError::OnePlace);
        }
        let scale =
            if guessed { ScaleBasis::Guessed { camera_height_m: metres } } else { ScaleBasis::Typed { metres } };
        Ok(Self { scale, ..self.scaled(metres / height) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn several_distances_are_averaged_and_their_disagreement_is_told() {
        let at = |x: f64| Vector3::new(x, 0.0, 0.0);
        let one = Datum::default().with_distance(at(0.0), at(2.0), 4.0).unwrap();
        assert!((one.world_from_solve.scale - 2.0).abs() < 1e-12 && one.scale.reading().unwrap().disagreement == 0.0);
        let two = one.with_another_distance(at(5.0), at(7.0), 4.4).unwrap();
        assert!((two.world_from_solve.scale - (2.0f64 * 2.2).sqrt()).abs() < 1e-9, "{}", two.world_from_solve.scale);
        let told = two.scale.reading().unwrap();
        assert!(told.distances == 2 && (told.disagreement - 0.0488).abs() < 2e-3, "{told:?}");
        let back = two.without_distance(1).unwrap();
        assert!((back.world_from_solve.scale - 2.0).abs() < 1e-9);
        assert_eq!(back.without_distance(0).unwrap().scale, ScaleBasis::Unset);
        assert!(back.without_distance(3).is_err());
        // They stay with their places.
        let moved = two.nudged([10.0, 20.0, 30.0], [1.0, 2.0, 3.0]).with_scale_by(3.0).unwrap();
        assert_eq!(moved.scale, ScaleBasis::Typed { metres: 3.0 });
    }

    #[test]
    fn the_height_of_the_camera_gives_a_scale() {
        let eyes = [Vector3::new(0.0, 2.0, 0.0), Vector3::new(1.0, 2.0, 0.0), Vector3::new(2.0, 5.0, 0.0)];
        let datum = Datum::default().with_camera_height(&eyes, 1.6, true).unwrap();
        assert!((datum.world_from_solve.scale - 0.8).abs() < 1e-12 && !datum.scale.is_known());
        assert!(Datum::default().with_camera_height(&eyes, -1.0, true).is_err());
        assert!(Datum::default().with_camera_height(&[Vector3::zeros()], 1.6, true).is_err());
    }
}
