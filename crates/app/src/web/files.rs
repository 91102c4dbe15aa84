//! Files that inserts show: they arrive here, are listed, and each is seen as it would stand.

use super::clips::receive;
use super::{AppState, PageError, block};
use crate::engine::assets::{self, AssetInfo, TakenAsset};
use crate::engine::{EngineError, preview};
use actix_multipart::Multipart;
use actix_web::http::header;
use actix_web::{HttpResponse, Responder, get, post, web};
use fennik_core::scene::AssetName;
use serde_json::{Value, json};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(take_in).service(list).service(look);
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
