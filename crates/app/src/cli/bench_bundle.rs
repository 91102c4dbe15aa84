//! `fennik bench --bundle`: the adjustment alone, on a scene that other programs can be given too.

use crate::engine::ShotError;
use crate::engine::output::OutputError;
use crate::engine::{EngineError, plain};
use fennik_core::geometry::Pose;
use fennik_core::solve::Solution;
use fennik_core::solve::bundle::{Bundle, BundleOptions, Observation};
use fennik_core::track::TrackSet;
use nalgebra::{Vector2, Vector3};
use std::fmt::Write;
use std::path::Path;
use std::time::Instant;

/// Every how many frames of the demo clip become a camera.
const EVERY: u32 = 3;
/// Reprojection errors above this are outliers, px.
const STRAY_PX: f64 = 2.0;
/// How far the scene is disturbed: turn of a camera, radians; shift and points, world units; focal length, relative.
const TURN: f64 = 0.004;
const SHIFT: f64 = 0.05;
const FOCAL: f64 = 1.04;
/// Residual at which a weight has fallen to a half, px.
const LOSS_PX: f64 = 1.0;
const STEPS: usize = 60;

/// The demo clip's tracks and camera as a bundle, disturbed.
fn scene() -> Result<Bundle, EngineError> {
    let set = TrackSet::from_bytes(plain::REEL.tracks).map_err(ShotError::from)?;
    let solution: Solution = serde_json::from_slice(plain::REEL.solve)?;
    let frames: Vec<_> = solution.frames.iter().filter(|f| f.frame % EVERY == 0).collect();
    let lens = frames.first().map(|f| f.lens).ok_or(EngineError::Fault)?;
    let mut bundle =
        Bundle::new(frames.iter().map(|f| f.pose).collect(), frames.iter().map(|f| f64::from(f.frame)).collect(), lens);
    for point in &solution.points {
        let Ok(i) = set.tracks.binary_search_by_key(&point.id, |t| t.id) else { continue };
        let seen: Vec<Observation> = frames
            .iter()
            .enumerate()
            .filter_map(|(camera, f)| {
                let c = f.pose.to_camera(point.position);
                let pixel = Vector2::from(set.tracks[i].at(f.frame)?);
                let miss = (f.lens.project(Vector2::new(c.x / c.z, c.y / c.z)) - pixel).norm();
                (c.z > 0.0 && miss < STRAY_PX).then_some(Observation { camera: camera as u32, pixel })
            })
            .collect();
        if seen.len() >= 3 {
            bundle.points.push(point.position);
            bundle.observations.push(seen);
        }
    }
    disturb(&mut bundle);
    Ok(bundle)
}

/// The same disturbance on every run: sines of the index, which no direction prefers.
fn disturb(bundle: &mut Bundle) {
    let wave = |i: usize, k: f64| {
        Vector3::new((1.7 * i as f64 + k).sin(), (2.3 * i as f64 + 2.0 * k).sin(), (3.1 * i as f64 + 3.0 * k).sin())
    };
    for (i, pose) in bundle.poses.iter_mut().enumerate() {
        *pose = pose.retract(wave(i, 0.3) * TURN, wave(i, 1.1) * SHIFT);
    }
    for (i, point) in bundle.points.iter_mut().enumerate() {
        *point += wave(i, 2.2) * SHIFT;
    }
    bundle.lens.focal_px *= FOCAL;
    bundle.lens.k1 = 0.0;
    bundle.lens.k2 = 0.0;
}

/// Plain text: sizes, lens, poses (angle-axis and shift), points, observations (camera, point, pixel).
fn written(bundle: &Bundle) -> String {
    let observations: usize = bundle.observations.iter().map(Vec::len).sum();
    let mut text = format!("{} {} {observations} {LOSS_PX}\n", bundle.poses.len(), bundle.points.len());
    let lens = &bundle.lens;
    let _ = writeln!(text, "{} {} {} {}", lens.focal_px, lens.k1, lens.centre_px[0], lens.centre_px[1]);
    for Pose { rotation, translation: t } in &bundle.poses {
        let w = fennik_core::geometry::log_so3(rotation);
        let _ = writeln!(text, "{} {} {} {} {} {}", w.x, w.y, w.z, t.x, t.y, t.z);
    }
    for p in &bundle.points {
        let _ = writeln!(text, "{} {} {}", p.x, p.y, p.z);
    }
    for (p, seen) in bundle.observations.iter().enumerate() {
        for o in seen {
            let _ = writeln!(text, "{} {p} {} {}", o.camera, o.pixel.x, o.pixel.y);
        }
    }
    text
}

/// Writes the scene, adjusts it and prints the cost, px^2, against the seconds since the beginning.
pub fn run(path: &Path) -> Result<(), EngineError> {
    let start = scene()?;
    std::fs::write(path, written(&start)).map_err(|why| OutputError::File { path: path.to_owned(), why })?;
    let options = BundleOptions {
        focal: true,
        k1: true,
        loss_px: LOSS_PX,
        max_steps: STEPS,
        tolerance: 1e-9,
        ..BundleOptions::default()
    };
    let mut bundle = start;
    let began = Instant::now();
    let mut told = Vec::new();
    let done = bundle.adjust(&options, |cost| {
        told.push((began.elapsed().as_secs_f64(), cost));
        true
    });
    told.push((began.elapsed().as_secs_f64(), done.cost_last));
    for (seconds, cost) in told {
        println!("{seconds:.6} {cost:.9}");
    }
    Ok(())
}
