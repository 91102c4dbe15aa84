//! One take: how a camera moves and what it is built like.

use crate::basin::Basin;
use crate::places::Place;
use crate::scene::Scene;
use crate::scenery::Scenery;
use fennik_core::geometry::{Lens, Pose};

/// A camera with its move over a number of frames.
pub struct Take {
    /// Name, as in a file's name.
    pub name: &'static str,
    /// Where it is filmed.
    pub place: Place,
    /// Kind of move: `free`, `nodal`, `nodal-zoom`, `zoom`.
    pub motion: &'static str,
    /// Picture width, px.
    pub width: u32,
    /// Picture height, px.
    pub height: u32,
    /// Frames.
    pub frames: u32,
    /// `cam_from_world` at a time in frames.
    pub pose: fn(f64) -> Pose,
    /// Focal length, px of a picture 1280 wide, at a time in frames.
    pub focal: fn(f64) -> f64,
    /// Radial distortion of r^2.
    pub k1: f64,
    /// Part of the frame time during which the shutter is open.
    pub shutter: f64,
    /// Part of the frame time between the first and the last row; the middle row is at the frame's own time.
    pub readout: f64,
    /// Rays a pixel.
    pub rays: usize,
    /// Rays after which a pixel is done where they agree.
    pub least_rays: usize,
    /// The sensor's noise against the usual one.
    pub noise: f32,
    /// Contrast of the plate; 1 is as seen.
    pub contrast: f32,
    /// Whether light becomes display values by the law of sRGB alone, without the sensor's own curve.
    pub plain: bool,
    /// How far the exposure swings, as a factor above 0.
    pub flicker: f32,
    /// People who walk by close to the camera.
    pub crowd: usize,
    /// Whether a caption is burnt in, as from a camera's display.
    pub caption: bool,
    /// x264's constant rate factor; the higher, the coarser.
    pub rate_factor: u32,
}

impl Take {
    /// What it films.
    pub fn scene(&self) -> Box<dyn Scene> {
        match self.place {
            Place::Basin(about, air) => Box::new(Basin::new(about, air)),
            place => Box::new(Scenery::of(place, self.crowd)),
        }
    }

    /// The lens at a time in frames.
    pub fn lens(&self, frame: f64) -> Lens {
        let focal_px = (self.focal)(frame) * f64::from(self.width) / 1280.0;
        Lens { k1: self.k1, ..Lens::centred(focal_px, self.width, self.height) }
    }

    /// When a row is exposed (middle of its shutter), in frames.
    pub fn row_time(&self, frame: u32, row: f64) -> f64 {
        f64::from(frame) + self.readout * (row / f64::from(self.height - 1) - 0.5)
    }

    /// The pose at a time in frames.
    pub fn pose(&self, frame: f64) -> Pose {
        (self.pose)(frame)
    }

    /// Gain of the exposure on a frame.
    pub fn exposure(&self, frame: u32) -> f32 {
        1.0 + self.flicker * (0.6 * (frame as f32 * 0.37).sin() + 0.4 * (frame as f32 * 2.1).sin())
    }
}
