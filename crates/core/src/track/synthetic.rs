//! Pictures for unit tests.

use super::{TrackSet, TrackSettings, Tracker};
use crate::image::Plane;
use crate::matte::Masks;

/// Smooth noise of several sizes, as real ground has.
pub fn texture(x: f64, y: f64) -> f64 {
    let lattice = |i: i64, j: i64, k: u64| {
        let seed = (i as u64).wrapping_mul(0x9E37_79B9) ^ (j as u64).wrapping_mul(0x85EB_CA6B_0001) ^ (k << 40);
        crate::random::SplitMix64::new(seed).below(1000) as f64 / 500.0 - 1.0
    };
    let mut v = 120.0;
    for (k, size) in [5.0, 13.0, 37.0, 110.0].into_iter().enumerate() {
        let (u, w) = (x / size, y / size);
        let (i, j) = (u.floor(), w.floor());
        let ease = |t: f64| t * t * (3.0 - 2.0 * t);
        let (fu, fw) = (ease(u - i), ease(w - j));
        let at = |di: i64, dj: i64| lattice(i as i64 + di, j as i64 + dj, k as u64);
        let top = at(0, 0) + fu * (at(1, 0) - at(0, 0));
        let bottom = at(0, 1) + fu * (at(1, 1) - at(0, 1));
        v += 28.0 * (top + fw * (bottom - top));
    }
    v
}

/// A picture whose pixel (x, y) shows the texture at `map(x, y)`.
pub fn frame(map: impl Fn(f64, f64) -> (f64, f64)) -> Plane {
    Plane::from_fn(480, 300, |x, y| {
        let (u, v) = map(x as f64, y as f64);
        texture(u, v) as f32
    })
}

/// The tracks of so many pictures, with the usual settings and no masks.
pub fn tracked(frames: u32, picture: impl Fn(u32) -> Plane) -> TrackSet {
    let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
    for f in 0..frames {
        tracker.push(&picture(f)).unwrap();
    }
    tracker.finish()
}
