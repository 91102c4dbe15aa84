//! A free move is solved, or declined with its reason.

use crate::made_up::{film, lens, lock_px, solve, travelling};
use fennik_core::solve::{Grade, SolveFailure, SolveSettings, TrackChoice, solve_camera};
use proptest::prelude::*;
use std::ops::ControlFlow;

#[test]
fn a_walk_with_a_fifth_of_strays_locks() {
    let film = film(travelling(60, 7.0, 3), lens(980.0, -0.03), 0.15, 0.2, 5);
    let solution = solve(&film.tracks).unwrap();
    assert_eq!(solution.frames.len(), 60);
    let focal = solution.frames[0].lens.focal_px;
    assert!((focal / 980.0 - 1.0).abs() < 0.01, "focal length {focal}");
    assert!(lock_px(&film, &solution) < 0.12, "{} px", lock_px(&film, &solution));
    assert_eq!(solution.verdict.grade, Grade::Good, "{:?}", solution.verdict);
    let floors = fennik_core::survey::survey(&solution, &[]).floors;
    let floor = floors.first().unwrap();
    let level = fennik_core::scene::mean_roll_deg(&solution, &floor.plane.normal);
    assert!(floor.fit_px < 1.0 && level < 1.0, "{} px, {level} deg", floor.fit_px);
}

#[test]
fn one_thread_or_many_give_the_same_camera() {
    let film = film(travelling(24, 6.0, 1), lens(900.0, 0.0), 0.1, 0.1, 2);
    let run = |threads| {
        rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap().install(|| solve(&film.tracks).unwrap())
    };
    assert_eq!(run(1), run(3));
}

#[test]
fn a_still_is_declined_as_such() {
    let film = film(vec![travelling(2, 1.0, 1)[0]; 40], lens(900.0, 0.0), 0.1, 0.0, 3);
    assert!(matches!(solve(&film.tracks), Err(SolveFailure::Still { .. })));
}

#[test]
fn two_frames_no_tracks_and_a_cut_are_declined_as_such() {
    let short = film(travelling(2, 4.0, 1), lens(900.0, 0.0), 0.1, 0.0, 3);
    assert!(matches!(solve(&short.tracks), Err(SolveFailure::TooFewFrames { found: 2, .. })));
    let mut cut = film(travelling(30, 4.0, 1), lens(900.0, 0.0), 0.1, 0.0, 3).tracks;
    cut.cuts.push(14);
    assert_eq!(solve(&cut), Err(SolveFailure::HardCut { frame: 14 }));
    cut.cuts.clear();
    cut.tracks.truncate(5);
    assert!(matches!(solve(&cut), Err(SolveFailure::TooFewTracks { found: 5, .. })));
}

#[test]
fn tracks_that_wander_all_on_their_own_give_no_camera() {
    let film = film(travelling(40, 5.0, 6), lens(900.0, 0.0), 0.2, 1.0, 8);
    assert!(solve(&film.tracks).is_err());
}

#[test]
fn positions_that_are_no_numbers_are_left_out() {
    let mut film = film(travelling(40, 6.0, 2), lens(900.0, 0.0), 0.1, 0.0, 3);
    for t in film.tracks.tracks.iter_mut().step_by(9) {
        t.positions[0] = [f32::NAN, 3.0];
    }
    let solution = solve(&film.tracks).unwrap();
    assert!(lock_px(&film, &solution) < 0.1);
}

#[test]
fn a_solve_can_be_stopped() {
    let film = film(travelling(30, 6.0, 2), lens(900.0, 0.0), 0.1, 0.0, 3);
    let stopped =
        solve_camera(&film.tracks, &TrackChoice::default(), &SolveSettings::default(), |_| ControlFlow::Break(()));
    assert_eq!(stopped, Err(SolveFailure::Stopped));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 6, ..ProptestConfig::default() })]
    #[test]
    fn a_random_walk_meets_its_bound_and_only_a_hard_one_may_be_declined(
        seed in 0u64..500, focal in 650f64..1700.0, k1 in -0.06f64..0.04, noise in 0.03f64..0.3, strays in 0f64..0.4,
        length in 2f64..9.0,
    ) {
        let film = film(travelling(40, length, seed), lens(focal, k1), noise, strays, seed + 1);
        let hard = noise > 0.15 || strays > 0.2 || length < 4.0;
        match solve(&film.tracks) {
            Ok(solution) => {
                let (lock, grade) = (lock_px(&film, &solution), solution.verdict.grade);
                let said = format!("{lock} px at {noise} px of noise is called {grade:?}");
                prop_assert!(lock < 0.1 + noise || (hard && grade != Grade::Good), "{}", said);
            }
            Err(why) => prop_assert!(hard, "declined: {why}"),
        }
    }
}
