//! Tracking and solving a clip.

use super::EngineError;
use super::output::OutputError;
use fennik_core::image::{Channel, PictureSettings, Plane, channel_of, prepare};
use fennik_core::matte::Masks;
use fennik_core::solve::Solution;
use fennik_core::track::{BackwardTracker, TrackDirection, TrackSet, TrackSettings, Tracker};
use fennik_media::{ChosenFrames, ClipInfo, FrameReader, Levels, PixelKind};

/// Bytes of decoded pictures that are held at a time while a clip is run through backwards.
const HELD_BYTES: usize = 384 * 1024 * 1024;

/// Pictures that are read ahead of the tracker.
const READ_AHEAD: usize = 2;

/// What decoded bytes the tracker's picture is made of.
fn pixel_kind(picture: &PictureSettings) -> PixelKind {
    if picture.channel == Channel::Brightness { PixelKind::Grey } else { PixelKind::Rgb }
}

/// The picture that the tracker sees.
fn prepared(clip: &ClipInfo, bytes: &[u8], picture: &PictureSettings) -> Result<Plane, EngineError> {
    let (width, height) = (clip.width as usize, clip.height as usize);
    let plane = match pixel_kind(picture) {
        PixelKind::Grey => {
            let Levels { black, white } = clip.grey_levels();
            Plane::from_bytes(width, height, bytes, (black, white)).map_err(|_| EngineError::Fault)?
        }
        PixelKind::Rgb | PixelKind::DeepRgb | PixelKind::Rgba => {
            channel_of(width, height, bytes, picture.channel).ok_or(EngineError::Fault)?
        }
    };
    Ok(if picture.is_plain() { plane } else { prepare(&plane, picture) })
}

/// Hands the frames of `range` to `take` in order, as the tracker sees them. They are read and prepared on a thread of
/// their own, a little ahead.
pub(super) fn forwards(
    clip: &ClipInfo,
    range: (u32, u32),
    picture: &PictureSettings,
    mut take: impl FnMut(Plane) -> Result<(), EngineError>,
) -> Result<(), EngineError> {
    let (sender, planes) = std::sync::mpsc::sync_channel::<Result<Plane, EngineError>>(READ_AHEAD);
    std::thread::scope(|scope| {
        scope.spawn(move || {
            let read = || -> Result<(), EngineError> {
                let mut reader = FrameReader::open(clip, Some(range), pixel_kind(picture))?;
                while let Some(bytes) = reader.next_frame()? {
                    // Nobody listens any more where the run was stopped.
                    if sender.send(prepared(clip, bytes, picture)).is_err() {
                        break;
                    }
                }
                Ok(())
            };
            if let Err(e) = read() {
                let _ = sender.send(Err(e));
            }
        });
        // The receiver goes with the loop, so that a reader that waits with a full queue hears of the end.
        planes.into_iter().try_for_each(|plane| take(plane?))
    })
}

/// Hands the frames of `range` to `take` in order, grey, as they are.
///
/// # Errors
/// [`EngineError`] when frames cannot be read, and what `take` said.
pub fn each_frame(
    clip: &ClipInfo,
    range: (u32, u32),
    take: impl FnMut(Plane) -> Result<(), EngineError>,
) -> Result<(), EngineError> {
    forwards(clip, range, &PictureSettings::default(), take)
}

/// The same from the last to the first, a stretch at a time.
pub(super) fn backwards(
    clip: &ClipInfo,
    range: (u32, u32),
    picture: &PictureSettings,
    mut take: impl FnMut(&Plane) -> Result<(), EngineError>,
) -> Result<(), EngineError> {
    let size = clip.width as usize * clip.height as usize * if pixel_kind(picture) == PixelKind::Rgb { 3 } else { 1 };
    let held = u32::try_from(HELD_BYTES / size.max(1)).unwrap_or(u32::MAX).clamp(4, 400);
    let mut end = range.1;
    while end > range.0 {
        let from = range.0.max(end.saturating_sub(held));
        let mut reader = FrameReader::open(clip, Some((from, end)), pixel_kind(picture))?;
        let mut stretch = Vec::new();
        while let Some(bytes) = reader.next_frame()? {
            stretch.push(bytes.to_vec());
        }
        while let Some(bytes) = stretch.pop() {
            take(&prepared(clip, &bytes, picture)?)?;
        }
        end = from;
    }
    Ok(())
}

/// Streams the frames of `range` (first, and the one after the last) through the tracker, and back where the settings
/// say so. `go_on` hears of each frame and of how many there will be, and may stop the run.
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
    let range = (range.0, range.1.min(clip.frames.max(range.0)));
    let both = settings.direction == TrackDirection::Both;
    let total = (range.1 - range.0) * if both { 2 } else { 1 };
    let mut tracker = Tracker::new(settings.clone(), masks.clone())?;
    forwards(clip, range, &settings.picture, |plane| {
        let step = tracker.push(&plane)?;
        if go_on(step.frame + 1, total) { Ok(()) } else { Err(EngineError::Stopped) }
    })?;
    let set = tracker.finish();
    if !both {
        return Ok(set);
    }
    let there = set.frames;
    let mut back = BackwardTracker::new(settings.clone(), masks, set)?;
    backwards(clip, (range.0, range.0 + there), &settings.picture, |plane| {
        back.push(plane)?;
        let done = there + (there - back.wanted().map_or(0, |f| f + 1));
        if go_on(done.max(there) + 1, total.max(done + 1)) { Ok(()) } else { Err(EngineError::Stopped) }
    })?;
    Ok(back.finish())
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
pub fn seen_frame(clip: &ClipInfo, frame: u32, picture: &PictureSettings) -> Result<Plane, EngineError> {
    let mut seen = None;
    seen_frames(clip, &[frame], picture, |_, plane| seen = Some(plane))?;
    Ok(seen.ok_or(OutputError::NoFrame { frame })?)
}

/// Hands some frames of the clip to `take`, by rising number, as the tracker sees them.
///
/// # Errors
/// [`EngineError`] at the first that cannot be decoded.
pub fn seen_frames(
    clip: &ClipInfo,
    frames: &[u32],
    picture: &PictureSettings,
    mut take: impl FnMut(u32, Plane),
) -> Result<(), EngineError> {
    let mut chosen = ChosenFrames::new(clip, frames.iter().copied(), pixel_kind(picture));
    while let Some((frame, bytes)) = chosen.next_frame()? {
        take(frame, prepared(clip, bytes, picture)?);
    }
    Ok(())
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
