//! How cameras move within a frame, which a rolling shutter shows (Hedborg et al., "Rolling Shutter Bundle Adjustment",
//! 2012, with quadratic motion within a frame).

use super::{Pose, log_so3};
use nalgebra::Vector3;

/// How a camera moves about a frame: turn (axis times angle, camera frame, left) and shift (camera frame), each as
/// a part that grows with the time and one with its square.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Velocity {
    /// Radians a frame.
    pub turn: Vector3<f64>,
    /// World units a frame.
    pub shift: Vector3<f64>,
    /// Radians a frame^2.
    pub turn_acceleration: Vector3<f64>,
    /// World units a frame^2.
    pub shift_acceleration: Vector3<f64>,
}

impl Velocity {
    /// The pose `time` frames on.
    pub fn propagate(&self, pose: &Pose, time: f64) -> Pose {
        pose.retract(
            (self.turn + self.turn_acceleration * time) * time,
            (self.shift + self.shift_acceleration * time) * time,
        )
    }
}

/// How each of the cameras moves: from two neighbours on either side where frames follow one another (five-point
/// differences), else from one.
pub fn velocities(poses: &[Pose], times: &[f64]) -> Vec<Velocity> {
    let last = poses.len().saturating_sub(1);
    let away = |i: usize, k: usize| {
        (log_so3(&(poses[k].rotation * poses[i].rotation.inverse())), poses[k].translation - poses[i].translation)
    };
    (0..poses.len())
        .map(|i| {
            let even = i >= 2 && i + 2 <= last && times[i + 2] - times[i - 2] < 4.5;
            if even {
                let near = [i - 2, i - 1, i + 1, i + 2].map(|k| away(i, k));
                let first = |v: [Vector3<f64>; 4]| ((v[2] - v[1]) * 8.0 - (v[3] - v[0])) / 12.0;
                let second = |v: [Vector3<f64>; 4]| ((v[1] + v[2]) * 16.0 - (v[0] + v[3])) / 24.0;
                let (turns, shifts) = (near.map(|n| n.0), near.map(|n| n.1));
                return Velocity {
                    turn: first(turns),
                    shift: first(shifts),
                    turn_acceleration: second(turns),
                    shift_acceleration: second(shifts),
                };
            }
            let (a, b) = (i.saturating_sub(1), (i + 1).min(last));
            let time = (times[b] - times[a]).max(1e-9);
            let (from, to) = (away(i, a), away(i, b));
            let (turn, shift) = ((to.0 - from.0) / time, (to.1 - from.1) / time);
            Velocity { turn, shift, turn_acceleration: Vector3::zeros(), shift_acceleration: Vector3::zeros() }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_camera_is_carried_to_where_it_is_within_the_frame(
            turn in prop::array::uniform3(-0.02f64..0.02), shift in prop::array::uniform3(-0.2f64..0.2),
            acceleration in prop::array::uniform3(-2e-3f64..2e-3), part in -0.5f64..0.5,
        ) {
            // Motion that bends: the pose at any time is known.
            let at = |time: f64| Pose::identity().retract(
                Vector3::from(turn) * time + Vector3::from(acceleration) * (0.1 * time * time),
                Vector3::from(shift) * time + Vector3::from(acceleration) * (time * time),
            );
            let times: Vec<f64> = (0..9).map(f64::from).collect();
            let poses: Vec<Pose> = times.iter().map(|t| at(*t)).collect();
            let velocities = velocities(&poses, &times);
            prop_assert_eq!(velocities.len(), 9);
            let (carried, right) = (velocities[4].propagate(&poses[4], part), at(4.0 + part));
            let turned = log_so3(&(carried.rotation * right.rotation.inverse())).norm();
            prop_assert!(turned < 2e-5, "{turned} rad");
            prop_assert!((carried.translation - right.translation).norm() < 3e-4, "{}", carried.translation
                - right.translation);
            // From two neighbours, at the end of the row, the bend is not seen: half of it times the square is left.
            let (carried, right) = (velocities[0].propagate(&poses[0], part), at(part));
            prop_assert!((carried.translation - right.translation).norm() < 4e-3 + 0.01 * Vector3::from(shift).norm());
        }
    }

    #[test]
    fn a_camera_that_stands_has_no_speed_and_frames_may_be_far_apart() {
        let poses = vec![Pose::identity(); 5];
        assert!(
            velocities(&poses, &[0.0, 1.0, 2.0, 3.0, 4.0])
                .iter()
                .all(|s| s.turn.norm() == 0.0 && s.shift_acceleration.norm() == 0.0)
        );
        let moving: Vec<Pose> =
            (0..5).map(|i| Pose::identity().retract(Vector3::zeros(), Vector3::x() * f64::from(i * 6))).collect();
        for velocity in velocities(&moving, &[0.0, 3.0, 6.0, 9.0, 12.0]) {
            assert!((velocity.shift - Vector3::x() * 2.0).norm() < 1e-9, "{velocity:?}");
        }
        assert!(velocities(&[], &[]).is_empty());
    }
}
