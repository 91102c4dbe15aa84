//! Files that inserts show: they arrive here, are listed, and each is seen as it would stand.

use super::clips::receive;
use super::{AppState, PageError, block};
use crate::engine::assets::{self, AssetInfo, TakenAsset};
use crate::engine::{EngineError, library, preview};
use actix_multipart::Multipart;
use actix_web::http::header;
use actix_web::{HttpResponse, Responder, get, post, web};
use fennik_core::scene::AssetName;
use serde_json::{Value, json};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(take_in).service(list).service(look).service(take_item).service(look_at_item);
}

fn told(taken: &TakenAsset) -> Value {
    let TakenAsset { asset, kind, info } = taken;
    let notes = match info {
        AssetInfo::Model { notes, .. } => notes.clone(),
        _ => Vec::new(),
    };
    json!({ "name": asset.name, "file": asset.file, "kind": kind, "reading": info.reading(), "notes": notes })
}

/// Takes in a picture, a clip or a model with its files.
#[post("/files")]
async fn take_in(app: web::Data<AppState>, payload: Multipart) -> Result<impl Responder, PageError> {
    let staging = app.store.new_asset_folder()?;
    let arrived = receive(payload, staging.path()).await?;
    let body = block(move || {
        let files: Vec<_> = arrived.into_iter().map(|f| (f.name, f.path)).collect();
        let taken = assets::take_in(&app.store, &files, |from, to| std::fs::rename(from, to))?;
        drop(staging);
        Ok(told(&taken))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// All files that were taken in, the newest first.
#[get("/files")]
async fn list(app: web::Data<AppState>) -> Result<impl Responder, PageError> {
    let body = block(move || Ok(assets::all(&app.store)?.iter().map(told).collect::<Vec<_>>())).await?;
    Ok(HttpResponse::Ok().json(body))
}

/// A small picture of a file as it would stand.
#[get("/files/{name}/look")]
async fn look(app: web::Data<AppState>, name: web::Path<String>) -> Result<impl Responder, PageError> {
    let name = AssetName::try_from(name.into_inner()).map_err(|_| PageError::not_found())?;
    let bytes = block(move || {
        let taken = assets::find(&app.store, &name)?;
        let picture = preview::of_asset(&app.store, &app.files, &taken)?;
        Ok::<_, EngineError>(picture)
    })
    .await?;
    // What it is named by never changes.
    let keep = (header::CACHE_CONTROL, "private, max-age=31536000, immutable");
    Ok(HttpResponse::Ok().content_type("image/jpeg").insert_header(keep).body(bytes))
}

/// Takes an item of the library in.
#[post("/library/{name}")]
async fn take_item(app: web::Data<AppState>, name: web::Path<String>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let item = library::item(&name)?;
        let taken = library::take(&app.store, item)?;
        let mut body = told(taken.first().ok_or(EngineError::Fault)?);
        body["insert"] = json!(item.kind.insert());
        Ok(body)
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// A small picture of an item of the library.
#[get("/library/{name}/look")]
async fn look_at_item(app: web::Data<AppState>, name: web::Path<String>) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        let item = library::item(&name)?;
        // Made once and kept beside the data: making a sequence takes a while.
        let kept = app.store.root().join("looks").join(format!("{}-{}.jpg", item.name, env!("CARGO_PKG_VERSION")));
        if let Ok(there) = std::fs::read(&kept) {
            return Ok(there);
        }
        let picture = preview::of_item(item)?;
        if let Some(folder) = kept.parent() {
            // A look that cannot be kept is made again.
            let _ = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(&kept, &picture));
        }
        Ok::<_, EngineError>(picture)
    })
    .await?;
    let keep = (header::CACHE_CONTROL, "private, max-age=86400");
    Ok(HttpResponse::Ok().content_type("image/jpeg").insert_header(keep).body(bytes))
}
