//! Undo, redo, and any single edit.

use super::view::{ShotView, drawn};
use crate::engine::EngineError;
use crate::web::PageError;
use crate::web::answer::{Editor, Part};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{Edit, SolvingEdit, TrackingEdit};
use fennik_store::RevisionId;
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(any_edit).service(undo).service(redo);
}

#[derive(Template)]
#[template(path = "steps.html")]
struct Steps<'a> {
    id: i64,
    undo: Option<&'a str>,
    redo: Option<&'a str>,
}

/// The buttons that step back and forth.
pub fn part(view: &ShotView) -> Result<Part, EngineError> {
    let state = &view.shot.state;
    let steps = Steps { id: view.id(), undo: state.undo.as_deref(), redo: state.redo.as_deref() };
    Ok(Part::new("steps", drawn(&steps)?))
}

#[derive(Deserialize)]
struct EditRequest {
    revision: i64,
    edit: Edit,
}

#[post("/shots/{id}/edit")]
async fn any_edit(editor: Editor, body: web::Json<EditRequest>) -> Result<impl Responder, PageError> {
    let EditRequest { revision, edit } = body.into_inner();
    // Analyses are put to use by those who made them, or by a button that says what comes along.
    if matches!(edit, Edit::Tracking(TrackingEdit::UseTracks { .. }) | Edit::Solving(SolvingEdit::UseSolve { .. })) {
        return Err(PageError::refused("Tracks and cameras are put to use by their own buttons."));
    }
    editor.apply(revision, move |_, _| Ok(edit)).await
}

#[derive(Deserialize)]
struct StepForm {
    revision: i64,
}

#[post("/shots/{id}/undo")]
async fn undo(editor: Editor, form: web::Form<StepForm>) -> Result<impl Responder, PageError> {
    editor.change(move |app, id| Ok(app.store.undo(id, RevisionId(form.revision))?)).await
}

#[post("/shots/{id}/redo")]
async fn redo(editor: Editor, form: web::Form<StepForm>) -> Result<impl Responder, PageError> {
    editor.change(move |app, id| Ok(app.store.redo(id, RevisionId(form.revision))?)).await
}
