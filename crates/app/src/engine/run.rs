//! The long pieces of work on a shot, the same for jobs and for recipes.

use super::adopt::{Adopted, adopt_solve, edit_head, unchanged_trim};
use super::compose::Composer;
use super::follow::{self, Reach, Route};
use super::{EngineError, OpenShot, ShotError, SolveRecord, analyse, matching, output, previews, read_tracks, survey};
use fennik_core::scene::{Drawn, Edit, FinishEdit, Insert, InsertId, LensLook, MaskingEdit, PlacingEdit, TrackingEdit};
use fennik_core::solve::{SolveStep, solve_camera, solve_on};
use fennik_store::{AnalysisKind, NewAnalysis, Store};
use std::ops::ControlFlow;

/// How far a followed outline may lie from the keys that are kept of it, px of a picture 1280 wide: few keys are easily
/// corrected.
const FOLLOW_TOLERANCE_PX: f64 = 2.0;
/// The same where each frame was told by itself: its corners go their own ways.
const TOLD_TOLERANCE_PX: f64 = 0.25;

/// Why long work has no result.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub enum WorkError {
    /// The clip broke off.
    #[error("{tracked} of {of} frames could be tracked; track again")]
    TrackedPart {
        /// Frames that were read.
        tracked: u32,
        /// Frames of the trim.
        of: u32,
    },
    /// Nothing to solve from.
    #[error("there are no tracks of this trim yet; track the clip first")]
    NoTracks,
    /// A camera in another world.
    #[error(
        "solved ({told}), but what is placed cannot come along: {why}. The camera before stays in use, the new one is \
            kept beside it"
    )]
    KeptApart {
        /// Its reading.
        told: String,
        /// Why nothing comes along.
        why: String,
    },
    /// It was taken away meanwhile.
    #[error("the mask that was to follow is gone; draw it again")]
    NoMask,
}

/// What a finished video is called among the deliveries.
pub const VIDEO: &str = "video";

/// Hears how far a piece of work is (done, in all, what is being done) and says whether it is to go on.
pub type Step<'a> = &'a mut dyn FnMut(u32, u32, &str) -> bool;

fn json(value: &impl serde::Serialize) -> Result<String, EngineError> {
    Ok(serde_json::to_string(value)?)
}

/// Makes the preview frames.
///
/// # Errors
/// As [`previews::make`].
pub fn decode(store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
    let total = shot.clip.frames;
    let frames = previews::make(store, shot, |n| step(n, total, "decoding"))?;
    Ok(format!("{frames} frames"))
}

/// Tracks the trimmed clip and puts the run to use.
///
/// # Errors
/// [`EngineError`] when frames cannot be read, or the trim was changed meanwhile.
pub fn track(store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
    let (document, id) = (shot.document(), shot.state.shot.id);
    let settings = &document.tracking.settings;
    let set = analyse::track(&shot.clip, shot.range(), settings, document.masking.masks.clone(), |done, total| {
        step(done, total, "tracking")
    })?;
    if set.frames != document.trim.count() && shot.clip.counted {
        return Err(WorkError::TrackedPart { tracked: set.frames, of: document.trim.count() }.into());
    }
    let reading = format!("{} tracks", set.tracks.len());
    let new = NewAnalysis {
        kind: AnalysisKind::Tracks,
        settings: &json(settings)?,
        reading: &reading,
        source: None,
        trim: document.trim,
        bytes: &set.to_bytes(),
    };
    let analysis = store.add_analysis(id, &new)?;
    edit_head(store, id, |now| {
        unchanged_trim(now, document.trim).map(|()| Edit::Tracking(TrackingEdit::UseTracks { analysis }))
    })?;
    Ok(format!("{} tracks over {} frames", set.tracks.len(), set.frames))
}

/// Whether a solve begins anew or goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Begin {
    /// Anew.
    Afresh,
    /// From the camera in use.
    FromHere,
}

/// Solves the camera from the tracks in use; it is put to use where what is placed can come along.
///
/// # Errors
/// [`EngineError`] when there are no tracks or no trustworthy camera, or the trim was changed meanwhile.
pub fn solve(store: &Store, shot: &OpenShot, begin: Begin, step: Step) -> Result<String, EngineError> {
    let (document, id) = (shot.document(), shot.state.shot.id);
    let tracks = document.tracking.run.ok_or(WorkError::NoTracks)?;
    let from = match begin {
        Begin::Afresh => None,
        Begin::FromHere => {
            let from = shot.solution(store)?;
            shot.solve_is_of_these_tracks(store)?;
            Some(from)
        }
    };
    let set = read_tracks(store, tracks)?;
    let (choice, settings) = (document.track_choice(), &document.solving.settings);
    let tell = |s: SolveStep| {
        if step((100.0 * s.fraction) as u32, 100, s.stage) { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    };
    // The pictures of the survey are read meanwhile.
    let (solution, ahead) = std::thread::scope(|scope| {
        let reading = scope.spawn(|| survey::pictures_ahead(shot));
        let solution = match &from {
            Some(from) => solve_on(&set, &choice, settings, from, tell),
            None => solve_camera(&set, &choice, settings, tell),
        };
        (solution, reading.join().unwrap_or_default())
    });
    let solution = solution?;
    let bytes = serde_json::to_vec(&solution)?;
    let new = NewAnalysis {
        kind: AnalysisKind::Solve,
        settings: &json(&SolveRecord::of(document))?,
        reading: &analyse::reading(&solution),
        source: Some(tracks),
        trim: document.trim,
        bytes: &bytes,
    };
    let analysis = store.add_analysis(id, &new)?;
    step(99, 100, "looking for floor and walls");
    survey::after_solve(store, shot, analysis, &solution, ahead);
    let told = format!("{:.2} px over {} of {} frames", solution.rms_px, solution.frames.len(), solution.frames_total);
    match adopt_solve(store, id, analysis, &solution, document.trim)? {
        Adopted::InUse => Ok(told),
        Adopted::Kept(why) => Err(WorkError::KeptApart { told, why: why.to_string() }.into()),
    }
}

/// Parts of the work of an analysis, per cent: where tracking ends.
const TRACKED: u32 = 65;

/// Tracks, solves and looks for floor and walls, with one progress.
///
/// # Errors
/// As [`track`] and [`solve`].
pub fn analyse(store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
    let mut within = |from: u32, to: u32, done: u32, total: u32, message: &str| {
        let part = u64::from(to - from) * u64::from(done.min(total)) / u64::from(total.max(1));
        step(from + part as u32, 100, message)
    };
    let tracked = track(store, shot, &mut |done, total, message| within(0, TRACKED, done, total, message))?;
    let shot = OpenShot::load(store, shot.state.shot.id)?;
    let solved =
        solve(store, &shot, Begin::Afresh, &mut |done, total, message| within(TRACKED, 100, done, total, message))?;
    Ok(format!("{tracked}; {solved}"))
}

/// Has a mask follow the picture both ways from one of its frames.
///
/// # Errors
/// [`EngineError`] when the mask is gone or frames cannot be read.
pub fn follow(store: &Store, shot: &OpenShot, mask_id: u32, key: u32, step: Step) -> Result<String, EngineError> {
    let (document, id) = (shot.document(), shot.state.shot.id);
    let gone = || WorkError::NoMask;
    let mask = document.mask(mask_id).ok_or_else(gone)?;
    let reach = Reach::of(document, mask, key);
    let [first, last] = reach.ends;
    let route = Route {
        from: (reach.from, &reach.outline),
        span: (first, last),
        known: reach.known.each_ref().map(|known| known.as_ref().map(|(_, trace)| trace)),
        smooth: &mask.outline.smooth,
    };
    let found = follow::follow(&shot.clip, document.trim.first, &route, |done, total| step(done, total, "following"))?;
    edit_head(store, id, |now| {
        unchanged_trim(now, document.trim)?;
        // Somebody may have changed it meanwhile; only its keys are new.
        let mut mask = now.mask(mask_id).ok_or_else(gone)?.clone();
        let tolerance = if found.told { TOLD_TOLERANCE_PX } else { FOLLOW_TOLERANCE_PX };
        mask.outline.take_run(found.from, &found.outlines, tolerance * f64::from(shot.clip.width) / 1280.0);
        Ok(Edit::Masking(MaskingEdit::ChangeMask { mask }))
    })?;
    let reached = (found.from, found.from + found.outlines.len() as u32 - 1);
    let lost = if reached == (first, last) { "" } else { "; beyond that nothing inside it could be followed" };
    let how = if found.told { ", told by the colours of the outlines set by hand" } else { "" };
    Ok(format!("followed over frames {} to {}{how}{lost}", reached.0, reached.1))
}

/// Measures grain and sharpness of the plate, and gives what is placed as much of both where it had none.
///
/// # Errors
/// As [`matching::measure_plate`].
pub fn measure(store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
    let measured = matching::measure_plate(shot, step)?;
    let same = measured == shot.document().lens.measured;
    edit_head(store, shot.state.shot.id, |now| {
        unchanged_trim(now, shot.document().trim)?;
        let mut lens = LensLook { measured: measured.clone(), ..now.lens.clone() };
        for rule in ["sharpness", "grain"].iter().filter_map(|name| LensLook::rule(name)) {
            if lens.numbers.at(rule, 0.0) == rule.usual {
                lens.numbers.set_at(rule, 0.0, 1.0);
            }
        }
        Ok(Edit::Finish(FinishEdit::Lens { lens }))
    })?;
    Ok(if same { "the plate was looked at again: it is as it was found before" } else { "the plate was looked at" }
        .to_owned())
}

/// Draws the colours of an insert towards the plate about it.
///
/// # Errors
/// [`EngineError`] when the insert is gone; others as [`matching::measure_insert`].
pub fn draw(store: &Store, shot: &OpenShot, insert: u32, follows: bool, step: Step) -> Result<String, EngineError> {
    let looked_at = shot.insert(insert)?;
    let composer = Composer::of_shot(store, shot)?;
    let drawn = matching::measure_insert(&composer, shot, looked_at, follows, step)?;
    let same = looked_at.drawn.as_ref() == Some(&drawn);
    edit_head(store, shot.state.shot.id, |now| {
        unchanged_trim(now, shot.document().trim)?;
        let there = now.insert(InsertId(insert)).ok_or(ShotError::Gone { what: "insert" })?;
        // Its strengths may have been changed meanwhile.
        let strengths = there.drawn.as_ref().map_or_else(|| drawn.strengths.clone(), |d| d.strengths.clone());
        let insert = Insert { drawn: Some(Drawn { strengths, ..drawn.clone() }), ..there.clone() };
        Ok(Edit::Placing(PlacingEdit::ChangeInsert { insert }))
    })?;
    let again = if same { ", as it was before" } else { "" };
    Ok(format!("{} is drawn to the plate{again}", looked_at.shown_name()))
}

/// Renders the video and keeps it with the shot.
///
/// # Errors
/// As [`output::video`].
pub fn deliver(store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
    let target = store.delivered_path(shot.state.shot.id);
    if let Some(folder) = target.parent() {
        std::fs::create_dir_all(folder).map_err(|why| output::OutputError::NoFolder { why })?;
    }
    output::video(store, shot, &target, |done, total| step(done, total, "rendering"))?;
    // The shot may have been deleted at the last moment.
    let noted = store.add_delivery(shot.state.shot.id, VIDEO, shot.state.head.id, &output::shows(shot));
    if let Err(gone) = noted {
        let _ = std::fs::remove_file(&target);
        return Err(gone.into());
    }
    Ok("the video is ready".to_owned())
}
