//! Bundles whose truth is known, for the tests.

use crate::geometry::{Lens, Pose};
use crate::random::SplitMix64;
use crate::solve::bundle::state::{Bundle, Observation};
use nalgebra::{Vector2, Vector3};

pub fn truth(cameras: usize, points: usize, noise_px: f64) -> Bundle {
    let mut random = SplitMix64::new(11);
    let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
    let lens = Lens { k1: -0.04, ..Lens::centred(950.0, 1280, 720) };
    let poses: Vec<Pose> = (0..cameras)
        .map(|i| {
            let t = i as f64 / cameras as f64;
            Pose::look_at(
                Vector3::new(6.0 * t - 3.0, 2.0 + t, 9.0 - 2.0 * t),
                Vector3::new(0.3 * t, 0.0, 0.0),
                Vector3::y(),
            )
            .unwrap()
        })
        .collect();
    let times = (0..cameras).map(|i| i as f64).collect();
    let mut bundle = Bundle::new(poses, times, lens);
    for _ in 0..points {
        let p = Vector3::new(3.0 * unit(), 1.5 * unit(), 3.0 * unit());
        let mut seen = Vec::new();
        for (c, pose) in bundle.poses.iter().enumerate() {
            let q = pose.to_camera(p);
            let pixel = lens.project(Vector2::new(q.x / q.z, q.y / q.z)) + Vector2::new(unit(), unit()) * noise_px;
            seen.push(Observation { camera: c as u32, pixel });
        }
        bundle.points.push(p);
        bundle.observations.push(seen);
    }
    bundle
}

pub fn disturb(bundle: &mut Bundle) {
    let mut random = SplitMix64::new(3);
    let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
    let mut v = |s: f64| Vector3::new(unit(), unit(), unit()) * s;
    bundle.points.iter_mut().for_each(|p| *p += v(0.1));
    bundle.poses.iter_mut().for_each(|p| *p = p.retract(v(0.01), v(0.05)));
    bundle.lens.focal_px = 1010.0;
    bundle.lens.k1 = 0.0;
}

/// Sees all points anew, with a zoom and a rolling shutter.
pub fn seen_anew(bundle: &mut Bundle) {
    let all = bundle.clone();
    for (p, seen) in bundle.observations.iter_mut().enumerate() {
        for o in seen.iter_mut() {
            // The row decides when a point is seen, and when it is seen decides the row.
            for _ in 0..20 {
                let c = all.pose_at(o, &all.velocities(true)).to_camera(all.points[p]);
                o.pixel = all.lens_of(o.camera as usize).project(Vector2::new(c.x / c.z, c.y / c.z));
            }
        }
    }
}

/// Directions in which the cameras of [`truth`] look, and inverse distances of what stands there.
pub fn far_off() -> Vec<(Vector3<f64>, f64)> {
    (0..24)
        .map(|i| {
            let (a, b) = (f64::from(i % 6) / 6.0 - 0.4, f64::from(i / 6) / 8.0 - 0.4);
            (Vector3::new(a, b, -1.0).normalize(), [0.0, 1e-4, 4e-4, 1e-3][i as usize % 4])
        })
        .collect()
}
