//! What a person takes away.

use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::ShotError;
use crate::engine::run::VIDEO;
use crate::engine::{EngineError, output, recipe};
use crate::web::state::AppState;
use crate::web::{PageError, block};
use actix_files::NamedFile;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, Responder, get, web};
use askama::Template;
use fennik_store::{JobKind, JobState, ShotId};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_camera).service(show_scene).service(show_video).service(show_recipe);
}

#[derive(Template)]
#[template(path = "stations/deliver.html")]
struct Tools {
    id: i64,
    solved: bool,
    job: Option<JobLine>,
    video: Option<Video>,
}

/// The finished video.
struct Video {
    /// What it shows.
    line: String,
    /// Whether the shot looks otherwise by now.
    behind: bool,
}

impl Video {
    fn of(view: &ShotView) -> Result<Option<Self>, EngineError> {
        let done = view.jobs.iter().any(|j| j.kind == JobKind::Deliver && j.state == JobState::Done);
        let delivery = view.app.store.latest_delivery(view.shot.state.shot.id, VIDEO)?;
        Ok(match delivery {
            Some(d) if d.shows == output::shows(&view.shot) => {
                Some(Self { line: "The video shows the shot as it is.".to_owned(), behind: false })
            }
            Some(d) => {
                let of = d.revision.map(|r| format!(" (revision {})", r.0)).unwrap_or_default();
                let line = format!("The shot has moved on since this video{of} was rendered.");
                Some(Self { line, behind: true })
            }
            // An earlier version did not note what it rendered.
            None if done => {
                let line = "Which state of the shot this video shows is not known.".to_owned();
                Some(Self { line, behind: false })
            }
            None => None,
        })
    }
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let video = Video::of(view)?;
    let solved = view.solution.is_some();
    let out_of_date = video.as_ref().is_some_and(|v| v.behind);
    let reading = match (&video, solved) {
        (Some(_), _) => "video ready",
        (None, true) => "camera ready",
        (None, false) => "nothing yet",
    };
    let tools = Tools { id: view.id(), solved, job: view.job(JobKind::Deliver), video };
    Ok(Station { out_of_date, ..Station::new("deliver", "Deliver", reading.to_owned(), &tools)? })
}

fn download(bytes: Vec<u8>, kind: &str, name: &str) -> HttpResponse {
    HttpResponse::Ok()
        .content_type(kind)
        .insert_header((header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")))
        .body(bytes)
}

#[get("/shots/{id}/camera.json")]
async fn show_camera(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || output::camera_json(&app.store, &app.open(*id)?)).await?;
    Ok(download(bytes, "application/json", "camera.json"))
}

#[get("/shots/{id}/scene.glb")]
async fn show_scene(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || output::scene_glb(&app.store, &app.open(*id)?)).await?;
    Ok(download(bytes, "model/gltf-binary", "scene.glb"))
}

/// The finished video, read as it is sent, in parts where the browser asks for parts.
#[get("/shots/{id}/video.mp4")]
async fn show_video(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    request: HttpRequest,
) -> Result<impl Responder, PageError> {
    let store = app.store.clone();
    let file = block(move || {
        store.head(*id)?;
        NamedFile::open(store.delivered_path(*id)).map_err(|_| ShotError::NoVideo.into())
    })
    .await?;
    let as_file = header::ContentDisposition::attachment("shot.mp4");
    Ok(file.set_content_disposition(as_file).into_response(&request))
}

/// The shot written down as steps.
#[get("/shots/{id}/recipe.json")]
async fn show_recipe(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || recipe::write::of_shot(&app.store, &app.open(*id)?)).await?;
    Ok(download(bytes, "application/json", "recipe.json"))
}
