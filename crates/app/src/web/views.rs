//! Readings in words, shared by pages.

use super::AppState;
use crate::engine::OpenShot;
use fennik_core::scene::TransferFit;
use fennik_core::solve::{Motion, Solution};

/// Size, rate and length of a clip.
pub fn clip_line(shot: &OpenShot) -> String {
    let clip = &shot.clip;
    let rate = clip.rate.per_second();
    let rate = if (rate - rate.round()).abs() < 1e-6 { format!("{rate:.0}") } else { format!("{rate:.3}") };
    format!("{}x{} · {rate} fps · {} frames", clip.width, clip.height, clip.frames)
}

/// Where a shot stands.
pub fn shot_reading(app: &AppState, shot: &OpenShot) -> String {
    let document = shot.document();
    match (document.solving.solve, document.tracking.run) {
        (Some(_), _) => app.solution(shot).map_or_else(
            |e| e.to_string(),
            |s| format!("{} · {}", solve_reading(&s), inserts_reading(document.placing.inserts.len())),
        ),
        (None, Some(_)) => "tracked, not solved".to_owned(),
        (None, None) => "untouched".to_owned(),
    }
}

/// Error, frames and verdict of a solve.
pub fn solve_reading(solution: &Solution) -> String {
    format!(
        "{:.2} px · {}/{} · {}",
        solution.rms_px,
        solution.frames.len(),
        solution.frames_total,
        solution.verdict.grade.word()
    )
}

/// A number as a field shows it: three decimals at most. What is stored keeps all of them. (Templates
/// hand over a number through so many references as they see fit.)
pub fn shown(value: impl std::fmt::Display) -> String {
    let text = format!("{value:.3}");
    let short = text.trim_end_matches('0').trim_end_matches('.');
    if short == "-0" { "0".to_owned() } else { short.to_owned() }
}

/// How what is placed came along from the camera before.
pub struct CarriedLine {
    pub text: String,
    /// Where it moved most.
    pub frame: u32,
}

impl CarriedLine {
    pub fn of(fit: &TransferFit) -> Self {
        let what = if fit.marks { "feet and floor corners" } else { "points of the scene" };
        Self {
            text: format!(
                "came along from the camera before: {what} moved {:.2} px RMS, {:.2} px at most (frame {})",
                fit.rms_px, fit.worst_px, fit.worst_frame
            ),
            frame: fit.worst_frame,
        }
    }
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
        format!(
            "focal length {:.1} px on the first frame, {:.1} px on the last",
            first.lens.focal_px, last.lens.focal_px
        )
    } else {
        format!(
            "focal length {:.1} px · {:.1} deg across",
            first.lens.focal_px,
            first.lens.field_of_view_deg(solution.width)
        )
    };
    text.push_str(&format!(" · k1 {:.4} · k2 {:.4}", first.lens.k1, first.lens.k2));
    if solution.readout != 0.0 {
        text.push_str(&format!(" · rows read over {:.2} of the frame time", solution.readout));
    }
    text
}

/// What a solve rests on: points a frame, angles between rays, how firmly things are held.
pub fn figures(solution: &Solution) -> Vec<(&'static str, String)> {
    let spread = |mut values: Vec<f64>| -> Option<[f64; 3]> {
        values.sort_by(f64::total_cmp);
        let at = |part: usize| values.get((values.len() - 1) * part / 10).copied();
        if values.is_empty() { None } else { Some([at(1)?, at(5)?, at(9)?]) }
    };
    let line = |v: [f64; 3], digits: usize, unit: &str| {
        format!("{:.digits$} · {:.digits$} · {:.digits$}{unit}", v[0], v[1], v[2])
    };
    let mut lines = Vec::new();
    let mut say = |what, values: Vec<f64>, digits, unit: &str| {
        if let Some(v) = spread(values) {
            lines.push((what, line(v, digits, unit)));
        }
    };
    say("points a frame", solution.frames.iter().map(|f| f64::from(f.points)).collect(), 0, "");
    say("frames a point", solution.points.iter().map(|p| f64::from(p.views)).collect(), 0, "");
    say("error of a point", solution.points.iter().map(|p| p.rms_px).collect(), 2, " px");
    if solution.motion != Motion::Nodal {
        say("parallax of a point", solution.points.iter().map(|p| p.parallax_deg).collect(), 1, " deg");
    }
    say("frames held to", solution.frames.iter().map(|f| f.slip_px).filter(|s| *s > 0.0).collect(), 3, " px");
    lines
}

/// RMS in nine parts of the frame, px, row by row; nothing for solves that did not note it.
pub fn region_readings(solution: &Solution) -> Vec<Vec<String>> {
    if solution.regions_px.iter().flatten().all(Option::is_none) {
        return Vec::new();
    }
    let cell = |v: &Option<f64>| v.map_or_else(|| "–".to_owned(), |v| format!("{v:.2}"));
    solution.regions_px.iter().map(|row| row.iter().map(cell).collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::shown;

    #[test]
    fn fields_show_three_decimals_at_most() {
        for (value, text) in [
            (-0.219_129_229_015_524, "-0.219"),
            (1.0, "1"),
            (100.0, "100"),
            (0.5, "0.5"),
            (-0.0001, "0"),
            (1234.56789, "1234.568"),
        ] {
            assert_eq!(shown(value), text);
        }
    }
}
