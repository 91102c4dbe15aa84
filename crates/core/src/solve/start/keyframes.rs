//! Frames with enough motion between them to start a reconstruction from.

use crate::solve::problem::Problem;
use crate::solve::refine::rounds::MIN_FRAME_POINTS;

/// Median motion between neighbouring keyframes, px of a picture 1280 wide.
const STEP_PX: f64 = 22.0;
/// Frames between neighbouring keyframes, at most.
const MAX_GAP: u32 = 15;
/// Part of the points of a keyframe that its follower must still see.
const MIN_SHARED: f64 = 0.5;
/// The same where keyframes are thinned.
const THINNED_SHARED: f64 = 0.75;

/// Median length, px, of the motion of the points that two frames share, and how many those are.
pub fn median_motion(problem: &Problem, a: u32, b: u32) -> (f64, usize) {
    let mut lengths: Vec<f64> =
        (0..problem.tracks.len()).filter_map(|t| Some((problem.at(t, b)? - problem.at(t, a)?).norm())).collect();
    if lengths.is_empty() {
        return (0.0, 0);
    }
    let middle = lengths.len() / 2;
    (*lengths.select_nth_unstable_by(middle, f64::total_cmp).1, lengths.len())
}

/// Keyframes by rising frame; the first and the last frame on which points are seen are always among them.
pub fn select(problem: &Problem) -> Vec<u32> {
    let mut seen = vec![0usize; problem.frames];
    problem.tracks.iter().flatten().for_each(|(f, _)| seen[*f as usize] += 1);
    // A frame that shows nothing would end the chain.
    let mut frames: Vec<u32> = (0..problem.frames as u32).filter(|&f| seen[f as usize] >= MIN_FRAME_POINTS).collect();
    if frames.is_empty() {
        frames = (0..problem.frames as u32).collect();
    }
    let (first_frame, last_frame) = (frames.first().copied().unwrap_or(0), frames.last().copied().unwrap_or(0));
    let mut chosen = vec![first_frame];
    let mut from = first_frame;
    let mut from_count = median_motion(problem, from, from).1;
    for &frame in frames.iter().skip(1) {
        let (motion, shared) = median_motion(problem, from, frame);
        let far = motion > STEP_PX * problem.scale();
        let thin = (shared as f64) < MIN_SHARED * from_count as f64;
        if far || thin || frame - from >= MAX_GAP || frame == last_frame {
            chosen.push(frame);
            from = frame;
            from_count = median_motion(problem, frame, frame).1;
        }
    }
    chosen
}

/// About `most` of the keyframes, the first and the last among them; more where neighbours would share too few points.
/// A shaking camera asks for many keyframes that show the same things.
pub fn thinned(problem: &Problem, keyframes: &[u32], most: usize) -> Vec<u32> {
    let (Some(&first), Some(&last)) = (keyframes.first(), keyframes.last()) else { return Vec::new() };
    if keyframes.len() <= most {
        return keyframes.to_vec();
    }
    let stride = keyframes.len() as f64 / most as f64;
    let mut kept = vec![first];
    let (mut from, mut seen) = (first, median_motion(problem, first, first).1);
    for (i, pair) in keyframes.windows(2).enumerate().skip(1) {
        let shared = median_motion(problem, from, pair[1]).1;
        if i as f64 >= kept.len() as f64 * stride || (shared as f64) < THINNED_SHARED * seen as f64 {
            kept.push(pair[0]);
            (from, seen) = (pair[0], median_motion(problem, pair[0], pair[0]).1);
        }
    }
    if last != first {
        kept.push(last);
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::synthetic::problem_of;
    use nalgebra::Vector2;

    fn pan(px_per_frame: f64) -> Problem {
        let track = |k: u32| {
            (0..40u32).map(|f| (f, Vector2::new(f64::from(k) * 10.0 + px_per_frame * f64::from(f), 50.0))).collect()
        };
        problem_of(40, (0..30).map(track).collect())
    }

    #[test]
    fn keyframes_are_thinned_as_far_as_they_share_points() {
        let keys: Vec<u32> = (0..40).collect();
        let few = thinned(&pan(11.5), &keys, 10);
        assert_eq!((few.first(), few.last()), (Some(&0), Some(&39)));
        assert!((10..=12).contains(&few.len()), "{few:?}");
        assert_eq!(thinned(&pan(0.0), &keys, 40), keys);
        // Where every point is in sight for six frames only, two in three are shared over two frames.
        let mut fast = pan(11.5);
        fast.tracks
            .iter_mut()
            .enumerate()
            .for_each(|(i, t)| t.retain(|(f, _)| (i as u32 % 35..i as u32 % 35 + 6).contains(f)));
        let kept = thinned(&fast, &keys, 5);
        let inside = kept.windows(2).filter(|p| p[0] >= 5 && p[1] <= 29);
        assert!(inside.clone().count() >= 6 && inside.clone().all(|p| p[1] - p[0] <= 2), "{kept:?}");
        assert!(thinned(&fast, &[], 5).is_empty());
    }

    #[test]
    fn a_frame_that_shows_nothing_is_no_keyframe() {
        let mut dipped = pan(11.5);
        dipped.tracks.iter_mut().for_each(|t| t.retain(|(f, _)| !(8..14).contains(f) && *f > 1 && *f < 38));
        let keys = select(&dipped);
        assert_eq!((keys.first(), keys.last()), (Some(&2), Some(&37)));
        assert!(keys.len() > 10 && keys.iter().all(|f| !(8..14).contains(f)), "{keys:?}");
    }

    #[test]
    fn fast_motion_gives_many_keyframes_and_none_few() {
        assert_eq!(select(&pan(0.0)), [0, 15, 30, 39]);
        assert_eq!(select(&pan(11.5)).len(), 21);
    }
}
