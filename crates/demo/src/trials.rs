//! Takes that try the solver: the kinds of clip that people bring.

use crate::flight::{aimed, unrest};
use crate::places::Place;
use crate::take::Take;
use fennik_core::geometry::Pose;
use nalgebra::Vector3;

type V = Vector3<f64>;

/// What the takes have in common.
const PLAIN: Take = Take {
    name: "",
    place: Place::Quay,
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
    least_rays: usize::MAX,
    noise: 1.0,
    contrast: 1.0,
    plain: false,
    flicker: 0.0,
    crowd: 0,
    caption: false,
    rate_factor: 20,
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
    aimed(
        V::new(4.0 - 6.0 * t, 7.5 - 2.0 * t, 20.0 - 8.0 * t) + shake(frame, 0.06),
        V::new(0.5, 0.8, -5.0),
        shake(frame, 0.003),
    )
}

/// The same over 600 frames.
fn forward_long(frame: f64) -> Pose {
    forward(frame / 5.0)
}

/// Out of the hand, walking briskly: shakes of up to a degree.
fn unsteady(frame: f64) -> Pose {
    let t = frame / 100.0;
    let bob = V::new(0.04 * (0.31 * frame).sin(), 0.05 * (0.62 * frame).sin().abs(), 0.0);
    let eye = V::new(3.0 - 4.5 * t, 1.65, 11.0 - 4.0 * t) + bob;
    aimed(eye, V::new(0.5 - 2.0 * t, 1.2, -7.0), shake(frame, 0.016))
}

/// A whip of the head: at its fastest some 45 px a frame.
fn whip(frame: f64) -> Pose {
    let angle = -0.75 + 1.5 * ease(frame - 10.0, 55.0);
    let eye = V::new(0.0, 1.8, 15.0);
    aimed(eye, eye + V::new(angle.sin(), -0.06, -angle.cos()) * 10.0, shake(frame, 0.004))
}

/// Over the basin, most of the picture water.
fn over_water(frame: f64) -> Pose {
    let t = ease(frame, 100.0);
    aimed(
        V::new(17.0 - 4.0 * t, 6.5 - t, 14.0 - 6.0 * t) + shake(frame, 0.06),
        V::new(6.5, 0.5, -9.0),
        shake(frame, 0.003),
    )
}

/// Round the sheds with a wide lens.
fn round(frame: f64) -> Pose {
    let angle = 0.9 - 1.1 * frame / 100.0;
    let eye = V::new(-1.0 + 15.0 * angle.sin(), 4.5, -6.0 + 15.0 * angle.cos());
    aimed(eye, V::new(-1.0, 1.0, -6.0), shake(frame, 0.004))
}

/// From far off with a long lens, sidewards by a few metres.
fn from_afar(frame: f64) -> Pose {
    let t = ease(frame, 100.0);
    aimed(
        V::new(-6.0 + 5.0 * t, 9.0, 62.0 - 2.0 * t) + shake(frame, 0.03),
        V::new(-1.0 + 0.5 * t, 1.0, -6.0),
        shake(frame, 0.0015),
    )
}

/// Low over the grass behind the wall, by hand.
fn over_grass(frame: f64) -> Pose {
    let t = frame / 100.0;
    let bob = V::new(0.03 * (0.29 * frame).sin(), 0.035 * (0.58 * frame).sin().abs(), 0.0);
    let eye = V::new(-16.5 + 1.5 * t, 1.65, 15.0 - 3.0 * t) + bob;
    aimed(eye, V::new(-17.5, 0.2, 4.0), shake(frame, 0.008))
}

/// Past the front of a shed, so near that nothing else is seen: no floor.
fn shed_front(frame: f64) -> Pose {
    let t = ease(frame, 80.0);
    let eye = V::new(-8.4 + 2.0 * t, 1.9, 2.6 - 0.5 * t) + shake(frame, 0.01);
    aimed(eye, V::new(-7.9 + 1.2 * t, 1.85, -6.5), shake(frame, 0.004))
}

/// Along the foot of the hill, by hand.
fn by_the_hill(frame: f64) -> Pose {
    let t = frame / 100.0;
    let bob = V::new(0.03 * (0.27 * frame).sin(), 0.035 * (0.54 * frame).sin().abs(), 0.0);
    let eye = V::new(-2.5 + 4.0 * t, 1.7, 8.5 - 1.5 * t) + bob;
    aimed(eye, V::new(0.5, 1.2, -6.0), shake(frame, 0.008))
}

/// Towards the stair.
fn to_the_steps(frame: f64) -> Pose {
    let t = frame / 100.0;
    let bob = V::new(0.03 * (0.25 * frame).sin(), 0.04 * (0.5 * frame).sin().abs(), 0.0);
    let eye = V::new(-1.6 + 2.6 * t, 1.7, 5.5 - 2.0 * t) + bob;
    aimed(eye, V::new(0.2, 0.9, -5.0), shake(frame, 0.008))
}

/// Over both levels.
fn over_levels(frame: f64) -> Pose {
    let t = ease(frame, 100.0);
    aimed(
        V::new(3.0 - 5.0 * t, 5.5 - t, 11.0 - 4.0 * t) + shake(frame, 0.05),
        V::new(0.6, 0.4, -5.0),
        shake(frame, 0.003),
    )
}

/// Through the room.
fn indoors(frame: f64) -> Pose {
    let t = frame / 100.0;
    let bob = V::new(0.01 * (0.25 * frame).sin(), 0.02 * (0.5 * frame).sin().abs(), 0.0);
    let eye = V::new(-1.4 + 2.2 * t, 1.55, 3.0 - 0.7 * t) + bob;
    aimed(eye, V::new(0.1 + 0.2 * t, 0.95, -2.6), shake(frame, 0.008))
}

/// Up the fronts of the court; no floor is seen.
fn upward(frame: f64) -> Pose {
    let t = ease(frame, 80.0);
    aimed(V::new(-2.0 + 3.5 * t, 1.7, 5.0 - 1.0 * t) + shake(frame, 0.03), V::new(0.0, 9.5, -8.0), shake(frame, 0.006))
}

/// All takes, by name.
pub const TRIALS: [Take; 24] = [
    Take { name: "nodal-pan", motion: "nodal", pose: pan, ..PLAIN },
    Take {
        name: "nodal-zoom",
        motion: "nodal-zoom",
        pose: pan,
        focal: |f| 900.0 * (0.6 * ease(f, 120.0)).exp(),
        ..PLAIN
    },
    Take {
        name: "moving-zoom",
        motion: "zoom",
        pose: forward,
        focal: |f| 850.0 * (0.4 * ease(f - 15.0, 90.0)).exp(),
        ..PLAIN
    },
    Take { name: "flat-above", pose: above, ..PLAIN },
    Take { name: "crowd", pose: walk, crowd: 50, ..PLAIN },
    Take { name: "rolling-shutter", pose: walk, readout: 0.7, shutter: 0.25, ..PLAIN },
    Take { name: "low-texture", pose: forward, contrast: 0.22, noise: 1.3, flicker: 0.08, ..PLAIN },
    Take { name: "long-600", pose: forward_long, frames: 600, rays: 2, ..PLAIN },
    Take { name: "uhd", pose: forward, width: 3840, height: 2160, frames: 60, rays: 2, ..PLAIN },
    Take { name: "unsteady", pose: unsteady, frames: 100, rays: 4, shutter: 0.7, noise: 2.0, rate_factor: 25, ..PLAIN },
    Take { name: "whip", motion: "nodal", pose: whip, frames: 75, rays: 4, shutter: 0.5, ..PLAIN },
    Take { name: "captioned", pose: forward, frames: 100, flicker: 0.3, caption: true, rate_factor: 27, ..PLAIN },
    Take { name: "over-water", pose: over_water, frames: 100, rays: 2, ..PLAIN },
    Take { name: "wide-round", pose: round, focal: |_| 620.0, k1: -0.1, frames: 100, rays: 2, ..PLAIN },
    Take { name: "long-lens", pose: from_afar, focal: |_| 3000.0, k1: 0.03, frames: 100, rays: 2, ..PLAIN },
    Take {
        name: "zoom-unsteady",
        motion: "zoom",
        pose: unsteady,
        focal: |f| 900.0 * (0.45 * ease(f - 20.0, 60.0)).exp(),
        frames: 100,
        ..PLAIN
    },
    Take { name: "lawn", pose: over_grass, frames: 100, ..PLAIN },
    Take { name: "shed-front", pose: shed_front, focal: |_| 2300.0, frames: 80, ..PLAIN },
    Take { name: "hillside", place: Place::Hillside, pose: by_the_hill, frames: 100, ..PLAIN },
    Take { name: "steps", place: Place::Steps, pose: to_the_steps, frames: 100, ..PLAIN },
    Take { name: "levels", place: Place::Levels, pose: over_levels, frames: 100, ..PLAIN },
    Take { name: "room", place: Place::Room, pose: indoors, focal: |_| 760.0, frames: 100, ..PLAIN },
    Take { name: "court-up", place: Place::Court, pose: upward, frames: 80, ..PLAIN },
    Take { name: "rolling-unsteady", pose: unsteady, frames: 100, readout: 0.9, shutter: 0.3, ..PLAIN },
];

/// The take of a name.
pub fn trial(name: &str) -> Option<&'static Take> {
    TRIALS.iter().find(|t| t.name == name)
}
