//! How the drone flies.

use fennik_core::geometry::{Lens, Pose};
use nalgebra::{Rotation3, Vector3};

/// Picture width, px.
pub const WIDTH: u32 = 1280;
/// Picture height, px.
pub const HEIGHT: u32 = 720;
/// Frames.
pub const FRAMES: u32 = 250;
/// Frames a second.
pub const RATE: u32 = 25;
/// Part of the frame time during which the shutter is open.
pub const SHUTTER: f64 = 0.5;

/// The drone's lens: 24 mm on a sensor 36 mm wide, a little barrel.
pub fn lens() -> Lens {
    Lens { k1: -0.028, ..Lens::centred(24.0 / 36.0 * f64::from(WIDTH), WIDTH, HEIGHT) }
}

/// Where the drone is at a frame, fractions included. Forward, down and across, with the small
/// unrest of hovering in wind.
pub fn pose(frame: f64) -> Pose {
    let t = frame / f64::from(FRAMES - 1);
    let ease = t * t * (3.0 - 2.0 * t);
    let unrest = |a: f64, b: f64, c: f64| 0.5 * (a * frame).sin() + 0.3 * (b * frame + 1.3).sin() + 0.2 * (c * frame + 4.1).sin();
    let eye = Vector3::new(5.2 - 9.0 * ease, 8.4 - 3.2 * t, 21.0 - 13.5 * ease)
        + Vector3::new(unrest(0.11, 0.23, 0.51), unrest(0.13, 0.29, 0.43), unrest(0.09, 0.19, 0.39)) * 0.07;
    let target = Vector3::new(1.6 - 1.2 * t, 0.9, -4.5 - 2.0 * t);
    let Some(steady) = Pose::look_at(eye, target, Vector3::y()) else { return Pose::identity() };
    let shake = Vector3::new(unrest(0.31, 0.57, 1.1), unrest(0.27, 0.49, 0.9), unrest(0.21, 0.37, 0.7)) * 0.0035;
    let rotation = Rotation3::new(shake) * steady.rotation;
    Pose { rotation, translation: -(rotation * eye) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_drone_moves_every_frame_and_never_far() {
        for f in 1..FRAMES {
            let step = (pose(f64::from(f)).centre() - pose(f64::from(f - 1)).centre()).norm();
            assert!(step > 0.002 && step < 0.3, "frame {f}: {step} m");
        }
    }
}
