//! The path, frame by frame.

use crate::geometry::{Lens, Pose, Similarity, Velocity, velocities};
use crate::solve::Solution;
use nalgebra::{Vector2, Vector3};

/// Rounds in which the row on which a point is seen is found.
const ROW_STEPS: usize = 12;
/// Distance between two rounds that ends them, px.
const ROW_TOLERANCE_PX: f64 = 1e-6;
/// Neighbours on either side from which it is told how a camera moves.
const REACH: usize = 2;
/// Depth below which a point counts as behind the camera, of the distance to it.
const LEAST_DEPTH: f64 = 1e-9;

/// What a pixel sees: a half-line in the world of the datum.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ray {
    /// The centre of the camera when the pixel's row is exposed.
    pub from: Vector3<f64>,
    /// Unit direction.
    pub along: Vector3<f64>,
}

/// The camera on one frame, in the world of the datum.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Camera {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// The lens, for a picture of this size.
    pub lens: Lens,
    /// In the world of the datum, when the middle row is exposed.
    middle: Pose,
    in_solve: Pose,
    velocity: Velocity,
    world_from_solve: Similarity,
    readout: f64,
    /// Rows of the full picture.
    rows: f64,
    /// Size of this picture over the full one.
    scale: f64,
}

impl Camera {
    /// A camera that exposes all rows at once, in a world that needs no datum; of a picture `height` px high.
    pub fn new(pose: Pose, lens: Lens, height: u32) -> Self {
        let still = Vector3::zeros();
        Self {
            frame: 0,
            lens,
            middle: pose,
            in_solve: pose,
            velocity: Velocity { turn: still, shift: still, turn_acceleration: still, shift_acceleration: still },
            world_from_solve: Similarity::identity(),
            readout: 0.0,
            rows: f64::from(height),
            scale: 1.0,
        }
    }

    /// `cam_from_world` when the middle row is exposed.
    pub fn pose(&self) -> Pose {
        self.middle
    }

    /// `cam_from_world` some frames (a part of one, as a rule) after the middle row of this one is exposed.
    pub fn pose_after(&self, frames: f64) -> Pose {
        if frames == 0.0 {
            return self.pose();
        }
        self.world_from_solve.pose(&self.velocity.propagate(&self.in_solve, frames))
    }

    /// The same camera so many frames later, as far as it goes on as it moves here.
    pub fn after(&self, frames: f64) -> Self {
        if frames == 0.0 {
            return *self;
        }
        let in_solve = self.velocity.propagate(&self.in_solve, frames);
        Self { in_solve, middle: self.world_from_solve.pose(&in_solve), ..*self }
    }

    /// `cam_from_world` when a row of the picture is exposed.
    pub fn pose_at_row(&self, row: f64) -> Pose {
        self.pose_after(self.time_of_row(row))
    }

    /// When a row is exposed, frames after the middle one.
    pub fn time_of_row(&self, row: f64) -> f64 {
        // Pixel centres: (0, 0) is the centre of a pixel, so the picture begins at -0.5.
        let full = (row + 0.5) / self.scale - 0.5;
        self.readout * (full / (self.rows - 1.0).max(1.0) - 0.5)
    }

    /// Whether rows are exposed one after the other.
    pub fn is_rolling(&self) -> bool {
        self.readout != 0.0
    }

    /// Part of the frame time between the first row and the last.
    pub fn readout(&self) -> f64 {
        self.readout
    }

    /// How the camera moves about this frame, in the world of the solve: what the page needs to follow the rows.
    pub fn velocity(&self) -> Velocity {
        self.velocity
    }

    /// The same for the world of the datum: shifts in its units, and the place about which that world turned when it
    /// was laid, so that `t' = t + shift + (R - R') place`. `None` where all rows are exposed at once.
    pub fn row_motion(&self) -> Option<(Velocity, Vector3<f64>)> {
        let Similarity { scale, translation, .. } = self.world_from_solve;
        let Velocity { turn, shift, turn_acceleration, shift_acceleration } = self.velocity;
        let (shift, shift_acceleration) = (shift * scale, shift_acceleration * scale);
        self.is_rolling().then_some((Velocity { turn, shift, turn_acceleration, shift_acceleration }, translation))
    }

    /// The centre when the middle row is exposed.
    pub fn centre(&self) -> Vector3<f64> {
        self.pose().centre()
    }

    /// The pixel at which a world point is seen; `None` behind the camera.
    pub fn project(&self, world: Vector3<f64>) -> Option<Vector2<f64>> {
        let through = |pose: &Pose| {
            let c = pose.to_camera(world);
            (c.z > LEAST_DEPTH * c.norm()).then(|| self.lens.project(Vector2::new(c.x / c.z, c.y / c.z)))
        };
        let mut pixel = through(&self.pose())?;
        if !self.is_rolling() {
            return Some(pixel);
        }
        for _ in 0..ROW_STEPS {
            // Far outside the picture there is no row; the nearest one's time is good enough.
            let row = pixel.y.clamp(-0.5, self.rows * self.scale - 0.5);
            let next = through(&self.pose_at_row(row))?;
            let moved = (next - pixel).norm();
            pixel = next;
            if moved < ROW_TOLERANCE_PX {
                break;
            }
        }
        Some(pixel)
    }

    /// What a pixel sees.
    pub fn ray(&self, pixel: Vector2<f64>) -> Ray {
        let pose = self.pose_at_row(pixel.y);
        let n = self.lens.unproject(pixel);
        Ray { from: pose.centre(), along: (pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0)).normalize() }
    }

    /// The same camera for the same picture `scale` times as large.
    pub fn scaled(&self, scale: f64) -> Self {
        Self { lens: self.lens.scaled(scale), scale: self.scale * scale, ..*self }
    }
}

/// The solved camera of a shot, in the world of the datum.
#[derive(Debug, Clone, Copy)]
pub struct CameraPath<'a> {
    solution: &'a Solution,
    world_from_solve: Similarity,
}

impl<'a> CameraPath<'a> {
    /// The path of a solve, in the world that `world_from_solve` leads to: that of the datum.
    pub fn new(solution: &'a Solution, world_from_solve: &Similarity) -> Self {
        Self { solution, world_from_solve: *world_from_solve }
    }

    /// The camera of a frame, if it was solved.
    pub fn at(&self, frame: u32) -> Option<Camera> {
        self.solution.frames.binary_search_by_key(&frame, |f| f.frame).ok().map(|i| self.camera(i))
    }

    /// All cameras, by rising frame.
    pub fn cameras(&self) -> impl ExactSizeIterator<Item = Camera> + '_ {
        (0..self.solution.frames.len()).map(|i| self.camera(i))
    }

    /// A point of the solve's world in that of the datum.
    pub fn point(&self, in_solve: Vector3<f64>) -> Vector3<f64> {
        self.world_from_solve.point(in_solve)
    }

    /// The solve.
    pub fn solution(&self) -> &'a Solution {
        self.solution
    }

    fn camera(&self, i: usize) -> Camera {
        let frames = &self.solution.frames;
        // As far as neighbours tell how it moves.
        let near = &frames[i.saturating_sub(REACH)..(i + REACH + 1).min(frames.len())];
        let poses: Vec<Pose> = near.iter().map(|f| f.pose).collect();
        let times: Vec<f64> = near.iter().map(|f| f64::from(f.frame)).collect();
        Camera {
            frame: frames[i].frame,
            lens: frames[i].lens,
            middle: self.world_from_solve.pose(&frames[i].pose),
            in_solve: frames[i].pose,
            velocity: velocities(&poses, &times)[i.min(REACH)],
            world_from_solve: self.world_from_solve,
            readout: self.solution.readout,
            rows: f64::from(self.solution.height),
            scale: 1.0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::SolvedFrame;
    use nalgebra::Rotation3;
    use proptest::prelude::*;

    /// A camera that pans and rises, read out over a part of each frame.
    fn solution(readout: f64) -> Solution {
        let lens = Lens { k1: -0.05, ..Lens::centred(900.0, 1280, 720) };
        let pose = |f: u32| {
            let t = f64::from(f);
            let turn = Rotation3::from_euler_angles(0.01 * (0.5 * t).sin(), 0.02 * t, 0.004 * t);
            Pose { rotation: turn, translation: Vector3::new(-0.05 * t, 0.03 * t, 0.01 * t) }
        };
        let frames = (0..9).map(|f| SolvedFrame::new(f, pose(f), lens, 0.1, 50)).collect();
        Solution { frames, readout, ..Solution::empty(1280, 720, 9) }
    }

    fn world() -> Similarity {
        let rotation = Rotation3::from_euler_angles(0.4, -1.1, 0.2);
        Similarity { scale: 2.5, rotation, translation: Vector3::new(1.0, -2.0, 3.0) }
    }

    proptest! {
        /// Whatever the world and the shutter, the ray of the pixel at which a point is seen meets the point.
        #[test]
        fn a_point_lies_on_the_ray_of_its_pixel(
            x in -0.5f64..0.5, y in -0.3f64..0.3, depth in 2.0f64..60.0, readout in -1.0f64..1.0, frame in 0u32..9,
        ) {
            let solved = solution(readout);
            let path = CameraPath::new(&solved, &world());
            let camera = path.at(frame).unwrap();
            let seen_from = camera.pose_at_row(camera.lens.project(Vector2::new(x, y)).y);
            let point = seen_from.rotation.inverse() * (Vector3::new(x, y, 1.0) * depth - seen_from.translation);
            let pixel = camera.project(point).unwrap();
            // The oracle: the row's own pose, by which the point was made.
            let right = camera.lens.project(Vector2::new(x, y));
            prop_assert!((pixel - right).norm() < 1e-3, "{pixel} for {right}");
            let ray = camera.ray(pixel);
            let off = (point - ray.from).cross(&ray.along).norm();
            prop_assert!(off < 1e-5 * depth, "{off} beside the ray");
            prop_assert!((point - ray.from).dot(&ray.along) > 0.0);
        }

        /// A picture of another size sees the same in the same place.
        #[test]
        fn a_smaller_picture_sees_the_same(x in -4.0f64..4.0, y in -2.0f64..2.0, scale in 0.1f64..2.0) {
            let solved = solution(0.7);
            let path = CameraPath::new(&solved, &Similarity::identity());
            let camera = path.at(4).unwrap();
            let point = camera.pose().rotation.inverse() * (Vector3::new(x, y, 9.0) - camera.pose().translation);
            let (full, small) = (camera.project(point).unwrap(), camera.scaled(scale).project(point).unwrap());
            let expected = (full + Vector2::repeat(0.5)) * scale - Vector2::repeat(0.5);
            prop_assert!((small - expected).norm() < 1e-3, "{small} for {expected}");
        }
    }

    /// Fault: where all rows are exposed at once, a later camera stood where the first one stood.
    #[test]
    fn a_later_camera_sees_what_this_one_sees_later() {
        for readout in [0.0, 0.4] {
            let (solution, world) = (solution(readout), world());
            let camera = CameraPath::new(&solution, &world).at(1).unwrap();
            let (later, pose) = (camera.after(0.3), camera.pose_after(0.3));
            assert!((later.centre() - pose.centre()).norm() < 1e-12 && later.pose().rotation == pose.rotation);
            assert!((later.centre() - camera.centre()).norm() > 1e-4, "it moves");
        }
    }

    #[test]
    fn the_datum_is_applied_once_and_frames_without_a_camera_have_none() {
        let mut solved = solution(0.0);
        solved.frames.remove(3);
        let path = CameraPath::new(&solved, &world());
        assert!(path.at(3).is_none() && path.at(9).is_none() && path.cameras().len() == 8);
        let camera = path.at(5).unwrap();
        let by_hand = solved.at(5).unwrap().pose;
        let point = Vector3::new(0.4, -0.2, 12.0);
        let (there, here) = (by_hand.to_camera(point), camera.pose().to_camera(path.point(point)));
        assert!((there * world().scale - here).norm() < 1e-9, "depths grow by the scale, pixels stay");
        assert!(!camera.is_rolling() && camera.pose_at_row(0.0) == camera.pose());
        let behind = camera.centre() - camera.ray(Vector2::new(639.5, 359.5)).along;
        assert_eq!(camera.project(behind), None);
    }

    #[test]
    fn rows_are_exposed_one_after_the_other() {
        let solved = solution(0.8);
        let path = CameraPath::new(&solved, &Similarity::identity());
        let camera = path.at(4).unwrap();
        assert!((camera.time_of_row(0.0) + 0.4).abs() < 1e-12 && (camera.time_of_row(719.0) - 0.4).abs() < 1e-12);
        let half = camera.scaled(0.5);
        assert!((half.time_of_row(-0.25) + 0.4).abs() < 1e-12, "the middle of the full picture's first row");
        // What is read off neighbours alone is what the whole path tells.
        let poses: Vec<Pose> = solved.frames.iter().map(|f| f.pose).collect();
        let times: Vec<f64> = (0..9).map(f64::from).collect();
        for (camera, velocity) in path.cameras().zip(velocities(&poses, &times)) {
            assert_eq!(camera.velocity(), velocity, "frame {}", camera.frame);
        }
        // Half a frame on is half way to the next.
        let (now, next, on) = (camera.pose(), path.at(5).unwrap().pose(), camera.pose_after(0.5));
        assert!((on.centre() - (now.centre() + next.centre()) * 0.5).norm() < 2e-3);
    }
}
