//! Tracking and solving on made-up workloads that are made outside the timing: `cargo bench -p fennik-core`.
#![expect(missing_docs, reason = "criterion's macros make what is public here")]
#![expect(clippy::unwrap_used, reason = "a bench ends where something it needs is missing")]

use criterion::{BatchSize, Criterion, criterion_group, criterion_main};
use fennik_core::geometry::{Lens, Pose};
use fennik_core::image::Plane;
use fennik_core::matte::Masks;
use fennik_core::solve::{SolveSettings, TrackChoice, solve_camera};
use fennik_core::track::{Track, TrackId, TrackSet, TrackSettings, Tracker};
use nalgebra::{Vector2, Vector3};
use std::ops::ControlFlow;

const WIDTH: u32 = 1280;
const HEIGHT: u32 = 720;
const FRAMES: u32 = 40;
const POINTS: usize = 400;

/// Numbers between 0 and 1 in a fixed order (Weyl's sequence in two irrational steps).
fn spread(i: usize, step: f64) -> f64 {
    (i as f64 * step).fract()
}

/// Points of a scene, seen without error by a camera that moves sideways and turns a little.
fn tracks() -> TrackSet {
    let lens = Lens::centred(1000.0, WIDTH, HEIGHT);
    let point = |i: usize| {
        let (a, b, c) = (spread(i, 0.754_877_666), spread(i, 0.569_840_296), spread(i, 0.438_579_028));
        Vector3::new(12.0 * (a - 0.5), 4.0 * (b - 0.5), -4.0 - 10.0 * c)
    };
    let pose = |f: u32| {
        let t = f64::from(f) / f64::from(FRAMES);
        Pose::look_at(Vector3::new(3.0 * t - 1.5, 0.4 * t, 2.0), Vector3::new(0.3 * t, 0.0, -8.0), Vector3::y())
    };
    let track = |i: usize| {
        let seen = |f: u32| {
            let c = pose(f).unwrap().to_camera(point(i));
            let p = lens.project(Vector2::new(c.x / c.z, c.y / c.z));
            [p.x as f32, p.y as f32]
        };
        Track { id: TrackId(i as u32), first_frame: 0, positions: (0..FRAMES).map(seen).collect() }
    };
    let tracks = (0..POINTS).map(track).collect();
    TrackSet { width: WIDTH, height: HEIGHT, frames: FRAMES, cuts: Vec::new(), tracks }
}

/// A pattern with corners everywhere, shifted from frame to frame.
fn picture(frame: u32) -> Plane {
    let shift = 1.7 * f64::from(frame);
    Plane::from_fn(WIDTH as usize, HEIGHT as usize, |x, y| {
        let (x, y) = (x as f64 + shift, y as f64 + 0.4 * shift);
        let wave = |k: f64| (0.31 * k * x).sin() * (0.27 * k * y).cos() + (0.13 * k * (x + 2.0 * y)).sin();
        (128.0 + 40.0 * wave(1.0) + 20.0 * wave(0.37)) as f32
    })
}

fn benches(criterion: &mut Criterion) {
    let set = tracks();
    let (choice, settings) = (TrackChoice::default(), SolveSettings::default());
    let solved = || solve_camera(&set, &choice, &settings, |_| ControlFlow::Continue(())).unwrap();
    // The answer first: all frames, to a hundredth of a pixel.
    let answer = solved();
    assert!(answer.frames.len() == FRAMES as usize && answer.rms_px < 0.01, "{} px", answer.rms_px);
    criterion.bench_function("solve/40 frames 400 points", |b| b.iter(solved));

    let pictures: Vec<Plane> = (0..3).map(picture).collect();
    let begun = || {
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        tracker.push(&pictures[0]).unwrap();
        tracker
    };
    let mut tracker = begun();
    let step = tracker.push(&pictures[1]).unwrap();
    assert!(step.carried > 300, "{} points are followed", step.carried);
    criterion.bench_function("track/one frame 1280x720", |b| {
        b.iter_batched(begun, |mut tracker| tracker.push(&pictures[1]).unwrap(), BatchSize::LargeInput);
    });
}

criterion_group! { name = all; config = Criterion::default().sample_size(10); targets = benches }
criterion_main!(all);
