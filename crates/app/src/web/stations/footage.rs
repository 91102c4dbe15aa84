//! The clip and the part of it that is used.

use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::EngineError;
use crate::web::answer::Editor;
use crate::web::{PageError, views};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{Edit, FootageEdit, FrameRange};
use fennik_store::JobKind;
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_trim);
}

#[derive(Template)]
#[template(path = "stations/footage.html")]
struct Tools {
    id: i64,
    clip_name: String,
    clip_line: String,
    notes: Vec<String>,
    job: Option<JobLine>,
    trim: FrameRange,
    clip_last: u32,
    has_tracks: bool,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let trim = view.document().trim;
    let tools = Tools {
        id: view.id(),
        clip_name: view.shot.clip_row.name.clone(),
        clip_line: views::clip_line(&view.shot),
        notes: view.shot.clip.notes.iter().map(fennik_media::Note::text).collect(),
        job: view.job(JobKind::Decode),
        trim,
        clip_last: view.shot.clip.frames.saturating_sub(1),
        has_tracks: view.tracks.is_some(),
    };
    Station::new("footage", "Footage", format!("{} frames", trim.count()), &tools)
}

#[derive(Deserialize)]
struct TrimForm {
    revision: i64,
    first: u32,
    last: u32,
}

#[post("/shots/{id}/trim")]
async fn change_trim(editor: Editor, form: web::Form<TrimForm>) -> Result<impl Responder, PageError> {
    let range = FrameRange { first: form.first, last: form.last };
    editor.apply(form.revision, move |_, _| Ok(Edit::Footage(FootageEdit::Trim { range }))).await
}
