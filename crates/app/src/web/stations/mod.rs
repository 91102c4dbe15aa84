//! The stations of a shot's route: a file a station, with its view, its forms and its handlers.

mod datum;
mod deliver;
mod footage;
mod inserts;
mod jobs;
mod light;
mod solve;
mod steps;
pub mod track;

use super::answer::Part;
use super::state::AppState;
use crate::engine::ShotError;
use crate::engine::{EngineError, OpenShot};
use actix_web::web;
use askama::Template;
use fennik_core::scene::ShotDocument;
use fennik_core::solve::Solution;
use fennik_core::track::TrackSet;
use fennik_store::{JobKind, JobRow, ShotId};
use jobs::JobLine;
use std::sync::Arc;

pub fn routes(config: &mut web::ServiceConfig) {
    steps::routes(config);
    jobs::routes(config);
    footage::routes(config);
    track::routes(config);
    solve::routes(config);
    datum::routes(config);
    inserts::routes(config);
    light::routes(config);
    deliver::routes(config);
}

/// A shot as the stations look at it. What cannot be read is told where it would stand; everything else can still be
/// reached.
pub struct ShotView<'a> {
    pub app: &'a AppState,
    pub shot: OpenShot,
    jobs: Vec<JobRow>,
    pub solution: Option<Arc<Solution>>,
    solve_fault: Option<String>,
    pub tracks: Option<Arc<TrackSet>>,
    tracks_fault: Option<String>,
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
        Ok(Self { app, shot, jobs, solution, solve_fault, tracks, tracks_fault })
    }

    /// The shot's number.
    pub fn id(&self) -> i64 {
        self.shot.state.shot.id.0
    }

    /// The document at its head.
    pub fn document(&self) -> &ShotDocument {
        self.shot.document()
    }

    /// A job that is waiting, at work, or ended other than well.
    fn job(&self, kind: JobKind) -> Option<JobLine> {
        self.jobs.iter().find(|j| j.kind == kind).and_then(JobLine::of)
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
    name: &'static str,
    title: &'static str,
    reading: String,
    /// Its input changed since.
    out_of_date: bool,
    tools: String,
}

impl Station {
    fn new(
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

/// What makes a station.
type Make = fn(&ShotView) -> Result<Station, EngineError>;

/// The stations in the order of the work.
const STATIONS: [Make; 7] = [
    footage::station,
    track::station,
    solve::station,
    datum::station,
    inserts::station,
    light::station,
    deliver::station,
];

/// The station that is open at first; which one is open then is the page's own affair.
pub fn open_first(document: &ShotDocument) -> &'static str {
    match document {
        d if !d.placing.inserts.is_empty() => "inserts",
        d if d.solving.solve.is_some() => "datum",
        d if d.tracking.run.is_some() => "solve",
        _ => "track",
    }
}

/// All parts of the page beside the stage: the undo steps and the stations.
pub fn parts(view: &ShotView) -> Result<Vec<Part>, EngineError> {
    let mut parts = vec![steps::part(view)?];
    for make in STATIONS {
        let station = make(view)?;
        parts.push(Part::new(format!("station/{}", station.name), drawn(&station)?));
    }
    Ok(parts)
}
