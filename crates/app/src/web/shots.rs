//! The list of shots, what was deleted, and what takes room.

use super::{AppState, PageError, block, views};
use crate::engine::ShotError;
use crate::engine::{EngineError, OpenShot};
use actix_web::http::header;
use actix_web::{HttpResponse, Responder, get, post, web};
use askama::Template;
use fennik_store::{RevisionId, Room, ShotId, ShotRow};
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(list).service(delete).service(restore).service(step_back).service(show_room).service(free_room);
}

/// One shot in the list.
struct ShotCard {
    id: i64,
    name: String,
    clip: String,
    reading: String,
    /// Why it cannot be read.
    fault: Option<String>,
}

impl ShotCard {
    /// A line that stands by itself: what cannot be read of one shot says so there.
    fn of(app: &AppState, row: ShotRow) -> Self {
        let (id, name) = (row.id.0, row.name);
        match OpenShot::load(&app.store, row.id) {
            Ok(shot) => {
                Self { id, name, clip: views::clip_line(&shot), reading: views::shot_reading(app, &shot), fault: None }
            }
            Err(why) => Self { id, name, clip: String::new(), reading: String::new(), fault: Some(why.to_string()) },
        }
    }
}

impl ShotCard {
    /// What is told before it is deleted.
    fn goes_with_it(&self) -> String {
        format!(
            "Delete the shot “{}” with its edits, tracks, cameras and video, and its clip unless another shot uses it? \
                It can be brought back until Fennik ends or the room is needed.",
            self.name
        )
    }
}

#[derive(Template)]
#[template(path = "shots.html")]
struct ShotsPage {
    shots: Vec<ShotCard>,
    deleted: Vec<(i64, String)>,
}

#[get("/")]
async fn list(app: web::Data<AppState>) -> Result<impl Responder, PageError> {
    let page = block(move || {
        let shots = app.store.shots()?.into_iter().map(|row| ShotCard::of(&app, row)).collect();
        let deleted = app.store.deleted_shots()?.into_iter().map(|row| (row.id.0, row.name)).collect();
        Ok(ShotsPage { shots, deleted })
    })
    .await?;
    Ok(web::Html::new(page.render()?))
}

fn to_the_list() -> HttpResponse {
    HttpResponse::Ok().insert_header(("HX-Redirect", "/")).finish()
}

#[post("/shots/{id}/delete")]
async fn delete(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    block(move || {
        app.store.delete_shot(*id)?;
        app.jobs.stop_all_of(*id);
        Ok(())
    })
    .await?;
    Ok(to_the_list())
}

#[post("/shots/{id}/restore")]
async fn restore(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    block(move || Ok(app.store.restore_shot(*id)?)).await?;
    Ok(to_the_list())
}

#[derive(Deserialize)]
struct StepForm {
    revision: i64,
}

/// Leads out of a revision that cannot be read.
#[post("/shots/{id}/step-back")]
async fn step_back(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    form: web::Form<StepForm>,
) -> Result<impl Responder, PageError> {
    let id = *id;
    block(move || Ok(app.store.undo(id, RevisionId(form.revision))?)).await?;
    Ok(HttpResponse::SeeOther().insert_header((header::LOCATION, format!("/shots/{}", id.0))).finish())
}

/// What takes room, in words.
#[derive(Template)]
#[template(path = "room.html")]
struct RoomPart {
    lines: Vec<(&'static str, String)>,
    previews: Option<String>,
    deleted: Option<String>,
    unused: Option<String>,
}

fn size(bytes: u64) -> String {
    let mega = bytes as f64 / 1e6;
    if mega < 1000.0 { format!("{mega:.1} MB") } else { format!("{:.2} GB", mega / 1000.0) }
}

impl RoomPart {
    fn of(room: &Room) -> Self {
        let some = |bytes: u64| (bytes > 0).then(|| size(bytes));
        let lines = [
            ("clips", room.clips),
            ("previews", room.previews),
            ("tracks and cameras", room.analyses),
            ("finished videos", room.videos),
            ("files that are shown", room.files),
        ];
        Self {
            lines: lines.map(|(what, bytes)| (what, size(bytes))).to_vec(),
            previews: some(room.previews),
            deleted: some(room.deleted),
            unused: some(room.unused),
        }
    }
}

fn room_part(app: &AppState) -> Result<web::Html, EngineError> {
    let html = RoomPart::of(&app.store.room()?).render();
    Ok(html.map(web::Html::new).map_err(|e| ShotError::Page { why: e.to_string() })?)
}

#[get("/room")]
async fn show_room(app: web::Data<AppState>) -> Result<impl Responder, PageError> {
    block(move || room_part(&app)).await
}

/// What can be freed.
#[derive(Deserialize)]
#[serde(rename_all = "lowercase")]
enum Freed {
    Previews,
    Deleted,
    Unused,
}

#[derive(Deserialize)]
struct FreeForm {
    what: Freed,
}

#[post("/room/free")]
async fn free_room(app: web::Data<AppState>, form: web::Form<FreeForm>) -> Result<impl Responder, PageError> {
    block(move || {
        match form.what {
            Freed::Deleted => {
                app.store.purge_deleted()?;
            }
            Freed::Unused => {
                app.store.drop_unused_assets()?;
            }
            Freed::Previews => {
                for shot in app.store.shots()? {
                    if !app.jobs.decodes(shot.clip) {
                        app.store.drop_proxies(shot.clip)?;
                    }
                }
            }
        }
        room_part(&app)
    })
    .await
}
