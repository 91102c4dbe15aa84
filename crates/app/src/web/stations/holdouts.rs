//! What stands in front of what is placed.

use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::holding::{self, Wish};
use crate::engine::kinds::{When, typed_anew};
use crate::engine::picture::{self, MatteView};
use crate::engine::stand::stand;
use crate::engine::{EngineError, ShotError, assets};
use crate::web::answer::Editor;
use crate::web::picture::jpeg;
use crate::web::{AppState, PageError, block};
use actix_web::{Responder, get, post, web};
use askama::Template;
use fennik_core::matte::{Mask, MaskMode};
use fennik_core::scene::{AssetName, Edit, Holdout, HoldoutBy, HoldoutEdit, InsertId, SurfaceId};
use fennik_core::solve::{Outlier, OutlierReason, Solution};
use fennik_core::track::{TrackId, clusters_of, keep_out_of};
use fennik_store::{JobKind, ShotId};
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(hold_out).service(change_holdout).service(draw_round).service(stand_mask).service(show_matte);
}

/// One in its line.
struct HoldoutLine {
    id: u32,
    name: String,
    reading: String,
    hidden: bool,
}

#[derive(Template)]
#[template(path = "stations/holdouts.html")]
struct Tools {
    id: i64,
    follow: Option<JobLine>,
    holdouts: Vec<HoldoutLine>,
    /// Masks of the analysis, surfaces, and pictures and clips, by their ids and names.
    masks: Vec<(u32, String)>,
    surfaces: Vec<(u32, String)>,
    files: Vec<(String, String)>,
    /// Tracks that move on their own.
    movers: usize,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let document = view.document();
    let line = |h: &Holdout| {
        let of = holding::of_names(document, h);
        let mut reading = vec![holding::told_by(document, h)];
        // A surface hides what lies behind it, whatever came before.
        if !matches!(h.by, HoldoutBy::Surface { .. }) {
            reading.push(h.combine.word().to_owned());
        }
        if !of.is_empty() {
            reading.push(format!("of {}", of.join(", ")));
        }
        if let Some((first, last)) = h.span {
            reading.push(format!("frames {first} to {last}"));
        }
        HoldoutLine { id: h.id.0, name: h.name.clone(), reading: reading.join(" · "), hidden: h.hidden }
    };
    let holdouts: Vec<_> = document.holding.holdouts.iter().map(line).collect();
    let used = |id: u32| document.holding.uses_mask(id);
    let masks = &document.masking.masks.masks;
    let pictures = |a: &assets::TakenAsset| a.kind == "picture" || a.kind == "clip";
    let movers = view.solution.as_ref().map_or(0, |s| movers(s).len());
    let reading = match holdouts.len() {
        0 => "nothing in front".to_owned(),
        1 => "1 in front".to_owned(),
        n => format!("{n} in front"),
    };
    let tools = Tools {
        id: view.id(),
        follow: view.job_or_words(JobKind::Follow),
        holdouts,
        masks: masks.iter().filter(|m| !used(m.id)).map(|m| (m.id, m.name.clone())).collect(),
        surfaces: document.surfacing.surfaces.iter().map(|s| (s.id.0, s.name.clone())).collect(),
        files: view.files_that(pictures)?,
        movers,
    };
    Station::new("holdouts", "Holdouts", reading, &tools)
}

/// Tracks that a solve found to move on their own.
fn movers(solution: &Solution) -> Vec<TrackId> {
    let moves = |o: &&Outlier| o.reason == OutlierReason::IndependentMotion;
    solution.outliers.iter().filter(moves).map(|o| o.id).collect()
}

/// What a holdout is to be told by.
#[derive(Deserialize)]
struct HoldRequest {
    revision: i64,
    frame: u32,
    #[serde(default)]
    mask: Option<u32>,
    #[serde(default)]
    surface: Option<SurfaceId>,
    #[serde(default)]
    key: Option<String>,
    #[serde(default)]
    asset: Option<AssetName>,
}

#[post("/shots/{id}/hold-out")]
async fn hold_out(editor: Editor, body: web::Json<HoldRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let taken = body.asset.as_ref().map(|name| assets::find(&app.store, name)).transpose()?;
            let wish = match (body.mask, body.surface, &body.key, &taken) {
                (Some(mask), ..) => Wish::Mask(mask),
                (_, Some(surface), ..) => Wish::Surface(surface),
                (_, _, Some(key), _) => Wish::Key(key),
                (_, _, _, Some(taken)) => Wish::Matte(taken),
                _ => return Err(ShotError::NothingSelected.into()),
            };
            let holdout = holding::first_of(shot.document(), &wish, body.frame)?;
            Ok(Edit::Holding(HoldoutEdit::AddHoldout { holdout }))
        })
        .await
}

/// What was typed in the form of a holdout.
#[derive(Deserialize)]
struct HoldoutForm {
    revision: i64,
    holdout: u32,
    frame: f64,
    #[serde(flatten)]
    typed: BTreeMap<String, String>,
}

/// A frame, or none where nothing was typed.
fn frame_of(typed: &BTreeMap<String, String>, name: &str) -> Option<u32> {
    typed.get(name)?.trim().parse().ok()
}

#[post("/shots/{id}/holdout")]
async fn change_holdout(editor: Editor, form: web::Form<HoldoutForm>) -> Result<impl Responder, PageError> {
    let HoldoutForm { revision, holdout, frame, typed } = form.into_inner();
    editor
        .apply(revision, move |_, shot| {
            let document = shot.document();
            let mut holdout = holding::by_id(document, holdout)?.clone();
            let now = holding::values(&holdout, frame);
            let name = typed.get("name").map(|n| ("name", n.as_str()));
            let fields = holding::fields(&holdout);
            for (name, typed) in typed_anew(fields.into_iter(), &now, &typed).into_iter().chain(name) {
                let value = Value::from(typed);
                holding::set(&mut holdout, When::At(frame), name, &value).map_err(|why| why.of(name))?;
            }
            let last = document.trim.count() - 1;
            holdout.span = match (frame_of(&typed, "from-frame"), frame_of(&typed, "to-frame")) {
                (None, None) => None,
                (first, end) => Some((first.unwrap_or(0), end.unwrap_or(last))),
            };
            if typed.contains_key("of-some") {
                let named = |name: &String| name.strip_prefix("of-")?.parse().ok().map(InsertId);
                holdout.of = typed.keys().filter_map(named).collect();
            }
            Ok(Edit::Holding(HoldoutEdit::ChangeHoldout { holdout }))
        })
        .await
}

#[derive(Deserialize)]
struct DrawRequest {
    revision: i64,
    /// Those that move on their own where none are named.
    #[serde(default)]
    tracks: Vec<TrackId>,
}

/// Outlines round tracks, one for each cluster of them that stays together, that move with them.
#[post("/shots/{id}/holdouts/round-tracks")]
async fn draw_round(editor: Editor, body: web::Json<DrawRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let set = app.tracks(shot)?.ok_or(ShotError::NothingSelected)?;
            let wanted = if body.tracks.is_empty() { movers(&*app.solution(shot)?) } else { body.tracks };
            let chosen: Vec<_> = set.tracks.iter().filter(|t| wanted.contains(&t.id)).collect();
            let margin_px = f64::from(shot.document().tracking.settings.window_half_px);
            let clusters = clusters_of(&chosen, set.width);
            let drawn = clusters.iter().filter_map(|g| keep_out_of(g, margin_px));
            let masks: Vec<_> = drawn.map(|mask| Mask { mode: MaskMode::Shape, feather_px: 4.0, ..mask }).collect();
            if masks.is_empty() {
                return Err(ShotError::NothingSelected.into());
            }
            Ok(Edit::Holding(HoldoutEdit::DrawHoldouts { masks }))
        })
        .await
}

#[derive(Deserialize)]
struct StandRequest {
    revision: i64,
    mask: u32,
    frame: u32,
}

/// Has a mask go with the camera, as what stands still at its foot.
#[post("/shots/{id}/stand-mask")]
async fn stand_mask(editor: Editor, body: web::Json<StandRequest>) -> Result<impl Responder, PageError> {
    let StandRequest { revision, mask, frame } = body.into_inner();
    editor.apply(revision, move |app, shot| stand(shot, &*app.solution(shot)?, mask, frame)).await
}

#[derive(Deserialize)]
struct MatteQuery {
    view: MatteView,
}

/// What stands in front on a frame of the trimmed clip, over the plate, alone, or cut out of it.
#[get("/shots/{id}/matte/{frame}")]
async fn show_matte(
    app: web::Data<AppState>,
    path: web::Path<(ShotId, u32)>,
    query: web::Query<MatteQuery>,
) -> Result<impl Responder, PageError> {
    let (id, frame) = path.into_inner();
    let bytes = block(move || {
        let shot = app.open(id)?;
        let composer = app.composer(&shot, &picture::key(&shot))?;
        picture::matte(&shot, frame, &composer, query.view, &app.plates)
    })
    .await?;
    Ok(jpeg(bytes, false))
}
