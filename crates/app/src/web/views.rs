//! Readings in words, shared by pages.

use super::Desk;
use crate::engine::OpenShot;
use fennik_core::solve::Solution;

/// Size, rate and length of a clip.
pub fn clip_line(shot: &OpenShot) -> String {
    let clip = &shot.clip;
    let rate = clip.rate.per_second();
    let rate = if (rate - rate.round()).abs() < 1e-6 { format!("{rate:.0}") } else { format!("{rate:.3}") };
    format!("{}x{} · {rate} fps · {} frames", clip.width, clip.height, clip.frames)
}

/// Where a shot stands.
pub fn shot_reading(desk: &Desk, shot: &OpenShot) -> String {
    let document = shot.document();
    match (document.solve, document.tracks) {
        (Some(_), _) => desk
            .solution(shot)
            .map_or_else(|e| e.to_string(), |s| format!("{} · {}", solve_reading(&s), inserts_reading(document.inserts.len()))),
        (None, Some(_)) => "tracked, not solved".to_owned(),
        (None, None) => "untouched".to_owned(),
    }
}

/// Error, frames and verdict of a solve.
pub fn solve_reading(solution: &Solution) -> String {
    format!("{:.2} px · {}/{} · {}", solution.rms_px, solution.frames.len(), solution.frames_total, solution.verdict.grade.word())
}

/// How many inserts.
pub fn inserts_reading(count: usize) -> String {
    match count {
        0 => "nothing placed".to_owned(),
        1 => "1 insert".to_owned(),
        n => format!("{n} inserts"),
    }
}
