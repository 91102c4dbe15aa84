//! The composite of one frame.

use super::{EngineError, OpenShot};
use fennik_core::camera::CameraPath;
use fennik_core::image::Plane;
use fennik_core::scene::ShotDocument;
use fennik_core::solve::Solution;
use fennik_render::{Quality, Stage, composite};
use image::ImageEncoder;

/// JPEG quality of pictures for the page.
const JPEG_QUALITY: u8 = 90;

/// Draws the inserts over an RGB picture of any size of the shot's frame; a frame without a camera
/// stays the plate.
pub fn draw(
    rgb: &mut [u8],
    (width, height): (u32, u32),
    frame: u32,
    solution: &Solution,
    document: &ShotDocument,
    stage: &Stage,
    quality: Quality,
) {
    let Some(camera) = CameraPath::new(solution, &document.datum.world_from_solve).at(frame) else { return };
    let camera = camera.scaled(f64::from(width) / f64::from(solution.width));
    composite(rgb, width as usize, height as usize, &camera, stage, quality);
}

/// A grey picture as JPEG.
///
/// # Errors
/// [`EngineError`] when it cannot be encoded.
pub fn grey_jpeg(plane: &Plane) -> Result<Vec<u8>, EngineError> {
    let bytes: Vec<u8> = plane.samples().iter().map(|v| v.round().clamp(0.0, 255.0) as u8).collect();
    let mut out = Vec::new();
    image::codecs::jpeg::JpegEncoder::new_with_quality(&mut out, JPEG_QUALITY)
        .write_image(&bytes, plane.width() as u32, plane.height() as u32, image::ExtendedColorType::L8)
        .map_err(|e| EngineError::Message(format!("the picture could not be encoded: {e}")))?;
    Ok(out)
}

/// The picture of a frame of the trimmed clip as JPEG, from its preview frame.
///
/// # Errors
/// [`EngineError`] when the preview frame cannot be read.
pub fn jpeg(
    shot: &OpenShot,
    frame: u32,
    solution: &Solution,
    document: &ShotDocument,
    stage: &Stage,
    quality: Quality,
) -> Result<Vec<u8>, EngineError> {
    let path = shot.proxies.join(format!("{:06}.jpg", frame + document.trim.first));
    let unreadable =
        |e: &dyn std::fmt::Display| EngineError::Message(format!("preview frame {frame} cannot be read: {e}"));
    let bytes = std::fs::read(path).map_err(|e| unreadable(&e))?;
    let mut picture =
        image::load_from_memory_with_format(&bytes, image::ImageFormat::Jpeg).map_err(|e| unreadable(&e))?.into_rgb8();
    let (width, height) = picture.dimensions();
    draw(&mut picture, (width, height), frame, solution, document, stage, quality);
    let mut out = Vec::with_capacity(bytes.len());
    image::codecs::jpeg::JpegEncoder::new_with_quality(&mut out, JPEG_QUALITY)
        .write_image(&picture, width, height, image::ExtendedColorType::Rgb8)
        .map_err(|e| EngineError::Message(format!("frame {frame} could not be encoded: {e}")))?;
    Ok(out)
}
