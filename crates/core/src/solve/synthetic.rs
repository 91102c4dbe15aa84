//! A made-up walk for the unit tests of this module.

use crate::geometry::{Lens, Pose};
use crate::random::SplitMix64;
use crate::solve::bundle::state::Move;
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::track::TrackId;
use nalgebra::{Vector2, Vector3};

/// A camera that walks past random points, and what it sees.
pub struct Walk {
    pub problem: Problem,
    pub poses: Vec<Pose>,
    pub lens: Lens,
    /// One point a track; those that move are where they are at first.
    pub points: Vec<Vector3<f64>>,
}

/// How it is made.
pub struct Making {
    pub frames: u32,
    pub points: u32,
    pub noise_px: f64,
    /// Every how many tracks one drifts off on its own; 0 for none.
    pub movers: u32,
    /// Logarithm of the focal length over the first one's, by frame.
    pub zoom: fn(f64) -> f64,
}

impl Default for Making {
    fn default() -> Self {
        Self { frames: 40, points: 160, noise_px: 0.1, movers: 0, zoom: |_| 0.0 }
    }
}

/// The walk.
pub fn walk(how: &Making) -> Walk {
    let mut random = SplitMix64::new(41);
    let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
    let lens = Lens { k1: -0.03, ..Lens::centred(940.0, 1280, 720) };
    let poses: Vec<Pose> = (0..how.frames)
        .map(|f| {
            let t = f64::from(f) / f64::from(how.frames);
            let eye = Vector3::new(5.0 * t - 2.5, 1.6 + 0.1 * (20.0 * t).sin(), 10.0 - 3.0 * t);
            Pose::look_at(eye, Vector3::new(0.5 * t, 1.0, 0.0), Vector3::y()).unwrap()
        })
        .collect();
    let points: Vec<Vector3<f64>> =
        (0..how.points).map(|_| Vector3::new(4.0 * unit(), 1.0 + 1.5 * unit(), 3.0 * unit() - 1.0)).collect();
    let mut noise = SplitMix64::new(42);
    let track = |(id, point): (usize, &Vector3<f64>)| {
        let moves = how.movers > 0 && (id as u32).is_multiple_of(how.movers);
        let seen = poses.iter().enumerate().map(|(f, pose)| {
            let zoomed = Lens { focal_px: lens.focal_px * (how.zoom)(f as f64).exp(), ..lens };
            let c = pose.to_camera(*point);
            let drift = if moves { Vector2::new(3.0, -1.0 - 0.05 * f as f64) * f as f64 } else { Vector2::zeros() };
            (
                f as u32,
                zoomed.project(Vector2::new(c.x / c.z, c.y / c.z))
                    + drift
                    + Vector2::new(noise.normal(), noise.normal()) * how.noise_px,
            )
        });
        seen.collect()
    };
    let tracks: Vec<Vec<(u32, Vector2<f64>)>> = points.iter().enumerate().map(track).collect();
    Walk { problem: problem_of(how.frames as usize, tracks), poses, lens, points }
}

/// Tracks of a picture of 1280x720, numbered in their order.
pub fn problem_of(frames: usize, tracks: Vec<Vec<(u32, Vector2<f64>)>>) -> Problem {
    Problem {
        width: 1280,
        height: 720,
        frames,
        ids: (0..tracks.len() as u32).map(TrackId).collect(),
        trusted: vec![false; tracks.len()],
        tracks,
        centre_px: Lens::centred(1.0, 1280, 720).centre_px,
    }
}

impl Walk {
    /// A scene with the true lens and the true poses of some frames.
    pub fn scene(&self, posed: &[u32]) -> Scene {
        let mut scene = Scene::new(Move::Free, &self.problem, self.lens, false);
        for &f in posed {
            scene.poses[f as usize] = Some(self.poses[f as usize]);
        }
        scene
    }

    /// The numbers of all tracks.
    pub fn all(&self) -> Vec<usize> {
        (0..self.points.len()).collect()
    }
}
