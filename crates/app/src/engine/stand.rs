//! Masks of what stands still in the scene: they go with the camera.

use super::follow::{Reach, Run, joined, mixed};
use super::place::{Pixel, spot};
use super::{EngineError, OpenShot, ShotError};
use fennik_core::camera::CameraPath;
use fennik_core::matte::Trace;
use fennik_core::scene::{Edit, MaskingEdit, foot_of, standing};
use fennik_core::solve::Solution;

/// How far an outline may lie from the keys that are kept of it, px of a picture 1280 wide.
const TOLERANCE_PX: f64 = 0.25;

/// Stands a mask in the scene as it is on one of its frames, at its foot, and has it seen from there on all others.
///
/// # Errors
/// [`EngineError`] where the mask is gone, nothing is solved, or there is no ground at its foot.
pub fn stand(shot: &OpenShot, solution: &Solution, mask_id: u32, frame: u32) -> Result<Edit, EngineError> {
    let document = shot.document();
    let mut mask = document.mask(mask_id).ok_or(ShotError::Gone { what: "mask" })?.clone();
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let seen = |from: u32, outline: &Trace, to: u32| -> Result<Run, EngineError> {
        let places = outline.places().0;
        let foot = spot(solution, document, Pixel { frame: from, at: foot_of(&places) })?.point;
        Ok(standing(&path, &places, foot, (from, to))?.iter().map(|there| outline.at_places(there)).collect())
    };
    let reach = Reach::of(document, &mask, frame);
    let run = |way: usize| -> Result<Run, EngineError> {
        let there = seen(reach.from, &reach.outline, reach.ends[way])?;
        let Some((frame, known)) = &reach.known[way] else { return Ok(there) };
        let back = seen(*frame, known, reach.from)?;
        Ok(mixed(there, back, reach.from.abs_diff(*frame) as usize + 1))
    };
    let (from, outlines) = joined(reach.from, run(0)?, run(1)?);
    mask.outline.take_run(from, &outlines, TOLERANCE_PX * f64::from(shot.clip.width) / 1280.0);
    Ok(Edit::Masking(MaskingEdit::ChangeMask { mask }))
}
