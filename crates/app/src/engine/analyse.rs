//! Tracking and solving a clip.

use super::EngineError;
use fennik_core::geometry::{Similarity, fit_similarity};
use fennik_core::image::Plane;
use fennik_core::solve::Solution;
use fennik_core::track::{Masks, TrackSet, TrackSettings, Tracker};
use fennik_media::{ClipInfo, FrameReader, PixelKind};

/// Streams the frames of `range` (first, and the one after the last) through the tracker. `go_on`
/// hears of each frame and of how many there will be, and may stop the run.
///
/// # Errors
/// [`EngineError`] when frames cannot be read, or `go_on` said no.
pub fn track(
    clip: &ClipInfo,
    range: (u32, u32),
    settings: &TrackSettings,
    masks: Masks,
    mut go_on: impl FnMut(u32, u32) -> bool,
) -> Result<TrackSet, EngineError> {
    let mut reader = FrameReader::open(clip, Some(range), PixelKind::Grey)?;
    let mut tracker = Tracker::new(settings.clone(), masks)?;
    let total = range.1.min(clip.frames.max(range.0)).saturating_sub(range.0);
    while let Some(bytes) = reader.next_frame()? {
        let plane = Plane::from_bytes(clip.width as usize, clip.height as usize, bytes).map_err(|e| EngineError::Message(e.to_string()))?;
        let step = tracker.push(&plane)?;
        if !go_on(step.frame + 1, total) {
            return Err(EngineError::Stopped);
        }
    }
    Ok(tracker.finish())
}

/// What tracking would begin with on one frame.
pub struct FirstLook {
    /// Where points would land, px.
    pub points: Vec<[f64; 2]>,
    /// Part of the frame that they cover, 0 to 1.
    pub coverage: f64,
}

/// Where points would land on a picture, which is the frame `frame` of the trimmed clip.
///
/// # Errors
/// [`EngineError::Track`] when a setting is out of range.
pub fn look(picture: &Plane, frame: u32, settings: &TrackSettings, masks: Masks) -> Result<FirstLook, EngineError> {
    let mut tracker = Tracker::new(settings.clone(), masks)?.beginning_at(frame);
    tracker.push(picture)?;
    Ok(FirstLook { points: tracker.points(), coverage: tracker.coverage() })
}

/// One frame of the clip as the tracker sees it.
///
/// # Errors
/// [`EngineError`] when it cannot be decoded.
pub fn grey_frame(clip: &ClipInfo, frame: u32) -> Result<Plane, EngineError> {
    let mut reader = FrameReader::open(clip, Some((frame, frame + 1)), PixelKind::Grey)?;
    let bytes = reader.next_frame()?.ok_or_else(|| EngineError::Message(format!("frame {frame} cannot be decoded")))?;
    Plane::from_bytes(clip.width as usize, clip.height as usize, bytes).map_err(|e| EngineError::Message(e.to_string()))
}

/// How a solve came out, in a line.
pub fn reading(solution: &Solution) -> String {
    let focal = match (solution.frames.first(), solution.frames.last()) {
        (Some(a), Some(b)) if solution.zoom => format!("{:.0} to {:.0} px", a.lens.focal_px, b.lens.focal_px),
        (Some(a), _) => format!("{:.1} px", a.lens.focal_px),
        _ => String::new(),
    };
    format!(
        "{:.3} px · {}/{} · {} · {} · focal {focal}",
        solution.rms_px,
        solution.frames.len(),
        solution.frames_total,
        solution.verdict.grade.word(),
        solution.motion.word()
    )
}

/// Leads from the world of an old solve to that of a new one, through the points that both have.
pub fn between_solves(old: &Solution, new: &Solution) -> Option<Similarity> {
    let (mut from, mut to) = (Vec::new(), Vec::new());
    for a in &old.frames {
        if let Some(b) = new.at(a.frame) {
            from.push(a.pose.centre());
            to.push(b.pose.centre());
        }
    }
    for a in &old.points {
        if let Ok(i) = new.points.binary_search_by_key(&a.id, |p| p.id) {
            from.push(a.position);
            to.push(new.points[i].position);
        }
    }
    fit_similarity(&from, &to)
}
