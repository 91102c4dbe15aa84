//! The clip and the part of it that is used.

use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::{EngineError, ShotError, assets, kinds};
use crate::web::answer::Editor;
use crate::web::{PageError, views};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::colour::{Primaries, Transfer};
use fennik_core::scene::{AssetName, Edit, FootageEdit, FrameRange, PlateColour};
use fennik_store::JobKind;
use serde::Deserialize;
use serde_json::Value;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_trim).service(change_colour);
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
    /// What the file says of its colours, and what is taken instead.
    says: String,
    transfer: &'static str,
    primaries: &'static str,
    table: String,
    tables: Vec<(String, String)>,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let trim = view.document().trim;
    let (clip, plate) = (&view.shot.clip, &view.document().plate);
    let tools = Tools {
        id: view.id(),
        clip_name: view.shot.clip_row.name.clone(),
        clip_line: views::clip_line(&view.shot),
        notes: view.shot.clip.notes.iter().map(fennik_media::Note::text).collect(),
        job: view.job(JobKind::Decode),
        trim,
        clip_last: view.shot.clip.frames.saturating_sub(1),
        has_tracks: view.tracks.is_some(),
        says: format!(
            "{}, {}{}",
            clip.transfer.word(),
            clip.primaries.word(),
            if clip.deep { ", more than 8 bits" } else { "" }
        ),
        transfer: plate.transfer.map_or("", Transfer::word),
        primaries: plate.primaries.map_or("", Primaries::word),
        table: plate.table.as_ref().map(|t| t.name.to_string()).unwrap_or_default(),
        tables: view.files_that(|a| a.kind == "table")?,
    };
    Station::new("footage", "Footage", format!("{} frames", trim.count()), &tools)
}

#[derive(Deserialize)]
struct ColourForm {
    revision: i64,
    transfer: String,
    primaries: String,
    table: String,
}

/// One of some words, or none where nothing was chosen.
fn chosen<T: serde::de::DeserializeOwned>(text: &str) -> Result<Option<T>, EngineError> {
    Ok(if text.is_empty() { None } else { Some(kinds::word(&Value::from(text))?) })
}

/// What the code values of the plate mean.
#[post("/shots/{id}/plate-colour")]
async fn change_colour(editor: Editor, form: web::Form<ColourForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |app, _| {
            let name = |text: String| AssetName::try_from(text).map_err(|_| ShotError::Gone { what: "table" });
            let table = if form.table.is_empty() { None } else { Some(name(form.table)?) };
            let table = table.map(|name| assets::table_named(&app.store, &name)).transpose()?;
            let colour = PlateColour { transfer: chosen(&form.transfer)?, primaries: chosen(&form.primaries)?, table };
            Ok(Edit::Footage(FootageEdit::PlateColour { colour }))
        })
        .await
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
