//! Everything that changes a shot.

use super::focal::focal_px;
use super::{Desk, PageError, block, kept_solve, workbench};
use crate::engine::{EngineError, analyse};
use actix_web::{HttpResponse, Responder, post, web};
use fennik_core::image::{Channel, PictureSettings};
use fennik_core::scene::{
    AnalysisId, Datum, Edit, FrameRange, Insert, InsertId, InsertKind, Light, Placement, Stance, Surface, SurfaceKind, Title, fit_floor,
    suggest_floor, surface_at,
};
use fennik_core::solve::{LensChoice, MotionChoice, Solution, SolveSettings};
use fennik_core::track::{TrackDirection, TrackId, TrackSettings};
use fennik_store::{JobId, JobKind, RevisionId, ShotId, ShotState};
use nalgebra::{Vector2, Vector3};
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
        .service(place)
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
    change: impl FnOnce(&Desk) -> Result<ShotState, EngineError> + Send + 'static,
) -> Result<web::Html, PageError> {
    block(move || {
        let state = change(&desk)?;
        workbench::route_html(&desk, state.shot.id)
    })
    .await
}

pub async fn apply(
    desk: web::Data<Desk>,
    id: ShotId,
    revision: i64,
    make: impl FnOnce(&Desk) -> Result<Edit, EngineError> + Send + 'static,
) -> Result<web::Html, PageError> {
    changed(desk, move |desk| Ok(desk.store.edit(id, Some(RevisionId(revision)), &make(desk)?)?)).await
}

#[derive(Deserialize)]
struct EditRequest {
    revision: i64,
    edit: Edit,
}

#[post("/shots/{id}/edit")]
async fn any_edit(desk: web::Data<Desk>, id: web::Path<ShotId>, body: web::Json<EditRequest>) -> Result<impl Responder, PageError> {
    let EditRequest { revision, edit } = body.into_inner();
    apply(desk, *id, revision, move |_| Ok(edit)).await
}

#[derive(Deserialize)]
struct StepForm {
    revision: i64,
}

#[post("/shots/{id}/undo")]
async fn undo(desk: web::Data<Desk>, id: web::Path<ShotId>, form: web::Form<StepForm>) -> Result<impl Responder, PageError> {
    changed(desk, move |desk| Ok(desk.store.undo(*id, RevisionId(form.revision))?)).await
}

#[post("/shots/{id}/redo")]
async fn redo(desk: web::Data<Desk>, id: web::Path<ShotId>, form: web::Form<StepForm>) -> Result<impl Responder, PageError> {
    changed(desk, move |desk| Ok(desk.store.redo(*id, RevisionId(form.revision))?)).await
}

#[derive(Deserialize)]
struct TrimForm {
    revision: i64,
    first: u32,
    last: u32,
}

#[post("/shots/{id}/trim")]
async fn change_trim(desk: web::Data<Desk>, id: web::Path<ShotId>, form: web::Form<TrimForm>) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    apply(desk, id, form.revision, move |desk| {
        let most = desk.open(id)?.clip.frames.saturating_sub(1);
        if form.last > most {
            return Err(EngineError::Message(format!("the clip ends at frame {most}; type a last frame up to that")));
        }
        Ok(Edit::Trim { range: FrameRange { first: form.first, last: form.last } })
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
        let picture =
            PictureSettings { channel: self.channel, denoise_px: self.denoise, local_contrast: self.contrast, sharpen: self.sharpen };
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
    apply(desk, id, form.revision, move |desk| Ok(Edit::TrackSettings { settings: form.over(&desk.open(id)?.document().track_settings) }))
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
        Ok(Edit::SolveSettings { settings })
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
            let fit = suggest_floor(solution)
                .ok_or_else(|| words("no floor stands out; select points on the ground and lay it yourself".to_owned()))?;
            datum.with_floor(solution, &fit, None)
        }
        DatumAction::Floor { points } => datum.with_floor(solution, &fit_floor(solution, points).map_err(words)?, None),
        DatumAction::Origin { point } => datum.with_origin(position(solution, *point)?),
        DatumAction::Scale { points, distance_m } => match points.as_slice() {
            [a, b] => datum.with_distance(position(solution, *a)?, position(solution, *b)?, *distance_m).map_err(words)?,
            other => return Err(words(format!("the scale needs exactly 2 points; {} are selected", other.len()))),
        },
        DatumAction::Nudge { turn_deg, shift_m } => datum.nudged(*turn_deg, *shift_m),
        DatumAction::Flip => datum.flipped(),
        DatumAction::Reset => Datum::default(),
    })
}

#[post("/shots/{id}/datum")]
async fn change_datum(desk: web::Data<Desk>, id: web::Path<ShotId>, body: web::Json<DatumRequest>) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    apply(desk, id, body.revision, move |desk| {
        let shot = desk.open(id)?;
        let datum = new_datum(&shot.document().datum, desk.solution(&shot)?.as_ref(), &body.action)?;
        Ok(Edit::Datum { datum })
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

/// A first title at a surface: a readable size for its distance, turned towards the camera.
fn fresh_title(surface: &Surface, stance: Stance, eye: Vector3<f64>, aim: Vector3<f64>) -> Insert {
    let distance = (surface.point - eye).norm();
    let height_m = (0.07 * distance * 10.0).round().max(1.0) / 10.0;
    let mut placement = Placement {
        foot: surface.point.into(),
        normal: surface.normal.into(),
        turn_deg: 0.0,
        lean_deg: 0.0,
        lift_m: 0.0,
        scale: 1.0,
        stance,
    };
    if surface.kind == SurfaceKind::Far {
        // Far off there is nothing to stand on; it faces the camera.
        placement.stance = Stance::Lying;
    }
    if surface.kind == SurfaceKind::Floor {
        let toward = -aim;
        placement.turn_deg = toward.x.atan2(toward.z).to_degrees();
    }
    let title = Title {
        text: "VARRICK".to_owned(),
        font: fennik_render::fonts()[0].name.to_owned(),
        height_m,
        depth_m: 0.25 * height_m,
        bevel_m: 0.02 * height_m,
        colour: [236, 228, 210],
    };
    Insert { id: InsertId(0), content: InsertKind::Title(title), placement, hidden: false }
}

#[post("/shots/{id}/place")]
async fn place(desk: web::Data<Desk>, id: web::Path<ShotId>, body: web::Json<PlaceRequest>) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    apply(desk, id, body.revision, move |desk| {
        let shot = desk.open(id)?;
        let solution = desk.solution(&shot)?;
        let datum = &shot.document().datum;
        let surface = surface_at(&solution, datum, body.frame, Vector2::new(body.x, body.y)).map_err(EngineError::Message)?;
        let pose = solution
            .at(body.frame)
            .map(|f| datum.world_from_solve.pose(&f.pose))
            .ok_or_else(|| EngineError::Message("this frame has no camera".to_owned()))?;
        let aim = pose.rotation.inverse() * Vector3::z();
        Ok(Edit::AddInsert { insert: fresh_title(&surface, body.stance, pose.centre(), aim) })
    })
    .await
}

#[derive(Deserialize)]
struct TitleFields {
    revision: i64,
    insert: u32,
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

fn colour(text: &str) -> Option<[u8; 3]> {
    let value = u32::from_str_radix(text.strip_prefix('#')?, 16).ok().filter(|_| text.len() == 7)?;
    let [_, r, g, b] = value.to_be_bytes();
    Some([r, g, b])
}

#[post("/shots/{id}/title")]
async fn change_title(desk: web::Data<Desk>, id: web::Path<ShotId>, form: web::Form<TitleFields>) -> Result<impl Responder, PageError> {
    let (id, f) = (*id, form.into_inner());
    apply(desk, id, f.revision, move |desk| {
        let shot = desk.open(id)?;
        let old = shot
            .document()
            .insert(InsertId(f.insert))
            .ok_or_else(|| EngineError::Message("this insert is gone; reload the page".to_owned()))?;
        let colour = colour(&f.colour).ok_or_else(|| EngineError::Message(format!("{:?} is no colour; write it as #rrggbb", f.colour)))?;
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
        let insert = Insert { content: InsertKind::Title(title), placement, ..old.clone() };
        // Letters that the font lacks are told now, not at the next picture.
        fennik_render::Stage::mesh(&insert)?;
        Ok(Edit::ChangeInsert { insert })
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
async fn change_light(desk: web::Data<Desk>, id: web::Path<ShotId>, form: web::Form<LightForm>) -> Result<impl Responder, PageError> {
    let f = form.into_inner();
    let light = Light { bearing_deg: f.bearing_deg, height_deg: f.height_deg, sun: f.sun, ambient: f.ambient };
    apply(desk, *id, f.revision, move |_| Ok(Edit::Light { light })).await
}

#[derive(Deserialize)]
struct UseSolveForm {
    revision: i64,
    analysis: AnalysisId,
}

/// Puts a kept solve to use; the datum and what is placed follow it.
#[post("/shots/{id}/use-solve")]
async fn use_solve(desk: web::Data<Desk>, id: web::Path<ShotId>, form: web::Form<UseSolveForm>) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    apply(desk, id, form.revision, move |desk| {
        let shot = desk.open(id)?;
        let new = kept_solve(desk, &shot, form.analysis)?;
        let from_old = shot.solution(&desk.store).ok().and_then(|old| analyse::between_solves(&old, &new));
        Ok(Edit::UseSolve { analysis: form.analysis, from_old })
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
        let shot = desk.open(id)?;
        kept_solve(&desk, &shot, analysis)?;
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
