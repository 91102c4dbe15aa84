//! What each kind of job does.

use super::Reporter;
use crate::engine::{EngineError, OpenShot, SolveRecord, analyse, output, previews, read_tracks};
use fennik_core::scene::Edit;
use fennik_core::solve::{Solution, SolveStep, solve_camera, solve_on};
use fennik_store::{AnalysisKind, JobKind, NewAnalysis, Store};
use std::ops::ControlFlow;

/// How far a followed outline may lie from the keys that are kept of it, px of a picture 1280 wide: few keys are easily
/// corrected.
const FOLLOW_TOLERANCE_PX: f64 = 2.0;

/// Does the job; returns its closing words.
pub fn run(store: &Store, reporter: &mut Reporter) -> Result<String, EngineError> {
    let shot = OpenShot::load(store, reporter.job.shot)?;
    match reporter.job.kind {
        JobKind::Decode => decode(store, &shot, reporter),
        JobKind::Track => track(store, &shot, reporter),
        JobKind::Solve => solve(store, &shot, None, reporter),
        JobKind::Refine => {
            let from = shot.solution(store)?;
            solve(store, &shot, Some(&from), reporter)
        }
        JobKind::Follow => follow(store, &shot, reporter),
        JobKind::Deliver => deliver(store, &shot, reporter),
    }
}

fn decode(store: &Store, shot: &OpenShot, reporter: &mut Reporter) -> Result<String, EngineError> {
    let total = shot.clip.frames;
    let frames = previews::make(store, shot, |n| reporter.step(n, total, "decoding"))?;
    Ok(format!("{frames} frames"))
}

fn track(store: &Store, shot: &OpenShot, reporter: &mut Reporter) -> Result<String, EngineError> {
    let document = shot.document();
    let settings = &document.track_settings;
    let set =
        analyse::track(&shot.clip, shot.range(), settings, document.masks.clone(), |done, total| reporter.step(done, total, "tracking"))?;
    let json = serde_json::to_string(settings).map_err(|e| EngineError::Message(e.to_string()))?;
    let reading = format!("{} tracks", set.tracks.len());
    let new = NewAnalysis { kind: AnalysisKind::Tracks, settings: &json, reading: &reading, source: None, bytes: &set.to_bytes() };
    let analysis = store.add_analysis(shot.state.shot.id, &new)?;
    unchanged_trim(store, shot)?;
    store.edit(shot.state.shot.id, None, &Edit::UseTracks { analysis })?;
    Ok(format!("{} tracks over {} frames", set.tracks.len(), set.frames))
}

/// Solves afresh, or goes on `from` the camera that is there.
fn solve(store: &Store, shot: &OpenShot, from: Option<&Solution>, reporter: &mut Reporter) -> Result<String, EngineError> {
    let document = shot.document();
    let tracks = document.tracks.ok_or_else(|| EngineError::Message("there are no tracks yet; track the clip first".to_owned()))?;
    let set = read_tracks(store, tracks)?;
    let (choice, settings) = (document.track_choice(), &document.solve_settings);
    let tell = |step: SolveStep| {
        if reporter.step((100.0 * step.fraction) as u32, 100, step.stage) { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    };
    let solution = match from {
        Some(from) => solve_on(&set, &choice, settings, from, tell)?,
        None => solve_camera(&set, &choice, settings, tell)?,
    };
    let from_old = document.solve.and_then(|_| shot.solution(store).ok()).and_then(|old| analyse::between_solves(&old, &solution));
    let bytes = serde_json::to_vec(&solution).map_err(|e| EngineError::Message(e.to_string()))?;
    let record = SolveRecord::of(document);
    let json = serde_json::to_string(&record).map_err(|e| EngineError::Message(e.to_string()))?;
    let reading = analyse::reading(&solution);
    let new = NewAnalysis { kind: AnalysisKind::Solve, settings: &json, reading: &reading, source: Some(tracks), bytes: &bytes };
    let analysis = store.add_analysis(shot.state.shot.id, &new)?;
    unchanged_trim(store, shot)?;
    store.edit(shot.state.shot.id, None, &Edit::UseSolve { analysis, from_old })?;
    Ok(format!("{:.2} px over {} of {} frames", solution.rms_px, solution.frames.len(), solution.frames_total))
}

/// What a mask is followed from, as a job keeps it: `mask frame`.
fn follow(store: &Store, shot: &OpenShot, reporter: &mut Reporter) -> Result<String, EngineError> {
    let argument = reporter.job.argument.clone();
    let numbers: Vec<u32> = argument.split(' ').filter_map(|n| n.parse().ok()).collect();
    let [id, key] = numbers[..] else {
        return Err(EngineError::Message("which mask was to follow is not known; ask for it again".to_owned()));
    };
    let gone = || EngineError::Message("the mask that was to follow is gone; draw it again".to_owned());
    let mask = shot.document().mask(id).ok_or_else(gone)?;
    let frames = shot.document().trim.count();
    let (first, last) = mask.span.unwrap_or((0, u32::MAX));
    let (key, last) = (key.min(frames - 1), last.min(frames - 1));
    let (first, last) = (first.min(key), last.max(key));
    let trim_first = shot.document().trim.first;
    let found = analyse::follow(&shot.clip, trim_first, &mask.outline_at(key), (first, key, last), |done, total| {
        reporter.step(done, total, "following")
    })?;
    unchanged_trim(store, shot)?;
    // Somebody may have changed it meanwhile; only its keys are new.
    let head = store.shot(shot.state.shot.id)?.head;
    let mut mask = head.document.mask(id).ok_or_else(gone)?.clone();
    mask.take_run(found.from, &found.outlines, FOLLOW_TOLERANCE_PX * f64::from(shot.clip.width) / 1280.0);
    let reached = (found.from, found.from + found.outlines.len() as u32 - 1);
    store.edit(shot.state.shot.id, Some(head.id), &Edit::ChangeMask { mask })?;
    let lost = if reached == (first, last) { "" } else { "; beyond that nothing inside it could be followed" };
    Ok(format!("followed over frames {} to {}{lost}", reached.0, reached.1))
}

/// A result belongs to the part of the clip that it was computed for.
fn unchanged_trim(store: &Store, shot: &OpenShot) -> Result<(), EngineError> {
    let now = store.shot(shot.state.shot.id)?.head.document.trim;
    if now == shot.document().trim {
        return Ok(());
    }
    Err(EngineError::Message("the trim was changed while this was at work; run it again for the new part".to_owned()))
}

fn deliver(store: &Store, shot: &OpenShot, reporter: &mut Reporter) -> Result<String, EngineError> {
    let target = delivered_path(store, shot.state.shot.id);
    if let Some(folder) = target.parent() {
        std::fs::create_dir_all(folder).map_err(|e| EngineError::Message(format!("no folder for the video could be made: {e}")))?;
    }
    output::video(store, shot, &target, |done, total| reporter.step(done, total, "rendering"))?;
    Ok("the video is ready".to_owned())
}

/// Where the rendered video of a shot is.
pub fn delivered_path(store: &Store, shot: fennik_store::ShotId) -> std::path::PathBuf {
    store.root().join("delivered").join(format!("{}.mp4", shot.0))
}
