//! Similarity transforms of space.

use super::{Pose, nearest_rotation};
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// `to = scale * rotation * from + translation`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Similarity {
    /// Above zero.
    pub scale: f64,
    /// Turn.
    pub rotation: Rotation3<f64>,
    /// Shift, in the units of the target.
    pub translation: Vector3<f64>,
}

impl Similarity {
    /// Leaves everything in place.
    pub fn identity() -> Self {
        Self { scale: 1.0, rotation: Rotation3::identity(), translation: Vector3::zeros() }
    }

    /// Whether every number is finite, the turn is one (no mirror, nothing stretched) and the scale is above zero.
    pub fn is_sound(&self) -> bool {
        self.scale.is_finite()
            && self.scale > 0.0
            && self.translation.iter().all(|v| v.is_finite())
            && is_rotation(&self.rotation)
    }

    /// Moves a point.
    #[inline]
    pub fn point(&self, p: Vector3<f64>) -> Vector3<f64> {
        self.rotation * p * self.scale + self.translation
    }

    /// The way back.
    pub fn inverse(&self) -> Self {
        let rotation = self.rotation.inverse();
        Self { scale: 1.0 / self.scale, rotation, translation: -(rotation * self.translation) / self.scale }
    }

    /// First `self`, then `next`.
    pub fn then(&self, next: &Self) -> Self {
        Self {
            scale: self.scale * next.scale,
            rotation: next.rotation * self.rotation,
            translation: next.point(self.translation),
        }
    }

    /// The camera that sees, in the moved world, what `pose` sees in the world as it is. Depths grow
    /// by the scale; pixels stay.
    pub fn pose(&self, pose: &Pose) -> Pose {
        let rotation = pose.rotation * self.rotation.inverse();
        Pose { rotation, translation: pose.translation * self.scale - rotation * self.translation }
    }
}

/// How far a stored turn may be from one, as the largest entry of `R R^T - 1`: rounding of thousands of products stays
/// far below it.
const TURN_TOLERANCE: f64 = 1e-6;

/// Whether a matrix that was read as a turn is one.
pub fn is_rotation(rotation: &Rotation3<f64>) -> bool {
    let m = rotation.matrix();
    let off = (m * m.transpose() - Matrix3::identity()).amax();
    off.is_finite() && off < TURN_TOLERANCE && m.determinant() > 0.0
}

/// The similarity that takes `from` onto `to` with the least squares (Umeyama, "Least-Squares
/// Estimation of Transformation Parameters", 1991). `None` under 3 points or when they coincide.
pub fn fit_similarity(from: &[Vector3<f64>], to: &[Vector3<f64>]) -> Option<Similarity> {
    if from.len() != to.len() || from.len() < 3 {
        return None;
    }
    let n = from.len() as f64;
    let mean_from: Vector3<f64> = from.iter().sum::<Vector3<f64>>() / n;
    let mean_to: Vector3<f64> = to.iter().sum::<Vector3<f64>>() / n;
    let mut cross = Matrix3::zeros();
    let mut spread = 0.0;
    for (a, b) in from.iter().zip(to) {
        let (a, b) = (a - mean_from, b - mean_to);
        cross += b * a.transpose();
        spread += a.norm_squared();
    }
    if !(spread > 1e-300 && spread.is_finite()) {
        return None;
    }
    let rotation = nearest_rotation(&cross)?;
    let scale = (rotation.matrix().transpose() * cross).trace() / spread;
    (scale > 0.0).then(|| Similarity { scale, rotation, translation: mean_to - rotation * mean_from * scale })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn vector() -> impl Strategy<Value = Vector3<f64>> {
        (-3.0f64..3.0, -3.0f64..3.0, -3.0f64..3.0).prop_map(|(x, y, z)| Vector3::new(x, y, z))
    }

    #[test]
    fn mirrors_stretched_turns_and_what_is_no_number_are_told() {
        let good = Similarity {
            scale: 2.0,
            rotation: Rotation3::new(Vector3::new(0.3, -1.0, 2.0)),
            translation: Vector3::x(),
        };
        assert!(good.is_sound() && Similarity::identity().is_sound());
        let turned = |m: Matrix3<f64>| Similarity { rotation: Rotation3::from_matrix_unchecked(m), ..good };
        let mirror = Matrix3::from_diagonal(&Vector3::new(1.0, 1.0, -1.0));
        for bad in [
            turned(mirror),
            turned(Matrix3::identity() * 1.01),
            turned(Matrix3::zeros()),
            turned(Matrix3::repeat(f64::NAN)),
            Similarity { scale: -1.0, ..good },
            Similarity { scale: f64::INFINITY, ..good },
            Similarity { translation: Vector3::new(f64::NAN, 0.0, 0.0), ..good },
        ] {
            assert!(!bad.is_sound(), "{bad:?}");
        }
    }

    proptest! {
        #[test]
        fn a_similarity_is_found_again_and_its_inverse_undoes_it(
            points in prop::collection::vec(vector(), 4..12), w in vector(), t in vector(), scale in 0.01f64..100.0,
        ) {
            let truth = Similarity { scale, rotation: Rotation3::new(w), translation: t };
            let moved: Vec<_> = points.iter().map(|p| truth.point(*p)).collect();
            let spread = points.iter().map(|p| (p - points[0]).cross(&(points[1] - points[0])).norm())
                .fold(0.0, f64::max);
            prop_assume!(spread > 0.5);
            let found = fit_similarity(&points, &moved).unwrap();
            for (p, m) in points.iter().zip(&moved) {
                prop_assert!((found.point(*p) - m).norm() < 1e-6 * scale.max(1.0));
                prop_assert!((truth.inverse().point(*m) - p).norm() < 1e-9);
                prop_assert!((truth.then(&truth.inverse()).point(*p) - p).norm() < 1e-9);
            }
        }

        #[test]
        fn pictures_do_not_change_when_world_and_camera_move_together(p in vector(), w in vector(), t in vector(),
            scale in 0.1f64..10.0) {
            let pose = Pose::look_at(Vector3::new(0.5, 4.0, 9.0), Vector3::zeros(), Vector3::y()).unwrap();
            let moves = Similarity { scale, rotation: Rotation3::new(w), translation: t };
            let (a, b) = (pose.to_camera(p), moves.pose(&pose).to_camera(moves.point(p)));
            prop_assert!((a * scale - b).norm() < 1e-9 * scale.max(1.0));
        }
    }
}
