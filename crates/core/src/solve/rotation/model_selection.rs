//! The test of a camera that only turns.

use crate::solve::problem::Problem;
use crate::solve::rotation::nodal::{self, FocalStart, NodalFit};
use crate::solve::settings::{LensChoice, MotionChoice, SolveSettings};

/// Median reprojection error of a camera that only turns, px of a picture 1280 wide, within which there is no parallax
/// to speak of: where a free camera was found, and where none was.
pub const TURNING_PX: f64 = 0.2;
pub const TURNING_WHEN_LOST_PX: f64 = 1.5;
/// Median reprojection error with a zoom over that without, below which the lens zooms.
pub const ZOOM_RATIO: f64 = 0.8;
/// Keyframes that a first look takes in, and how much more than the error at which a turning camera is believed, or was
/// found before, one may leave.
const GLANCE_KEYS: usize = 10;
const NOT_TURNING: f64 = 1.25;
/// Reprojection error of nine in ten points, px of a picture 1280 wide, under which a turning camera is
/// taken without one that moves.
const SURELY_TURNING_PX: f64 = 0.6;

/// The best turning camera, with a zoom where the settings allow it and it explains clearly more.
///
/// A look at few frames tells which of the two it is and about what focal length; where that look explains nothing, no
/// closer one would, and it is handed back itself unless the settings ask for a camera that turns.
pub fn fit_turning(problem: &Problem, few: &[u32], settings: &SolveSettings) -> Option<NodalFit> {
    let fewer = every_few(few, GLANCE_KEYS);
    let is_glance = fewer.len() < few.len() && nodal::is_chained(problem, &fewer);
    let Some(glance) = is_glance.then(|| fit_from_nothing(problem, &fewer, settings)).flatten() else {
        return fit_from_nothing(problem, few, settings);
    };
    if settings.motion != MotionChoice::Nodal && glance.median_px > NOT_TURNING * TURNING_WHEN_LOST_PX * problem.scale()
    {
        return Some(glance);
    }
    let first_px = glance.lens.focal_px * glance.zoom.first().map_or(1.0, |z| z.exp());
    let from = settings.focal_px.map_or(FocalStart::Near(first_px), FocalStart::Given);
    let closer = nodal::fit(problem, few, from, !glance.zoom.is_empty());
    closer
        .filter(|fit| fit.median_px < NOT_TURNING * glance.median_px)
        .or_else(|| fit_from_nothing(problem, few, settings))
}

fn fit_from_nothing(problem: &Problem, few: &[u32], settings: &SolveSettings) -> Option<NodalFit> {
    let from = settings.focal_px.map_or(FocalStart::Nothing, FocalStart::Given);
    let fixed = if settings.lens == LensChoice::Zoom { None } else { nodal::fit(problem, few, from, false) };
    let near = |f: &NodalFit| f.median_px < 0.5 * TURNING_PX * problem.scale();
    if settings.lens == LensChoice::Fixed || fixed.as_ref().is_some_and(near) {
        return fixed;
    }
    let zoomed = nodal::fit(problem, few, from, true);
    match (fixed, zoomed) {
        (Some(f), Some(z)) => Some(if z.median_px < ZOOM_RATIO * f.median_px { z } else { f }),
        (f, z) => f.or(z),
    }
}

/// Whether a turning camera explains the tracks so well that it needs no comparison.
pub fn surely_turning(problem: &Problem, fit: Option<&NodalFit>) -> bool {
    let Some(fit) = fit else { return false };
    let mut sorted = fit.errors_px.clone();
    sorted.sort_by(f64::total_cmp);
    let most = sorted.get(sorted.len() * 9 / 10).copied().unwrap_or(f64::INFINITY);
    fit.median_px < TURNING_PX * problem.scale() && most < SURELY_TURNING_PX * problem.scale()
}

/// So many of the keyframes, the first and the last among them.
pub fn every_few(keys: &[u32], most: usize) -> Vec<u32> {
    if keys.len() <= most {
        return keys.to_vec();
    }
    (0..most).map(|i| keys[i * (keys.len() - 1) / (most - 1)]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::rotation::nodal::tests::pan;

    fn keys() -> Vec<u32> {
        (0..25).collect()
    }

    fn settings(motion: MotionChoice) -> SolveSettings {
        SolveSettings { motion, ..SolveSettings::default() }
    }

    #[test]
    fn a_look_first_leads_to_the_camera_that_is_found_without_one() {
        for zoom in [0.0, 0.015] {
            let problem = pan(|f| zoom * f64::from(f), 0.0, 0.1);
            let auto = settings(MotionChoice::Auto);
            let (found, slow) =
                (fit_turning(&problem, &keys(), &auto).unwrap(), fit_from_nothing(&problem, &keys(), &auto).unwrap());
            assert_eq!((found.poses.len(), found.zoom.len()), (slow.poses.len(), slow.zoom.len()));
            assert_eq!(found.zoom.is_empty(), zoom == 0.0);
            let first_px = |fit: &NodalFit| fit.lens.focal_px * fit.zoom.first().map_or(1.0, |z| z.exp());
            assert!(
                (first_px(&found) / first_px(&slow)).ln().abs() < 0.005,
                "{} {}",
                first_px(&found),
                first_px(&slow)
            );
            assert!(
                found.median_px < 1.1 * slow.median_px && surely_turning(&problem, Some(&found)),
                "{}",
                found.median_px
            );
        }
    }

    #[test]
    fn of_a_camera_that_travels_a_look_at_few_frames_is_enough_unless_a_turn_is_asked_for() {
        let problem = pan(|_| 0.0, 0.1, 0.1);
        let fit = |motion| fit_turning(&problem, &keys(), &settings(motion)).unwrap();
        let (glance, asked) = (fit(MotionChoice::Auto), fit(MotionChoice::Nodal));
        assert_eq!((glance.poses.len(), asked.poses.len()), (GLANCE_KEYS, 25));
        assert!(glance.median_px > 1.0 && !surely_turning(&problem, Some(&glance)), "{}", glance.median_px);
    }

    #[test]
    fn without_a_chain_of_shared_points_every_frame_is_looked_at() {
        let mut problem = pan(|_| 0.0, 0.05, 0.1);
        // Each point is in sight for nine frames at most.
        problem.tracks.iter_mut().enumerate().for_each(|(i, t)| t.retain(|(f, _)| f.abs_diff(i as u32 % 25) <= 4));
        assert!(!nodal::is_chained(&problem, &every_few(&keys(), GLANCE_KEYS)));
        assert_eq!(fit_turning(&problem, &keys(), &settings(MotionChoice::Auto)).unwrap().poses.len(), 25);
    }

    #[test]
    fn a_few_of_many_keep_both_ends() {
        assert_eq!(every_few(&keys(), 4), [0, 8, 16, 24]);
        assert_eq!(every_few(&[3, 9], 4), [3, 9]);
    }
}
