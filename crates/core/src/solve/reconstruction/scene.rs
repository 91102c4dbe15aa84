//! The growing scene: frames with poses, tracks with positions, and the lens between them.

use crate::geometry::{Lens, Pose};
use crate::geometry::{Velocity, velocities};
use crate::solve::bundle::state::{Bundle, Move};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::resection as resect;
use crate::solve::settings::{CentreChoice, LensChoice, MotionChoice, ReadoutChoice, SolveSettings};
use crate::solve::solution::{Motion, Solution};
use nalgebra::{Vector2, Vector3};

/// What is known so far.
#[derive(Debug, Clone)]
pub struct Scene {
    /// How the camera moves; of a nodal move points are unit directions and poses have no shift.
    pub motion: Move,
    /// `cam_from_world` per frame.
    pub poses: Vec<Option<Pose>>,
    /// Position (or direction) per track.
    pub points: Vec<Option<Vector3<f64>>>,
    /// The lens of all frames.
    pub lens: Lens,
    /// Logarithm of each frame's focal length over that of the lens; empty for a lens that does not zoom.
    pub zoom: Vec<f64>,
    /// Part of the frame time between the first and the last row.
    pub readout: f64,
    /// Median reprojection error of the points at the keyframes, px.
    pub noise_px: f64,
    /// Rows of the picture.
    rows: f64,
    /// The middle of the picture, px.
    middle_px: [f64; 2],
    velocities: Vec<Option<Velocity>>,
}

impl Scene {
    /// Nothing but a lens.
    pub fn new(motion: Move, problem: &Problem, lens: Lens, zooms: bool) -> Self {
        Self {
            motion,
            poses: vec![None; problem.frames],
            points: vec![None; problem.tracks.len()],
            lens,
            zoom: vec![0.0; if zooms { problem.frames } else { 0 }],
            readout: 0.0,
            noise_px: 0.25 * f64::from(problem.width) / 1280.0,
            rows: f64::from(problem.height),
            middle_px: Lens::centred(1.0, problem.width, problem.height).centre_px,
            velocities: Vec::new(),
        }
    }

    /// The scene of a camera that was solved before, for the tracks as they are now; `None` where the settings ask for
    /// another kind of move or lens.
    pub fn resumed(problem: &Problem, from: &Solution, settings: &SolveSettings) -> Option<Self> {
        let lens = from.frames.first()?.lens;
        let other_move = match settings.motion {
            MotionChoice::Auto => false,
            MotionChoice::Nodal => from.motion != Motion::Nodal,
            MotionChoice::Free | MotionChoice::Planar => from.motion == Motion::Nodal,
        };
        let other_lens = matches!((settings.lens, from.zoom), (LensChoice::Fixed, true) | (LensChoice::Zoom, false))
            || settings.focal_px.is_some_and(|f| from.zoom || (f / lens.focal_px - 1.0).abs() > 1e-6);
        let same_clip =
            (from.width, from.height, from.frames_total as usize) == (problem.width, problem.height, problem.frames);
        if other_move || other_lens || !same_clip {
            return None;
        }
        let motion = if from.motion == Motion::Nodal { Move::Nodal } else { Move::Free };
        let mut scene = Self::new(motion, problem, lens, from.zoom);
        if settings.centre != CentreChoice::Found {
            scene.lens.centre_px = problem.centre_px;
        }
        scene.readout = match settings.readout {
            ReadoutChoice::Auto => from.readout,
            ReadoutChoice::None => 0.0,
            ReadoutChoice::Given(readout) => readout,
        };
        for f in &from.frames {
            scene.pose_frame(f.frame, f.pose, &f.lens);
        }
        for p in &from.points {
            if let Ok(t) = problem.ids.binary_search(&p.id) {
                scene.points[t] = Some(p.position);
            }
        }
        scene.noise_px = from.median_px.max(0.02 * problem.scale());
        scene.refresh_velocities();
        Some(scene)
    }

    /// Whether every frame has a focal length of its own.
    pub fn zooms(&self) -> bool {
        !self.zoom.is_empty()
    }

    /// Frames with poses, rising.
    pub fn posed(&self) -> Vec<u32> {
        (0..self.poses.len() as u32).filter(|&f| self.poses[f as usize].is_some()).collect()
    }

    /// The lens on a frame.
    pub fn lens_at(&self, frame: u32) -> Lens {
        match self.zoom.get(frame as usize) {
            Some(z) => Lens { focal_px: self.lens.focal_px * z.exp(), ..self.lens },
            None => self.lens,
        }
    }

    /// The pose of a frame at the time at which a row of it is exposed.
    pub fn pose_at(&self, frame: u32, row: f64) -> Option<Pose> {
        let pose = self.poses[frame as usize]?;
        match self.velocities.get(frame as usize) {
            Some(Some(s)) if self.readout != 0.0 => {
                Some(s.propagate(&pose, self.readout * (row / (self.rows - 1.0).max(1.0) - 0.5)))
            }
            _ => Some(pose),
        }
    }

    /// Distance in px between where a point is seen and where it should be; `None` without a pose or behind the
    /// camera.
    pub fn reprojection_error(&self, frame: u32, pixel: &Vector2<f64>, point: &Vector3<f64>) -> Option<f64> {
        resect::reprojection_error(&self.pose_at(frame, pixel.y)?, &self.lens_at(frame), pixel, point)
    }

    /// Poses a frame, with its own focal length where the lens zooms.
    pub fn pose_frame(&mut self, frame: u32, pose: Pose, lens: &Lens) {
        self.poses[frame as usize] = Some(pose);
        if self.zooms() {
            self.zoom[frame as usize] = (lens.focal_px / self.lens.focal_px).ln();
        }
    }

    /// Takes over what an adjustment found for these frames.
    pub fn take(&mut self, bundle: &Bundle, frames: &[u32]) {
        self.lens = bundle.lens;
        self.readout = bundle.readout;
        for (i, &f) in frames.iter().enumerate() {
            self.poses[f as usize] = Some(bundle.poses[i]);
        }
        if !bundle.zoom.is_empty() {
            self.zoom.resize(self.poses.len(), 0.0);
            for (i, &f) in frames.iter().enumerate() {
                self.zoom[f as usize] = bundle.zoom[i];
            }
        }
        self.refresh_velocities();
    }

    /// Reads off the poses how the camera moves within each frame; only needed with a rolling shutter.
    pub fn refresh_velocities(&mut self) {
        self.velocities = vec![None; self.poses.len()];
        if self.readout != 0.0 {
            let frames = self.posed();
            let poses: Vec<Pose> = frames.iter().filter_map(|&f| self.poses[f as usize]).collect();
            let times: Vec<f64> = frames.iter().map(|&f| f64::from(f)).collect();
            for (&f, velocity) in frames.iter().zip(velocities(&poses, &times)) {
                self.velocities[f as usize] = Some(velocity);
            }
        }
    }

    /// A bundle of these frames, all of which have poses, without points.
    pub fn bundle(&self, frames: &[u32]) -> Bundle {
        let poses = frames.iter().filter_map(|&f| self.poses[f as usize]).collect();
        let mut bundle = Bundle::new(poses, frames.iter().map(|&f| f64::from(f)).collect(), self.lens);
        if self.zooms() {
            bundle.zoom = frames.iter().map(|&f| self.zoom[f as usize]).collect();
        }
        bundle.readout = self.readout;
        bundle.rows = self.rows;
        bundle.middle_px = self.middle_px;
        bundle
    }

    /// Gives a frame without a pose the zoom between its nearest neighbours that have one.
    pub fn guess_zoom(&mut self, frame: u32) {
        if self.zooms() {
            self.zoom_between(frame, &self.posed());
        }
    }

    /// Gives a frame the zoom between its nearest neighbours among `known`, which rise.
    pub fn zoom_between(&mut self, frame: u32, known: &[u32]) {
        if !self.zooms() {
            return;
        }
        let after = known.partition_point(|&f| f <= frame);
        let before = known[..after].iter().rev().find(|&&f| f != frame);
        self.zoom[frame as usize] = match (before, known.get(after)) {
            (Some(&a), Some(&b)) => {
                let t = f64::from(frame - a) / f64::from(b - a);
                self.zoom[a as usize] * (1.0 - t) + self.zoom[b as usize] * t
            }
            (Some(&i), None) | (None, Some(&i)) => self.zoom[i as usize],
            (None, None) => self.zoom[frame as usize],
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scene(zooms: bool) -> Scene {
        let problem = Problem {
            width: 1280,
            height: 720,
            frames: 9,
            tracks: vec![Vec::new()],
            ids: vec![crate::track::TrackId(0)],
            trusted: vec![false],
            centre_px: [639.5, 359.5],
        };
        let mut scene = Scene::new(Move::Free, &problem, Lens::centred(900.0, 1280, 720), zooms);
        for f in [0usize, 2, 4, 6, 8] {
            let turned = Pose::identity()
                .retract(Vector3::new(0.0, 0.01 * f as f64, 0.0), Vector3::new(0.1 * f as f64, 0.0, 0.0));
            scene.poses[f] = Some(turned);
        }
        scene
    }

    #[test]
    fn a_frame_between_two_gets_the_zoom_between_theirs() {
        let mut scene = scene(true);
        scene.zoom[2] = 0.2;
        scene.zoom[6] = 0.6;
        scene.zoom_between(3, &[2, 6]);
        assert!((scene.zoom[3] - 0.3).abs() < 1e-12);
        scene.zoom_between(8, &[2, 6]);
        scene.zoom_between(0, &[2, 6]);
        assert_eq!((scene.zoom[8], scene.zoom[0]), (0.6, 0.2), "beyond the ends it is held");
        assert!((scene.lens_at(6).focal_px - 900.0 * 0.6f64.exp()).abs() < 1e-9);
    }

    #[test]
    fn without_a_zoom_or_a_readout_nothing_is_carried() {
        let mut scene = scene(false);
        scene.guess_zoom(3);
        assert!(!scene.zooms() && scene.zoom.is_empty());
        scene.refresh_velocities();
        assert_eq!(scene.pose_at(4, 700.0), scene.poses[4]);
        assert_eq!(scene.pose_at(3, 0.0), None);
    }

    #[test]
    fn rows_are_seen_from_where_the_camera_is_at_their_time() {
        let mut scene = scene(false);
        for f in 0..9usize {
            scene.poses[f] = Some(
                Pose::identity()
                    .retract(Vector3::new(0.0, 0.01 * f as f64, 0.0), Vector3::new(0.1 * f as f64, 0.0, 0.0)),
            );
        }
        scene.readout = 0.8;
        scene.refresh_velocities();
        for (row, part) in [(0.0, -0.4), (359.5, 0.0), (719.0, 0.4)] {
            let pose = scene.pose_at(4, row).unwrap();
            assert!((pose.translation.x - 0.1 * (4.0 + part)).abs() < 1e-6, "row {row}: {}", pose.translation.x);
            assert!((pose.rotation.angle() - 0.01 * (4.0 + part)).abs() < 1e-6, "row {row}: {}", pose.rotation.angle());
        }
    }

    #[test]
    fn what_a_bundle_found_comes_back_frame_by_frame() {
        let mut scene = scene(true);
        let frames = scene.posed();
        let mut bundle = scene.bundle(&frames);
        bundle.zoom = vec![0.1; frames.len()];
        bundle.lens.k1 = -0.05;
        bundle.poses[1].translation.z = 3.0;
        scene.take(&bundle, &frames);
        assert_eq!((scene.zoom[2], scene.zoom[3], scene.lens.k1), (0.1, 0.0, -0.05));
        assert_eq!(scene.poses[2].map(|p| p.translation.z), Some(3.0));
        assert_eq!(scene.reprojection_error(3, &Vector2::zeros(), &Vector3::z()), None, "no pose, no miss");
    }
}
