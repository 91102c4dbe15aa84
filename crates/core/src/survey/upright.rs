//! What the cameras alone say of up and down.

use crate::solve::Solution;
use nalgebra::Vector3;

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

/// What is up if the average camera is held level, as far as its pitch lets it be told: the picture's up, across the
/// average right; world of the solve. `None` without cameras.
pub fn mean_up(solution: &Solution) -> Option<Vector3<f64>> {
    let held = Held::of(solution)?;
    // Level would be across the way it looks; a camera that looks down has the ground's normal behind that.
    held.right.cross(&held.ahead).try_normalize(1e-9)
}
