//! More of what is tracked walks by than stands still.

use crate::made_up::{Film, Shooting, focal_error, lens, lock_px, shoot, solve};
use fennik_core::geometry::Pose;
use fennik_core::solve::{Grade, OutlierReason, SolveSettings, TrackChoice, solve_on};
use nalgebra::Vector3;
use std::ops::ControlFlow;

/// A slow walk with the bob of steps, past people who walk evenly: against any few frames they could as well stand
/// still.
fn past_people(people: usize, seed: u64) -> Film {
    let poses: Vec<Pose> = (0..100)
        .map(|f| {
            let (t, f) = (f as f64 / 100.0, f as f64);
            let bob = Vector3::new(0.03 * (0.26 * f).sin(), 0.035 * (0.52 * f).sin().abs(), 0.0);
            let eye = Vector3::new(-3.0 + 5.0 * t, 1.7, 12.0 - 2.0 * t) + bob;
            Pose::look_at(eye, Vector3::new(-0.5 + 1.5 * t, 1.1, -6.0), Vector3::y()).unwrap()
        })
        .collect();
    let film = shoot(poses, &Shooting { people, ..Shooting::plain(lens(960.0, -0.02), 0.1, 0.05, seed) });
    // People hide much of what stands still.
    let near = film.near_tracks as u32;
    let mut film = film;
    film.tracks.tracks.retain(|t| t.id.0 >= near || t.id.0 % 3 == 0);
    film
}

/// Part of all views that are of people.
fn share(film: &Film) -> f64 {
    let views = |moving: bool| -> usize {
        let of = film.tracks.tracks.iter().filter(|t| (t.id.0 as usize >= film.near_tracks) == moving);
        of.map(|t| t.positions.len()).sum()
    };
    views(true) as f64 / (views(true) + views(false)) as f64
}

#[test]
fn a_crowd_that_nearly_outnumbers_the_scene_does_not_bend_the_camera() {
    // Each of these once ended with a focal length off by 19 to 38 %, called good.
    for (people, seed, least) in [(26, 1, 0.36), (34, 5, 0.46)] {
        let film = past_people(people, seed);
        assert!(share(&film) > least, "{}", share(&film));
        let solution = solve(&film.tracks).unwrap();
        let (focal, lock) = (focal_error(&film, &solution), lock_px(&film, &solution));
        assert!(focal < 0.005 && lock < 0.05, "{people} people: focal length off by {focal}, {lock} px");
        let strays = solution
            .outliers
            .iter()
            .filter(|a| a.reason == OutlierReason::IndependentMotion && a.id.0 as usize >= film.near_tracks)
            .count();
        assert!(strays > 150, "{strays} of the people's tracks are known to move on their own");
        let said = solution.verdict.reasons.iter().find(|r| r.text.contains("of what was tracked follows"));
        assert!(said.is_some_and(|r| r.grade == Grade::Fair && r.tracks.len() > 150), "{:?}", solution.verdict);
    }
}

#[test]
fn where_most_of_all_moves_evenly_what_lasts_leads_to_the_camera() {
    // Each of these once ended with another camera than that of what stands still.
    for (people, seed) in [(34, 3), (45, 1), (60, 4)] {
        let film = past_people(people, seed);
        assert!(share(&film) > 0.5, "{}", share(&film));
        let solution = solve(&film.tracks).unwrap();
        let (focal, lock) = (focal_error(&film, &solution), lock_px(&film, &solution));
        assert!(focal < 0.005 && lock < 0.05, "{people} people: focal length off by {focal}, {lock} px");
        assert_ne!(solution.verdict.grade, Grade::Good, "another camera might explain as much");
    }
}

#[test]
fn going_on_from_a_camera_that_is_bent_to_the_crowd_brings_it_home() {
    let film = past_people(26, 1);
    let right = solve(&film.tracks).unwrap();
    // As if an earlier solve had been taken in by the people.
    let mut bent = right.clone();
    for frame in &mut bent.frames {
        frame.lens.focal_px *= 1.03;
    }
    let on =
        solve_on(
            &film.tracks,
            &TrackChoice::default(),
            &SolveSettings::default(),
            &bent,
            |_| ControlFlow::Continue(()),
        )
        .unwrap();
    let (focal, lock) = (focal_error(&film, &on), lock_px(&film, &on));
    assert!(focal < 0.005 && lock < 0.05, "focal length off by {focal}, {lock} px");
    assert!(on.points.len() * 10 > right.points.len() * 9, "{} of {} points", on.points.len(), right.points.len());
}

/// How often the camera is right, and called good where it is not, over thirty films.
#[test]
#[ignore = "takes minutes; its figures are in docs/numerics.md"]
fn thirty_films_past_people() {
    let (mut right, mut declined, mut wrong, mut shares) = (0, 0, Vec::new(), Vec::new());
    for people in [18, 26, 34, 45, 60] {
        for seed in 1..=6 {
            let film = past_people(people, seed);
            shares.push(share(&film));
            match solve(&film.tracks) {
                Ok(solution) if focal_error(&film, &solution) < 0.01 && lock_px(&film, &solution) < 0.1 => right += 1,
                Ok(solution) => wrong.push((people, seed, focal_error(&film, &solution), solution.verdict.grade)),
                Err(_) => declined += 1,
            }
        }
    }
    shares.sort_by(f64::total_cmp);
    println!(
        "{right} right, {declined} declined, wrong {wrong:?}; people are {:.2} to {:.2} of the views",
        shares[0], shares[29]
    );
    assert!(right + declined >= 27 && wrong.iter().all(|w| w.3 != Grade::Good), "{wrong:?}");
}
