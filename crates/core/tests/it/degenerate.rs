//! Input from which no camera can follow ends in a reason.

use crate::made_up::{Random, Shooting, lens, shoot, solve, travelling, turning};
use fennik_core::geometry::Pose;
use fennik_core::solve::{Grade, MotionChoice, SolveFailure, SolveSettings, TrackChoice, solve_camera};
use fennik_core::track::{Track, TrackId, TrackSet};
use nalgebra::{Vector2, Vector3};
use std::ops::ControlFlow;

/// Tracks of world points through poses, all in sight.
fn seen(world: &[Vector3<f64>], poses: &[Pose], noise_px: f64) -> TrackSet {
    let (lens, mut random) = (lens(1000.0, 0.0), Random(8));
    let track = |(i, p): (usize, &Vector3<f64>)| {
        let positions = poses
            .iter()
            .map(|pose| {
                let c = pose.to_camera(*p);
                let px = lens.project(Vector2::new(c.x / c.z, c.y / c.z))
                    + Vector2::new(random.normal(), random.normal()) * noise_px;
                [px.x as f32, px.y as f32]
            })
            .collect();
        Track { id: TrackId(i as u32), first_frame: 0, positions }
    };
    let tracks = world.iter().enumerate().map(track).collect();
    TrackSet { width: 1280, height: 720, frames: poses.len() as u32, cuts: Vec::new(), tracks }
}

/// Declined, or at least not called good.
fn is_honest(set: &TrackSet, what: &str) {
    match solve(set) {
        Err(why) => assert!(why.to_string().len() > 30, "{what}: {why}"),
        Ok(s) => assert!(s.verdict.grade != Grade::Good, "{what} was called good: {:?}", s.verdict),
    }
}

#[test]
fn points_on_one_line_determine_no_camera() {
    let line: Vec<Vector3<f64>> =
        (0..120).map(|i| Vector3::new(-5.0 + 0.08 * f64::from(i), 1.0 + 0.01 * f64::from(i), -2.0)).collect();
    is_honest(&seen(&line, &travelling(40, 5.0, 3), 0.1), "a line");
}

#[test]
fn points_on_one_spot_determine_none_either() {
    let spot: Vec<Vector3<f64>> =
        (0..100).map(|i| Vector3::new(0.02 * f64::from(i % 10), 1.0 + 0.02 * f64::from(i / 10), -2.0)).collect();
    is_honest(&seen(&spot, &travelling(40, 5.0, 3), 0.1), "a spot");
}

#[test]
fn a_pair_that_could_be_seen_from_either_side_is_not_called_good() {
    // A small flat thing far away, seen on few frames with hardly any perspective: its mirror image fits as well.
    let flat: Vec<Vector3<f64>> =
        (0..100).map(|i| Vector3::new(0.5 * f64::from(i % 10) - 2.5, 1.0 + 0.5 * f64::from(i / 10), -120.0)).collect();
    let poses: Vec<Pose> = (0..12)
        .map(|f| {
            let a = 0.01 * f64::from(f);
            let eye = Vector3::new(120.0 * a.sin(), 3.0, -120.0 + 120.0 * a.cos());
            Pose::look_at(eye, Vector3::new(0.0, 3.0, -120.0), Vector3::y()).unwrap()
        })
        .collect();
    is_honest(&seen(&flat, &poses, 0.15), "a mirror-ambiguous scene");
}

#[test]
fn a_pan_that_is_declared_free_is_declined_with_its_figure() {
    let film = shoot(turning(60), &Shooting::plain(lens(1000.0, -0.02), 0.1, 0.05, 3));
    let free = SolveSettings { motion: MotionChoice::Free, ..SolveSettings::default() };
    let found = solve_camera(&film.tracks, &TrackChoice::default(), &free, |_| ControlFlow::Continue(()));
    assert!(
        matches!(found, Err(SolveFailure::PureRotation { nodal_px }) if nodal_px < 0.3),
        "{:?}",
        found.map(|s| s.rms_px)
    );
}

#[test]
fn every_frame_twice_is_solved_all_the_same() {
    let film = shoot(travelling(40, 7.0, 3), &Shooting::plain(lens(980.0, -0.02), 0.1, 0.1, 5));
    let mut twice = film.tracks.clone();
    twice.frames *= 2;
    for t in &mut twice.tracks {
        t.first_frame *= 2;
        t.positions = t.positions.iter().flat_map(|p| [*p, *p]).collect();
    }
    let solution = solve(&twice).unwrap();
    assert_eq!(solution.frames.len(), 80);
    for pair in solution.frames.chunks(2) {
        assert!(
            (pair[0].pose.centre() - pair[1].pose.centre()).norm() < 1e-2,
            "both copies of a frame are in one place"
        );
    }
}

#[test]
fn fields_that_jump_up_and_down_are_not_called_good() {
    // Interlaced pictures taken for whole ones: every second frame half a line higher, and combed by its motion.
    let mut film = shoot(travelling(50, 7.0, 3), &Shooting::plain(lens(980.0, -0.02), 0.1, 0.1, 5));
    let mut random = Random(3);
    for t in &mut film.tracks.tracks {
        for (f, p) in (t.first_frame..).zip(t.positions.iter_mut()) {
            let field = if f % 2 == 0 { 1.0 } else { -1.0 };
            p[1] += (0.5 * field + 1.5 * random.unit()) as f32;
            p[0] += (2.5 * field * random.unit()) as f32;
        }
    }
    is_honest(&film.tracks, "interlaced fields");
}

#[test]
fn numbers_that_are_none_and_pictures_one_pixel_wide_end_in_a_reason() {
    let film = shoot(travelling(30, 6.0, 3), &Shooting::plain(lens(980.0, 0.0), 0.1, 0.0, 5));
    let mut none = film.tracks.clone();
    none.tracks.iter_mut().for_each(|t| t.positions.iter_mut().for_each(|p| *p = [f32::NAN, f32::INFINITY]));
    assert!(matches!(solve(&none), Err(SolveFailure::TooFewTracks { found: 0, .. })));
    let mut thin = film.tracks.clone();
    (thin.width, thin.height) = (1, 720);
    thin.tracks.iter_mut().for_each(|t| t.positions.iter_mut().for_each(|p| p[0] = 0.0));
    is_honest(&thin, "one pixel wide");
    let empty = TrackSet { tracks: Vec::new(), ..film.tracks.clone() };
    assert!(matches!(solve(&empty), Err(SolveFailure::TooFewTracks { found: 0, .. })));
    let mut far = film.tracks.clone();
    far.tracks.iter_mut().for_each(|t| t.positions.iter_mut().for_each(|p| *p = [p[0] * 1e30, p[1] * 1e30]));
    is_honest(&far, "huge numbers");
}
