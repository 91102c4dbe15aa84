//! What is placed.

use super::view::{ShotView, Station};
use crate::engine::place::{self, Put};
use crate::engine::{EngineError, OpenShot, assets, kinds};
use crate::web::answer::Editor;
use crate::web::{AppState, PageError, views};
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{AssetName, Edit, Insert, PlacingEdit, Stance};
use fennik_core::solve::Motion;
use fennik_demo::library::{self, Item, Kind};
use serde::Deserialize;
use std::collections::BTreeMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(place_insert).service(change_insert).service(swap_file).service(change_shutter);
}

/// One insert in its line.
struct InsertLine {
    id: u32,
    name: String,
    label: String,
    kind: &'static str,
    /// What is wrong with it.
    wrong: Option<String>,
    hidden: bool,
    locked: bool,
    solo: bool,
    /// How far it hangs below others.
    deep: usize,
    copies: usize,
}

/// One file that could be placed.
struct FileTile {
    name: String,
    file: String,
    reading: String,
    /// `picture`, `clip`, `model` or `font`.
    kind: String,
}

impl FileTile {
    fn of(taken: &assets::TakenAsset) -> Self {
        Self {
            name: taken.asset.name.to_string(),
            file: taken.asset.file.clone(),
            reading: taken.info.reading(),
            kind: taken.kind.clone(),
        }
    }
}

#[derive(Template)]
#[template(path = "stations/inserts.html")]
struct Tools {
    shot: i64,
    solved: bool,
    /// Whether things would stand crooked: the camera travels, and no floor is laid.
    floorless: bool,
    /// As the angle of a turning one, degrees.
    shutter_deg: f64,
    files: Vec<FileTile>,
    inserts: Vec<InsertLine>,
    /// By their kinds.
    library: Vec<(&'static str, Vec<&'static Item>)>,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let inserts = &view.document().placing.inserts;
    let line = |i: &Insert| InsertLine {
        id: i.id.0,
        name: i.shown_name(),
        label: i.content.label(),
        kind: i.content.word(),
        wrong: wrong_with(view.app, i),
        hidden: i.hidden,
        locked: i.locked,
        solo: i.solo,
        deep: std::iter::successors(i.parent, |p| inserts.iter().find(|i| i.id == *p)?.parent).take(4).count(),
        copies: i.copies.as_ref().map_or(0, |c| c.all().len()),
    };
    let tools = Tools {
        shot: view.id(),
        shutter_deg: 360.0 * view.document().placing.shutter,
        solved: view.solution.is_some(),
        floorless: view.document().datum.floor.is_none()
            && view.solution.as_ref().is_some_and(|s| s.motion != Motion::Nodal),
        files: view.files()?.iter().map(FileTile::of).collect(),
        inserts: inserts.iter().map(line).collect(),
        library: Kind::ALL.map(|k| (k.word(), library::items().iter().filter(|i| i.kind == k).collect())).into(),
    };
    Station::new("inserts", "Inserts", views::inserts_reading(inserts.len()), &tools)
}

/// A file that is not there any more.
fn wrong_with(app: &AppState, insert: &Insert) -> Option<String> {
    let missing = insert.content.assets().into_iter().find(|a| !matches!(app.store.asset(&a.name), Ok(Some(_))))?;
    Some(format!("“{}” is not there", missing.file))
}

fn title() -> String {
    "title".to_owned()
}

#[derive(Deserialize)]
struct PlaceRequest {
    revision: i64,
    /// The word of what is placed.
    #[serde(default = "title")]
    kind: String,
    /// The file that it shows.
    #[serde(default)]
    asset: Option<AssetName>,
    frame: u32,
    x: f64,
    y: f64,
    /// Nothing: as the surface calls for.
    #[serde(default)]
    stance: Option<Stance>,
    #[serde(default)]
    put: Put,
}

#[post("/shots/{id}/place")]
async fn place_insert(editor: Editor, body: web::Json<PlaceRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let solution = app.solution(shot)?;
            let at = place::Pixel { frame: body.frame, at: [body.x, body.y] };
            let shows = body.asset.map(|name| assets::find(&app.store, &name)).transpose()?;
            let document = shot.document();
            let spot = place::spot_put(&body.kind, &body.put, &solution, document, at)?;
            let kind = (body.kind.as_str(), shows.as_ref());
            let insert = place::insert_on(kind, &solution, document, body.frame, &spot, body.stance)?;
            Ok(Edit::Placing(PlacingEdit::AddInsert { insert }))
        })
        .await
}

/// What was typed in the form of an insert.
#[derive(Deserialize)]
#[serde(try_from = "BTreeMap<String, String>")]
struct InsertForm {
    revision: i64,
    insert: u32,
    /// Where the playhead stands: what changes over time is set there.
    frame: f64,
    /// By the names of its values.
    typed: BTreeMap<String, String>,
}

/// What a form of an insert lacks.
#[derive(Debug, thiserror::Error)]
enum FormError {
    #[error("{0} is missing")]
    Missing(&'static str),
    #[error("{0} is no number")]
    NoNumber(&'static str),
}

impl TryFrom<BTreeMap<String, String>> for InsertForm {
    type Error = FormError;

    fn try_from(mut typed: BTreeMap<String, String>) -> Result<Self, FormError> {
        let mut take = |name| typed.remove(name).ok_or(FormError::Missing(name));
        let revision = take("revision")?.parse().map_err(|_| FormError::NoNumber("revision"))?;
        let insert = take("insert")?.parse().map_err(|_| FormError::NoNumber("insert"))?;
        let frame: f64 =
            take("frame").unwrap_or_else(|_| "0".to_owned()).parse().map_err(|_| FormError::NoNumber("frame"))?;
        if !frame.is_finite() {
            return Err(FormError::NoNumber("frame"));
        }
        Ok(Self { revision, insert, frame, typed })
    }
}

/// The edit that changes an insert of a shot.
pub(super) fn changed(
    shot: &OpenShot,
    id: u32,
    change: impl FnOnce(&mut Insert) -> Result<(), EngineError>,
) -> Result<Edit, EngineError> {
    let mut insert = shot.insert(id)?.clone();
    change(&mut insert)?;
    Ok(Edit::Placing(PlacingEdit::ChangeInsert { insert }))
}

#[post("/shots/{id}/insert")]
async fn change_insert(editor: Editor, form: web::Form<InsertForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |app, shot| {
            changed(shot, form.insert, |insert| {
                kinds::set_typed(insert, form.frame, &form.typed)?;
                // Letters that the font lacks are told now, not at the next picture.
                let shows = app.assets(shot, std::slice::from_ref(insert))?;
                fennik_render::RenderScene::mesh(insert, &[], form.frame, shows.as_ref())?;
                Ok(())
            })
        })
        .await
}

#[derive(Deserialize)]
struct SwapRequest {
    revision: i64,
    insert: u32,
    asset: AssetName,
}

/// Shows another file and keeps everything else.
#[post("/shots/{id}/swap")]
async fn swap_file(editor: Editor, body: web::Json<SwapRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let file = assets::find(&app.store, &body.asset)?;
            changed(shot, body.insert, |insert| Ok(kinds::swap(&mut insert.content, &file)?))
        })
        .await
}

#[derive(Deserialize)]
struct ShutterForm {
    revision: i64,
    shutter_deg: f64,
}

/// How long the shutter is open.
#[post("/shots/{id}/shutter")]
async fn change_shutter(editor: Editor, form: web::Form<ShutterForm>) -> Result<impl Responder, PageError> {
    let shutter = form.shutter_deg / 360.0;
    editor.apply(form.revision, move |_, _| Ok(Edit::Placing(PlacingEdit::SetShutter { shutter }))).await
}
