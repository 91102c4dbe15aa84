//! People who stride by close to the camera, a second of each: what is drawn round them is held to what is known of them.

use crate::flight::{BASIN, BOATHOUSE, aimed, unrest};
use crate::take::Take;
use fennik_core::geometry::Pose;
use nalgebra::Vector3;

type V = Vector3<f64>;

const SECOND: Take = Take { frames: 26, focal: |_| 28.0 / 36.0 * 1280.0, ..BASIN };

/// The clips, each with its film (H.264 in MP4): along the quay to the left and to the right, and before the boathouse.
pub static PASSING: [(Take, &[u8]); 3] = [
    (Take { name: "passing-left", pose: left, ..SECOND }, include_bytes!("../assets/passing-left.mp4")),
    (Take { name: "passing-right", pose: right, ..SECOND }, include_bytes!("../assets/passing-right.mp4")),
    (
        Take { name: "passing-ahead", pose: ahead, place: BOATHOUSE.place, ..SECOND },
        include_bytes!("../assets/passing-ahead.mp4"),
    ),
];

/// From the hand of somebody who goes along.
fn by_hand(frame: f64, eye: V, target: V) -> Pose {
    let bob = V::new(0.0, 0.02 * (0.28 * frame).sin(), 0.0);
    let wave = |a: f64, b: f64, c: f64| unrest(frame, a, b, c);
    aimed(eye + bob, target, V::new(wave(0.21, 0.37, 0.7), wave(0.17, 0.33, 0.6), wave(0.13, 0.27, 0.5)) * 0.006)
}

fn left(f: f64) -> Pose {
    by_hand(f, V::new(-0.4 + 0.01 * f, 1.6, 9.0 - 0.02 * f), V::new(-5.7, 1.0, 8.4 - 0.037 * f))
}

fn right(f: f64) -> Pose {
    by_hand(f, V::new(2.6 + 0.012 * f, 1.7, 6.4 - 0.025 * f), V::new(5.9, 1.0, 2.2 - 0.041 * f))
}

fn ahead(f: f64) -> Pose {
    by_hand(f, V::new(7.0 - 0.01 * f, 1.65, 53.2 - 0.012 * f), V::new(3.9, 1.0, 57.6 - 0.04 * f))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::flight::tests::walking;

    #[test]
    fn somebody_strides_by_who_is_large_in_the_picture() {
        for (take, film) in &PASSING {
            let [walks, ..] = walking(take, 12);
            assert!(walks > 600 && film.len() > 100_000, "{}: {walks} of every sixteenth pixel", take.name);
        }
    }
}
