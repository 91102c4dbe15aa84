//! Everything that changes a shot.

use super::{Desk, PageError, block, workbench};
use crate::engine::adopt::{kept_solve, use_kept};
use crate::engine::focal::focal_px;
use crate::engine::{EngineError, place};
use actix_web::{HttpResponse, Responder, post, web};
use fennik_core::image::{Channel, PictureSettings};
use fennik_core::scene::{
    AnalysisId, Datum, DatumEdit, Edit, FootageEdit, FrameRange, Insert, InsertId, InsertKind, Light, LightEdit,
    Placement, PlacingEdit, SolvingEdit, Stance, Title, TrackingEdit, fit_floor, suggest_floor,
};
use fennik_core::solve::{LensChoice, MotionChoice, Solution, SolveSettings};
use fennik_core::track::{TrackDirection, TrackId, TrackSettings};
use fennik_store::{JobId, JobKind, RevisionId, ShotId};
use nalgebra::Vector3;
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(any_edit)
        .service(undo)
        .service(redo)
        .service(change_trim)
        .service(change_track_settings)
        .service(change_solve_settings)
        .service(change_datum)
        .service(place_title)
        .service(change_title)
        .service(change_light)
        .service(use_solve)
        .service(name_solve)
        .service(start_job)
        .service(stop_job);
}

/// The route, drawn anew after a change.
async fn changed(
    desk: web::Data<Desk>,
    id: ShotId,
    change: impl FnOnce(&Desk) -> Result<(), EngineError> + Send + 'static,
) -> Result<web::Html, PageError> {
    block(move || {
        change(&desk)?;
        workbench::route_html(&desk, id)
    })
    .await
}

pub async fn apply(
    desk: web::Data<Desk>,
    id: ShotId,
    revision: i64,
    make: impl FnOnce(&Desk) -> Result<Edit, EngineError> + Send + 'static,
) -> Result<web::Html, PageError> {
    changed(desk, id, move |desk| Ok(desk.store.edit(id, Some(RevisionId(revision)), &make(desk)?).map(|_| ())?)).await
}

#[derive(Deserialize)]
struct EditRequest {
    revision: i64,
    edit: Edit,
}

#[post("/shots/{id}/edit")]
async fn any_edit(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    body: web::Json<EditRequest>,
) -> Result<impl Responder, PageError> {
    let EditRequest { revision, edit } = body.into_inner();
    // Analyses are put to use by those who made them, or by a button that says what comes along.
    if matches!(edit, Edit::Tracking(TrackingEdit::UseTracks { .. }) | Edit::Solving(SolvingEdit::UseSolve { .. })) {
        return Err(PageError::refused("Tracks and cameras are put to use by their own buttons."));
    }
    apply(desk, *id, revision, move |_| Ok(edit)).await
}

#[derive(Deserialize)]
struct StepForm {
    revision: i64,
}

#[post("/shots/{id}/undo")]
async fn undo(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<StepForm>,
) -> Result<impl Responder, PageError> {
    let id = *id;
    changed(desk, id, move |desk| Ok(desk.store.undo(id, RevisionId(form.revision))?)).await
}

#[post("/shots/{id}/redo")]
async fn redo(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<StepForm>,
) -> Result<impl Responder, PageError> {
    let id = *id;
    changed(desk, id, move |desk| Ok(desk.store.redo(id, RevisionId(form.revision))?)).await
}

#[derive(Deserialize)]
struct TrimForm {
    revision: i64,
    first: u32,
    last: u32,
}

#[post("/shots/{id}/trim")]
async fn change_trim(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<TrimForm>,
) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    apply(desk, id, form.revision, move |_| {
        Ok(Edit::Footage(FootageEdit::Trim { range: FrameRange { first: form.first, last: form.last } }))
    })
    .await
}

/// What the tracker is set to, as the form and looking first hand it over.
#[derive(Debug, Deserialize)]
pub struct TrackForm {
    /// The revision that is changed; looking first changes none.
    #[serde(default)]
    revision: i64,
    /// The frame that is looked at.
    #[serde(default)]
    pub frame: u32,
    density: f64,
    spacing: f64,
    threshold: f64,
    #[serde(default)]
    direction: TrackDirection,
    #[serde(default)]
    channel: Channel,
    #[serde(default)]
    denoise: f64,
    #[serde(default)]
    contrast: f64,
    #[serde(default)]
    sharpen: f64,
}

impl TrackForm {
    /// The settings with these values.
    pub fn over(&self, settings: &TrackSettings) -> TrackSettings {
        let picture = PictureSettings {
            channel: self.channel,
            denoise_px: self.denoise,
            local_contrast: self.contrast,
            sharpen: self.sharpen,
        };
        let Self { density, spacing: spacing_px, threshold, direction, .. } = *self;
        TrackSettings { density, spacing_px, threshold, direction, picture, ..settings.clone() }
    }
}

#[post("/shots/{id}/track-settings")]
async fn change_track_settings(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<TrackForm>,
) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    apply(desk, id, form.revision, move |desk| {
        Ok(Edit::Tracking(TrackingEdit::TrackSettings {
            settings: form.over(&desk.open(id)?.document().tracking.settings),
        }))
    })
    .await
}

#[derive(Deserialize)]
struct SolveForm {
    revision: i64,
    focal: String,
    motion: MotionChoice,
    lens: LensChoice,
    readout: String,
    #[serde(default)]
    centre: String,
}

#[post("/shots/{id}/solve-settings")]
async fn change_solve_settings(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<SolveForm>,
) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    apply(desk, id, form.revision, move |desk| {
        let shot = desk.open(id)?;
        let focal_px = focal_px(&form.focal, shot.clip.width).map_err(EngineError::Message)?;
        let readout = form.readout.parse().map_err(EngineError::Message)?;
        let centre = form.centre.parse().map_err(EngineError::Message)?;
        let settings = SolveSettings {
            focal_px,
            focal_said: form.focal.trim().to_owned(),
            focal_hint_px: shot.clip.focal_hint_px(),
            motion: form.motion,
            lens: form.lens,
            readout,
            centre,
        };
        Ok(Edit::Solving(SolvingEdit::SolveSettings { settings }))
    })
    .await
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

fn position(solution: &Solution, id: TrackId) -> Result<Vector3<f64>, EngineError> {
    let found = solution.points.binary_search_by_key(&id, |p| p.id);
    found
        .map(|i| solution.points[i].position)
        .map_err(|_| EngineError::Message("that track has no solved point; choose one that the camera uses".to_owned()))
}

fn new_datum(datum: &Datum, solution: &Solution, action: &DatumAction) -> Result<Datum, EngineError> {
    let words = EngineError::Message;
    Ok(match action {
        DatumAction::SuggestFloor => {
            let fit = suggest_floor(solution).ok_or_else(|| {
                words("no floor stands out; select points on the ground and lay it yourself".to_owned())
            })?;
            datum.with_floor(solution, &fit, None)
        }
        DatumAction::Floor { points } => datum.with_floor(solution, &fit_floor(solution, points).map_err(words)?, None),
        DatumAction::Origin { point } => datum.with_origin(position(solution, *point)?),
        DatumAction::Scale { points, distance_m } => match points.as_slice() {
            [a, b] => {
                datum.with_distance(position(solution, *a)?, position(solution, *b)?, *distance_m).map_err(words)?
            }
            other => return Err(words(format!("the scale needs exactly 2 points; {} are selected", other.len()))),
        },
        DatumAction::Nudge { turn_deg, shift_m } => datum.nudged(*turn_deg, *shift_m),
        DatumAction::Flip => datum.flipped(),
        DatumAction::Reset => Datum::default(),
    })
}

#[post("/shots/{id}/datum")]
async fn change_datum(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    body: web::Json<DatumRequest>,
) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    apply(desk, id, body.revision, move |desk| {
        let shot = desk.open(id)?;
        if matches!(body.action, DatumAction::Floor { .. } | DatumAction::Origin { .. } | DatumAction::Scale { .. }) {
            shot.solve_is_of_these_tracks(&desk.store)?;
        }
        let datum = new_datum(&shot.document().datum, desk.solution(&shot)?.as_ref(), &body.action)?;
        Ok(Edit::Datum(DatumEdit::Datum { datum }))
    })
    .await
}

#[derive(Deserialize)]
struct PlaceRequest {
    revision: i64,
    frame: u32,
    x: f64,
    y: f64,
    stance: Stance,
}

#[post("/shots/{id}/place")]
async fn place_title(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    body: web::Json<PlaceRequest>,
) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    apply(desk, id, body.revision, move |desk| {
        let shot = desk.open(id)?;
        let solution = desk.solution(&shot)?;
        let at = place::Pixel { frame: body.frame, at: [body.x, body.y] };
        Ok(Edit::Placing(PlacingEdit::AddInsert {
            insert: place::insert_at("title", &solution, &shot.document().datum, at, body.stance)?,
        }))
    })
    .await
}

#[derive(Deserialize)]
struct TitleFields {
    revision: i64,
    insert: u32,
    #[serde(default)]
    name: Option<String>,
    text: String,
    font: String,
    height_m: f64,
    depth_m: f64,
    bevel_m: f64,
    colour: String,
    stance: Stance,
    x: f64,
    y: f64,
    z: f64,
    turn_deg: f64,
    lean_deg: f64,
    lift_m: f64,
    scale: f64,
}

#[post("/shots/{id}/title")]
async fn change_title(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<TitleFields>,
) -> Result<impl Responder, PageError> {
    let (id, f) = (*id, form.into_inner());
    apply(desk, id, f.revision, move |desk| {
        let shot = desk.open(id)?;
        let old = shot
            .document()
            .insert(InsertId(f.insert))
            .ok_or_else(|| EngineError::Message("this insert is gone; reload the page".to_owned()))?;
        let colour = place::colour(&f.colour)?;
        let title = Title {
            text: f.text.replace("\r\n", "\n"),
            font: f.font,
            height_m: f.height_m,
            depth_m: f.depth_m,
            bevel_m: f.bevel_m,
            colour,
        };
        let placement = Placement {
            foot: [f.x, f.y, f.z],
            normal: old.placement.normal,
            turn_deg: f.turn_deg,
            lean_deg: f.lean_deg,
            lift_m: f.lift_m,
            scale: f.scale,
            stance: f.stance,
        };
        let name = f.name.map_or_else(|| old.name.clone(), |n| n.trim().to_owned());
        let insert = Insert { name, content: InsertKind::Title(title), placement, ..old.clone() };
        // Letters that the font lacks are told now, not at the next picture.
        fennik_render::RenderScene::mesh(&insert)?;
        Ok(Edit::Placing(PlacingEdit::ChangeInsert { insert }))
    })
    .await
}

#[derive(Deserialize)]
struct LightForm {
    revision: i64,
    bearing_deg: f64,
    height_deg: f64,
    sun: f64,
    ambient: f64,
}

#[post("/shots/{id}/light")]
async fn change_light(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<LightForm>,
) -> Result<impl Responder, PageError> {
    let f = form.into_inner();
    let light = Light { bearing_deg: f.bearing_deg, height_deg: f.height_deg, sun: f.sun, ambient: f.ambient };
    apply(desk, *id, f.revision, move |_| Ok(Edit::Light(LightEdit::Light { light }))).await
}

#[derive(Deserialize)]
struct UseSolveForm {
    revision: i64,
    analysis: AnalysisId,
    /// Even where what is placed cannot come along.
    #[serde(default)]
    anyway: bool,
}

/// Puts a kept solve to use; the datum and what is placed follow it.
#[post("/shots/{id}/use-solve")]
async fn use_solve(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Form<UseSolveForm>,
) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    changed(desk, id, move |desk| {
        use_kept(&desk.store, id, RevisionId(form.revision), form.analysis, form.anyway).map(|_| ())
    })
    .await
}

#[derive(Deserialize)]
struct NameForm {
    name: String,
}

#[post("/shots/{id}/solves/{analysis}/name")]
async fn name_solve(
    desk: web::Data<Desk>,
    path: web::Path<(ShotId, AnalysisId)>,
    form: web::Form<NameForm>,
) -> Result<impl Responder, PageError> {
    let (id, analysis) = path.into_inner();
    block(move || {
        kept_solve(&desk.store, id, &desk.store.analysis(analysis)?)?;
        desk.store.name_analysis(analysis, &form.name)?;
        workbench::route_html(&desk, id)
    })
    .await
}

#[post("/shots/{id}/jobs/{kind}")]
async fn start_job(desk: web::Data<Desk>, path: web::Path<(ShotId, JobKind)>) -> Result<impl Responder, PageError> {
    let (id, kind) = path.into_inner();
    block(move || {
        desk.jobs.queue(id, kind, "")?;
        workbench::route_html(&desk, id)
    })
    .await
}

#[post("/jobs/{id}/stop")]
async fn stop_job(desk: web::Data<Desk>, id: web::Path<JobId>) -> impl Responder {
    desk.jobs.stop(*id);
    HttpResponse::NoContent().finish()
}
