//! The stations of a shot's route: a file a station, with its view, its forms and its handlers.

mod arranging;
mod datum;
mod deliver;
mod finish;
mod footage;
mod holdouts;
mod inserts;
mod job_line;
mod jobs;
mod keys;
mod light;
mod matching;
mod solve;
mod steps;
pub mod track;
pub mod view;

use super::answer::Part;
use crate::engine::EngineError;
use actix_web::web;
use fennik_core::scene::ShotDocument;
use view::{ShotView, Station, drawn};

pub fn routes(config: &mut web::ServiceConfig) {
    steps::routes(config);
    jobs::routes(config);
    footage::routes(config);
    track::routes(config);
    solve::routes(config);
    datum::routes(config);
    arranging::routes(config);
    inserts::routes(config);
    light::routes(config);
    keys::routes(config);
    holdouts::routes(config);
    matching::routes(config);
    finish::routes(config);
    deliver::routes(config);
}

/// What makes a station.
type Make = fn(&ShotView) -> Result<Station, EngineError>;

/// The stations in the order of the work.
const STATIONS: [Make; 10] = [
    footage::station,
    track::station,
    solve::station,
    datum::station,
    inserts::station,
    light::station,
    holdouts::station,
    matching::station,
    finish::station,
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
