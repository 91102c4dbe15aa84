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

/// What is known of the lens, and of how the sensor is read.
pub fn lens_reading(solution: &Solution) -> String {
    let (Some(first), Some(last)) = (solution.frames.first(), solution.frames.last()) else { return String::new() };
    let mut text = if solution.zoom {
        format!("focal length {:.1} px on the first frame, {:.1} px on the last", first.lens.focal_px, last.lens.focal_px)
    } else {
        format!("focal length {:.1} px · {:.1} deg across", first.lens.focal_px, first.lens.field_of_view_deg(solution.width))
    };
    text.push_str(&format!(" · k1 {:.4} · k2 {:.4}", first.lens.k1, first.lens.k2));
    if solution.readout != 0.0 {
        text.push_str(&format!(" · rows read over {:.2} of the frame time", solution.readout));
    }
    text
}

/// RMS in nine parts of the frame, px, row by row; nothing for solves that did not note it.
pub fn region_readings(solution: &Solution) -> Vec<Vec<String>> {
    if solution.regions_px.iter().flatten().all(Option::is_none) {
        return Vec::new();
    }
    let cell = |v: &Option<f64>| v.map_or_else(|| "–".to_owned(), |v| format!("{v:.2}"));
    solution.regions_px.iter().map(|row| row.iter().map(cell).collect()).collect()
}
