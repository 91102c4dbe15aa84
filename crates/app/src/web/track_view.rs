//! One track's own view: what it saw, frame after frame.

use super::{AppState, PageError, block};
use crate::engine::ShotError;
use crate::engine::picture::PictureError;
use crate::engine::read_tracks;
use actix_web::{HttpResponse, Responder, get, web};
use fennik_core::track::{Track, TrackId};
use fennik_store::ShotId;
use image::{ImageEncoder, RgbImage};

/// Side of one patch, px, and how many stand in a row.
const PATCH: u32 = 48;
const ROW: usize = 8;
/// Side of what a patch shows, px of a picture 1280 wide.
const SHOWN_PX: f64 = 33.0;
/// Patches in all.
const MOST: usize = 24;
const QUALITY: u8 = 88;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_patches);
}

/// Frames spread evenly over those on which a track was seen; the first and the last among them.
fn spread(track: &Track) -> Vec<u32> {
    let seen: Vec<u32> = track.sightings().map(|s| s.0).collect();
    let n = seen.len().min(MOST);
    (0..n).map(|i| seen[i * (seen.len() - 1) / (n - 1).max(1)]).collect()
}

/// Patches of a track in rows, each centred on where it was seen, as JPEG; the frames are told in a header.
#[get("/shots/{id}/tracks/{track}/patches.jpg")]
async fn show_patches(
    app: web::Data<AppState>,
    path: web::Path<(ShotId, TrackId)>,
) -> Result<impl Responder, PageError> {
    let (id, track) = path.into_inner();
    let (frames, bytes) = block(move || {
        let shot = app.open(id)?;
        let gone = || ShotError::Gone { what: "track" };
        let run = shot.document().tracking.run.ok_or_else(gone)?;
        let set = read_tracks(&app.store, run)?;
        let found = set.tracks.iter().find(|t| t.id == track).ok_or_else(gone)?;
        let frames = spread(found);
        let mut strip = RgbImage::new(PATCH * frames.len().min(ROW) as u32, PATCH * frames.len().div_ceil(ROW) as u32);
        for (i, &frame) in frames.iter().enumerate() {
            let file = shot.proxies.join(format!("{:06}.jpg", frame + shot.document().trim.first));
            let unread = |e: &dyn std::fmt::Display| PictureError::Preview { frame, why: e.to_string() };
            let bytes = std::fs::read(file).map_err(|e| unread(&e))?;
            let picture = image::load_from_memory_with_format(&bytes, image::ImageFormat::Jpeg)
                .map_err(|e| unread(&e))?
                .into_rgb8();
            let scale = f64::from(picture.width()) / f64::from(shot.clip.width);
            if let Some(at) = found.at(frame) {
                cut(
                    &picture,
                    at.map(|v| (v + 0.5) * scale - 0.5),
                    SHOWN_PX * f64::from(picture.width()) / 1280.0,
                    &mut strip,
                    [(i % ROW) as u32 * PATCH, (i / ROW) as u32 * PATCH],
                );
            }
        }
        let mut out = Vec::new();
        image::codecs::jpeg::JpegEncoder::new_with_quality(&mut out, QUALITY)
            .write_image(&strip, strip.width(), strip.height(), image::ExtendedColorType::Rgb8)
            .map_err(|e| PictureError::Encode { why: e.to_string() })?;
        Ok((frames, out))
    })
    .await?;
    let told = frames.iter().map(u32::to_string).collect::<Vec<_>>().join(" ");
    Ok(HttpResponse::Ok().content_type("image/jpeg").insert_header(("x-frames", told)).body(bytes))
}

/// Draws the square of side `shown` round a pixel into the strip, bilinearly; outside the picture it stays black.
fn cut(picture: &RgbImage, [x, y]: [f64; 2], shown: f64, strip: &mut RgbImage, [left, top]: [u32; 2]) {
    for v in 0..PATCH {
        for u in 0..PATCH {
            let off = |k: u32| (f64::from(k) + 0.5) / f64::from(PATCH) - 0.5;
            let (sx, sy) = (x + shown * off(u), y + shown * off(v));
            if let Some(pixel) = image::imageops::interpolate_bilinear(picture, sx as f32, sy as f32) {
                strip.put_pixel(left + u, top + v, pixel);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_are_spread_over_the_sightings_and_gaps_are_left_out() {
        let mut track = Track { id: TrackId(1), first_frame: 10, positions: vec![[5.0, 5.0]; 101] };
        track.positions[50] = [f32::NAN; 2];
        let frames = spread(&track);
        assert_eq!((frames.len(), frames[0], frames[MOST - 1]), (MOST, 10, 110));
        assert!(!frames.contains(&60));
        track.positions.truncate(1);
        assert_eq!(spread(&track), [10]);
    }

    #[test]
    fn a_patch_is_centred_on_its_pixel() {
        let picture = RgbImage::from_fn(64, 64, |x, y| {
            image::Rgb(if (30..=32).contains(&x) && (20..=22).contains(&y) { [255; 3] } else { [9; 3] })
        });
        let mut strip = RgbImage::new(2 * PATCH, PATCH);
        cut(&picture, [31.0, 21.0], 24.0, &mut strip, [PATCH, 0]);
        assert!(
            strip.get_pixel(PATCH + PATCH / 2, PATCH / 2)[0] > 200
                && strip.get_pixel(PATCH + 5, 5)[0] < 20
                && strip.get_pixel(5, 5)[0] == 0
        );
        cut(&picture, [0.0, 0.0], 24.0, &mut strip, [0, 0]);
        assert_eq!(strip.get_pixel(2, 2)[0], 0, "outside the picture there is nothing");
    }
}
