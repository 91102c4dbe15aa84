//! Light on a face: the sun with its shadow, and what comes from everywhere.

use crate::scene::{Face, PlacedScene};
use nalgebra::Vector3;

/// A shadow ray starts this far off its surface, of the distance to the camera.
const OFFSET: f32 = 1e-4;

/// A point of a face that is looked at.
pub(crate) struct Seen<'a> {
    pub face: &'a Face,
    /// World.
    pub at: Vector3<f32>,
    /// Unit direction in which it is looked at.
    pub along: Vector3<f32>,
    /// World units from the eye.
    pub distance: f32,
}

/// Linear light from a point towards the eye, and whether the sun reaches it.
pub(crate) fn shade(scene: &PlacedScene, sun: Vector3<f32>, seen: &Seen, shadows: bool) -> (Vector3<f32>, bool) {
    let face = seen.face;
    // Both sides of a face are lit alike: the camera may fly through.
    let normal = if face.normal.dot(&seen.along) > 0.0 { -face.normal } else { face.normal };
    let facing = normal.dot(&sun).max(0.0);
    let lit = facing > 0.0
        && sun.y > 0.0
        && (!shadows || {
            let from = seen.at + normal * (OFFSET * seen.distance.max(1.0));
            !scene.tree().blocks(from, sun)
        });
    let from_sun = if lit { scene.light.sun as f32 * facing } else { 0.0 };
    // The sky gives more than the ground, so that no side goes flat.
    let ambient = scene.light.ambient as f32 * (0.85 + 0.15 * normal.y);
    (face.colour * (from_sun + ambient), lit)
}
