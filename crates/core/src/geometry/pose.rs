//! Where a camera stands and looks.

use nalgebra::{Matrix3, Rotation3, UnitQuaternion, Vector3};
use serde::{Deserialize, Serialize};

/// `cam_from_world`: a world point X is seen at `rotation * X + translation`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Pose {
    /// World to camera.
    pub rotation: Rotation3<f64>,
    /// Camera frame.
    pub translation: Vector3<f64>,
}

impl Pose {
    /// A camera at the origin, looking along +z with y down.
    pub fn identity() -> Self {
        Self { rotation: Rotation3::identity(), translation: Vector3::zeros() }
    }

    /// World point to camera frame.
    #[inline]
    pub fn to_camera(&self, world: Vector3<f64>) -> Vector3<f64> {
        self.rotation * world + self.translation
    }

    /// The camera's centre in the world.
    pub fn centre(&self) -> Vector3<f64> {
        -(self.rotation.inverse() * self.translation)
    }

    /// The pose after a small left turn `w` (axis times angle, camera frame) and shift `t`.
    pub fn retract(&self, w: Vector3<f64>, t: Vector3<f64>) -> Self {
        Self { rotation: renormalised(Rotation3::new(w) * self.rotation), translation: self.translation + t }
    }

    /// A camera at `eye` that looks at `target`, with `up` of the world upwards in the picture.
    /// `None` when the looking direction is along `up` or has no length.
    pub fn look_at(eye: Vector3<f64>, target: Vector3<f64>, up: Vector3<f64>) -> Option<Self> {
        let forward = (target - eye).try_normalize(1e-12)?;
        let right = forward.cross(&up).try_normalize(1e-9)?;
        let down = forward.cross(&right);
        let rows = Matrix3::from_rows(&[right.transpose(), down.transpose(), forward.transpose()]);
        let rotation = Rotation3::from_matrix_unchecked(rows);
        Some(Self { rotation, translation: -(rotation * eye) })
    }

    /// Between two poses: centres linearly, rotations along the shortest turn. `t` from 0 to 1, or
    /// beyond for going on in the same way.
    pub fn between(&self, other: &Self, t: f64) -> Self {
        let turn = log_so3(&(other.rotation * self.rotation.inverse())) * t;
        let rotation = Rotation3::new(turn) * self.rotation;
        let centre = self.centre() + (other.centre() - self.centre()) * t;
        Self { rotation, translation: -(rotation * centre) }
    }
}

/// The skew matrix of a vector: `hat(a) * b == a x b`.
pub fn hat(a: &Vector3<f64>) -> Matrix3<f64> {
    Matrix3::new(0.0, -a.z, a.y, a.z, 0.0, -a.x, -a.y, a.x, 0.0)
}

/// The rotation nearest to a matrix in the Frobenius norm; `None` when its singular values cannot be
/// computed.
pub fn nearest_rotation(m: &Matrix3<f64>) -> Option<Rotation3<f64>> {
    let svd = m.try_svd(true, true, 1e-14, 200)?;
    let (u, vt) = (svd.u?, svd.v_t?);
    let sign = (u * vt).determinant().signum();
    let fixed = u * Matrix3::from_diagonal(&Vector3::new(1.0, 1.0, sign)) * vt;
    Some(Rotation3::from_matrix_unchecked(fixed))
}

fn renormalised(r: Rotation3<f64>) -> Rotation3<f64> {
    // One step of Newton for the polar factor keeps products orthonormal over thousands of updates.
    let m = r.into_inner();
    Rotation3::from_matrix_unchecked(m * (Matrix3::identity() * 1.5 - m.transpose() * m * 0.5))
}

/// A turn as its axis times its angle, radians; also of one so small that rounding takes the trace of its matrix beyond
/// 3, of which an arc cosine is no number.
pub fn log_so3(rotation: &Rotation3<f64>) -> Vector3<f64> {
    UnitQuaternion::from_rotation_matrix(rotation).scaled_axis()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn look_at_puts_the_target_on_the_axis_and_up_upwards() {
        let pose = Pose::look_at(Vector3::new(3.0, 2.0, 5.0), Vector3::new(0.0, 1.0, 0.0), Vector3::y()).unwrap();
        let target = pose.to_camera(Vector3::new(0.0, 1.0, 0.0));
        assert!(target.x.abs() < 1e-12 && target.y.abs() < 1e-12 && target.z > 0.0);
        assert!(pose.to_camera(Vector3::new(0.0, 2.0, 0.0)).y < 0.0);
        assert!((pose.rotation.matrix().determinant() - 1.0).abs() < 1e-12);
        assert!((pose.centre() - Vector3::new(3.0, 2.0, 5.0)).norm() < 1e-12);
        assert!(Pose::look_at(Vector3::zeros(), Vector3::y(), Vector3::y()).is_none());
    }

    #[test]
    fn halfway_poses_meet_in_the_middle() {
        let a = Pose::identity();
        let b =
            Pose { rotation: Rotation3::new(Vector3::new(0.0, 0.4, 0.0)), translation: Vector3::new(1.0, 0.0, 2.0) };
        let m = a.between(&b, 0.5);
        assert!((m.centre() - b.centre() * 0.5).norm() < 1e-12);
        assert!((m.rotation.scaled_axis().y - 0.2).abs() < 1e-12);
    }

    #[test]
    fn the_turn_of_next_to_no_rotation_is_next_to_none() {
        for slip in [1e-9, 1e-12, 3e-16, 0.0] {
            let mut m = Matrix3::identity() * (1.0 + 4e-16);
            (m[(0, 1)], m[(1, 0)]) = (-slip, slip);
            let turn = log_so3(&Rotation3::from_matrix_unchecked(m));
            assert!((turn.z - slip).abs() < 1e-15 && turn.xy().norm() < 1e-15, "{turn} for {slip}");
        }
        let right = Vector3::new(0.3, -1.2, 2.0);
        assert!((log_so3(&Rotation3::from_scaled_axis(right)) - right).norm() < 1e-12);
    }
}
