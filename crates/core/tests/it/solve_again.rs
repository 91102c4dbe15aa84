//! Going on from a camera, tracks that are trusted or come back, and why others do not follow.

use crate::made_up::{Shooting, lens, lock_px, shoot, solve, travelling};
use fennik_core::geometry::Lens;
use fennik_core::solve::{
    CentreChoice, MotionChoice, OutlierReason, Solution, SolveFailure, SolveSettings, TrackChoice, solve_camera,
    solve_on,
};
use fennik_core::track::{Track, TrackId};
use std::collections::BTreeSet;
use std::ops::ControlFlow;

fn count(solution: &Solution, reason: OutlierReason) -> usize {
    solution.outliers.iter().filter(|a| a.reason == reason).count()
}

#[test]
fn a_solve_goes_on_from_where_it_stood_with_fewer_tracks_and_with_more() {
    let film = shoot(travelling(60, 7.0, 3), &Shooting::plain(lens(980.0, -0.02), 0.12, 0.15, 5));
    let settings = SolveSettings::default();
    let whole = solve(&film.tracks).unwrap();
    let mut by_error: Vec<_> = whole.points.iter().map(|p| (p.rms_px, p.id)).collect();
    by_error.sort_by(|a, b| b.0.total_cmp(&a.0));
    let dropped: BTreeSet<TrackId> = by_error.iter().take(60).map(|p| p.1).collect();
    let choice = TrackChoice::without(dropped.clone());
    let fewer = solve_on(&film.tracks, &choice, &settings, &whole, |_| ControlFlow::Continue(())).unwrap();
    assert!(fewer.points.iter().all(|p| !dropped.contains(&p.id)) && fewer.rms_px < whole.rms_px);
    assert!(lock_px(&film, &fewer) < 0.1, "{} px", lock_px(&film, &fewer));
    let again = dropped.iter().filter(|id| fewer.agreeing_again.contains(id)).count();
    assert!(again > 50, "{again} of the 60 that were dropped are offered again");
    let back =
        solve_on(&film.tracks, &TrackChoice::default(), &settings, &fewer, |_| ControlFlow::Continue(())).unwrap();
    assert!((back.rms_px - whole.rms_px).abs() < 0.01 && back.points.len() + 5 > whole.points.len());
    let nodal = SolveSettings { motion: MotionChoice::Nodal, ..settings.clone() };
    let other = solve_on(&film.tracks, &choice, &nodal, &whole, |_| ControlFlow::Continue(()));
    assert_eq!(other.map(|s| s.rms_px), Err(SolveFailure::OtherMove));
    let stopped = solve_on(&film.tracks, &choice, &settings, &whole, |_| ControlFlow::Break(()));
    assert_eq!(stopped.map(|s| s.rms_px), Err(SolveFailure::Stopped));
}

#[test]
fn what_does_not_follow_the_camera_is_named_with_its_reason() {
    let mut film = shoot(travelling(60, 7.0, 3), &Shooting::plain(lens(980.0, -0.02), 0.12, 0.1, 5));
    let first = film.tracks.tracks.len() as u32;
    let mut put = |id: u32, at: &dyn Fn(f64) -> [f64; 2], frames: std::ops::Range<u32>| {
        let positions = frames.clone().map(|f| at(f64::from(f)).map(|v| v as f32)).collect();
        film.tracks.tracks.push(Track { id: TrackId(first + id), first_frame: frames.start, positions });
    };
    // A caption in a corner, people who walk, and a far hill that only turns with the camera.
    (0..12).for_each(|i| put(i, &|f| [80.0 + 14.0 * f64::from(i), 640.0 + 0.05 * (f * 1.3).sin()], 0..60));
    (12..30).for_each(|i| {
        put(
            i,
            &|f| [300.0 + 9.0 * f + 5.0 * (f * 0.9).sin(), 300.0 + 4.0 * f64::from(i) + 4.0 * (f * 0.7).sin()],
            5..55,
        )
    });
    let eye_of = |f: usize| film.poses[f];
    let hill = |i: u32, f: f64| {
        let c = eye_of(f as usize).rotation * nalgebra::Vector3::new(-0.3 + 0.02 * f64::from(i), 0.02, -1.0);
        let p = film.lenses[0].project(nalgebra::Vector2::new(c.x / c.z, c.y / c.z));
        [p.x, p.y]
    };
    let hills: Vec<(u32, Vec<[f32; 2]>)> =
        (30..38).map(|i| (i, (0..60).map(|f| hill(i - 30, f64::from(f)).map(|v| v as f32)).collect())).collect();
    for (i, positions) in hills {
        film.tracks.tracks.push(Track { id: TrackId(first + i), first_frame: 0, positions });
    }
    film.tracks.tracks.push(Track {
        id: TrackId(first + 38),
        first_frame: 3,
        positions: vec![[400.0, 300.0], [401.0, 300.0]],
    });
    let solution = solve(&film.tracks).unwrap();
    let why = |id: u32| solution.outliers.iter().find(|a| a.id == TrackId(first + id)).map(|a| a.reason);
    let share = |ids: std::ops::Range<u32>, wanted: OutlierReason| {
        ids.clone().filter(|&i| why(i) == Some(wanted)).count() as f64 / ids.len() as f64
    };
    assert!(share(0..12, OutlierReason::ImageStatic) > 0.9, "{:?}", (0..12).map(why).collect::<Vec<_>>());
    assert!(share(12..30, OutlierReason::IndependentMotion) > 0.9, "{:?}", (12..30).map(why).collect::<Vec<_>>());
    assert!(share(30..38, OutlierReason::Far) > 0.8, "{:?}", (30..38).map(why).collect::<Vec<_>>());
    assert_eq!(why(38), Some(OutlierReason::Short));
    assert!(count(&solution, OutlierReason::IndependentMotion) >= 18);
    let said = solution.verdict.reasons.iter().find(|r| r.text.contains("move on their own")).unwrap();
    assert_eq!(said.tracks.len(), count(&solution, OutlierReason::IndependentMotion));
    assert!(
        solution
            .outliers
            .iter()
            .filter(|a| a.reason == OutlierReason::IndependentMotion)
            .all(|a| a.error_px.is_none_or(|m| m > 0.3))
    );
}

#[test]
fn a_person_may_overrule_what_is_left_out() {
    let film = shoot(travelling(50, 7.0, 3), &Shooting::plain(lens(980.0, -0.02), 0.12, 0.15, 5));
    let whole = solve(&film.tracks).unwrap();
    let strays: Vec<TrackId> =
        whole.outliers.iter().filter(|a| a.reason == OutlierReason::IndependentMotion).map(|a| a.id).take(3).collect();
    assert_eq!(strays.len(), 3);
    let choice = TrackChoice { trusted: strays.iter().copied().collect(), ..TrackChoice::default() };
    let told = solve_camera(&film.tracks, &choice, &SolveSettings::default(), |_| ControlFlow::Continue(())).unwrap();
    for id in &strays {
        let point = told.points.iter().find(|p| p.id == *id).expect("it is used as it was said");
        assert!(point.rms_px > 0.5, "and its error is told: {} px", point.rms_px);
    }
    assert!(lock_px(&film, &told) < 0.15, "three of many do not bend the camera: {} px", lock_px(&film, &told));
}

#[test]
fn a_principal_point_off_the_middle_is_found_or_given() {
    let off = Lens { centre_px: [672.0, 338.0], k1: -0.02, ..lens(950.0, 0.0) };
    let film = shoot(travelling(70, 9.0, 3), &Shooting::plain(off, 0.08, 0.05, 5));
    let with = |centre| {
        solve_camera(
            &film.tracks,
            &TrackChoice::default(),
            &SolveSettings { centre, ..SolveSettings::default() },
            |_| ControlFlow::Continue(()),
        )
        .unwrap()
    };
    let (found, given, middle) =
        (with(CentreChoice::Found), with(CentreChoice::Given(off.centre_px)), with(CentreChoice::Middle));
    let miss = |s: &Solution| (s.frames[0].lens.centre_px[0] - 672.0).hypot(s.frames[0].lens.centre_px[1] - 338.0);
    assert!(miss(&found) < 8.0, "{:?}", found.frames[0].lens);
    assert_eq!((given.frames[0].lens.centre_px, middle.frames[0].lens.centre_px), ([672.0, 338.0], [639.5, 359.5]));
    assert!(
        found.rms_px < middle.rms_px && (found.rms_px - given.rms_px).abs() < 0.01,
        "{} {} {}",
        found.rms_px,
        given.rms_px,
        middle.rms_px
    );
    assert!(lock_px(&film, &found) < 0.1 && lock_px(&film, &given) < 0.1);
}

#[test]
fn frames_behind_a_gap_that_nothing_reaches_across_are_left_out_and_named() {
    let mut film = shoot(travelling(70, 8.0, 3), &Shooting::plain(lens(980.0, -0.02), 0.1, 0.1, 5));
    let mut id = film.tracks.tracks.len() as u32;
    let mut behind = Vec::new();
    for t in &mut film.tracks.tracks {
        let cut = |frame: u32| frame.saturating_sub(t.first_frame) as usize;
        let tail: Vec<[f32; 2]> = t.positions.iter().copied().skip(cut(52)).collect();
        if t.first_frame + (t.positions.len() as u32) > 52 && !tail.is_empty() {
            behind.push(Track { id: TrackId(id), first_frame: t.first_frame.max(52), positions: tail });
            id += 1;
        }
        t.positions.truncate(cut(46));
    }
    film.tracks.tracks.retain(|t| t.positions.len() >= 2);
    film.tracks.tracks.extend(behind);
    let solution = solve(&film.tracks).unwrap();
    assert_eq!(solution.gaps(), [(46, 69)], "the longer side is solved, the other is not guessed");
    let said = &solution.verdict.reasons[0];
    assert!(said.frames == Some((46, 69)) && said.text.contains("joined only where tracks reach across"), "{said:?}");
    assert!(lock_px(&film, &solution) < 0.1);
}
