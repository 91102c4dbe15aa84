//! A shot as the stations look at it, and what a station is.

use super::job_line::JobLine;
use crate::engine::assets::{self, TakenAsset};
use crate::engine::{EngineError, OpenShot, ShotError};
use crate::web::state::AppState;
use askama::Template;
use fennik_core::scene::ShotDocument;
use fennik_core::solve::Solution;
use fennik_core::track::TrackSet;
use fennik_store::{JobKind, JobRow, ShotId};
use std::cell::OnceCell;
use std::sync::Arc;

/// A shot as the stations look at it. What cannot be read is told where it would stand; everything else can still be
/// reached.
pub struct ShotView<'a> {
    pub app: &'a AppState,
    pub shot: OpenShot,
    pub jobs: Vec<JobRow>,
    pub solution: Option<Arc<Solution>>,
    pub solve_fault: Option<String>,
    pub tracks: Option<Arc<TrackSet>>,
    pub tracks_fault: Option<String>,
    /// Files that were taken in, once anybody asked for them.
    files: OnceCell<Vec<TakenAsset>>,
}

impl<'a> ShotView<'a> {
    /// Opens a shot.
    pub fn open(app: &'a AppState, id: ShotId) -> Result<Self, EngineError> {
        Self::of(app, app.open(id)?)
    }

    /// Looks at a shot that is open.
    pub fn of(app: &'a AppState, shot: OpenShot) -> Result<Self, EngineError> {
        let jobs = app.jobs.latest(shot.state.shot.id)?;
        let told = |e: EngineError| e.to_string();
        let (solution, solve_fault) =
            split(shot.document().solving.solve.map(|_| app.solution(&shot)).transpose().map_err(told));
        let (tracks, tracks_fault) = split(app.tracks(&shot).map_err(told));
        Ok(Self { app, shot, jobs, solution, solve_fault, tracks, tracks_fault, files: OnceCell::new() })
    }

    /// The shot's number.
    pub fn id(&self) -> i64 {
        self.shot.state.shot.id.0
    }

    /// The document at its head.
    pub fn document(&self) -> &ShotDocument {
        self.shot.document()
    }

    /// All files that were taken in, the newest first; read once for all stations.
    pub fn files(&self) -> Result<&[TakenAsset], EngineError> {
        if let Some(there) = self.files.get() {
            return Ok(there);
        }
        let all = assets::all(&self.app.store)?;
        Ok(self.files.get_or_init(|| all))
    }

    /// The names of those that are so, and what they are called.
    pub fn files_that(&self, is: impl Fn(&TakenAsset) -> bool) -> Result<Vec<(String, String)>, EngineError> {
        let named = |a: &TakenAsset| (a.asset.name.to_string(), a.asset.file.clone());
        Ok(self.files()?.iter().filter(|a| is(a)).map(named).collect())
    }

    /// A job that is waiting, at work, or ended other than well.
    pub fn job(&self, kind: JobKind) -> Option<JobLine> {
        self.jobs.iter().find(|j| j.kind == kind).and_then(JobLine::of)
    }

    /// The newest job of a kind, with its closing words where it ended well.
    pub fn job_or_words(&self, kind: JobKind) -> Option<JobLine> {
        self.jobs.iter().find(|j| j.kind == kind).map(JobLine::with_words)
    }
}

/// A result as what is there and what is wrong.
fn split<T>(result: Result<Option<T>, String>) -> (Option<T>, Option<String>) {
    match result {
        Ok(value) => (value, None),
        Err(text) => (None, Some(text)),
    }
}

/// One station: its name, what it is called, its closed line and its tools.
#[derive(Template)]
#[template(path = "station.html")]
pub struct Station {
    pub name: &'static str,
    pub title: &'static str,
    pub reading: String,
    /// Its input changed since.
    pub out_of_date: bool,
    pub tools: String,
}

impl Station {
    pub fn new(
        name: &'static str,
        title: &'static str,
        reading: String,
        tools: &impl Template,
    ) -> Result<Self, EngineError> {
        Ok(Self { name, title, reading, out_of_date: false, tools: drawn(tools)? })
    }
}

/// A template's HTML.
pub fn drawn(template: &impl Template) -> Result<String, EngineError> {
    Ok(template.render().map_err(|e| ShotError::Page { why: e.to_string() })?)
}
