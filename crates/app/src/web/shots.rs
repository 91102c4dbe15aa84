//! The list of shots.

use super::{Desk, PageError, block, views};
use crate::engine::{EngineError, OpenShot};
use actix_web::{HttpResponse, Responder, get, post, web};
use askama::Template;
use fennik_store::ShotId;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(list).service(delete);
}

/// One shot in the list.
struct ShotCard {
    id: i64,
    name: String,
    clip: String,
    reading: String,
}

#[derive(Template)]
#[template(path = "shots.html")]
struct ShotsPage {
    shots: Vec<ShotCard>,
}

#[get("/")]
async fn list(desk: web::Data<Desk>) -> Result<impl Responder, PageError> {
    let shots = block(move || {
        let card = |row: fennik_store::ShotRow| -> Result<ShotCard, EngineError> {
            let shot = OpenShot::load(&desk.store, row.id)?;
            Ok(ShotCard { id: row.id.0, name: row.name, clip: views::clip_line(&shot), reading: views::shot_reading(&desk, &shot) })
        };
        desk.store.shots()?.into_iter().map(card).collect::<Result<Vec<_>, EngineError>>()
    })
    .await?;
    Ok(web::Html::new(ShotsPage { shots }.render()?))
}

#[post("/shots/{id}/delete")]
async fn delete(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    block(move || Ok(desk.store.delete_shot(*id)?)).await?;
    Ok(HttpResponse::Ok().insert_header(("HX-Redirect", "/")).finish())
}
