//! Origin, floor, heading and scale, and the surfaces.

use super::view::{ShotView, Station};
use crate::engine::EngineError;
use crate::engine::laying::{Lay, lines_of, proposed, why_no_floor};
use crate::engine::readings::{DatumReadings, scale_words};
use crate::web::answer::Editor;
use crate::web::{PageError, views};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{Datum, FloorReading, Follow, HeadingBasis, LineRole, Proposal, Surface};
use fennik_core::solve::{Motion, Solution};
use fennik_core::survey::{FoundPlane, Survey};
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_datum);
}

/// A reading with what it is of.
struct Line {
    what: &'static str,
    text: String,
}

/// A datum that can be taken.
struct Proposed {
    lines: Vec<Line>,
    /// Other floors: their number and their reading.
    others: Vec<(usize, String)>,
}

/// A surface that is laid.
struct SurfaceLine {
    id: u32,
    name: String,
    reading: String,
}

#[derive(Template)]
#[template(path = "stations/datum.html")]
struct Tools {
    solved: bool,
    nodal: bool,
    carried: Option<String>,
    has_floor: bool,
    /// What was found, where something was.
    proposed: Option<Proposed>,
    /// Why no floor was found, and what to click.
    no_floor: Option<&'static str>,
    readings: Vec<Line>,
    grade: &'static str,
    reason: String,
    /// Whether the solve is of the tracks in use, so that tracks can be picked for the datum.
    own: bool,
    distances: Vec<String>,
    surfaces: Vec<SurfaceLine>,
    uprights: usize,
    edges: usize,
    horizons: usize,
    /// What the drawn lines tell, where they tell something.
    upright_line: Option<String>,
    heading_line: Option<String>,
    placed: usize,
}

fn floor_words(fit_px: f64, windows: usize, points: usize, deviation_deg: Option<f64>) -> String {
    let seen = if windows > 0 { format!("{windows} windows, ") } else { String::new() };
    let firm = deviation_deg.map_or_else(String::new, |d| format!(" · ±{d:.2} deg"));
    format!("{fit_px:.2} px{firm} · {seen}{points} points")
}

fn found_words(f: &FoundPlane) -> String {
    floor_words(f.fit_px, f.windows, f.points.len(), Some(f.normal_deviation_deg))
}

fn laid_words(f: &FloorReading) -> String {
    let words = floor_words(f.fit_px, f.windows, f.points.len(), f.normal_deviation_deg);
    match f.left_out.len() {
        0 => words,
        n => format!("{words}, {n} left out"),
    }
}

impl Proposed {
    fn of(proposal: &Proposal, survey: &Survey) -> Self {
        let line = |what, text| Line { what, text };
        let heading = match proposal.heading {
            HeadingBasis::Walls { count, spread_deg } => format!("from {count} walls, ±{spread_deg:.1} deg"),
            HeadingBasis::Path => "the way the camera goes".to_owned(),
            HeadingBasis::View => "the way the camera looks".to_owned(),
        };
        let origin =
            if proposal.origin_in_view { "where the camera looks on average" } else { "the middle of the floor" };
        let mut lines = match survey.floors.first() {
            Some(floor) => vec![
                line("floor", found_words(floor)),
                line("origin", origin.to_owned()),
                line("heading", heading),
                line("scale", scale_words(&proposal.datum, None)),
            ],
            None => vec![line("upright", "from the largest wall".to_owned()), line("heading", heading)],
        };
        if !proposal.surfaces.is_empty() {
            let names: Vec<&str> = proposal.surfaces.iter().map(|s| s.name.as_str()).collect();
            lines.push(line("surfaces", names.join(", ")));
        }
        let others = survey.floors.iter().enumerate().skip(1).map(|(i, f)| (i, found_words(f))).collect();
        Self { lines, others }
    }
}

fn reading_lines(datum: &Datum, r: &DatumReadings) -> Vec<Line> {
    let line = |what, text| Line { what, text };
    let mut lines = Vec::new();
    if let Some(floor) = &datum.floor {
        lines.push(line("floor fit", laid_words(floor)));
        if let Some(d) = floor.place_deviation {
            lines.push(line("floor's height", format!("±{:.2} % of the camera's", 100.0 * d)));
        }
    }
    if let Some(s) = &r.slide {
        lines.push(line(
            "slide under grid",
            format!("{:.2} px, worst {:.2} px · leans {:.2} deg", s.rms_px, s.worst_px, s.leans_deg),
        ));
    }
    lines.push(line("level", format!("average camera rolled {:.1} deg", r.level_deg)));
    if let Some((lean, count)) = r.verticals {
        lines.push(line("verticals", format!("{count} drawn lean {lean:.2} deg")));
    }
    lines.push(line("scale", scale_words(datum, r.scale_deviation)));
    lines
}

fn surface_line(s: &Surface) -> SurfaceLine {
    let reading = match &s.reading {
        Some(r) => format!("tilt {:.1} ±{:.2} deg · {:.2} px", s.tilt_deg(), r.normal_deviation_deg, r.fit_px),
        None => format!("tilt {:.1} deg · by hand", s.tilt_deg()),
    };
    SurfaceLine { id: s.id.0, name: s.name.clone(), reading }
}

/// What lines of a sort tell.
fn told<E>(told: Result<(nalgebra::Vector3<f64>, f64), E>) -> String
where
    E: std::fmt::Display,
{
    told.map_or_else(|why| why.to_string(), |(_, deviation)| format!("known to ±{deviation:.2} deg"))
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let (document, solution) = (view.document(), view.solution.as_deref());
    let datum = &document.datum;
    let nodal = solution.is_some_and(|s| s.motion == Motion::Nodal);
    let survey = solution.map(|_| view.app.survey(&view.shot)).transpose()?;
    let proposal = solution.zip(survey.as_deref()).and_then(|(s, found)| proposed(&view.shot, s, found));
    let readings =
        solution.filter(|_| *datum != Datum::default()).map(|s| view.app.datum_readings(&view.shot, s)).transpose()?;
    let lines = |role| lines_of(datum, role);
    let any_upright = lines(LineRole::Upright) + lines(LineRole::Horizon) > 0;
    let tools = Tools {
        solved: solution.is_some(),
        nodal,
        carried: document.solving.transfer.as_ref().map(|fit| views::CarriedLine::of(fit).text),
        has_floor: datum.floor.is_some(),
        no_floor: survey.as_deref().filter(|s| s.floors.is_empty()).map(why_no_floor),
        proposed: proposal.zip(survey.as_deref()).map(|(p, s)| Proposed::of(&p, s)),
        readings: readings.as_deref().map_or_else(Vec::new, |r| reading_lines(datum, r)),
        grade: readings.as_deref().map_or("", |r| r.grade.word()),
        reason: readings.as_deref().map_or_else(String::new, |r| r.reason.clone()),
        own: view.shot.solve_is_of_these_tracks(&view.app.store).is_ok(),
        distances: distances(datum),
        surfaces: document.surfacing.surfaces.iter().map(surface_line).collect(),
        uprights: lines(LineRole::Upright),
        edges: lines(LineRole::Heading),
        horizons: lines(LineRole::Horizon),
        upright_line: solution.filter(|_| any_upright).map(|s| told(datum.up_by_lines(s))),
        heading_line: solution.filter(|_| lines(LineRole::Heading) > 0).map(|s| told(datum.heading_by_lines(s))),
        placed: document.placing.inserts.len(),
    };
    let reading = closed_line(datum, solution, readings.as_deref(), tools.proposed.is_some());
    Station::new("datum", "Datum", reading, &tools)
}

fn distances(datum: &Datum) -> Vec<String> {
    let one = |d: &fennik_core::scene::Distance| {
        let off = 100.0 * (d.length() / d.metres - 1.0);
        format!("{:.3} m, here {:.3} m ({off:+.1} %)", d.metres, d.length())
    };
    datum.scale.distances().iter().map(one).collect()
}

/// The station's one line: its verdict with the reason, or what comes next.
fn closed_line(datum: &Datum, solution: Option<&Solution>, readings: Option<&DatumReadings>, found: bool) -> String {
    match (solution, readings) {
        (None, _) => "needs a camera".to_owned(),
        (Some(_), Some(r)) if datum.floor.is_some() => {
            let scale = if datum.scale.is_known() { "" } else { " · scale a guess" };
            format!("{}: {}{scale}", r.grade.word(), r.reason)
        }
        (Some(s), _) if s.motion == Motion::Nodal => "directions only".to_owned(),
        (Some(_), _) if found => "a datum is proposed".to_owned(),
        (Some(_), _) => "no floor yet".to_owned(),
    }
}

#[derive(Deserialize)]
struct DatumRequest {
    revision: i64,
    /// What becomes of what is placed.
    #[serde(default)]
    follow: Follow,
    #[serde(flatten)]
    lay: Lay,
}

#[post("/shots/{id}/datum")]
async fn change_datum(editor: Editor, body: web::Json<DatumRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            if body.lay.picks_tracks() {
                shot.solve_is_of_these_tracks(&app.store)?;
            }
            app.laid(shot, |ground| ground.edit(&body.lay, body.follow))
        })
        .await
}
