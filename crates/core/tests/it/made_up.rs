//! Scenes, camera moves and the tracks that they give.

use fennik_core::check::{TruePoint, lock_error, turning_lock_error};
use fennik_core::geometry::{Lens, Pose};
use fennik_core::solve::{Motion, Solution, SolveFailure, SolveSettings, TrackChoice, solve_camera};
use fennik_core::track::{Track, TrackId, TrackSet};
use nalgebra::{Rotation3, Vector2, Vector3};
use std::ops::ControlFlow;

pub const WIDTH: u32 = 1280;
pub const HEIGHT: u32 = 720;

/// SplitMix64, as the scenes need nothing better.
pub struct Random(pub u64);

impl Random {
    /// -1 to 1.
    pub fn unit(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 52) as f64 - 1.0
    }

    /// Sum of four uniform numbers: nearly normal, deviation 1.
    pub fn normal(&mut self) -> f64 {
        (0..4).map(|_| self.unit()).sum::<f64>() * 0.866
    }
}

/// A film as it was made.
pub struct Film {
    /// One a frame.
    pub lenses: Vec<Lens>,
    pub poses: Vec<Pose>,
    pub tracks: TrackSet,
    /// Tracks of what is near and stands still; those of the hills and of people follow them.
    pub near_tracks: usize,
    /// What is near.
    pub world: Vec<Vector3<f64>>,
}

/// How a film is shot; the usual way is a fixed lens without faults.
#[derive(Clone)]
pub struct Shooting {
    pub lens: Lens,
    /// Logarithm of the focal length over the lens's, by frame.
    pub zoom: fn(f64) -> f64,
    /// Part of the frame time between the first and the last row.
    pub readout: f64,
    pub noise_px: f64,
    /// Share of the tracks that wander on their own.
    pub strays: f64,
    /// Height of the boxes, m; 0 is a flat scene.
    pub relief_m: f64,
    /// How far off hills stand behind the scene, m; nothing for none.
    pub hills_m: Option<f64>,
    /// People who walk to and fro between the camera and the scene, each with fifteen points.
    pub people: usize,
    pub seed: u64,
}

impl Shooting {
    pub fn plain(lens: Lens, noise_px: f64, strays: f64, seed: u64) -> Self {
        Self { lens, zoom: |_| 0.0, readout: 0.0, noise_px, strays, relief_m: 5.0, hills_m: None, people: 0, seed }
    }

    fn lens_at(&self, frame: f64) -> Lens {
        Lens { focal_px: self.lens.focal_px * (self.zoom)(frame).exp(), ..self.lens }
    }
}

/// Ground and boxes in front of the cameras, seen with noise; `strays` of the tracks wander on their own.
pub fn film(poses: Vec<Pose>, lens: Lens, noise_px: f64, strays: f64, seed: u64) -> Film {
    shoot(poses, &Shooting::plain(lens, noise_px, strays, seed))
}

/// Where the camera is between two frames.
fn pose_between(poses: &[Pose], time: f64) -> Pose {
    let i = (time.floor().max(0.0) as usize).min(poses.len().saturating_sub(2));
    poses[i].between(&poses[(i + 1).min(poses.len() - 1)], time - i as f64)
}

/// The same in any way of shooting.
pub fn shoot(poses: Vec<Pose>, how: &Shooting) -> Film {
    let mut random = Random(how.seed);
    let world: Vec<Vector3<f64>> = (0..900)
        .map(|i| {
            let (x, z) = (16.0 * random.unit(), -6.0 + 14.0 * random.unit());
            Vector3::new(x, if i % 2 == 0 { 0.0 } else { 0.5 * how.relief_m * (random.unit() + 1.0) }, z)
        })
        .collect();
    let hill = |far: f64| {
        move |i: u32| {
            Vector3::new((0.013 * f64::from(i) - 1.0) * far, (0.08 + 0.06 * (2.4 * f64::from(i)).sin()) * far, -far)
        }
    };
    let hills: Vec<Vector3<f64>> = how.hills_m.map_or_else(Vec::new, |far| (0..150).map(hill(far)).collect());
    // Where each point of a person is at first, and how far it goes in a frame.
    let mut walkers = Random(how.seed ^ 0x57A1);
    let crowd: Vec<(Vector3<f64>, Vector3<f64>)> = (0..how.people)
        .flat_map(|i| {
            let foot = Vector3::new(9.0 * walkers.unit(), 0.0, 6.0 + 4.5 * walkers.unit());
            let way = if i % 2 == 0 { 1.0 } else { -1.0 };
            let step = Vector3::new(way * (0.035 + 0.015 * walkers.unit()), 0.0, 0.007 * walkers.unit());
            let mut point =
                || foot + Vector3::new(0.28 * walkers.unit(), 0.9 + 0.8 * walkers.unit(), 0.2 * walkers.unit());
            (0..15).map(|_| (point(), step)).collect::<Vec<_>>()
        })
        .collect();
    let still = world.iter().chain(&hills).map(|p| (*p, Vector3::zeros()));
    let mut tracks = Vec::new();
    let mut near_tracks = 0;
    for (k, (first, step)) in still.chain(crowd.iter().copied()).enumerate() {
        let wander = (random.unit() + 1.0 < 2.0 * how.strays).then(|| Vector2::new(random.unit(), random.unit()) * 3.0);
        let mut run: Option<Track> = None;
        for f in 0..poses.len() {
            let lens = how.lens_at(f as f64);
            let see = |pose: &Pose| {
                let c = pose.to_camera(first + step * f as f64);
                (c.z, lens.project(Vector2::new(c.x / c.z, c.y / c.z)))
            };
            let (mut depth, mut px) = see(&poses[f]);
            for _ in 0..if how.readout == 0.0 { 0 } else { 6 } {
                let part = how.readout * ((px.y / f64::from(HEIGHT - 1)).clamp(0.0, 1.0) - 0.5);
                (depth, px) = see(&pose_between(&poses, f as f64 + part));
            }
            let drift =
                wander.map_or_else(Vector2::zeros, |w| w * f as f64 + Vector2::new((f as f64 * 0.7).sin(), 0.0) * 9.0);
            px += drift + Vector2::new(random.normal(), random.normal()) * how.noise_px;
            let inside = depth > 0.3 && (10.0..1270.0).contains(&px.x) && (10.0..710.0).contains(&px.y);
            if inside {
                let fresh = || Track { id: TrackId(0), first_frame: f as u32, positions: Vec::new() };
                run.get_or_insert_with(fresh).positions.push([px.x as f32, px.y as f32]);
            } else {
                tracks.extend(run.take());
            }
        }
        tracks.extend(run);
        near_tracks = if k < world.len() { tracks.len() } else { near_tracks };
    }
    for (i, t) in tracks.iter_mut().enumerate() {
        t.id = TrackId(i as u32);
    }
    let tracks = TrackSet { width: WIDTH, height: HEIGHT, frames: poses.len() as u32, cuts: Vec::new(), tracks };
    Film { lenses: (0..poses.len()).map(|f| how.lens_at(f as f64)).collect(), poses, tracks, near_tracks, world }
}

/// A lens with its axis in the middle.
pub fn lens(focal_px: f64, k1: f64) -> Lens {
    Lens { k1, ..Lens::centred(focal_px, WIDTH, HEIGHT) }
}

/// A solve with nothing told.
pub fn solve(tracks: &TrackSet) -> Result<Solution, SolveFailure> {
    solve_camera(tracks, &TrackChoice::default(), &SolveSettings::default(), |_| ControlFlow::Continue(()))
}

/// How far things pinned in the solved scene move against the film, px RMS; infinite where that cannot be told.
pub fn lock_px(film: &Film, solution: &Solution) -> f64 {
    let seen: Vec<TruePoint> = film
        .world
        .iter()
        .step_by(7)
        .map(|p| {
            let image = |(f, pose): (usize, &Pose)| {
                let c = pose.to_camera(*p);
                let px = film.lenses[f].project(Vector2::new(c.x / c.z, c.y / c.z));
                (c.z > 0.3 && (0.0..1280.0).contains(&px.x) && (0.0..720.0).contains(&px.y)).then_some((f as u32, px))
            };
            film.poses.iter().enumerate().filter_map(image).collect()
        })
        .collect();
    let camera = |f: u32| solution.at(f).map(|s| (s.pose, s.lens));
    let lock =
        if solution.motion == Motion::Nodal { turning_lock_error(&seen, camera) } else { lock_error(&seen, camera) };
    lock.map_or(f64::INFINITY, |l| l.rms_px)
}

/// Largest relative error of the focal length over the frames.
pub fn focal_error(film: &Film, solution: &Solution) -> f64 {
    solution
        .frames
        .iter()
        .map(|s| (s.lens.focal_px / film.lenses[s.frame as usize].focal_px).ln().abs())
        .fold(0.0, f64::max)
}

/// A walk past the scene.
pub fn travelling(frames: usize, length_m: f64, seed: u64) -> Vec<Pose> {
    let mut random = Random(seed);
    let (a, b) = (random.unit(), random.unit());
    (0..frames)
        .map(|f| {
            let t = f as f64 / frames as f64;
            let shake = 0.01 * (f as f64 * 0.9 + a).sin();
            let eye = Vector3::new(length_m * (t - 0.5), 3.0 + 0.5 * b * t, 16.0 - 0.3 * length_m * t + shake);
            Pose::look_at(eye, Vector3::new(a + 2.0 * t, 0.5 + shake, -3.0), Vector3::y()).unwrap()
        })
        .collect()
}

/// A pan on the spot.
pub fn turning(frames: usize) -> Vec<Pose> {
    let eye = Vector3::new(0.0, 2.5, 17.0);
    let start = Pose::look_at(eye, Vector3::new(-3.0, 1.0, 0.0), Vector3::y()).unwrap();
    (0..frames)
        .map(|f| {
            let rotation = Rotation3::from_euler_angles(0.0004 * f as f64, -0.006 * f as f64, 0.0) * start.rotation;
            Pose { rotation, translation: -(rotation * eye) }
        })
        .collect()
}
