//! How the drone flies over the quay in the demo clip.

use crate::basin::{About, Air, lookout_eye};
use crate::places::Place;
use crate::take::Take;
use fennik_core::geometry::Pose;
use nalgebra::{Rotation3, Vector3};

/// Frames a second.
pub const RATE: u32 = 25;
/// Frames of the demo clip.
const FRAMES: u32 = 250;

/// The clip that everything is measured on: 24 mm on a sensor 36 mm wide, a little barrel.
pub const QUAY: Take = Take {
    name: "varrick-quay",
    place: Place::Quay,
    motion: "free",
    width: 1280,
    height: 720,
    frames: FRAMES,
    pose,
    focal: |_| 24.0 / 36.0 * 1280.0,
    k1: -0.028,
    shutter: 0.5,
    readout: 0.0,
    rays: 5,
    least_rays: usize::MAX,
    noise: 1.0,
    contrast: 1.0,
    plain: false,
    flicker: 0.0,
    crowd: 0,
    caption: false,
    rate_factor: 25,
};

/// The same flight over the basin as the demo shows it.
pub const BASIN: Take = Take { name: "basin-quay", place: Place::Basin(About::Quay, Air::Fair), least_rays: 2, ..QUAY };

/// A walk along the boathouse, from the hand: 28 mm on a sensor 36 mm wide.
pub const BOATHOUSE: Take = Take {
    name: "basin-boathouse",
    place: Place::Basin(About::Boathouse, Air::Fair),
    frames: 110,
    pose: walk,
    focal: |_| 28.0 / 36.0 * 1280.0,
    k1: -0.022,
    shutter: 0.35,
    noise: 1.1,
    ..BASIN
};

/// A pan from the lookout, on a tripod: 35 mm on a sensor 36 mm wide.
pub const LOOKOUT: Take = Take {
    name: "basin-lookout",
    place: Place::Basin(About::Lookout, Air::Pale),
    motion: "nodal",
    frames: 100,
    pose: pan,
    focal: |_| 35.0 / 36.0 * 1280.0,
    k1: -0.012,
    noise: 0.9,
    ..BASIN
};

/// The clips that ship.
pub const CLIPS: [&Take; 4] = [&QUAY, &BASIN, &BOATHOUSE, &LOOKOUT];

/// Smooth unrest about 0, of size about 1: three waves of the given turns a frame.
pub fn unrest(frame: f64, a: f64, b: f64, c: f64) -> f64 {
    0.5 * (a * frame).sin() + 0.3 * (b * frame + 1.3).sin() + 0.2 * (c * frame + 4.1).sin()
}

/// A pose from where the camera is, where it looks, and a small turn on top, radians.
pub fn aimed(eye: Vector3<f64>, target: Vector3<f64>, shake: Vector3<f64>) -> Pose {
    let Some(steady) = Pose::look_at(eye, target, Vector3::y()) else { return Pose::identity() };
    let rotation = Rotation3::new(shake) * steady.rotation;
    Pose { rotation, translation: -(rotation * eye) }
}

/// Where the drone is at a frame, fractions included. Forward, down and across, with the small
/// unrest of hovering in wind.
fn pose(frame: f64) -> Pose {
    let t = frame / f64::from(FRAMES - 1);
    let ease = t * t * (3.0 - 2.0 * t);
    let wave = |a: f64, b: f64, c: f64| unrest(frame, a, b, c);
    let eye = Vector3::new(5.2 - 9.0 * ease, 8.4 - 3.2 * t, 21.0 - 13.5 * ease)
        + Vector3::new(wave(0.11, 0.23, 0.51), wave(0.13, 0.29, 0.43), wave(0.09, 0.19, 0.39)) * 0.07;
    let target = Vector3::new(1.6 - 1.2 * t, 0.9, -4.5 - 2.0 * t);
    aimed(eye, target, Vector3::new(wave(0.31, 0.57, 1.1), wave(0.27, 0.49, 0.9), wave(0.21, 0.37, 0.7)) * 0.0035)
}

/// Along the wall, past who stands there, with a step's sway.
fn walk(frame: f64) -> Pose {
    let t = frame / 110.0;
    let step = 0.28 * frame;
    let bob = Vector3::new(0.018 * (0.5 * step).sin(), 0.022 * step.sin(), 0.0);
    let eye = Vector3::new(7.1 - 0.5 * t, 1.66, 32.2 + 6.6 * t) + bob;
    let wave = |a: f64, b: f64, c: f64| unrest(frame, a, b, c);
    let target = Vector3::new(1.9, 2.05 + 0.1 * t, 38.2 + 4.6 * t);
    aimed(eye, target, Vector3::new(wave(0.21, 0.37, 0.7), wave(0.17, 0.33, 0.6), wave(0.13, 0.27, 0.5)) * 0.006)
}

/// From north to east over the basin, slowly begun and ended.
fn pan(frame: f64) -> Pose {
    let t = (frame / 99.0).clamp(0.0, 1.0);
    let ease = t * t * (3.0 - 2.0 * t);
    let turn = 0.50 + 0.68 * ease;
    let eye = Vector3::from(lookout_eye());
    let rise = -0.075 + 0.012 * (2.6 * ease).sin();
    let hand = Vector3::new(unrest(frame, 0.11, 0.19, 0.31), unrest(frame, 0.09, 0.17, 0.27), 0.0) * 0.0006;
    aimed(eye, eye + Vector3::new(turn.sin(), rise, -turn.cos()) * 10.0, hand)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::sensor::direction;

    #[test]
    fn the_drone_moves_every_frame_and_never_far() {
        for f in 1..FRAMES {
            let step = (pose(f64::from(f)).centre() - pose(f64::from(f - 1)).centre()).norm();
            assert!(step > 0.002 && step < 0.3, "frame {f}: {step} m");
        }
    }

    /// Pixels that show somebody who walks, that show a thing on the move, and both, of every fourth.
    pub(crate) fn walking(take: &Take, frame: u32) -> [usize; 3] {
        let (scene, lens, pose) = (take.scene(), take.lens(f64::from(frame)), take.pose(f64::from(frame)));
        let mut counts = [0; 3];
        for (x, y) in (0..take.height).step_by(4).flat_map(|y| (0..take.width).step_by(4).map(move |x| (x, y))) {
            let ray = (pose.rotation.inverse() * direction(&lens, f64::from(x), f64::from(y))).normalize();
            let walks = scene.walker(pose.centre(), ray, f64::from(frame)).is_some();
            let moves = scene.meet(pose.centre(), ray, f64::from(frame)).is_some_and(|m| m.moves);
            [walks, moves, walks && moves].into_iter().zip(&mut counts).for_each(|(is, n)| *n += usize::from(is));
        }
        counts
    }

    #[test]
    fn who_walks_is_told_by_their_own_shape() {
        // Those who stand move too, and what stands for a body is wider than it.
        let [walks, moves, both] = walking(&BOATHOUSE, 60);
        assert!(walks > 800 && walks * 10 < moves * 7, "{walks} of {moves}");
        assert!(both * 100 > walks * 90, "{both} of {walks}");
        // Who glides is what moves there, but for boats.
        let [walks, moves, both] = walking(&QUAY, 60);
        assert!(walks > 100 && both == walks && walks < moves, "{walks} and {both} of {moves}");
    }
}
