//! The page of one shot: stage, route, sheet and timeline.

use super::answer::{Editor, Part};
use super::state::{AppState, Shown};
use super::stations::view::{ShotView, drawn};
use super::{PageError, block, sheet, stations};
use crate::engine::{EngineError, OpenShot};
use crate::jobs::{Decode, JobRequest};
use actix_web::{Responder, get, web};
use askama::Template;
use fennik_store::{JobKind, JobRow, JobState, ShotId, StoreError};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_shot).service(show_route);
}

#[derive(Template)]
#[template(path = "bench.html")]
struct Bench<'a> {
    id: i64,
    name: &'a str,
    revision: i64,
    open: &'static str,
    steps: String,
    stations: String,
}

/// A shot of which the newest state cannot be read.
#[derive(Template)]
#[template(path = "broken.html")]
struct Broken {
    id: i64,
    revision: i64,
    why: String,
}

#[get("/shots/{id}")]
async fn show_shot(editor: Editor) -> Result<impl Responder, PageError> {
    block(move || {
        let (app, id) = (&editor.app, editor.id);
        let shot = match app.open(id) {
            Err(EngineError::Store(why @ StoreError::Document { revision, .. })) => {
                return Ok(web::Html::new(drawn(&Broken { id: id.0, revision, why: why.to_string() })?));
            }
            other => other?,
        };
        make_previews(app, &shot)?;
        let view = ShotView::of(app, shot)?;
        let parts = stations::parts(&view)?;
        let (steps, stations) = parts.split_at(1);
        let html = |parts: &[Part]| parts.iter().map(Part::element).collect::<String>();
        let state = &view.shot.state;
        let page = Bench {
            id: view.id(),
            name: &state.shot.name,
            revision: state.head.id.0,
            open: stations::open_first(view.document()),
            steps: html(steps),
            stations: html(stations),
        };
        Ok(web::Html::new(drawn(&page)?))
    })
    .await
}

/// The parts that look otherwise than a page shows them, with the revision that they are of.
pub fn draw(app: &AppState, id: ShotId, shown: &Shown) -> Result<String, EngineError> {
    let view = ShotView::open(app, id)?;
    let mut parts = stations::parts(&view)?;
    for name in shown.keys().filter(|name| sheet::is_sheet(name)) {
        parts.extend(sheet::part(&view, name)?);
    }
    let revision = view.shot.state.head.id.0;
    let mut html = format!("<div id=\"head-revision\" data-revision=\"{revision}\"></div>");
    for part in parts.iter().filter(|p| !p.is_in(shown)) {
        html.push_str(&part.element());
    }
    Ok(html)
}

/// Previews that were freed to make room are made again when somebody looks; what failed or was stopped waits for a
/// person.
fn make_previews(app: &AppState, shot: &OpenShot) -> Result<(), EngineError> {
    let id = shot.state.shot.id;
    let ended_badly = |j: &JobRow| j.kind == JobKind::Decode && matches!(j.state, JobState::Failed | JobState::Stopped);
    if !shot.clip_row.proxies && !app.jobs.latest(id)?.iter().any(ended_badly) {
        app.jobs.queue(id, &JobRequest::Decode(Decode {}))?;
    }
    Ok(())
}

/// What looks otherwise than the page shows it; all of it where it does not say what it shows.
#[get("/shots/{id}/route")]
async fn show_route(editor: Editor) -> Result<impl Responder, PageError> {
    block(move || editor.answer()).await
}
