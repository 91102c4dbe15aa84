//! Long work at a station: its line, and what starts and stops it.

use crate::jobs::JobRequest;
use crate::web::answer::Editor;
use crate::web::state::AppState;
use crate::web::{PageError, block};
use actix_web::{HttpResponse, Responder, post, web};
use fennik_store::{JobId, JobKind, JobRow, JobState, ShotId};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(start).service(stop).service(again);
}

/// A job that is waiting, at work, or ended other than well.
pub struct JobLine {
    pub id: i64,
    pub kind: &'static str,
    pub word: &'static str,
    pub active: bool,
    pub done: u32,
    pub total: u32,
    pub percent: u32,
    pub message: String,
}

impl JobLine {
    pub fn of(job: &JobRow) -> Option<Self> {
        (job.state != JobState::Done).then(|| Self {
            id: job.id.0,
            kind: job.kind.word(),
            word: job.state.word(),
            active: matches!(job.state, JobState::Waiting | JobState::Running),
            done: job.done,
            total: job.total,
            percent: (100 * u64::from(job.done) / u64::from(job.total.max(1))) as u32,
            message: job.message.clone(),
        })
    }
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
