//! Where an insert is.

use super::within;
use crate::geometry::{Similarity, log_so3};
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// Whether a flat thing stands on its surface or lies on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stance {
    /// Upright along the normal.
    Standing,
    /// In the surface.
    Lying,
}

/// Where an insert is, in the world of the datum. Its pivot is its foot: the middle of the bottom
/// edge when it stands, of the text when it lies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placement {
    /// The foot, metres.
    pub foot: [f64; 3],
    /// Unit normal of the surface.
    pub normal: [f64; 3],
    /// Turn about the normal, degrees; 0 faces +Z (or, on a wall, is level).
    pub turn_deg: f64,
    /// Leaning about its own baseline, degrees; positive away from the viewer.
    pub lean_deg: f64,
    /// Distance off the surface along the normal, metres.
    pub lift_m: f64,
    /// Times the size it was made at.
    pub scale: f64,
    /// Standing or lying.
    pub stance: Stance,
}

impl Placement {
    /// World from the insert's own frame: x along the baseline, y up the letters, z towards the reader.
    pub fn rotation(&self) -> Rotation3<f64> {
        let n = Vector3::from(self.normal).try_normalize(1e-9).unwrap_or_else(Vector3::y);
        // On a floor the heading is counted from +Z; on a wall from the upright.
        let reference = if n.y.abs() > 0.8 { Vector3::z() } else { -Vector3::y() };
        let toward = (reference - n * reference.dot(&n)).normalize();
        let right = n.cross(&toward);
        // Lying: letters run up away from the reader, facing along the normal.
        let basis = match self.stance {
            Stance::Standing => Matrix3::from_columns(&[right, n, toward]),
            Stance::Lying => Matrix3::from_columns(&[right, -toward, n]),
        };
        let turn = Rotation3::from_scaled_axis(n * self.turn_deg.to_radians());
        let lean = Rotation3::from_axis_angle(&Vector3::x_axis(), -self.lean_deg.to_radians());
        turn * Rotation3::from_matrix_unchecked(basis) * lean
    }

    /// The foot, lifted.
    pub fn origin(&self) -> Vector3<f64> {
        let n = Vector3::from(self.normal).try_normalize(1e-9).unwrap_or_else(Vector3::y);
        Vector3::from(self.foot) + n * self.lift_m
    }

    /// Moves it with the world, so that it stays where it is in the picture.
    pub fn move_with(&mut self, by: &Similarity) {
        let before = self.rotation();
        self.foot = by.point(Vector3::from(self.foot)).into();
        self.normal = (by.rotation * Vector3::from(self.normal)).into();
        self.lift_m *= by.scale;
        self.scale *= by.scale;
        // The heading is counted from the world's axes; whatever turn is missing goes into it.
        let wanted = by.rotation * before;
        let rest: Rotation3<f64> = wanted * self.rotation().inverse();
        self.turn_deg += log_so3(&rest).dot(&Vector3::from(self.normal)).to_degrees();
    }

    /// Checks every number.
    ///
    /// # Errors
    /// A sentence that names the first that cannot be used.
    pub fn validate(&self) -> Result<(), String> {
        for v in self.foot {
            within("a coordinate", v, -1e6, 1e6)?;
        }
        let length = Vector3::from(self.normal).norm();
        if !((length - 1.0).abs() < 1e-3) {
            return Err("the surface has no direction; place the title on a surface again".to_owned());
        }
        within("the turn", self.turn_deg, -3600.0, 3600.0)?;
        within("the lean", self.lean_deg, -360.0, 360.0)?;
        within("the lift", self.lift_m, -1e5, 1e5)?;
        within("the scale", self.scale, 1e-4, 1e4)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn placement(normal: [f64; 3], turn_deg: f64, stance: Stance) -> Placement {
        Placement { foot: [0.0; 3], normal, turn_deg, lean_deg: 0.0, lift_m: 0.0, scale: 1.0, stance }
    }

    proptest! {
        #[test]
        fn placements_are_proper_rotations(x in -1f64..1.0, y in -1f64..1.0, z in -1f64..1.0, turn in -400f64..400.0, lean in -90f64..90.0, lying in any::<bool>()) {
            let n = Vector3::new(x, y, z);
            prop_assume!(n.norm() > 0.1);
            let stance = if lying { Stance::Lying } else { Stance::Standing };
            let p = Placement { lean_deg: lean, ..placement(n.normalize().into(), turn, stance) };
            let m = *p.rotation().matrix();
            prop_assert!((m.transpose() * m - Matrix3::identity()).norm() < 1e-9);
            prop_assert!((m.determinant() - 1.0).abs() < 1e-9);
        }
    }

    #[test]
    fn letters_stand_upright_on_a_floor_and_level_on_a_wall() {
        let up = placement([0.0, 1.0, 0.0], 0.0, Stance::Standing).rotation() * Vector3::y();
        assert!((up - Vector3::y()).norm() < 1e-12);
        let facing = placement([0.0, 1.0, 0.0], 90.0, Stance::Standing).rotation() * Vector3::z();
        assert!((facing - Vector3::x()).norm() < 1e-12);
        let on_wall = placement([0.0, 0.0, 1.0], 0.0, Stance::Lying).rotation();
        assert!((on_wall * Vector3::y() - Vector3::y()).norm() < 1e-12);
        assert!((on_wall * Vector3::z() - Vector3::z()).norm() < 1e-12);
        let lying = placement([0.0, 1.0, 0.0], 0.0, Stance::Lying).rotation();
        assert!((lying * Vector3::y() + Vector3::z()).norm() < 1e-12, "letters run away from the reader");
    }
}
