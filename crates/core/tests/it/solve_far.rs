//! What is too far off for a depth holds the turn and the lens of a camera that travels.

use crate::made_up::{Film, Shooting, focal_error, lens, lock_px, shoot, solve, travelling};
use fennik_core::geometry::Pose;
use fennik_core::solve::{Grade, OutlierReason, Solution};
use nalgebra::Vector3;

/// A short walk before hills.
fn before_hills(hills_m: Option<f64>, strays: f64) -> Film {
    shoot(travelling(60, 3.0, 9), &Shooting { hills_m, ..Shooting::plain(lens(950.0, -0.02), 0.15, strays, 21) })
}

/// How many of the tracks of the hills go by each name.
fn hills_called(film: &Film, solution: &Solution, reason: OutlierReason) -> usize {
    solution.outliers.iter().filter(|a| a.reason == reason && a.id.0 as usize >= film.near_tracks).count()
}

#[test]
fn hills_without_parallax_hold_the_lens_and_are_said_to_be_far_off() {
    let (with, without) = (before_hills(Some(1e6), 0.15), before_hills(None, 0.15));
    let (solved, bare) = (solve(&with.tracks).unwrap(), solve(&without.tracks).unwrap());
    let hills = with.tracks.tracks.len() - with.near_tracks;
    assert!(hills > 60, "{hills} of the hills are seen");
    let far = hills_called(&with, &solved, OutlierReason::Far);
    assert!(far * 10 >= hills * 7, "{far} of {hills} are far off");
    assert!(solved.points.iter().all(|p| (p.id.0 as usize) < with.near_tracks), "what is far off has no place");
    let (there, missing) = (solved.focal_deviation_percent, bare.focal_deviation_percent);
    assert!(there < 0.8 * missing, "focal length known to {there} % with them, {missing} % without");
    assert!(lock_px(&with, &solved) < 0.95 * lock_px(&without, &bare), "{} px", lock_px(&with, &solved));
    assert_eq!(solved.verdict.grade, Grade::Good, "{:?}", solved.verdict);
}

#[test]
fn a_parallax_that_is_small_but_there_bends_nothing() {
    // 3 m of travel against these: from what only just counts as a depth down to a tenth of a pixel. Taken for
    // infinitely far, hills at 1500 m put the focal length off by 2.5 %.
    for hills_m in [500.0, 1500.0, 4000.0, 20_000.0] {
        let film = before_hills(Some(hills_m), 0.0);
        let solution = solve(&film.tracks).unwrap();
        let (focal, lock) = (focal_error(&film, &solution), lock_px(&film, &solution));
        let sigmas = 100.0 * focal / solution.focal_deviation_percent;
        assert!(
            sigmas < 4.0 && lock < 0.03,
            "hills at {hills_m} m: focal length off by {focal}, {sigmas} deviations, {lock} px"
        );
        assert_eq!(hills_called(&film, &solution, OutlierReason::IndependentMotion), 0, "hills at {hills_m} m");
    }
}

#[test]
fn frames_that_see_hills_alone_have_a_turn_but_no_place() {
    // The camera tilts up until all that is near has left the frame.
    let poses: Vec<Pose> = travelling(70, 5.0, 2)
        .iter()
        .enumerate()
        .map(|(f, p)| {
            let up = 0.5 * (((f as f64 - 40.0) / 20.0).clamp(0.0, 1.0));
            let turned = p.retract(Vector3::new(-up, 0.0, 0.0), Vector3::zeros());
            Pose { translation: -(turned.rotation * p.centre()), ..turned }
        })
        .collect();
    let film = shoot(
        poses,
        &Shooting { relief_m: 1.0, hills_m: Some(1e6), ..Shooting::plain(lens(950.0, -0.02), 0.12, 0.0, 5) },
    );
    let solution = solve(&film.tracks).unwrap();
    let hills_on = |frame: u32| film.tracks.tracks[film.near_tracks..].iter().filter(|t| t.at(frame).is_some()).count();
    let near_on = |frame: u32| film.tracks.tracks[..film.near_tracks].iter().filter(|t| t.at(frame).is_some()).count();
    assert!(near_on(69) < 12 && hills_on(69) > 20, "{} near, {} hills", near_on(69), hills_on(69));
    assert!(solution.at(30).is_some() && solution.at(69).is_none(), "{} frames", solution.frames.len());
    assert_ne!(solution.verdict.grade, Grade::Good, "{:?}", solution.verdict);
}
