//! Where the ground round something goes while that something goes its own way.

use super::follow::{displacements, within_an_area};
use super::motion::AffineMotion;
use super::settings::TrackError;
use super::tracker::Tracker;
use crate::image::Plane;
use crate::matte::{Mask, MaskMode, Masks, OutlineKey};

/// How far about it the ground is looked at, and how much of that next to it is left out, of its size.
const ABOUT: f64 = 0.8;
const LEFT_OUT: f64 = 0.1;
/// Points: how many a frame full of them would have, and how far apart they are, px of a picture 1280 wide.
const DENSITY: f64 = 3000.0;
const SPACING_PX: f64 = 12.0;

/// Follows the ground round a place that moves, from picture to picture.
pub struct Surround {
    tracker: Tracker,
    places: std::collections::BTreeMap<u32, [f64; 2]>,
}

impl Surround {
    /// Begins at a picture with something in it: the corners of the box round it, px, the low ones first.
    ///
    /// # Errors
    /// [`TrackError`] when the picture cannot be tracked.
    pub fn new(picture: &Plane, about: [[f64; 2]; 2]) -> Result<Self, TrackError> {
        let settings = within_an_area(DENSITY, SPACING_PX);
        let mut tracker = Tracker::new(settings, round(about))?;
        tracker.push(picture)?;
        let places = tracker.places();
        Ok(Self { tracker, places })
    }

    /// How the ground moved to the next picture, in which the box is there: a shift, turn and growth that most points agree
    /// on; none where there are too few.
    ///
    /// # Errors
    /// [`TrackError::Size`] for a picture of another size.
    pub fn step(&mut self, picture: &Plane, about: [[f64; 2]; 2]) -> Result<AffineMotion, TrackError> {
        self.tracker.look_inside(round(about));
        self.tracker.push(picture)?;
        let now = self.tracker.places();
        let pairs = displacements(&self.places, &now);
        self.places = now;
        Ok(AffineMotion::fit_similarity(&pairs).unwrap_or_else(|| AffineMotion::shift(0.0, 0.0)))
    }
}

/// Round a box, without what is next to it.
fn round([low, high]: [[f64; 2]; 2]) -> Masks {
    let size = (high[0] - low[0]).max(high[1] - low[1]);
    let frame = |mode, by: f64| {
        let (x, y) = ([low[0] - by * size, high[0] + by * size], [low[1] - by * size, high[1] + by * size]);
        let outline = vec![[x[0], y[0]], [x[1], y[0]], [x[1], y[1]], [x[0], y[1]]];
        Mask::new(mode, vec![OutlineKey::new(0, outline)])
    };
    Masks { masks: vec![frame(MaskMode::KeepIn, ABOUT), frame(MaskMode::KeepOut, LEFT_OUT)] }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ground_is_followed_whatever_goes_over_it() {
        // Never the same twice, or a shift by a period would do as well.
        let lattice = |i: f64, j: f64| ((i * 12.9898 + j * 78.233).sin() * 43758.5453).fract();
        let wave = |x: f64, y: f64| {
            let (i, j) = ((x / 6.0).floor(), (y / 6.0).floor());
            let [u, v] = [x / 6.0 - i, y / 6.0 - j].map(|t| t * t * (3.0 - 2.0 * t));
            let row = |j: f64| lattice(i, j) + u * (lattice(i + 1.0, j) - lattice(i, j));
            60.0 * (row(j) + v * (row(j + 1.0) - row(j)))
        };
        let at = |t: f64| [150.0 + 4.0 * t, 120.0];
        let picture = |t: f64| {
            let [cx, cy] = at(t);
            Plane::from_fn(400, 260, |x, y| {
                let (x, y) = (x as f64, y as f64);
                let on = (x - cx).hypot(y - cy) < 30.0;
                (128.0 + if on { wave(x - cx, 1.4 * (y - cy)) } else { wave(x + 3.0 * t, y - 2.0 * t) }) as f32
            })
        };
        let about = |t: f64| [at(t).map(|v| v - 30.0), at(t).map(|v| v + 30.0)];
        let mut ground = Surround::new(&picture(0.0), about(0.0)).unwrap();
        for n in 1..8 {
            let t = f64::from(n);
            let motion = ground.step(&picture(t), about(t)).unwrap();
            let (dx, dy) = motion.at(at(t)[0], at(t)[1]);
            assert!((dx + 3.0).hypot(dy - 2.0) < 0.1, "{dx} {dy} on frame {n}");
        }
    }
}
