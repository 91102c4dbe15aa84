//! Frames: the plate, the composite, drafts.

use super::{AppState, PageError, block};
use crate::engine::ShotError;
use crate::engine::picture;
use actix_web::http::header;
use actix_web::{HttpResponse, Responder, get, post, web};
use fennik_core::scene::Insert;
use fennik_render::Quality;
use fennik_store::ShotId;
use serde::Deserialize;
use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Bytes of finished pictures that are kept.
const CACHE_BYTES: usize = 256 * 1024 * 1024;
/// How long a frame that is still being decoded is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_plate).service(show_composite).service(change_draft);
}

/// Finished pictures, the oldest thrown out first.
#[derive(Default)]
pub struct Cache(Mutex<Held>);

/// What a picture is made from, and its frame.
type PictureKey = (String, u32);

#[derive(Default)]
struct Held {
    pictures: HashMap<PictureKey, Arc<Vec<u8>>>,
    order: VecDeque<PictureKey>,
    bytes: usize,
}

impl Cache {
    fn get(&self, key: &PictureKey) -> Option<Arc<Vec<u8>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pictures.get(key).cloned()
    }

    fn put(&self, key: PictureKey, picture: Arc<Vec<u8>>) {
        let mut held = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        held.bytes += picture.len();
        match held.pictures.insert(key.clone(), picture) {
            Some(replaced) => held.bytes -= replaced.len(),
            None => held.order.push_back(key),
        }
        while held.bytes > CACHE_BYTES {
            let Some(oldest) = held.order.pop_front() else { break };
            if let Some(gone) = held.pictures.remove(&oldest) {
                held.bytes -= gone.len();
            }
        }
    }
}

/// A JPEG as an answer, which browsers may keep or not.
pub(super) fn jpeg(bytes: Vec<u8>, keep: bool) -> HttpResponse {
    let cache = if keep { "private, max-age=31536000, immutable" } else { "no-store" };
    HttpResponse::Ok().content_type("image/jpeg").insert_header((header::CACHE_CONTROL, cache)).body(bytes)
}

/// A frame of the clip, counted as in the file. While the clip is being decoded it is waited for.
#[get("/shots/{id}/plate/{frame}")]
async fn show_plate(app: web::Data<AppState>, path: web::Path<(ShotId, u32)>) -> Result<impl Responder, PageError> {
    let (id, frame) = path.into_inner();
    let bytes = block(move || {
        let shot = app.open(id)?;
        let file = shot.proxies.join(format!("{frame:06}.jpg"));
        let next = shot.proxies.join(format!("{:06}.jpg", frame + 1));
        let began = std::time::Instant::now();
        let waits = || !shot.clip_row.proxies && !next.exists() && began.elapsed() < PATIENCE;
        // Nobody waits for what nobody is making.
        while waits() && app.jobs.decodes(shot.clip_row.id) {
            std::thread::sleep(Duration::from_millis(30));
        }
        Ok(std::fs::read(file).map_err(|_| ShotError::NotDecoded { frame })?)
    })
    .await?;
    Ok(jpeg(bytes, false))
}

#[derive(Deserialize)]
struct PictureQuery {
    /// The name that the state gives it.
    key: String,
    /// A rough picture at once rather than the exact one.
    #[serde(default)]
    quick: bool,
    /// Lock off: what is placed is drawn as the camera of this frame sees it.
    held: Option<u32>,
}

/// The finished picture of a frame of the trimmed clip, at the head.
#[get("/shots/{id}/picture/{frame}")]
async fn show_composite(
    app: web::Data<AppState>,
    path: web::Path<(ShotId, u32)>,
    query: web::Query<PictureQuery>,
) -> Result<impl Responder, PageError> {
    let (id, frame) = path.into_inner();
    let bytes = block(move || {
        let shot = app.open(id)?;
        let key = (picture::key(&shot), frame);
        if key.0 != query.key {
            return Err(ShotError::Overtaken.into());
        }
        if let Some(held) = query.held {
            let composer = app.composer(&shot, &key.0)?;
            let as_seen = picture::Wanted { camera_of: held, ..picture::Wanted::frame(frame) };
            return Ok(Arc::new(picture::jpeg(&shot, as_seen, &composer, Quality::Draft, &app.plates)?));
        }
        if let Some(picture) = app.pictures.get(&key) {
            return Ok(picture);
        }
        let composer = app.composer(&shot, &key.0)?;
        let quality = if query.quick { Quality::Draft } else { Quality::Exact };
        let wanted = picture::Wanted::frame(frame);
        let picture = Arc::new(picture::jpeg(&shot, wanted, &composer, quality, &app.plates)?);
        if quality == Quality::Exact {
            app.pictures.put(key, picture.clone());
        }
        Ok(picture)
    })
    .await?;
    Ok(jpeg(bytes.to_vec(), false))
}

#[derive(Deserialize)]
struct DraftRequest {
    frame: u32,
    insert: Insert,
    /// Half as wide and high, since whole ones came too slowly.
    #[serde(default)]
    half: bool,
}

/// A quick picture of a frame with one insert elsewhere than saved: while it is dragged.
#[post("/shots/{id}/draft")]
async fn change_draft(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    body: web::Json<DraftRequest>,
) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    let bytes = block(move || {
        let shot = app.open(id)?;
        body.insert.validate()?;
        let mut document = shot.document().clone();
        if let Some(slot) = document.placing.inserts.iter_mut().find(|i| i.id == body.insert.id) {
            *slot = body.insert;
        }
        let composer = app.composer_of(&shot, document)?;
        let wanted = picture::Wanted { half: body.half, ..picture::Wanted::frame(body.frame) };
        picture::jpeg(&shot, wanted, &composer, Quality::Draft, &app.plates)
    })
    .await?;
    Ok(jpeg(bytes, false))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Fault: a picture that replaced another was counted and that one never taken off, so that nothing was kept after
    /// 256 MB.
    #[test]
    fn pictures_that_replace_others_take_their_room() {
        let cache = Cache::default();
        let key = |frame| ("one".to_owned(), frame);
        let picture = || Arc::new(vec![0u8; CACHE_BYTES / 8]);
        (0..40).for_each(|i| cache.put(key(i % 4), picture()));
        assert!((0..4).all(|i| cache.get(&key(i)).is_some()), "four pictures of an eighth each have room");
        (4..12).for_each(|i| cache.put(key(i), picture()));
        assert!(
            (0..4).all(|i| cache.get(&key(i)).is_none()) && (4..12).all(|i| cache.get(&key(i)).is_some()),
            "the oldest make room"
        );
    }
}
