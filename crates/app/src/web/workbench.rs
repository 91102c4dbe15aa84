//! The workbench of one shot: its page and the route beside the stage.

use super::{Desk, PageError, block, views};
use crate::engine::{EngineError, OpenShot, SolveRecord};
use actix_web::{Responder, get, web};
use askama::Template;
use fennik_core::image::PictureSettings;
use fennik_core::matte::{Mask, MaskMode};
use fennik_core::scene::{Insert, InsertKind, Light, Stance, Title, TransferFit};
use fennik_core::solve::{Motion, MotionChoice, OutlierReason, ReadoutChoice, Solution};
use fennik_store::{AnalysisRow, JobKind, JobRow, JobState, ShotId, StoreError};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_shot).service(show_route);
}

#[derive(Template)]
#[template(path = "workbench.html")]
struct Workbench {
    id: i64,
    name: String,
    route: Route,
}

/// One title in its form.
struct TitleForm {
    id: u32,
    title: Title,
    insert: Insert,
    colour: String,
    standing: bool,
}

/// Why a solve is as good as it is.
struct ReasonLine {
    grade: &'static str,
    text: String,
    linked: bool,
}

/// One mask in its form.
struct MaskLine {
    id: u32,
    name: String,
    mode: &'static str,
    inverted: bool,
    first: String,
    last: String,
    keys: usize,
    smooth: bool,
}

/// Tracks that are not used for one reason.
struct StrayGroup {
    word: &'static str,
    name: &'static str,
    why: &'static str,
    count: usize,
}

/// A kept solve.
struct KeptSolve {
    id: i64,
    name: String,
    reading: String,
    current: bool,
    /// What it was made from, where that is not what is in use.
    other: Option<String>,
    /// Whether its frames are those of the trim.
    usable: bool,
}

/// How what is placed came along from the camera before.
struct CarriedLine {
    text: String,
    frame: u32,
}

/// A job that is waiting, at work, or ended other than well.
struct JobLine {
    id: i64,
    kind: &'static str,
    word: &'static str,
    active: bool,
    retry: bool,
    done: u32,
    total: u32,
    percent: u32,
    message: String,
}

/// All stations of the route.
#[derive(Template)]
#[template(path = "route.html")]
struct Route {
    id: i64,
    revision: i64,
    /// The station that is open at first; the page keeps the one that somebody opened.
    open: &'static str,
    undo: Option<String>,
    redo: Option<String>,
    clip_name: String,
    clip_line: String,
    notes: Vec<String>,
    trim_first: u32,
    trim_last: u32,
    clip_last: u32,
    frames: u32,
    density: f64,
    spacing: f64,
    threshold: f64,
    direction: &'static str,
    picture: PictureSettings,
    plain_picture: bool,
    masks: Vec<MaskLine>,
    strays: Vec<StrayGroup>,
    trusted: usize,
    again: usize,
    drop_at: String,
    figures: Vec<(&'static str, String)>,
    focal_hint: Option<String>,
    focal_hint_px: String,
    centre: String,
    focal: String,
    motion: &'static str,
    lens: &'static str,
    readout: String,
    nodal: bool,
    track_reading: String,
    has_tracks: bool,
    deleted: usize,
    solve_reading: String,
    solved: bool,
    stale_solve: Option<&'static str>,
    tracks_fault: Option<String>,
    solve_fault: Option<String>,
    /// Why what is placed could not come along to the next solve.
    beforehand: Option<String>,
    /// Whether the solve is of the tracks in use, so that it can go on and tracks can be picked for the datum.
    own_solve: bool,
    carried: Option<CarriedLine>,
    reasons: Vec<ReasonLine>,
    focal_line: String,
    regions: Vec<Vec<String>>,
    solves: Vec<KeptSolve>,
    datum_reading: String,
    /// Reading of the floor that is suggested, where one stands out.
    suggested: Option<String>,
    has_floor: bool,
    scale_known: bool,
    inserts_reading: String,
    titles: Vec<TitleForm>,
    light: Light,
    fonts: Vec<&'static str>,
    jobs: Vec<JobLine>,
    video_ready: bool,
}

impl Route {
    fn job(&self, kind: &str) -> Option<&JobLine> {
        self.jobs.iter().find(|j| j.kind == kind)
    }
}

fn job_line(job: &JobRow) -> Option<JobLine> {
    let active = matches!(job.state, JobState::Waiting | JobState::Running);
    let retry = matches!(job.state, JobState::Failed | JobState::Interrupted | JobState::Stopped);
    (active || retry).then(|| JobLine {
        id: job.id.0,
        kind: job.kind.word(),
        word: job.state.word(),
        active,
        retry,
        done: job.done,
        total: job.total,
        percent: (100 * u64::from(job.done) / u64::from(job.total.max(1))) as u32,
        message: job.message.clone(),
    })
}

/// Fills the route from a shot.
fn fill(desk: &Desk, shot: &OpenShot) -> Result<Route, EngineError> {
    let document = shot.document();
    let jobs: Vec<JobRow> = desk.jobs.latest(shot.state.shot.id)?;
    // What cannot be read is told where it would stand; everything else can still be reached.
    let told = |e: EngineError| e.to_string();
    let (solution, solve_fault) = split(document.solving.solve.map(|_| desk.solution(shot)).transpose().map_err(told));
    let (tracks, tracks_fault) = split(desk.tracks(shot).map_err(told));
    let counts = tracks.as_ref().map(|t| t.counts()).unwrap_or_default();
    let suggested = match &solution {
        Some(_) => desk.suggested_floor(shot)?.map(|fit| fit.reading),
        None => None,
    };
    let track_reading = match &tracks {
        Some(set) => format!(
            "{} tracks · {} to {} a frame",
            set.tracks.len() - document.tracking.deleted.len().min(set.tracks.len()),
            counts.iter().min().unwrap_or(&0),
            counts.iter().max().unwrap_or(&0)
        ),
        None => "not tracked".to_owned(),
    };
    let datum = &document.datum;
    let datum_reading = match &datum.floor {
        Some(floor) => format!(
            "floor {:.2} px · {:.1} deg off level · {} points",
            floor.fit_px,
            floor.level_deg,
            floor.points.len()
        ),
        None if solution.as_ref().is_some_and(|s| s.motion == Motion::Nodal) => "directions only".to_owned(),
        None if document.solving.solve.is_some() => "no floor yet".to_owned(),
        None => "needs a camera".to_owned(),
    };
    let title_form = |insert: &Insert| {
        let InsertKind::Title(title) = &insert.content;
        TitleForm {
            id: insert.id.0,
            colour: format!("#{:02x}{:02x}{:02x}", title.colour[0], title.colour[1], title.colour[2]),
            standing: insert.placement.stance == Stance::Standing,
            title: title.clone(),
            insert: insert.clone(),
        }
    };
    let trim = document.trim;
    Ok(Route {
        id: shot.state.shot.id.0,
        revision: shot.state.head.id.0,
        open: match document {
            d if !d.placing.inserts.is_empty() => "inserts",
            d if d.solving.solve.is_some() => "datum",
            d if d.tracking.run.is_some() => "solve",
            _ => "track",
        },
        undo: shot.state.undo.clone(),
        redo: shot.state.redo.clone(),
        clip_name: shot.clip_row.name.clone(),
        clip_line: views::clip_line(shot),
        notes: shot.clip.notes.iter().map(fennik_media::Note::text).collect(),
        trim_first: trim.first,
        trim_last: trim.last,
        clip_last: shot.clip.frames.saturating_sub(1),
        frames: trim.count(),
        density: document.tracking.settings.density,
        spacing: document.tracking.settings.spacing_px,
        threshold: document.tracking.settings.threshold,
        direction: document.tracking.settings.direction.word(),
        plain_picture: document.tracking.settings.picture == PictureSettings::default(),
        picture: document.tracking.settings.picture,
        masks: document.masking.masks.masks.iter().map(mask_line).collect(),
        strays: solution.as_ref().map(|s| stray_groups(s)).unwrap_or_default(),
        trusted: document.tracking.trusted.len(),
        again: solution
            .as_ref()
            .map_or(0, |s| s.agreeing_again.iter().filter(|id| document.tracking.deleted.contains(id)).count()),
        drop_at: solution.as_ref().map(|s| format!("{:.2}", 2.5 * s.rms_px)).unwrap_or_default(),
        figures: solution.as_ref().map(|s| views::figures(s)).unwrap_or_default(),
        focal_hint: shot.clip.focal_35mm.map(|mm| format!("{mm:.0} mm on a sensor of 36 x 24 mm")),
        focal_hint_px: shot.clip.focal_hint_px().map(|f| format!("{f:.1} px")).unwrap_or_default(),
        centre: document.solving.settings.centre.to_string(),
        focal: match (&document.solving.settings.focal_said, document.solving.settings.focal_px) {
            (said, Some(_)) if !said.is_empty() => said.clone(),
            (_, Some(px)) => format!("{px:.1} px"),
            _ => String::new(),
        },
        motion: document.solving.settings.motion.word(),
        lens: document.solving.settings.lens.word(),
        readout: match document.solving.settings.readout {
            ReadoutChoice::Auto => String::new(),
            ReadoutChoice::None => "0".to_owned(),
            ReadoutChoice::Given(part) => part.to_string(),
        },
        nodal: solution.as_ref().is_some_and(|s| s.motion == Motion::Nodal),
        track_reading,
        has_tracks: tracks.is_some(),
        deleted: document.tracking.deleted.len(),
        solve_reading: solution.as_ref().map_or_else(|| "not solved".to_owned(), |s| views::solve_reading(s)),
        solved: solution.is_some(),
        stale_solve: stale(desk, shot),
        tracks_fault,
        solve_fault,
        beforehand: beforehand(desk, shot)?,
        own_solve: shot.solve_is_of_these_tracks(&desk.store).is_ok(),
        carried: document.solving.transfer.as_ref().map(carried_line),
        reasons: solution
            .iter()
            .flat_map(|s| &s.verdict.reasons)
            .map(|r| ReasonLine {
                grade: r.grade.word(),
                text: r.text.clone(),
                linked: r.frames.is_some() || !r.tracks.is_empty(),
            })
            .collect(),
        focal_line: solution.as_ref().map(|s| views::lens_reading(s)).unwrap_or_default(),
        regions: solution.as_ref().map(|s| views::region_readings(s)).unwrap_or_default(),
        solves: kept_solves(desk, shot)?,
        datum_reading,
        suggested: suggested
            .map(|r| format!("{:.2} px · {:.1} deg off level · {} points", r.fit_px, r.level_deg, r.points.len())),
        has_floor: datum.floor.is_some(),
        scale_known: datum.known_distance_m.is_some(),
        inserts_reading: views::inserts_reading(document.placing.inserts.len()),
        titles: document.placing.inserts.iter().map(title_form).collect(),
        light: document.light,
        fonts: fennik_render::fonts().iter().map(|f| f.name).collect(),
        video_ready: jobs.iter().any(|j| j.kind == JobKind::Deliver && j.state == JobState::Done),
        jobs: jobs.iter().filter_map(job_line).collect(),
    })
}

fn mask_line(mask: &Mask) -> MaskLine {
    let end = |f: Option<u32>| f.map(|f| f.to_string()).unwrap_or_default();
    MaskLine {
        id: mask.id,
        name: mask.name.clone(),
        mode: if mask.mode == MaskMode::KeepOut { "keep-out" } else { "keep-in" },
        inverted: mask.inverted,
        first: end(mask.span.map(|s| s.0)),
        last: end(mask.span.map(|s| s.1)),
        keys: mask.outline.keys.len(),
        smooth: mask.outline.smooth.contains(&true),
    }
}

/// What the solve does not use, by its reasons.
fn stray_groups(solution: &Solution) -> Vec<StrayGroup> {
    let count = |reason: OutlierReason| solution.outliers.iter().filter(|a| a.reason == reason).count();
    let group = |reason: OutlierReason| StrayGroup {
        word: reason.word(),
        name: reason.name(),
        why: reason.why(),
        count: count(reason),
    };
    OutlierReason::ALL.into_iter().map(group).filter(|g| g.count > 0).collect()
}

/// All solves of the shot, with what they were made from where that is not what is in use.
fn kept_solves(desk: &Desk, shot: &OpenShot) -> Result<Vec<KeptSolve>, EngineError> {
    let document = shot.document();
    let rows = desk.store.solves(shot.state.shot.id)?;
    let line = |(i, r): (usize, AnalysisRow)| {
        let elsewhere = r.trim.filter(|t| *t != document.trim);
        let other = match elsewhere {
            Some(t) => Some(format!("of frames {} to {} of the file", t.first, t.last)),
            None if r.source.is_some() && r.source != document.tracking.run => {
                Some("out of date: of other tracks".to_owned())
            }
            None => None,
        };
        KeptSolve {
            id: r.id.0,
            name: if r.name.is_empty() { format!("solve {}", i + 1) } else { r.name },
            reading: r.reading,
            current: document.solving.solve == Some(r.id),
            other,
            usable: elsewhere.is_none(),
        }
    };
    Ok(rows.into_iter().enumerate().map(line).collect())
}

fn carried_line(fit: &TransferFit) -> CarriedLine {
    let what = if fit.marks { "feet and floor corners" } else { "points of the scene" };
    CarriedLine {
        text: format!(
            "came along from the camera before: {what} moved {:.2} px RMS, {:.2} px at most (frame {})",
            fit.rms_px, fit.worst_px, fit.worst_frame
        ),
        frame: fit.worst_frame,
    }
}

/// What is placed can come along to a camera of the same kind that shares frames with the one that it was laid in;
/// where that is ruled out, it is said before anybody waits for a solve.
fn beforehand(desk: &Desk, shot: &OpenShot) -> Result<Option<String>, EngineError> {
    let document = shot.document();
    let Some(laid_in) = document.laid_in().filter(|_| document.has_laid()) else { return Ok(None) };
    let kept = "the next camera is kept beside the one in use, which stays";
    // A word beforehand is not worth the page where that camera cannot be found.
    let Ok(row) = desk.store.analysis(laid_in) else { return Ok(None) };
    let shared = row
        .trim
        .map(|t| t.last.min(document.trim.last).saturating_add(1).saturating_sub(t.first.max(document.trim.first)));
    if let Some(few) = shared.filter(|s| *s < 2) {
        return Ok(Some(format!(
            "What is placed was laid in a camera that shares {few} frames with this trim, so it cannot come along: \
                {kept}."
        )));
    }
    // Only the solve in use is looked at: reading another for every drawing would cost more than the word is worth.
    let Some(motion) =
        document.solving.solve.filter(|id| *id == laid_in).and_then(|_| desk.solution(shot).ok()).map(|s| s.motion)
    else {
        return Ok(None);
    };
    let turns = match document.solving.settings.motion {
        MotionChoice::Auto => return Ok(None),
        MotionChoice::Nodal => true,
        MotionChoice::Free | MotionChoice::Planar => false,
    };
    let other = turns != (motion == Motion::Nodal);
    Ok(other.then(|| format!("Between a camera that turns and one that travels nothing can be carried over: {kept}.")))
}

/// A result as what is there and what is wrong.
fn split<T>(result: Result<Option<T>, String>) -> (Option<T>, Option<String>) {
    match result {
        Ok(value) => (value, None),
        Err(text) => (None, Some(text)),
    }
}

/// Why the solve in use is not what it would be if it were made now.
fn stale(desk: &Desk, shot: &OpenShot) -> Option<&'static str> {
    let document = shot.document();
    let id = document.solving.solve?;
    if shot.solve_is_of_these_tracks(&desk.store).is_err() {
        return Some("This camera is of other tracks than those in use now. Solve afresh to bring it up to date.");
    }
    let settings = desk.store.analysis(id).ok().and_then(|a| serde_json::from_str(&a.settings).ok());
    let used_deleted =
        || desk.solution(shot).is_ok_and(|s| s.points.iter().any(|p| document.tracking.deleted.contains(&p.id)));
    // Solves of the first version kept only their settings; what they used tells the rest.
    let changed = settings.is_some_and(|s: SolveRecord| s != SolveRecord::of(document)) || used_deleted();
    changed.then_some("Tracks or settings changed since this solve. Solve again to bring it up to date.")
}

/// The route as it is now, for every handler that changed the shot.
pub fn route_html(desk: &Desk, id: ShotId) -> Result<web::Html, EngineError> {
    let shot = desk.open(id)?;
    drawn(&fill(desk, &shot)?)
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
async fn show_shot(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    block(move || {
        let shot = match desk.open(*id) {
            Err(EngineError::Store(why @ StoreError::Document { revision, .. })) => {
                return drawn(&Broken { id: id.0, revision, why: why.to_string() });
            }
            other => other?,
        };
        make_previews(&desk, &shot)?;
        let route = fill(&desk, &shot)?;
        drawn(&Workbench { id: route.id, name: shot.state.shot.name, route })
    })
    .await
}

fn drawn(page: &impl Template) -> Result<web::Html, EngineError> {
    page.render().map(web::Html::new).map_err(|e| EngineError::Message(format!("the page could not be drawn: {e}")))
}

/// Previews that were freed to make room are made again when somebody looks; what failed or was stopped waits for a
/// person.
fn make_previews(desk: &Desk, shot: &OpenShot) -> Result<(), EngineError> {
    let id = shot.state.shot.id;
    let ended_badly = |j: &JobRow| j.kind == JobKind::Decode && matches!(j.state, JobState::Failed | JobState::Stopped);
    if !shot.clip_row.proxies && !desk.jobs.latest(id)?.iter().any(ended_badly) {
        desk.jobs.queue(id, JobKind::Decode, "")?;
    }
    Ok(())
}

#[get("/shots/{id}/route")]
async fn show_route(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    block(move || route_html(&desk, *id)).await
}
