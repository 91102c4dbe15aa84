//! The tracks that a scene is grown with.

use crate::solve::problem::Problem;

/// The longest of all tracks, where much moves on its own: so many.
const LASTING_TRACKS: usize = 120;

/// Up to `limit` tracks that are seen on the most keyframes, spread over the clip.
pub fn select_tracks(problem: &Problem, keyframes: &[u32], limit: usize) -> Vec<usize> {
    let counted = by_length(problem, keyframes);
    // Long tracks alone may leave a part of the clip bare: each keyframe gets its share first.
    let share = limit / keyframes.len().max(1);
    let mut room = vec![share.max(12); keyframes.len()];
    let mut chosen = Vec::new();
    for &t in &counted {
        let seen: Vec<usize> = (0..keyframes.len()).filter(|&k| problem.at(t, keyframes[k]).is_some()).collect();
        if chosen.len() < limit || seen.iter().any(|&k| room[k] > 0) {
            seen.iter().for_each(|&k| room[k] = room[k].saturating_sub(1));
            chosen.push(t);
        }
    }
    chosen.sort_unstable();
    chosen
}

/// The tracks that are seen on two keyframes or more, those on the most of them first.
fn by_length(problem: &Problem, keyframes: &[u32]) -> Vec<usize> {
    let mut counted: Vec<(usize, usize)> = (0..problem.tracks.len())
        .map(|t| (keyframes.iter().filter(|&&f| problem.at(t, f).is_some()).count(), t))
        .filter(|&(n, _)| n >= 2)
        .collect();
    counted.sort_by_key(|&(n, t)| (std::cmp::Reverse(n), t));
    counted.into_iter().map(|(_, t)| t).collect()
}

/// The longest tracks. What moves on its own mostly passes by: what stays in view for long stands still for the greater
/// part, even where that is the smaller part of all there is.
fn lasting(problem: &Problem, keyframes: &[u32]) -> Vec<usize> {
    let mut tracks = by_length(problem, keyframes);
    tracks.truncate(LASTING_TRACKS);
    tracks.sort_unstable();
    tracks
}

/// What a scene is grown with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SeedTracks {
    /// So many tracks, from all over the clip.
    All(usize),
    /// The longest ones alone.
    Lasting,
}

impl SeedTracks {
    /// Those tracks.
    pub fn tracks(self, problem: &Problem, keyframes: &[u32]) -> Vec<usize> {
        match self {
            Self::All(limit) => select_tracks(problem, keyframes, limit),
            Self::Lasting => lasting(problem, keyframes),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::solve::synthetic::problem_of;
    use nalgebra::Vector2;

    /// 300 tracks over 60 frames; every third lasts all the time, the others ten frames each, one after the other.
    fn problem() -> Problem {
        let track = |id: u32| {
            let frames = if id.is_multiple_of(3) { 0..60 } else { (id % 50)..(id % 50 + 10) };
            frames.map(|f| (f, Vector2::new(f64::from(id), f64::from(f)))).collect()
        };
        problem_of(60, (0..300).map(track).collect())
    }

    const KEYS: [u32; 7] = [0, 10, 20, 30, 40, 50, 59];

    #[test]
    fn the_lasting_ones_are_the_longest_in_order() {
        let tracks = SeedTracks::Lasting.tracks(&problem(), &KEYS);
        assert_eq!(tracks.len(), 100, "tracks seen on one keyframe alone are of no use");
        assert!(tracks.iter().all(|t| t % 3 == 0) && tracks.is_sorted());
    }

    #[test]
    fn a_choice_from_all_over_leaves_no_keyframe_bare() {
        let mut problem = problem();
        // Nothing lasts into the last keyframes but short tracks.
        problem.tracks.iter_mut().step_by(3).for_each(|t| t.truncate(45));
        for id in [1usize, 2, 4, 5, 7, 8, 10, 11, 13, 14, 16, 17, 19, 20] {
            problem.tracks[id] = (48..60).map(|f| (f, Vector2::new(id as f64, f64::from(f)))).collect();
        }
        let tracks = SeedTracks::All(60).tracks(&problem, &KEYS);
        let on = |frame: u32| tracks.iter().filter(|&&t| problem.at(t, frame).is_some()).count();
        assert!(on(0) >= 50 && on(59) >= 12, "{} {}", on(0), on(59));
        assert!(tracks.len() < 120, "{}", tracks.len());
    }
}
