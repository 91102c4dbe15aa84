//! What a person takes away.

use super::{Desk, PageError, block};
use crate::engine::{EngineError, output, recipe};
use actix_files::NamedFile;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, Responder, get, web};
use fennik_store::ShotId;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_camera).service(show_scene).service(show_video).service(show_recipe);
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

/// The finished video, read as it is sent, in parts where the browser asks for parts.
#[get("/shots/{id}/video.mp4")]
async fn show_video(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    request: HttpRequest,
) -> Result<impl Responder, PageError> {
    let store = desk.store.clone();
    let file = block(move || {
        store.head(*id)?;
        let missing =
            |_| EngineError::Message("there is no rendered video of this shot yet; render it first".to_owned());
        NamedFile::open(store.delivered_path(*id)).map_err(missing)
    })
    .await?;
    let as_file = header::ContentDisposition::attachment("shot.mp4");
    Ok(file.set_content_disposition(as_file).into_response(&request))
}

/// The shot written down as steps.
#[get("/shots/{id}/recipe.json")]
async fn show_recipe(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || recipe::write::of_shot(&desk.store, &desk.open(*id)?)).await?;
    Ok(download(bytes, "application/json", "recipe.json"))
}
