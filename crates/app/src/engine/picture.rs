//! The composite of one frame.

use super::compose::Composer;
use super::{EngineError, OpenShot, jpeg, turn};
use fennik_core::image::Plane;
use fennik_core::scene::{Insert, SurroundingsNow};
use fennik_render::{Panorama, Quality, colour};
use image::codecs::jpeg::JpegDecoder;
use image::{DynamicImage, ImageDecoder, ImageError, ImageFormat, ImageReader, RgbImage};
use jpeg_encoder::ColorType;
use nalgebra::Vector3;
use std::collections::VecDeque;
use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash, Hasher};
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// JPEG quality of pictures for the page.
const JPEG_QUALITY: u8 = 90;
/// Of pictures that stand only until the exact one is there.
const DRAFT_QUALITY: u8 = 82;

/// Why a frame's picture cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum PictureError {
    /// The frame that it is drawn over.
    #[error("preview frame {frame} cannot be read: {why}")]
    Preview {
        /// Of the trimmed clip.
        frame: u32,
        /// What is wrong with it.
        why: String,
    },
    /// The file that it would be.
    #[error("the picture could not be encoded: {why}")]
    Encode {
        /// What is wrong with it.
        why: String,
    },
}

/// A grey picture as JPEG.
///
/// # Errors
/// [`EngineError`] when it cannot be encoded.
pub fn grey_jpeg(plane: &Plane) -> Result<Vec<u8>, EngineError> {
    let bytes: Vec<u8> = plane.samples().iter().map(|v| v.round().clamp(0.0, 255.0) as u8).collect();
    encoded(&bytes, (plane.width() as u32, plane.height() as u32), ColorType::Luma, JPEG_QUALITY)
}

/// Decoded preview frames that are kept.
const PLATES: usize = 4;

/// A preview frame's file, and whether it is halved.
type PlateKey = (PathBuf, bool);

/// Preview frames as they were decoded last: while something is dragged it is the same one all the time.
#[derive(Default)]
pub struct Plates {
    kept: Mutex<VecDeque<(PlateKey, Arc<RgbImage>)>>,
    /// Room of pictures that nobody looks at any more: to be given new room for each costs more than to write to it.
    spare: Mutex<Vec<Vec<u8>>>,
}

/// Pictures whose room is kept, and how large one of them may be, bytes.
const SPARE: usize = 4;
const SPARE_BYTES: usize = 32 << 20;

/// A preview frame that was opened, and perhaps decoded.
enum Plate {
    Decoded(Arc<RgbImage>),
    Coded { bytes: Vec<u8>, size: (u32, u32), key: PlateKey },
}

impl Plate {
    /// Width and height as it is drawn on, px.
    fn size(&self) -> (u32, u32) {
        match self {
            Self::Decoded(picture) => picture.dimensions(),
            Self::Coded { size: (width, height), key: (_, true), .. } => ((width / 2).max(1), (height / 2).max(1)),
            Self::Coded { size, .. } => *size,
        }
    }
}

impl Plates {
    fn held(&self) -> MutexGuard<'_, VecDeque<(PlateKey, Arc<RgbImage>)>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Room for so many bytes, whatever is in it.
    fn room(&self, bytes: usize) -> Vec<u8> {
        let mut room = self.spare.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default();
        room.resize(bytes, 0);
        room
    }

    fn done_with(&self, picture: RgbImage) {
        let mut spare = self.spare.lock().unwrap_or_else(PoisonError::into_inner);
        if spare.len() < SPARE && picture.len() <= SPARE_BYTES {
            spare.push(picture.into_raw());
        }
    }

    /// A picture of one's own.
    fn copied(&self, picture: &RgbImage) -> RgbImage {
        let (width, height) = picture.dimensions();
        let mut room = self.room(picture.len());
        room.copy_from_slice(picture);
        RgbImage::from_raw(width, height, room).unwrap_or_else(|| picture.clone())
    }

    fn decode(&self, bytes: &[u8]) -> Result<RgbImage, ImageError> {
        let decoder = JpegDecoder::new(Cursor::new(bytes))?;
        let (width, height) = decoder.dimensions();
        if decoder.color_type() != image::ColorType::Rgb8 {
            return Ok(DynamicImage::from_decoder(decoder)?.into_rgb8());
        }
        let mut room = self.room(3 * width as usize * height as usize);
        decoder.read_image(&mut room)?;
        Ok(RgbImage::from_raw(width, height, room).unwrap_or_default())
    }

    /// The preview frame of a file, as it is or half as wide and high.
    fn open(&self, path: &Path, frame: u32, half: bool) -> Result<Plate, PictureError> {
        let key = (path.to_owned(), half);
        if let Some((_, there)) = self.held().iter().find(|(k, _)| *k == key) {
            return Ok(Plate::Decoded(there.clone()));
        }
        let bytes = std::fs::read(path).map_err(|e| unreadable(frame, &e))?;
        let reader = ImageReader::with_format(Cursor::new(&bytes), ImageFormat::Jpeg);
        let size = reader.into_dimensions().map_err(|e| unreadable(frame, &e))?;
        Ok(Plate::Coded { bytes, size, key })
    }

    fn decoded(&self, plate: Plate, frame: u32) -> Result<Arc<RgbImage>, PictureError> {
        let (bytes, size, key) = match plate {
            Plate::Decoded(picture) => return Ok(picture),
            Plate::Coded { ref bytes, key: ref k, .. } => (bytes, plate.size(), k.clone()),
        };
        let mut picture = self.decode(bytes).map_err(|e| unreadable(frame, &e))?;
        if key.1 {
            let half = image::imageops::thumbnail(&picture, size.0, size.1);
            self.done_with(std::mem::replace(&mut picture, half));
        }
        let picture = Arc::new(picture);
        let mut kept = self.held();
        kept.push_back((key, picture.clone()));
        let oldest = if kept.len() > PLATES { kept.pop_front() } else { None };
        drop(kept);
        if let Some(unused) = oldest.and_then(|(_, picture)| Arc::into_inner(picture)) {
            self.done_with(unused);
        }
        Ok(picture)
    }
}

fn unreadable(frame: u32, why: &dyn std::fmt::Display) -> PictureError {
    PictureError::Preview { frame, why: why.to_string() }
}

/// Which picture is wanted.
#[derive(Debug, Clone, Copy)]
pub struct Wanted {
    /// Of the trimmed clip.
    pub frame: u32,
    /// What is placed is drawn as the camera of this frame sees it, which is the same but for a lock check.
    pub camera_of: u32,
    /// Half as wide and high: where many things stand and one is dragged.
    pub half: bool,
}

impl Wanted {
    /// A frame as it is.
    pub fn frame(frame: u32) -> Self {
        Self { frame, camera_of: frame, half: false }
    }
}

/// The picture of a frame of the trimmed clip as JPEG, from its preview frame.
///
/// # Errors
/// [`EngineError`] when the preview frame cannot be read.
pub fn jpeg(
    shot: &OpenShot,
    Wanted { frame, camera_of, half }: Wanted,
    composer: &Composer,
    quality: Quality,
    plates: &Plates,
) -> Result<Vec<u8>, EngineError> {
    let _draft = (quality == Quality::Draft).then(turn::Draft::begin);
    let path = shot.proxies.join(format!("{:06}.jpg", frame + composer.document().trim.first));
    let plate = plates.open(&path, frame, half)?;
    let size = plate.size();
    // What is seen where is found out meanwhile; not by those who draw, since it may wait for a clip.
    let (plate, ahead) = std::thread::scope(|with| {
        let plate = with.spawn(|| plates.decoded(plate, frame));
        let ahead = composer.ahead(camera_of, size, quality);
        (plate.join().unwrap_or_else(|fault| std::panic::resume_unwind(fault)), ahead)
    });
    let mut picture = plates.copied(&*plate?);
    composer.finish(&mut picture, size, (frame, camera_of), quality, ahead?)?;
    let careful = if quality == Quality::Exact { JPEG_QUALITY } else { DRAFT_QUALITY };
    let coded = encoded(&picture, size, ColorType::Rgb, careful);
    plates.done_with(picture);
    coded
}

/// How what stands in front is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MatteView {
    /// Tinted over the plate.
    Over,
    /// White on black.
    Alone,
    /// Cut out of the plate, on grey.
    Cut,
}

/// Tint over what stands in front, and the grey behind a cut-out; display values.
const MATTE_TINT: [u8; 3] = [143, 184, 158];
const CUT_GROUND: u8 = 96;

/// What stands in front on a frame of the trimmed clip, as JPEG. What hides by its place in the scene is not shown.
///
/// # Errors
/// [`EngineError`] when the preview frame or a picture of a holdout cannot be read.
pub fn matte(
    shot: &OpenShot,
    frame: u32,
    composer: &Composer,
    view: MatteView,
    plates: &Plates,
) -> Result<Vec<u8>, EngineError> {
    let path = shot.proxies.join(format!("{:06}.jpg", frame + composer.document().trim.first));
    let mut picture = plates.copied(&*plates.decoded(plates.open(&path, frame, false)?, frame)?);
    let (width, height) = picture.dimensions();
    let all = composer.matte(frame, [width as usize, height as usize], &picture)?;
    for (i, p) in picture.pixels_mut().enumerate() {
        let part = all.as_ref().map_or(0.0, |c| c.parts[i]);
        let mix =
            |from: u8, to: u8, part: f32| (f32::from(from) + (f32::from(to) - f32::from(from)) * part + 0.5) as u8;
        p.0 = match view {
            MatteView::Over => std::array::from_fn(|k| mix(p.0[k], MATTE_TINT[k], 0.6 * part)),
            MatteView::Alone => [mix(0, 255, part); 3],
            MatteView::Cut => p.0.map(|v| mix(CUT_GROUND, v, part)),
        };
    }
    encoded(&picture, (width, height), ColorType::Rgb, JPEG_QUALITY)
}

/// Width of surroundings as they are shown, px.
const AROUND_PX: usize = 640;

/// Surroundings as they light, turned as they are: bearings run from left to right, their middle is -Z of the world.
///
/// # Errors
/// [`EngineError`] when it cannot be encoded.
pub fn surroundings_jpeg(picture: &Panorama, now: &SurroundingsNow) -> Result<Vec<u8>, EngineError> {
    let (width, height) = (AROUND_PX, AROUND_PX / 2);
    let back = now.turn.inverse();
    let rgb: Vec<u8> = (0..width * height)
        .flat_map(|i| {
            let bearing = ((i % width) as f64 + 0.5) / width as f64 * std::f64::consts::TAU - std::f64::consts::PI;
            let (sin, cos) = (((i / width) as f64 + 0.5) / height as f64 * std::f64::consts::PI).sin_cos();
            let toward = back * Vector3::new(bearing.sin() * sin, cos, -bearing.cos() * sin);
            now.grade.apply(picture.look(toward.cast()).into()).map(colour::byte_of)
        })
        .collect();
    encoded(&rgb, (width as u32, height as u32), ColorType::Rgb, JPEG_QUALITY)
}

/// An RGB picture as JPEG.
///
/// # Errors
/// [`EngineError`] when it cannot be encoded.
pub fn jpeg_of(rgb: &[u8], width: u32, height: u32) -> Result<Vec<u8>, EngineError> {
    encoded(rgb, (width, height), ColorType::Rgb, JPEG_QUALITY)
}

fn encoded(bytes: &[u8], size: (u32, u32), kind: ColorType, careful: u8) -> Result<Vec<u8>, EngineError> {
    Ok(jpeg::encode(bytes, size, kind, careful).map_err(|e| PictureError::Encode { why: e.to_string() })?)
}

/// Names a picture by all that it is made from, but for its frame: a change that it does not show leaves the name as it
/// is.
pub fn key(shot: &OpenShot) -> String {
    let document = shot.document();
    // What people call things, and whether they are locked, is not seen.
    let bare = |i: &Insert| Insert { name: String::new(), locked: false, began: None, ..i.clone() };
    let shown: Vec<_> = document.placing.inserts.iter().map(bare).collect();
    let made_from =
        (shot.state.shot.clip, document.trim.first, document.solving.solve, document.datum.world_from_solve);
    let masks: Vec<_> = document.masking.masks.masks.iter().filter(|m| document.holding.uses_mask(m.id)).collect();
    // Surfaces are seen only by what they hide and catch.
    let catches = document.light.catchers.iter().any(|c| c.surface.is_some());
    let surfaces = (catches || !document.holding.holdouts.is_empty()).then_some(&document.surfacing.surfaces);
    let fronts = (&document.holding.holdouts, masks, surfaces);
    // Numbers are written down in full, so that nothing that differs is taken for the same.
    let written = serde_json::to_string(&(
        made_from,
        shown,
        &document.light,
        document.placing.shutter,
        fronts,
        &document.finish,
        &document.lens,
        &document.plate,
        // The last frame fades.
        document.finish.changes().then_some(document.trim.last),
    ))
    .unwrap_or_default();
    let mut hasher = DefaultHasher::new();
    (env!("CARGO_PKG_VERSION"), written).hash(&mut hasher);
    format!("{:016x}", hasher.finish())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The room of a picture that is done with goes to the next one, and no picture that is looked at changes by it.
    #[test]
    fn pictures_take_turns_in_their_room_and_stay_what_they_are() {
        let folder = tempfile::tempdir().unwrap();
        let plates = Plates::default();
        let bytes = |v: u8| encoded(&vec![v; 3 * 64 * 48], (64, 48), ColorType::Rgb, 90).unwrap();
        let seen = |v: u8, half: bool| {
            let path = folder.path().join(format!("{v}.jpg"));
            std::fs::write(&path, bytes(v)).unwrap();
            plates.decoded(plates.open(&path, 0, half).unwrap(), 0).unwrap()
        };
        let first = seen(10, false);
        let mut own = plates.copied(&first);
        own.fill(255);
        plates.done_with(own);
        for v in 20..40u8 {
            let (whole, half) = (seen(v, false), seen(v, true));
            assert!(whole.iter().chain(half.iter()).all(|b| b.abs_diff(v) <= 2), "{v}");
            assert_eq!((whole.dimensions(), half.dimensions()), ((64, 48), (32, 24)));
            plates.done_with(plates.copied(&whole));
        }
        assert!(first.iter().all(|b| b.abs_diff(10) <= 2), "it is still looked at");
        assert!(plates.spare.lock().unwrap().len() <= SPARE && plates.held().len() <= PLATES);
    }
}
