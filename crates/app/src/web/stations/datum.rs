//! Origin, floor, heading and scale.

use super::view::{ShotView, Station};
use crate::engine::EngineError;
use crate::engine::ShotError;
use crate::web::answer::Editor;
use crate::web::{PageError, views};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{Datum, DatumEdit, Edit, FloorReading, fit_floor, suggest_floor};
use fennik_core::solve::{Motion, Solution};
use fennik_core::track::TrackId;
use nalgebra::Vector3;
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_datum);
}

#[derive(Template)]
#[template(path = "stations/datum.html")]
struct Tools {
    solved: bool,
    nodal: bool,
    carried: Option<String>,
    has_floor: bool,
    /// Reading of the floor that is suggested, where one stands out.
    suggested: Option<String>,
    /// Whether the solve is of the tracks in use, so that tracks can be picked for the datum.
    own: bool,
    scale_known: bool,
}

fn floor_reading(floor: &FloorReading) -> String {
    format!("{:.2} px · {:.1} deg off level · {} points", floor.fit_px, floor.level_deg, floor.points.len())
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let (document, solution) = (view.document(), view.solution.as_ref());
    let datum = &document.datum;
    let nodal = solution.is_some_and(|s| s.motion == Motion::Nodal);
    let suggested = solution.map(|_| view.app.suggested_floor(&view.shot)).transpose()?.flatten();
    let tools = Tools {
        solved: solution.is_some(),
        nodal,
        carried: document.solving.transfer.as_ref().map(|fit| views::CarriedLine::of(fit).text),
        has_floor: datum.floor.is_some(),
        suggested: suggested.map(|fit| floor_reading(&fit.reading)),
        own: view.shot.solve_is_of_these_tracks(&view.app.store).is_ok(),
        scale_known: datum.known_distance_m.is_some(),
    };
    let reading = match &datum.floor {
        Some(floor) => format!("floor {}", floor_reading(floor)),
        None if nodal => "directions only".to_owned(),
        None if document.solving.solve.is_some() => "no floor yet".to_owned(),
        None => "needs a camera".to_owned(),
    };
    Station::new("datum", "Datum", reading, &tools)
}

/// What to do with the datum.
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case", tag = "action")]
enum DatumAction {
    SuggestFloor,
    Floor { points: Vec<TrackId> },
    Origin { point: TrackId },
    Scale { points: Vec<TrackId>, distance_m: f64 },
    Nudge { turn_deg: [f64; 3], shift_m: [f64; 3] },
    Flip,
    Reset,
}

#[derive(Deserialize)]
struct DatumRequest {
    revision: i64,
    #[serde(flatten)]
    action: DatumAction,
}

impl DatumAction {
    /// Whether it speaks of tracks.
    fn picks_tracks(&self) -> bool {
        matches!(self, Self::Floor { .. } | Self::Origin { .. } | Self::Scale { .. })
    }

    /// The datum after it.
    fn apply(&self, datum: &Datum, solution: &Solution) -> Result<Datum, EngineError> {
        Ok(match self {
            Self::SuggestFloor => {
                let fit = suggest_floor(solution).ok_or(ShotError::NoFloor)?;
                datum.with_floor(solution, &fit, None)
            }
            Self::Floor { points } => datum.with_floor(solution, &fit_floor(solution, points)?, None),
            Self::Origin { point } => datum.with_origin(position(solution, *point)?),
            Self::Scale { points, distance_m } => match points.as_slice() {
                [a, b] => datum.with_distance(position(solution, *a)?, position(solution, *b)?, *distance_m)?,
                other => return Err(ShotError::ScaleOfTwo { found: other.len() }.into()),
            },
            Self::Nudge { turn_deg, shift_m } => datum.nudged(*turn_deg, *shift_m),
            Self::Flip => datum.flipped(),
            Self::Reset => Datum::default(),
        })
    }
}

fn position(solution: &Solution, id: TrackId) -> Result<Vector3<f64>, EngineError> {
    let found = solution.points.binary_search_by_key(&id, |p| p.id);
    Ok(found.map(|i| solution.points[i].position).map_err(|_| ShotError::NoPoint)?)
}

#[post("/shots/{id}/datum")]
async fn change_datum(editor: Editor, body: web::Json<DatumRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            if body.action.picks_tracks() {
                shot.solve_is_of_these_tracks(&app.store)?;
            }
            let datum = body.action.apply(&shot.document().datum, app.solution(shot)?.as_ref())?;
            Ok(Edit::Datum(DatumEdit::Datum { datum }))
        })
        .await
}
