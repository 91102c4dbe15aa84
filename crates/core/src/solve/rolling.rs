//! How cameras move within a frame, which a rolling shutter shows (Hedborg et al., "Rolling Shutter Bundle Adjustment", 2012,
//! with quadratic motion within a frame).

use crate::geometry::Pose;
use nalgebra::Vector3;

/// How a camera moves about a frame: turn (axis times angle, camera frame, left) and shift (camera frame), each as
/// a part that grows with the time and one with its square.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Speed {
    /// Radians a frame.
    pub turn: Vector3<f64>,
    /// World units a frame.
    pub shift: Vector3<f64>,
    /// Radians a frame^2.
    pub turn_bend: Vector3<f64>,
    /// World units a frame^2.
    pub shift_bend: Vector3<f64>,
}

impl Speed {
    /// The pose `time` frames on.
    pub fn carry(&self, pose: &Pose, time: f64) -> Pose {
        pose.moved((self.turn + self.turn_bend * time) * time, (self.shift + self.shift_bend * time) * time)
    }
}

/// How each of the cameras moves: from two neighbours on either side where frames follow one another (five-point
/// differences), else from one.
pub(super) fn speeds(poses: &[Pose], times: &[f64]) -> Vec<Speed> {
    let last = poses.len().saturating_sub(1);
    let away =
        |i: usize, k: usize| ((poses[k].rotation * poses[i].rotation.inverse()).scaled_axis(), poses[k].translation - poses[i].translation);
    (0..poses.len())
        .map(|i| {
            let even = i >= 2 && i + 2 <= last && times[i + 2] - times[i - 2] < 4.5;
            if even {
                let near = [i - 2, i - 1, i + 1, i + 2].map(|k| away(i, k));
                let first = |v: [Vector3<f64>; 4]| ((v[2] - v[1]) * 8.0 - (v[3] - v[0])) / 12.0;
                let second = |v: [Vector3<f64>; 4]| ((v[1] + v[2]) * 16.0 - (v[0] + v[3])) / 24.0;
                let (turns, shifts) = (near.map(|n| n.0), near.map(|n| n.1));
                return Speed { turn: first(turns), shift: first(shifts), turn_bend: second(turns), shift_bend: second(shifts) };
            }
            let (a, b) = (i.saturating_sub(1), (i + 1).min(last));
            let time = (times[b] - times[a]).max(1e-9);
            let (from, to) = (away(i, a), away(i, b));
            let (turn, shift) = ((to.0 - from.0) / time, (to.1 - from.1) / time);
            Speed { turn, shift, turn_bend: Vector3::zeros(), shift_bend: Vector3::zeros() }
        })
        .collect()
}
