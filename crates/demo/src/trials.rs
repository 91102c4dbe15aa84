//! Takes that try the solver: the kinds of clip that people bring.

use crate::flight::{aimed, unrest};
use crate::take::Take;
use fennik_core::geometry::Pose;
use nalgebra::Vector3;

type V = Vector3<f64>;

/// What the takes have in common.
const PLAIN: Take = Take {
    name: "",
    motion: "free",
    width: 1280,
    height: 720,
    frames: 120,
    pose: |_| unreachable_pose(),
    focal: |_| 960.0,
    k1: -0.02,
    shutter: 0.4,
    readout: 0.0,
    rays: 3,
    noise: 1.0,
    contrast: 1.0,
    flicker: 0.0,
    crowd: 0,
};

fn unreachable_pose() -> Pose {
    Pose::identity()
}

fn shake(frame: f64, size: f64) -> V {
    V::new(unrest(frame, 0.31, 0.57, 1.1), unrest(frame, 0.27, 0.49, 0.9), unrest(frame, 0.21, 0.37, 0.7)) * size
}

fn ease(frame: f64, frames: f64) -> f64 {
    let t = (frame / frames).clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

/// Turned on the spot: half a tripod pan.
fn pan(frame: f64) -> Pose {
    let angle = -0.45 + 0.9 * ease(frame, 120.0);
    let eye = V::new(1.0, 2.6, 17.0);
    let target = eye + V::new(angle.sin(), -0.08 + 0.03 * angle, -angle.cos()) * 10.0;
    aimed(eye, target, V::zeros())
}

/// A walk along the quay.
fn walk(frame: f64) -> Pose {
    let t = frame / 120.0;
    let bob = V::new(0.03 * (0.26 * frame).sin(), 0.035 * (0.52 * frame).sin().abs(), 0.0);
    let eye = V::new(-3.5 + 6.0 * t, 1.7, 12.0 - 2.5 * t) + bob;
    aimed(eye, V::new(-0.5 + 1.5 * t, 1.1, -6.0), shake(frame, 0.008))
}

/// A drone straight above gravel and grass, drifting, a little turned.
fn above(frame: f64) -> Pose {
    let t = frame / 120.0;
    let eye = V::new(-9.0 + 9.0 * t, 26.0 + 1.5 * t, 34.0 - 2.0 * t) + shake(frame, 0.1);
    aimed(eye, eye + V::new(0.6 * t - 0.2, -10.0, -1.0 - 1.2 * t), shake(frame, 0.003))
}

/// A drone forward over the quay.
fn forward(frame: f64) -> Pose {
    let t = ease(frame, 120.0);
    aimed(V::new(4.0 - 6.0 * t, 7.5 - 2.0 * t, 20.0 - 8.0 * t) + shake(frame, 0.06), V::new(0.5, 0.8, -5.0), shake(frame, 0.003))
}

/// The same over 600 frames.
fn forward_long(frame: f64) -> Pose {
    forward(frame / 5.0)
}

/// All takes, by name.
pub const TRIALS: [Take; 9] = [
    Take { name: "nodal-pan", motion: "nodal", pose: pan, ..PLAIN },
    Take { name: "nodal-zoom", motion: "nodal-zoom", pose: pan, focal: |f| 900.0 * (0.6 * ease(f, 120.0)).exp(), ..PLAIN },
    Take { name: "moving-zoom", motion: "zoom", pose: forward, focal: |f| 850.0 * (0.4 * ease(f - 15.0, 90.0)).exp(), ..PLAIN },
    Take { name: "flat-above", pose: above, ..PLAIN },
    Take { name: "crowd", pose: walk, crowd: 26, ..PLAIN },
    Take { name: "rolling-shutter", pose: walk, readout: 0.7, shutter: 0.25, ..PLAIN },
    Take { name: "low-texture", pose: forward, contrast: 0.22, noise: 1.3, flicker: 0.08, ..PLAIN },
    Take { name: "long-600", pose: forward_long, frames: 600, rays: 2, ..PLAIN },
    Take { name: "uhd", pose: forward, width: 3840, height: 2160, frames: 60, rays: 2, ..PLAIN },
];

/// The take of a name.
pub fn trial(name: &str) -> Option<&'static Take> {
    TRIALS.iter().find(|t| t.name == name)
}
