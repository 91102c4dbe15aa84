//! What must hold for there to be a camera: of the tracks beforehand, and of the solution afterwards.
use crate::solve::failure::SolveFailure;
use crate::solve::problem::Problem;
use crate::solve::solution::{Motion, Solution};
use crate::solve::start::keyframes;
use crate::track::TrackSet;

/// Frames below which nothing can be said.
const MIN_FRAMES: usize = 8;
/// Tracks of useful length below which nothing can be said.
const MIN_TRACKS: usize = 30;
/// Median motion that the clip must show somewhere, px of a picture 1280 wide.
const STILL_PX: f64 = 1.5;
/// Median parallax below which depth is guesswork, degrees.
const HOPELESS_PARALLAX_DEG: f64 = 0.35;
/// Part of the usable tracks that must follow the camera.
const MIN_FOLLOWING: f64 = 0.3;
/// RMS above which a result is no camera, px of a picture 1280 wide.
const HOPELESS_PX: f64 = 2.5;

/// Whether there is enough to solve from.
pub fn check_input(set: &TrackSet, problem: &Problem) -> Result<(), SolveFailure> {
    if problem.frames < MIN_FRAMES {
        return Err(SolveFailure::TooFewFrames { found: problem.frames, needed: MIN_FRAMES });
    }
    if let Some(&frame) = set.cuts.first() {
        return Err(SolveFailure::HardCut { frame });
    }
    let counts = set.counts();
    let (frame, there) = counts.iter().copied().enumerate().min_by_key(|&(_, c)| c).unwrap_or((0, 0));
    if problem.tracks.len() < MIN_TRACKS {
        return Err(SolveFailure::TooFewTracks {
            found: problem.tracks.len(),
            frame: frame as u32,
            there,
            needed: MIN_TRACKS,
        });
    }
    Ok(())
}

/// Whether anything moves between the keyframes.
pub fn check_motion(problem: &Problem, keys: &[u32]) -> Result<(), SolveFailure> {
    let mut largest = 0.0f64;
    for (i, &a) in keys.iter().enumerate() {
        for &b in keys.iter().skip(i + 1).step_by(1 + keys.len() / 8) {
            let (motion, shared) = keyframes::median_motion(problem, a, b);
            if shared >= 8 {
                largest = largest.max(motion);
            }
        }
    }
    if largest < STILL_PX * problem.scale() { Err(SolveFailure::Still { motion_px: largest }) } else { Ok(()) }
}

/// Whether what came out can be a camera at all.
pub fn check_trust(problem: &Problem, solution: &Solution) -> Result<(), SolveFailure> {
    let fail = |why: String, advice: &str| Err(SolveFailure::NotTrustworthy { why, advice: advice.to_owned() });
    let scale = problem.scale();
    let solved = solution.frames.len();
    if solved * 2 < problem.frames {
        return fail(
            format!("only {solved} of {} frames could be solved", problem.frames),
            "Trim to the part that holds, or keep moving things out of the analysis",
        );
    }
    // By views: what moves past breaks off again and again, and makes many short tracks.
    let following = solution.following;
    if !(following >= MIN_FOLLOWING) {
        return fail(
            format!("only {:.0} % of what was tracked follows one camera", 100.0 * following),
            "Things that move on their own fill the frame: keep them out of the analysis",
        );
    }
    if !(solution.rms_px <= HOPELESS_PX * scale) {
        return fail(
            format!("the reprojection error is {:.1} px", solution.rms_px),
            "Keep moving things out of the analysis, or choose a calmer part of the clip",
        );
    }
    if solution.motion != Motion::Nodal && !(solution.parallax_deg >= HOPELESS_PARALLAX_DEG) {
        return fail(
            format!("the parallax is only {:.2} degrees (median)", solution.parallax_deg),
            "The camera travels too little for the distance of the scene; choose a part in which it travels further",
        );
    }
    let widths =
        solution.frames.first().map_or(0.0, |f| f.lens.focal_px / f64::from(problem.width.max(problem.height)));
    if !(0.25..8.0).contains(&widths) {
        return fail(
            format!("the focal length came out at {widths:.2} picture widths"),
            "Give the focal length if it is known",
        );
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::choice::TrackChoice;
    use crate::solve::settings::CentreChoice;
    use crate::solve::solution::{SolvedFrame, SolvedPoint};
    use crate::track::{Track, TrackId};
    use nalgebra::Vector3;

    /// Tracks that all move by `step_px` a frame.
    fn tracks(count: u32, frames: u32, step_px: f32) -> TrackSet {
        let track = |id: u32| Track {
            id: TrackId(id),
            first_frame: 0,
            positions: (0..frames)
                .map(|f| [30.0 * (id % 40) as f32 + step_px * f as f32, 20.0 * (id / 40) as f32])
                .collect(),
        };
        TrackSet { width: 1280, height: 720, frames, tracks: (0..count).map(track).collect(), cuts: Vec::new() }
    }

    fn problem(set: &TrackSet) -> Problem {
        Problem::new(set, 4, &TrackChoice::default(), CentreChoice::Middle)
    }

    #[test]
    fn too_little_to_solve_from_is_told_with_its_figure() {
        let judge = |set: &TrackSet| check_input(set, &problem(set));
        assert!(judge(&tracks(60, 20, 2.0)).is_ok());
        assert!(matches!(judge(&tracks(60, 5, 2.0)), Err(SolveFailure::TooFewFrames { found: 5, .. })));
        assert!(matches!(judge(&tracks(29, 20, 2.0)), Err(SolveFailure::TooFewTracks { found: 29, there: 29, .. })));
        let cut = TrackSet { cuts: vec![7], ..tracks(60, 20, 2.0) };
        assert!(matches!(judge(&cut), Err(SolveFailure::HardCut { frame: 7 })));
    }

    #[test]
    fn a_still_is_told_from_a_slow_move() {
        let keys = [0, 5, 10, 15, 19];
        assert!(matches!(check_motion(&problem(&tracks(60, 20, 0.01)), &keys),
                Err(SolveFailure::Still { motion_px }) if motion_px < 1.0));
        assert!(check_motion(&problem(&tracks(60, 20, 0.5)), &keys).is_ok());
    }

    #[test]
    fn each_way_of_being_no_camera_is_refused_for_its_own_reason() {
        let set = tracks(200, 20, 2.0);
        let problem = problem(&set);
        let lens = Lens::centred(900.0, 1280, 720);
        let good = Solution {
            frames: (0..20).map(|frame| SolvedFrame::new(frame, Pose::identity(), lens, 0.1, 100)).collect(),
            points: (0..200).map(|i| SolvedPoint::new(TrackId(i), Vector3::z(), 0.1, (0, 19), 5.0)).collect(),
            rms_px: 0.1,
            parallax_deg: 5.0,
            ..Solution::empty(1280, 720, 20)
        };
        assert!(check_trust(&problem, &good).is_ok());
        type Change = fn(&mut Solution);
        let refused: [(Change, &str); 7] = [
            (|s| s.frames.truncate(9), "only 9 of 20 frames"),
            (|s| s.following = 0.2, "20 % of what was tracked"),
            (|s| s.rms_px = 3.0, "3.0 px"),
            (|s| s.rms_px = f64::NAN, "reprojection"),
            (|s| s.parallax_deg = 0.1, "0.10 degrees"),
            (|s| s.parallax_deg = f64::NAN, "parallax"),
            (|s| s.frames[0].lens.focal_px = 90.0, "picture widths"),
        ];
        for (change, word) in refused {
            let mut bad = good.clone();
            change(&mut bad);
            let said = check_trust(&problem, &bad).unwrap_err().to_string();
            assert!(said.contains(word), "{word}: {said}");
        }
        // A camera that turns has no parallax, and few tracks that are seen all the time outweigh many that break off.
        let turning = Solution { motion: Motion::Nodal, parallax_deg: 0.0, ..good.clone() };
        assert!(check_trust(&problem, &turning).is_ok());
        let mut few = Solution { following: 0.4, ..good };
        few.points.truncate(40);
        assert!(check_trust(&problem, &few).is_ok());
    }
}
