//! What the cameras alone say of up and down.

use crate::geometry::ascending_eigen;
use crate::solve::Solution;
use nalgebra::{Matrix3, Vector3};

/// Deviation of the roll at which people and drones hold a camera, degrees.
const ROLL_DEG: f64 = 4.0;
/// The steepest look down that is taken for level ground without a second thought, degrees under the horizon.
const STEEP_DEG: f64 = 58.0;
/// The steepest look up, degrees.
const LOOKS_UP_DEG: f64 = 50.0;

/// How the cameras of a clip are held, in the world of the solve.
#[derive(Debug, Clone)]
pub struct Held {
    /// The direction to the right of the average camera.
    pub right: Vector3<f64>,
    /// The way it looks.
    pub ahead: Vector3<f64>,
    rights: Vec<Vector3<f64>>,
}

/// How far a direction can be up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Upright {
    /// Likelihood against that of the best, 0 to 1.
    pub likely: f64,
    /// How far the average camera is rolled against it, degrees.
    pub roll_deg: f64,
    /// How far it looks above the horizon, degrees.
    pub pitch_deg: f64,
}

impl Upright {
    /// Whether the camera would look so steeply down that the same picture could be of a wall, head on.
    pub fn is_steep(&self) -> bool {
        self.pitch_deg < -STEEP_DEG
    }
}

impl Held {
    /// From the solved cameras; `None` without any.
    pub fn of(solution: &Solution) -> Option<Self> {
        let axis = |v: Vector3<f64>| move |f: &crate::solve::SolvedFrame| f.pose.rotation.inverse() * v;
        let rights: Vec<Vector3<f64>> = solution.frames.iter().map(axis(Vector3::x())).collect();
        let right = rights.iter().sum::<Vector3<f64>>().try_normalize(1e-9)?;
        let ahead = solution.frames.iter().map(axis(Vector3::z())).sum::<Vector3<f64>>().try_normalize(1e-9)?;
        Some(Self { right, ahead, rights })
    }

    /// How well a direction does as up.
    pub fn judge(&self, up: &Vector3<f64>) -> Upright {
        let rolls = self.rights.iter().map(|r| up.dot(r).clamp(-1.0, 1.0).asin().to_degrees());
        let roll_deg = rolls.sum::<f64>() / self.rights.len().max(1) as f64;
        let pitch_deg = up.dot(&self.ahead).clamp(-1.0, 1.0).asin().to_degrees();
        // Held upside down: the picture's up is not on its side.
        let image_up = self.right.cross(&self.ahead).dot(up);
        let upright = image_up > 0.0 || pitch_deg < -STEEP_DEG;
        let likely =
            if !upright || pitch_deg > LOOKS_UP_DEG { 0.0 } else { (-0.5 * (roll_deg / ROLL_DEG).powi(2)).exp() };
        Upright { likely, roll_deg, pitch_deg }
    }
}

/// How far the directions to the right must spread for their plane to be told, as a sine.
const SPREAD: f64 = 0.04;
/// Looks of a clip that err each by itself: frames next to each other are held alike.
const LOOKS: f64 = 6.0;
/// The deviation up to which that plane is believed, degrees.
const BELIEVED_DEG: f64 = 0.7;

/// What is up where the cameras turn without being rolled, as on a tripod: all their directions to the right lie level.
/// With its deviation, degrees; `None` where they turn too little, or roll too much, to tell.
pub fn up_by_turning(solution: &Solution) -> Option<(Vector3<f64>, f64)> {
    let held = Held::of(solution)?;
    let n = held.rights.len() as f64;
    let matrix = held.rights.iter().fold(Matrix3::zeros(), |m, r| m + r * r.transpose() / n);
    let [(rolled, up), (turned, _), _] = ascending_eigen(matrix)?;
    let [rolled, turned] = [rolled, turned].map(|v| v.max(0.0).sqrt());
    let deviation_deg = (rolled / turned / LOOKS.sqrt()).to_degrees();
    if turned < SPREAD || deviation_deg >= BELIEVED_DEG {
        return None;
    }
    Some((if up.dot(&held.right.cross(&held.ahead)) < 0.0 { -up } else { up }, deviation_deg))
}

/// What is up if the cameras are held level: by how they [turn](up_by_turning), where that tells; else, as far as its
/// pitch lets it be told, the average picture's up, across the average right; world of the solve. `None` without
/// cameras.
pub fn mean_up(solution: &Solution) -> Option<Vector3<f64>> {
    if let Some((up, _)) = up_by_turning(solution) {
        return Some(up);
    }
    let held = Held::of(solution)?;
    // Level would be across the way it looks; a camera that looks down has the ground's normal behind that.
    held.right.cross(&held.ahead).try_normalize(1e-9)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::random::SplitMix64;
    use crate::solve::SolvedFrame;

    /// A camera that turns by so much while it looks down by 12 degrees, rolled at random.
    fn turning(range_deg: f64, roll_deg: f64) -> Solution {
        let mut random = SplitMix64::new(8);
        let mut solution = Solution::empty(1280, 720, 60);
        solution.frames = (0..60u32)
            .map(|i| {
                let bearing = (range_deg * (f64::from(i) / 59.0 - 0.5)).to_radians();
                let look = Vector3::new(bearing.sin(), -0.21, -bearing.cos());
                let steady = Pose::look_at(Vector3::zeros(), look, Vector3::y()).unwrap();
                let roll = (roll_deg * random.normal()).to_radians();
                let rotation = nalgebra::Rotation3::from_axis_angle(&Vector3::z_axis(), roll) * steady.rotation;
                let pose = Pose { rotation, translation: Vector3::zeros() };
                SolvedFrame::new(i, pose, Lens::centred(900.0, 1280, 720), 0.1, 50)
            })
            .collect();
        solution
    }

    #[test]
    fn a_pan_tells_what_is_up_although_it_looks_down_and_a_shaken_look_does_not() {
        let off = |s: &Solution| mean_up(s).unwrap().angle(&Vector3::y()).to_degrees();
        assert!(off(&turning(40.0, 0.05)) < 0.1, "{}", off(&turning(40.0, 0.05)));
        let (_, deviation) = up_by_turning(&turning(40.0, 0.05)).unwrap();
        assert!(deviation < 0.2, "{deviation}");
        // Turned by little, or rolled much: the picture's up, which is off by the pitch.
        for shaken in [turning(2.0, 0.05), turning(15.0, 2.0)] {
            assert!((off(&shaken) - 12.0).abs() < 1.5, "{}", off(&shaken));
        }
    }
}
