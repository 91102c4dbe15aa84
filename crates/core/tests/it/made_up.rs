//! Scenes, camera moves and the tracks that they give.

use fennik_core::geometry::{Lens, Pose};
use fennik_core::track::{Track, TrackId, TrackSet};
use nalgebra::{Rotation3, Vector2, Vector3};

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

pub struct Film {
    pub lens: Lens,
    pub poses: Vec<Pose>,
    pub tracks: TrackSet,
    pub world: Vec<Vector3<f64>>,
}

/// Ground and boxes in front of the cameras, seen with noise; `strays` of the tracks wander on their own.
pub fn film(poses: Vec<Pose>, lens: Lens, noise_px: f64, strays: f64, seed: u64) -> Film {
    let mut random = Random(seed);
    let world: Vec<Vector3<f64>> = (0..900)
        .map(|i| {
            let (x, z) = (16.0 * random.unit(), -6.0 + 14.0 * random.unit());
            Vector3::new(x, if i % 2 == 0 { 0.0 } else { 2.5 * (random.unit() + 1.0) }, z)
        })
        .collect();
    let mut tracks = Vec::new();
    for p in &world {
        let wander = (random.unit() + 1.0 < 2.0 * strays).then(|| Vector2::new(random.unit(), random.unit()) * 3.0);
        let mut run: Option<Track> = None;
        for (f, pose) in poses.iter().enumerate() {
            let c = pose.to_camera(*p);
            let drift = wander.map_or_else(Vector2::zeros, |w| w * f as f64 + Vector2::new((f as f64 * 0.7).sin(), 0.0) * 9.0);
            let px = lens.pixel(Vector2::new(c.x / c.z, c.y / c.z)) + drift + Vector2::new(random.normal(), random.normal()) * noise_px;
            let inside = c.z > 0.3 && (10.0..1270.0).contains(&px.x) && (10.0..710.0).contains(&px.y);
            if inside {
                let fresh = || Track { id: TrackId(0), first_frame: f as u32, positions: Vec::new() };
                run.get_or_insert_with(fresh).positions.push([px.x as f32, px.y as f32]);
            } else {
                tracks.extend(run.take());
            }
        }
        tracks.extend(run);
    }
    for (i, t) in tracks.iter_mut().enumerate() {
        t.id = TrackId(i as u32);
    }
    let tracks = TrackSet { width: WIDTH, height: HEIGHT, frames: poses.len() as u32, cuts: Vec::new(), tracks };
    Film { lens, poses, tracks, world }
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
