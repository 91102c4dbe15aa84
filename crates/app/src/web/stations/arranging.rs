//! What is done with things that are placed, beyond typing their values.

use super::inserts::changed;
use crate::engine::arrange::{Arrange, Arranging};
use crate::engine::place::{Put, hull_of};
use crate::engine::{assets, library, place};
use crate::web::answer::Editor;
use crate::web::{AppState, PageError, block};
use actix_web::{HttpResponse, Responder, get, post, web};
use fennik_core::scene::{AssetName, Edit, Insert, PlacingEdit, Stance};
use fennik_render::RenderScene;
use fennik_store::ShotId;
use serde::Deserialize;
use serde_json::json;
use std::sync::{Arc, Mutex, PoisonError};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(arrange_insert)
        .service(duplicate_insert)
        .service(copy_insert)
        .service(show_shapes)
        .service(show_tile)
        .service(dress_insert);
}

#[derive(Deserialize)]
struct ArrangeRequest {
    revision: i64,
    insert: u32,
    frame: u32,
    arrange: Arrange,
}

/// Pivot, stand, measure, corners, keys: what is done with a thing beyond typing its values. What there is to be told
/// about it comes in a header.
#[post("/shots/{id}/arrange")]
async fn arrange_insert(editor: Editor, body: web::Json<ArrangeRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    let said = Arc::new(Mutex::new(None));
    let told = said.clone();
    let answer = editor
        .apply(body.revision, move |app, shot| {
            let solution = app.solution(shot)?;
            changed(shot, body.insert, |insert| {
                let shows = app.assets(shot, std::slice::from_ref(insert))?;
                let file = |name: &AssetName| assets::find(&app.store, name);
                let arranging =
                    Arranging { shot, solution: &solution, frame: body.frame, file: &file, assets: shows.as_ref() };
                let done = arranging.arrange(insert.clone(), &body.arrange)?;
                *insert = done.insert;
                let shows = app.assets(shot, std::slice::from_ref(insert))?;
                RenderScene::mesh(insert, &[], f64::from(body.frame), shows.as_ref())?;
                *told.lock().unwrap_or_else(PoisonError::into_inner) = done.reading;
                Ok(())
            })
        })
        .await?;
    let said = said.lock().unwrap_or_else(PoisonError::into_inner).take().unwrap_or_default();
    Ok(answer.customize().insert_header(("x-said", said)))
}

#[derive(Deserialize)]
struct DuplicateRequest {
    revision: i64,
    insert: u32,
}

/// The same once more, beside it.
#[post("/shots/{id}/duplicate")]
async fn duplicate_insert(editor: Editor, body: web::Json<DuplicateRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let insert = shot.insert(body.insert)?;
            let shows = app.assets(shot, std::slice::from_ref(insert))?;
            Ok(Edit::Placing(PlacingEdit::AddInsert { insert: place::duplicate(insert, shows.as_ref())? }))
        })
        .await
}

#[derive(Deserialize)]
struct CopyRequest {
    /// The head of the other shot is what it is put onto.
    insert: u32,
    to: ShotId,
}

/// The same in another shot, at the same numbers.
#[post("/shots/{id}/copy-to")]
async fn copy_insert(editor: Editor, body: web::Json<CopyRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .change(move |app, id| {
            let shot = app.open(id)?;
            let insert = shot.insert(body.insert)?;
            let other = app.open(body.to)?;
            let solution = other.document().solving.solve.map(|_| app.solution(&other)).transpose()?;
            let insert = place::for_another_shot(insert, solution.as_deref(), other.document());
            let head = other.state.head.id;
            app.store.edit(body.to, Some(head), &Edit::Placing(PlacingEdit::AddInsert { insert }))?;
            Ok(())
        })
        .await
}

#[derive(Deserialize)]
struct DressRequest {
    revision: i64,
    insert: u32,
    /// The material's name in the library.
    with: String,
}

/// Dresses letters or a model in a material of the library.
#[post("/shots/{id}/dress")]
async fn dress_insert(editor: Editor, body: web::Json<DressRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let item = library::item(&body.with)?;
            changed(shot, body.insert, |insert| library::dress(&app.store, shot, insert, item, None))
        })
        .await
}

#[derive(Deserialize)]
struct TileRequest {
    kind: String,
    #[serde(default)]
    asset: Option<AssetName>,
    frame: u32,
    x: f64,
    y: f64,
    #[serde(default)]
    stance: Option<Stance>,
    #[serde(default)]
    put: Put,
}

/// What would be placed under a pixel: the place, and the corners of the thing there, world.
#[post("/shots/{id}/tile")]
async fn show_tile(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    body: web::Json<TileRequest>,
) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    let body = block(move || {
        let shot = app.open(id)?;
        let (solution, document) = (app.solution(&shot)?, shot.document());
        let at = place::Pixel { frame: body.frame, at: [body.x, body.y] };
        let spot = match place::spot_put(&body.kind, &body.put, &solution, document, at) {
            Ok(spot) => spot,
            Err(why) => return Ok(json!({ "why": why.to_string() })),
        };
        let shows = body.asset.map(|name| assets::find(&app.store, &name)).transpose()?;
        let kind = (body.kind.as_str(), shows.as_ref());
        let insert = place::insert_on(kind, &solution, document, body.frame, &spot, body.stance)?;
        let files = app.assets(&shot, std::slice::from_ref(&insert))?;
        let outline: Vec<_> = RenderScene::shape(&insert, &[], f64::from(body.frame), files.as_ref())
            .map(|(mesh, at)| hull_of(&mesh).iter().map(|p| at.point(nalgebra::Vector3::from(*p).cast())).collect())
            .unwrap_or_default();
        let mut told = json!(spot);
        told["outline"] = json!(outline);
        Ok(told)
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

#[derive(Deserialize)]
struct ShapesQuery {
    frame: u32,
}

/// The corners of what inserts take up, each in its own frame: for outlines and for grabbing.
#[get("/shots/{id}/shapes")]
async fn show_shapes(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    query: web::Query<ShapesQuery>,
) -> Result<impl Responder, PageError> {
    let id = *id;
    let body = block(move || {
        let shot = app.open(id)?;
        let inserts = &shot.document().placing.inserts;
        let shows = app.assets(&shot, inserts)?;
        let of = |insert: &Insert| {
            let made = RenderScene::shape(insert, &[], f64::from(query.frame), shows.as_ref());
            // What cannot be drawn says so in its line; it has no outline.
            let hull = made.map(|(mesh, _)| hull_of(&mesh)).unwrap_or_default();
            json!({ "insert": insert.id.0, "hull": hull })
        };
        Ok(inserts.iter().map(of).collect::<Vec<_>>())
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}
