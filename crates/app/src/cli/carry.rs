//! `fennik accuracy --carry`: how far what is placed moves on the picture between any two good solves of one clip.

use super::Progress;
use super::error::CliError;
use crate::engine::analyse;
use fennik_core::matte::Masks;
use fennik_core::scene::{Datum, SolveOfClip, TransferFit, floor_corners, transfer};
use fennik_core::solve::{Grade, Motion, Solution, SolveSettings, TrackChoice, solve_camera};
use fennik_core::track::{TrackDirection, TrackSet, TrackSettings};
use fennik_media::ClipInfo;
use nalgebra::Vector3;
use std::ops::ControlFlow;
use std::path::Path;

/// Feet of inserts that are tried beside the corners of the floor.
const FEET: usize = 5;

/// One way to solve a clip.
struct Variant {
    name: &'static str,
    density: f64,
    both: bool,
    /// Parts of the clip at which its trim begins and ends.
    trim: (f64, f64),
    /// Whether the focal length is given, as the first one found it.
    given: bool,
}

const PLAIN: Variant = Variant { name: "plain", density: 576.0, both: false, trim: (0.0, 1.0), given: false };
const VARIANTS: [Variant; 8] = [
    PLAIN,
    Variant { name: "density 300", density: 300.0, ..PLAIN },
    Variant { name: "density 1200", density: 1200.0, ..PLAIN },
    Variant { name: "there and back", both: true, ..PLAIN },
    Variant { name: "focal length given", given: true, ..PLAIN },
    Variant { name: "first three quarters", trim: (0.0, 0.75), ..PLAIN },
    Variant { name: "last three quarters", trim: (0.25, 1.0), ..PLAIN },
    Variant { name: "middle half", trim: (0.25, 0.75), ..PLAIN },
];

/// A solve that was made one way.
struct Solved {
    name: &'static str,
    first: u32,
    solution: Solution,
    marks: Vec<Vector3<f64>>,
    floor: bool,
    /// Solves of one run of tracks share their ids.
    run: usize,
}

/// Goes through all pairs of solves of the clips and gives a table.
pub fn table(
    clips: &[(String, std::path::PathBuf)],
    scratch: &Path,
    progress: &mut Progress,
) -> Result<String, CliError> {
    let mut lines = vec![
        "| clip | good solves | pairs | carried over | RMS, largest of a pair | worst point of all | pair |".to_owned(),
        "| --- | --- | --- | --- | --- | --- | --- |".to_owned(),
    ];
    for (name, path) in clips {
        let clip = ClipInfo::open(path, &scratch.join(name))?;
        let solves = solve_all(&clip, name, progress)?;
        lines.push(format!("| {name} | {} |", pairs(&solves)));
    }
    Ok(lines.join("\n"))
}

fn solve_all(clip: &ClipInfo, name: &str, progress: &mut Progress) -> Result<Vec<Solved>, CliError> {
    let mut solves: Vec<Solved> = Vec::new();
    let mut plain: Option<TrackSet> = None;
    for (run, variant) in VARIANTS.iter().enumerate() {
        progress.line(&format!("{name}: {}", variant.name));
        let at = |part: f64| (part * f64::from(clip.frames)).round() as u32;
        let (first, end) = (at(variant.trim.0), at(variant.trim.1));
        let settings = TrackSettings {
            density: variant.density,
            // As many more points ask for less room between them.
            spacing_px: TrackSettings::default().spacing_px * (576.0 / variant.density).sqrt().min(1.0),
            direction: if variant.both { TrackDirection::Both } else { TrackDirection::Forward },
            ..TrackSettings::default()
        };
        let choice = TrackChoice { window_half_px: f64::from(settings.window_half_px), ..TrackChoice::default() };
        let set = match plain.as_ref().filter(|_| variant.given) {
            Some(set) => set.clone(),
            None => analyse::track(clip, (first, end), &settings, Masks::default(), |_, _| true)?,
        };
        let focal_px = solves
            .first()
            .and_then(|s| s.solution.frames.first())
            .map(|f| f.lens.focal_px.round())
            .filter(|_| variant.given);
        let told = SolveSettings { focal_px, ..SolveSettings::default() };
        if let Ok(solution) = solve_camera(&set, &choice, &told, |_| ControlFlow::Continue(())) {
            if solution.verdict.grade == Grade::Good {
                let (marks, floor) = marks(&solution);
                solves.push(Solved {
                    name: variant.name,
                    first,
                    solution,
                    marks,
                    floor,
                    run: if variant.given { 0 } else { run },
                });
            }
        }
        if run == 0 {
            plain = Some(set);
        }
    }
    Ok(solves)
}

/// Corners of the floor, where one stands out, and feet at points that are seen long and lie apart.
fn marks(solution: &Solution) -> (Vec<Vector3<f64>>, bool) {
    let mut marks = Vec::new();
    let fit = fennik_core::survey::survey(solution, &[]).floors.into_iter().next();
    if let Some(fit) = &fit {
        let datum = Datum::default().with_floor(solution, fit, None);
        let back = datum.world_from_solve.inverse();
        marks.extend(floor_corners(&datum, solution).iter().map(|c| back.point(*c)));
    }
    let mut points: Vec<_> = solution.points.iter().collect();
    points.sort_by_key(|p| (std::cmp::Reverse(p.views), p.id));
    points.truncate(10 * FEET);
    // Each next foot is the point that lies farthest from those before, as the camera sees it.
    let Some(camera) = solution.frames.get(solution.frames.len() / 2) else { return (marks, fit.is_some()) };
    let direction = |p: Vector3<f64>| camera.pose.to_camera(p).normalize();
    let mut feet: Vec<Vector3<f64>> = points.first().map(|p| p.position).into_iter().collect();
    while feet.len() < FEET.min(points.len()) {
        let apart = |p: &Vector3<f64>| {
            feet.iter().map(|f| (direction(*f) - direction(*p)).norm()).fold(f64::INFINITY, f64::min)
        };
        let Some(next) = points.iter().map(|p| p.position).max_by(|a, b| apart(a).total_cmp(&apart(b))) else { break };
        feet.push(next);
    }
    let far = if solution.motion == Motion::Nodal { fennik_core::scene::FAR_M } else { 1.0 };
    marks.extend(feet.iter().map(|f| f * far));
    (marks, fit.is_some())
}

fn pairs(solves: &[Solved]) -> String {
    let (mut tried, mut refused) = (0, Vec::new());
    let mut worst: Option<(TransferFit, &str, &str)> = None;
    let mut most_px: f64 = 0.0;
    for old in solves {
        for new in solves.iter().filter(|n| !std::ptr::eq(*n, old)) {
            tried += 1;
            let of = |s: &'_ Solved| -> (u32, usize) { (s.first, s.run) };
            let ((from, from_run), (to, to_run)) = (of(old), of(new));
            let way = transfer(
                SolveOfClip { solution: &old.solution, first_frame: from },
                SolveOfClip { solution: &new.solution, first_frame: to },
                from_run == to_run,
                &old.marks,
            );
            match way {
                Ok(way) => {
                    most_px = most_px.max(way.fit.worst_px);
                    if worst.as_ref().is_none_or(|w| way.fit.rms_px > w.0.rms_px) {
                        worst = Some((way.fit, old.name, new.name));
                    }
                }
                Err(why) => refused.push(format!("{} to {}: {why}", old.name, new.name)),
            }
        }
    }
    refused.iter().for_each(|r| eprintln!("not carried over: {r}"));
    let floors = solves.iter().filter(|s| s.floor).count();
    let (rms, pair) = worst.map_or((f64::NAN, String::new()), |(fit, a, b)| (fit.rms_px, format!("{a} to {b}")));
    format!(
        "{} of {} ({floors} with a floor) | {tried} | {} | {rms:.3} px | {most_px:.2} px | {pair}",
        solves.len(),
        VARIANTS.len(),
        tried - refused.len()
    )
}
