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

/// Breadth beyond which a picture is looked at half as large, px.
const LARGEST: usize = 2600;

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
    spread(solution.frames.len()).map(|i| solution.frames[i].frame).collect()
}

/// The same, before a clip of so many frames is solved: where every frame gets a camera.
pub fn expected_frames(frames: u32) -> Vec<u32> {
    spread(frames as usize).map(|i| i as u32).collect()
}

/// Indices spread over so many.
fn spread(n: usize) -> impl Iterator<Item = usize> {
    let count = VIEWS.min(n);
    (0..count).map(move |i| (2 * i + 1) * n / (2 * count))
}

/// The views of some pictures (grey, of any one size) of frames of the trimmed clip. Frames without a camera are left
/// out.
pub fn views(solution: &Solution, pictures: &[(u32, Picture)], masks: &Masks) -> Vec<View> {
    let path = CameraPath::new(solution, &Similarity::identity());
    let of = |(frame, picture): &(u32, Picture)| {
        let scale = picture.width() as f64 / f64::from(solution.width);
        let mut camera = path.at(*frame)?.scaled(scale);
        // A picture that is larger than any window needs is looked at half as large.
        let half = (picture.width() > LARGEST).then(|| picture.halved());
        if half.is_some() {
            camera = camera.scaled(0.5);
            // What lay at (x, y) lies at half of that there, not at the middle of four.
            camera.lens.centre_px = camera.lens.centre_px.map(|c| c + 0.25);
        }
        Some(View {
            frame: *frame,
            camera,
            pyramid: Pyramid::new(half.as_ref().unwrap_or(picture), LEVELS),
            masks: masks.at(*frame),
            full: if half.is_some() { 2.0 / scale } else { 1.0 / scale },
        })
    };
    pictures.par_iter().filter_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::SolvedFrame;
    use nalgebra::{Vector2, Vector3};

    #[test]
    fn a_large_picture_is_seen_in_the_same_places_half_as_large() {
        let mut solution = Solution::empty(3840, 2160, 1);
        let pose = Pose::look_at(Vector3::new(0.0, 1.0, 9.0), Vector3::zeros(), Vector3::y()).unwrap();
        solution.frames = vec![SolvedFrame::new(0, pose, Lens::centred(3000.0, 3840, 2160), 0.1, 30)];
        let place = Vector3::new(0.4, 0.2, 0.0);
        let at = CameraPath::new(&solution, &Similarity::identity()).at(0).unwrap().project(place).unwrap();
        // A soft spot where the place is seen.
        let picture = Picture::from_fn(3840, 2160, |x, y| {
            let d = Vector2::new(x as f64, y as f64) - at;
            (200.0 * (-d.norm_squared() / 800.0).exp()) as f32
        });
        let seen = &views(&solution, &[(0, picture)], &Masks::default())[0];
        let small = seen.pyramid.level(0);
        let (mut sum, mut middle) = (0.0, Vector2::zeros());
        for y in 0..small.height() {
            for (x, v) in small.row(y).iter().enumerate() {
                sum += f64::from(*v);
                middle += Vector2::new(x as f64, y as f64) * f64::from(*v);
            }
        }
        assert_eq!((small.width(), seen.full()), (1920, 2.0));
        let off = middle / sum - seen.camera.project(place).unwrap();
        assert!(off.norm() < 0.02, "{off}");
    }
}
