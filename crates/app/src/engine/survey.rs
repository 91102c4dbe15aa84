//! Looking for floor, walls and other flat parts of a shot, in its points and its pictures.

use super::{EngineError, OpenShot, analyse};
use fennik_core::image::{PictureSettings, Plane};
use fennik_core::matte::Masks;
use fennik_core::scene::AnalysisId;
use fennik_core::solve::{Motion, Solution};
use fennik_core::survey::{Survey, View, expected_frames, survey, views, wanted_frames};
use fennik_media::ClipInfo;
use fennik_store::{AnalysisKind, NewAnalysis, Store};
use std::path::Path;

/// Pictures that are read side by side.
const READERS: usize = 2;

/// A frame of the clip as it was made for the page, grey; `None` where it is not there.
fn preview(folder: &Path, frame: u32) -> Option<Plane> {
    let bytes = std::fs::read(folder.join(format!("{frame:06}.jpg"))).ok()?;
    let picture = image::load_from_memory_with_format(&bytes, image::ImageFormat::Jpeg).ok()?.into_luma8();
    Plane::from_bytes(picture.width() as usize, picture.height() as usize, &picture, (0, 255)).ok()
}

/// Pictures by their frames of the trimmed clip.
pub type Pictures = Vec<(u32, Plane)>;

/// The pictures that a survey of a solve looks at: the preview frames, or where they are not there the clip's own.
/// `ahead` holds some that were read already.
pub fn pictures(shot: &OpenShot, solution: &Solution, ahead: Pictures) -> Pictures {
    let begins = shot.document().trim.first;
    let (mut all, mut missing) = (ahead, wanted_frames(solution));
    all.retain(|(frame, _)| missing.binary_search(frame).is_ok());
    missing.retain(|frame| all.iter().all(|(known, _)| known != frame));
    let made = side_by_side(&missing, |frame| preview(&shot.proxies, frame + begins));
    missing.retain(|frame| made.iter().all(|(known, _)| known != frame));
    all.extend(made);
    if !missing.is_empty() {
        let in_file: Vec<u32> = missing.iter().map(|frame| frame + begins).collect();
        let take = |frame, plane| all.push((frame - begins, plane));
        if let Err(why) = analyse::seen_frames(&shot.clip, &in_file, &PictureSettings::default(), take) {
            tracing::warn!(%why, "not all frames that a survey wants were looked at");
        }
    }
    all.sort_by_key(|(frame, _)| *frame);
    all
}

/// The preview frames that a survey will most likely want, while the camera is still being solved.
pub fn pictures_ahead(shot: &OpenShot) -> Pictures {
    let trim = shot.document().trim;
    side_by_side(&expected_frames(trim.last - trim.first + 1), |frame| preview(&shot.proxies, frame + trim.first))
}

fn side_by_side(frames: &[u32], read: impl Fn(u32) -> Option<Plane> + Sync) -> Pictures {
    let share = frames.len().div_ceil(READERS).max(1);
    let one = |frame: &u32| Some((*frame, read(*frame)?));
    std::thread::scope(|scope| {
        let readers: Vec<_> = frames
            .chunks(share)
            .map(|part| scope.spawn(move || part.iter().filter_map(one).collect::<Vec<_>>()))
            .collect();
        readers.into_iter().flat_map(|r| r.join().unwrap_or_default()).collect()
    })
}

/// Those pictures with their cameras; none for a camera that only turns, which has no use for them.
pub fn views_of(shot: &OpenShot, solution: &Solution) -> Vec<View> {
    views_with(shot, solution, Vec::new())
}

/// The same, with pictures that were read already.
fn views_with(shot: &OpenShot, solution: &Solution, ahead: Pictures) -> Vec<View> {
    if solution.motion == Motion::Nodal {
        return Vec::new();
    }
    views(solution, &pictures(shot, solution, ahead), &shot.document().masking.masks)
}

/// Looks for floor, walls and other flat parts, with pictures that were read already.
fn look(shot: &OpenShot, solution: &Solution, ahead: Pictures) -> Survey {
    survey(solution, &views_with(shot, solution, ahead))
}

/// Keeps what was found beside the solve.
///
/// # Errors
/// [`EngineError`] when the store refuses.
pub fn keep(store: &Store, shot: &OpenShot, solve: AnalysisId, found: &Survey) -> Result<(), EngineError> {
    let bytes = serde_json::to_vec(found)?;
    let reading = format!("{} floors, {} other planes", found.floors.len(), found.planes.len());
    let trim = store.analysis(solve)?.trim.unwrap_or(shot.document().trim);
    let new = NewAnalysis {
        kind: AnalysisKind::Survey,
        settings: "{}",
        reading: &reading,
        source: Some(solve),
        trim,
        bytes: &bytes,
    };
    store.add_analysis(shot.state.shot.id, &new)?;
    Ok(())
}

/// What was found in the solve in use: as it was kept, or looked for now.
///
/// # Errors
/// [`EngineError`] when the store refuses.
pub fn of_shot(store: &Store, shot: &OpenShot, solution: &Solution) -> Result<Survey, EngineError> {
    let Some(solve) = shot.document().solving.solve else { return Ok(look(shot, solution, Vec::new())) };
    let kept = store.survey_of(solve)?.and_then(|id| store.analysis_bytes(id).ok());
    // What cannot be read is looked for anew.
    if let Some(found) = kept.and_then(|bytes| serde_json::from_slice(&bytes).ok()) {
        return Ok(found);
    }
    let found = look(shot, solution, Vec::new());
    keep(store, shot, solve, &found)?;
    Ok(found)
}

/// The same for a solve that was just made, with what was read [ahead](pictures_ahead); what goes wrong takes nothing
/// from the solve.
pub fn after_solve(store: &Store, shot: &OpenShot, solve: AnalysisId, solution: &Solution, ahead: Pictures) {
    if let Err(why) = keep(store, shot, solve, &look(shot, solution, ahead)) {
        tracing::warn!(%why, "no survey could be kept");
    }
}

/// For a clip that is no shot: the pictures are read off the clip.
///
/// # Errors
/// [`EngineError`] when the clip cannot be decoded.
pub fn of_clip(clip: &ClipInfo, first: u32, solution: &Solution, masks: &Masks) -> Result<Survey, EngineError> {
    Ok(survey(solution, &views(solution, &pictures_of_clip(clip, first, solution)?, masks)))
}

/// The pictures that a survey of a solve looks at, read off the clip from its frame `first` on.
///
/// # Errors
/// [`EngineError`] when the clip cannot be decoded.
pub fn pictures_of_clip(clip: &ClipInfo, first: u32, solution: &Solution) -> Result<Pictures, EngineError> {
    let wanted = wanted_frames(solution);
    let Some(last) = wanted.last() else { return Ok(Vec::new()) };
    let mut pictures = Vec::new();
    let mut frame = 0;
    analyse::each_frame(clip, (first, first + last + 1), |plane| {
        if wanted.binary_search(&frame).is_ok() {
            pictures.push((frame, plane));
        }
        frame += 1;
        Ok(())
    })?;
    Ok(pictures)
}
