//! Pictures of the clip, each with its camera, in which planes are looked at.

use crate::camera::{Camera, CameraPath};
use crate::geometry::Similarity;
use crate::image::{Plane as Picture, Pyramid};
use crate::matte::{Masks, MasksAtFrame};
use crate::solve::Solution;
use rayon::prelude::*;

/// Pictures that are looked at.
const VIEWS: usize = 10;
/// Levels of the pyramid of each.
const LEVELS: usize = 3;

/// One picture of the clip.
pub struct View {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// Its camera, in the world of the solve, for a picture of this size.
    pub camera: Camera,
    /// The picture at several sizes, encoded values 0 to 255.
    pub pyramid: Pyramid,
    /// Where it may be looked at, px of the full picture.
    masks: MasksAtFrame,
    /// Size of the full picture over this one.
    full: f64,
}

impl View {
    /// Whether a window of half side `half` px may be looked at.
    pub fn allows(&self, x: f64, y: f64, half: f64) -> bool {
        self.masks.allows((x + 0.5) * self.full - 0.5, (y + 0.5) * self.full - 0.5, half * self.full)
    }

    /// Full picture px to a px of this picture.
    pub fn full(&self) -> f64 {
        self.full
    }
}

/// The frames of the trimmed clip whose pictures a survey wants, by rising frame.
pub fn wanted_frames(solution: &Solution) -> Vec<u32> {
    let n = solution.frames.len();
    let count = VIEWS.min(n);
    (0..count).map(|i| solution.frames[(2 * i + 1) * n / (2 * count)].frame).collect()
}

/// The views of some pictures (grey, of any one size) of frames of the trimmed clip. Frames without a camera are left
/// out.
pub fn views(solution: &Solution, pictures: &[(u32, Picture)], masks: &Masks) -> Vec<View> {
    let path = CameraPath::new(solution, &Similarity::identity());
    let of = |(frame, picture): &(u32, Picture)| {
        let scale = picture.width() as f64 / f64::from(solution.width);
        Some(View {
            frame: *frame,
            camera: path.at(*frame)?.scaled(scale),
            pyramid: Pyramid::new(picture, LEVELS),
            masks: masks.at(*frame),
            full: 1.0 / scale,
        })
    };
    pictures.par_iter().filter_map(of).collect()
}
