//! What a person takes away.

use super::{Desk, PageError, block};
use crate::engine::{EngineError, output};
use crate::jobs::delivered_path;
use actix_web::http::header;
use actix_web::{HttpResponse, Responder, get, web};
use fennik_store::ShotId;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_camera).service(show_scene).service(show_video);
}

fn download(bytes: Vec<u8>, kind: &str, name: &str) -> HttpResponse {
    HttpResponse::Ok()
        .content_type(kind)
        .insert_header((header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")))
        .body(bytes)
}

#[get("/shots/{id}/camera.json")]
async fn show_camera(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || output::camera_json(&desk.store, &desk.open(*id)?)).await?;
    Ok(download(bytes, "application/json", "camera.json"))
}

#[get("/shots/{id}/scene.glb")]
async fn show_scene(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || output::scene_glb(&desk.store, &desk.open(*id)?)).await?;
    Ok(download(bytes, "model/gltf-binary", "scene.glb"))
}

#[get("/shots/{id}/video.mp4")]
async fn show_video(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        std::fs::read(delivered_path(&desk.store, *id))
            .map_err(|_| EngineError::Message("there is no rendered video of this shot yet; render it first".to_owned()))
    })
    .await?;
    Ok(download(bytes, "video/mp4", "shot.mp4"))
}
