//! What starts and stops long work at a station.

use crate::jobs::JobRequest;
use crate::web::answer::Editor;
use crate::web::state::AppState;
use crate::web::{PageError, block};
use actix_web::{HttpResponse, Responder, post, web};
use fennik_store::{JobId, JobKind, ShotId};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(start).service(stop).service(again);
}

/// Starts a job of a kind; the body says what it is to work on, where that kind asks for it.
#[post("/shots/{id}/jobs/{kind}")]
async fn start(
    editor: Editor,
    path: web::Path<(ShotId, JobKind)>,
    body: web::Bytes,
) -> Result<impl Responder, PageError> {
    let kind = path.1;
    let asked = std::str::from_utf8(&body).map_err(|e| PageError::bad_request(&e))?;
    // Buttons that ask for nothing in particular send a form.
    let asked = if asked.trim_start().starts_with('{') { asked.to_owned() } else { "{}".to_owned() };
    editor.change(move |app, id| app.jobs.queue(id, &JobRequest::read(kind, &asked)?).map(|_| ())).await
}

/// Does a job once more, with what it was asked for then.
#[post("/shots/{id}/jobs/{job}/again")]
async fn again(editor: Editor, path: web::Path<(ShotId, JobId)>) -> Result<impl Responder, PageError> {
    let job = path.1;
    editor
        .change(move |app, id| {
            let row = app.store.job(job)?;
            if row.shot != id {
                return Err(fennik_store::StoreError::Missing { what: "job", id: job.0 }.into());
            }
            app.jobs.queue(id, &JobRequest::read(row.kind, &row.request)?).map(|_| ())
        })
        .await
}

#[post("/jobs/{id}/stop")]
async fn stop(app: web::Data<AppState>, id: web::Path<JobId>) -> Result<impl Responder, PageError> {
    block(move || {
        app.jobs.stop(*id);
        Ok(())
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
