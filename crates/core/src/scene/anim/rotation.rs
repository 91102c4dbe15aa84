//! Rotations.

use super::Interpolate;
use crate::geometry::log_so3;
use nalgebra::{Quaternion, Rotation3, UnitQuaternion, Vector3};
use serde::{Deserialize, Serialize};
use std::f64::consts::{FRAC_PI_2, PI, TAU};

/// Sine of the angle to the axis below which a turn and a roll cannot be told apart.
const GIMBAL: f64 = 1e-9;

/// A rotation, as a unit quaternion x, y, z, w.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "[f64; 4]", into = "[f64; 4]")]
pub struct Rotation(UnitQuaternion<f64>);

impl Default for Rotation {
    fn default() -> Self {
        Self(UnitQuaternion::identity())
    }
}

/// Four numbers that make no rotation.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("a rotation is a quaternion of length 1; this one's is {length}")]
pub struct RotationError {
    /// As it was found.
    pub length: f64,
}

impl TryFrom<[f64; 4]> for Rotation {
    type Error = RotationError;

    fn try_from([x, y, z, w]: [f64; 4]) -> Result<Self, RotationError> {
        let q = Quaternion::new(w, x, y, z);
        let length = q.norm();
        if !((length - 1.0).abs() < 1e-3) {
            return Err(RotationError { length });
        }
        // What is near enough to be meant as one is made one, unless that would only stir the last digit.
        let exact = (length - 1.0).abs() < 1e-12;
        Ok(Self(if exact { UnitQuaternion::new_unchecked(q) } else { UnitQuaternion::new_normalize(q) }))
    }
}

impl From<Rotation> for [f64; 4] {
    fn from(rotation: Rotation) -> Self {
        let q = rotation.0;
        [q.i, q.j, q.k, q.w]
    }
}

impl From<Rotation3<f64>> for Rotation {
    fn from(matrix: Rotation3<f64>) -> Self {
        Self(UnitQuaternion::from_rotation_matrix(&matrix))
    }
}

impl Rotation {
    /// From a turn about y, then a lean about x that brings the top back, then a roll about z, degrees.
    pub fn from_turn_lean_roll([turn, lean, roll]: [f64; 3]) -> Self {
        let about = |axis, deg: f64| UnitQuaternion::from_axis_angle(&axis, deg.to_radians());
        Self(about(Vector3::y_axis(), turn) * about(Vector3::x_axis(), -lean) * about(Vector3::z_axis(), roll))
    }

    /// The turn, lean and roll that make it, degrees; of the two ways the one that rolls less.
    pub fn turn_lean_roll(&self) -> [f64; 3] {
        let m = self.matrix();
        // R = Y(a) X(-b) Z(c) has the third column (sin a cos b, sin b, cos a cos b) and the second row
        // (cos b sin c, cos b cos c, sin b).
        let cos_lean = m[(0, 2)].hypot(m[(2, 2)]);
        let lean = m[(1, 2)].atan2(cos_lean);
        let angles = if cos_lean < GIMBAL {
            // Turn and roll are about one axis; all of it counts as turn.
            [(-m[(2, 0)]).atan2(m[(0, 0)]), lean, 0.0]
        } else {
            let (turn, roll) = (m[(0, 2)].atan2(m[(2, 2)]), m[(1, 0)].atan2(m[(1, 1)]));
            if roll.abs() <= FRAC_PI_2 { [turn, lean, roll] } else { [turn + PI, PI - lean, roll + PI].map(wrapped) }
        };
        angles.map(f64::to_degrees)
    }

    /// As a matrix.
    pub fn matrix(&self) -> Rotation3<f64> {
        self.0.to_rotation_matrix()
    }
}

/// An angle within half a turn of none.
fn wrapped(angle_rad: f64) -> f64 {
    if angle_rad > PI { angle_rad - TAU } else { angle_rad }
}

/// Steps are turns about the value's own axes, radians (Shoemake, "Animating Rotation with Quaternion Curves", 1985).
impl Interpolate for Rotation {
    fn step_to(&self, to: &Self) -> [f64; 3] {
        log_so3(&(self.0.inverse() * to.0).to_rotation_matrix()).into()
    }

    fn stepped(&self, by: [f64; 3]) -> Self {
        Self(self.0 * UnitQuaternion::from_scaled_axis(Vector3::from(by)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn apart(a: [f64; 3], b: [f64; 3]) -> f64 {
        (0..3).map(|k| ((a[k] - b[k] + 540.0).rem_euclid(360.0) - 180.0).abs()).fold(0.0, f64::max)
    }

    proptest! {
        #[test]
        fn what_is_typed_is_read_again(turn in -180f64..180.0, lean in -179f64..179.0) {
            prop_assume!((lean.abs() - 90.0).abs() > 1e-3);
            let read = Rotation::from_turn_lean_roll([turn, lean, 0.0]).turn_lean_roll();
            prop_assert!(apart(read, [turn, lean, 0.0]) < 1e-9, "{read:?}");
        }

        #[test]
        fn any_rotation_is_made_again_from_its_angles(x in -1f64..1.0, y in -1f64..1.0, z in -1f64..1.0,
            w in -1f64..1.0) {
            let q = Quaternion::new(w, x, y, z);
            prop_assume!(q.norm() > 0.1);
            let rotation = Rotation(UnitQuaternion::new_normalize(q));
            let again = Rotation::from_turn_lean_roll(rotation.turn_lean_roll());
            prop_assert!((again.matrix().matrix() - rotation.matrix().matrix()).norm() < 1e-7);
            let written: Rotation = serde_json::from_str(&serde_json::to_string(&rotation).unwrap()).unwrap();
            prop_assert_eq!(written, rotation, "to the last digit");
        }
    }

    #[test]
    fn angles_go_round_the_axes_that_they_say() {
        let image = |angles, v: Vector3<f64>| Rotation::from_turn_lean_roll(angles).matrix() * v;
        assert!((image([90.0, 0.0, 0.0], Vector3::z()) - Vector3::x()).norm() < 1e-12, "to the right");
        assert!((image([0.0, 90.0, 0.0], Vector3::y()) + Vector3::z()).norm() < 1e-12, "the top goes back");
        assert!((image([0.0, 0.0, 90.0], Vector3::x()) - Vector3::y()).norm() < 1e-12);
        for lean in [90.0, -90.0] {
            let read = Rotation::from_turn_lean_roll([30.0, lean, 0.0]).turn_lean_roll();
            assert!(apart(read, [30.0, lean, 0.0]) < 1e-6, "straight up and down: {read:?}");
        }
    }

    #[test]
    fn what_is_no_rotation_is_refused() {
        assert!(Rotation::try_from([0.0; 4]).is_err());
        assert!(Rotation::try_from([f64::NAN, 0.0, 0.0, 1.0]).is_err());
        assert!(Rotation::try_from([1.0, 1.0, 0.0, 0.0]).is_err());
    }
}
