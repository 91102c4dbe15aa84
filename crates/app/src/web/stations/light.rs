//! Sun and ambient light.

use super::view::{ShotView, Station};
use crate::engine::assets::{self, AssetInfo, ShotAssets};
use crate::engine::kinds::Field;
use crate::engine::light::{self, Shadow};
use crate::engine::{EngineError, OpenShot, ShotError, grading, picture, surroundings};
use crate::web::answer::Editor;
use crate::web::lines::Line;
use crate::web::picture::jpeg;
use crate::web::{AppState, PageError, block};
use actix_web::{Responder, get, post, web};
use askama::Template;
use fennik_core::scene::anim::Numbers;
use fennik_core::scene::{Asset, AssetName, Edit, Light, LightEdit, ShotDocument, SurfaceId, Surroundings};
use fennik_demo::library::{Item, Kind, items};
use fennik_render::Panorama;
use fennik_store::ShotId;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(change_light)
        .service(set_sun)
        .service(set_surroundings)
        .service(change_surroundings)
        .service(show_surroundings)
        .service(change_catch);
}

#[derive(Template)]
#[template(path = "stations/light.html")]
struct Tools {
    id: i64,
    /// What each group is called, and its values.
    groups: Vec<(&'static str, Vec<Line>)>,
    keys: usize,
    /// Pictures that could be all round, by their names; and items of the library.
    pictures: Vec<(String, String)>,
    items: Vec<&'static Item>,
    around: Option<Around>,
    catches: Vec<Catch>,
}

/// What is all round.
struct Around {
    file: String,
    hidden: bool,
    groups: Vec<(&'static str, Vec<Line>)>,
    /// Names how they look.
    of: String,
}

/// What the floor, or a surface, does with what is placed.
struct Catch {
    /// 0 for the floor.
    surface: u32,
    name: String,
    lines: Vec<Line>,
    /// Whether it does anything.
    set: bool,
}

/// What surroundings that look the same are called.
fn named_by(around: &Surroundings) -> String {
    let mut hasher = DefaultHasher::new();
    serde_json::to_string(around).unwrap_or_default().hash(&mut hasher);
    format!("{:016x}", hasher.finish())
}

fn around_of(document: &ShotDocument) -> Option<Around> {
    let around = document.light.surroundings.as_ref()?;
    let values = surroundings::values(around, 0.0);
    let usual = surroundings::values(&Surroundings::new(around.asset.clone()), 0.0);
    let line = |f: &Field| Line::of(f, &values, Some(&usual), grading::keyed(&around.numbers, f.name));
    let groups = surroundings::GROUPS.iter().map(|(name, fields)| (*name, fields.iter().map(line).collect()));
    let (file, hidden, of) = (around.asset.file.clone(), around.hidden, named_by(around));
    Some(Around { file, hidden, groups: groups.collect(), of })
}

fn catches_of(document: &ShotDocument) -> Vec<Catch> {
    let surfaces = document.surfacing.surfaces.iter().map(|s| (Some(s.id), s.name.clone()));
    let usual = surroundings::catch_values(&Light::default(), Some(SurfaceId(0)), 0.0);
    let one = |(surface, name): (Option<SurfaceId>, String)| {
        let values = surroundings::catch_values(&document.light, surface, 0.0);
        // The floor's shadow stands among the values of the light.
        let fields = surroundings::CATCH_FIELDS.iter().filter(|f| surface.is_some() || f.name != "shadow");
        let catcher = document.light.catcher(surface);
        let keyed = |f: &Field| catcher.is_some_and(|c| surroundings::catch_keyed(c, f.name));
        let lines = fields.map(|f| Line::of(f, &values, Some(&usual), keyed(f))).collect();
        let set = catcher.is_some_and(|c| !c.at(0.0).is_plain() || c.changes());
        Catch { surface: surface.map_or(0, |s| s.0), name, lines, set }
    };
    std::iter::once((None, "floor".to_owned())).chain(surfaces).map(one).collect()
}

impl Tools {
    /// What can change over time: names, of what they are before a colon, and what they are called.
    fn keyable(&self) -> Vec<(String, String)> {
        let named = |before: String, group: &str, lines: &[Line]| -> Vec<(String, String)> {
            let one = |l: &Line| (format!("{before}{}", l.field.name), format!("{group}: {}", l.field.label));
            lines.iter().map(one).collect()
        };
        let of_light = self.groups.iter().flat_map(|(group, lines)| named(String::new(), group, lines));
        let around = self.around.iter().flat_map(|a| &a.groups);
        let around = around.flat_map(|(group, lines)| named("around:".to_owned(), group, lines));
        let catches = self.catches.iter().flat_map(|c| named(format!("catch {}:", c.surface), &c.name, &c.lines));
        of_light.chain(around).chain(catches).collect()
    }
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let now = view.document().light.at(0.0);
    let reading =
        format!("sun {} · ambient {}", crate::web::views::shown(now.sun), crate::web::views::shown(now.ambient));
    let values = light::values(&now);
    let keyed = light::keyed(&view.document().light);
    let line = |f: &Field| Line::of(f, &values, None, keyed.iter().any(|(name, _)| *name == f.name));
    let lines = |fields: &[Field]| fields.iter().map(line).collect();
    let groups = vec![
        ("sun", lines(&light::SUN)),
        ("from everywhere", lines(&light::AMBIENT)),
        ("shadow of what is placed", lines(&light::FLOOR)),
    ];
    let lit = &view.document().light;
    let of_numbers = |numbers: &Numbers| numbers.told().map(|(_, track)| track.key_frames().count()).sum::<usize>();
    let keys = keyed.iter().map(|(_, keys)| keys.len()).sum::<usize>()
        + lit.surroundings.as_ref().map_or(0, |s| of_numbers(&s.numbers))
        + lit.catchers.iter().map(|c| of_numbers(&c.numbers) + c.tint.key_frames().count()).sum::<usize>();
    let picture = |a: &assets::TakenAsset| matches!(a.info, AssetInfo::Picture { .. });
    let tools = Tools {
        id: view.id(),
        groups,
        keys,
        pictures: view.files_that(picture)?,
        items: items().iter().filter(|i| i.kind == Kind::Surroundings).collect(),
        around: around_of(view.document()),
        catches: catches_of(view.document()),
    };
    Station::new("light", "Light", reading, &tools)
}

#[derive(Deserialize)]
struct LightForm {
    revision: i64,
    /// Where the playhead stands: what changes over time is set there.
    #[serde(default)]
    frame: f64,
    #[serde(flatten)]
    typed: BTreeMap<String, String>,
}

#[post("/shots/{id}/light")]
async fn change_light(editor: Editor, form: web::Form<LightForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            let mut light = shot.document().light.clone();
            light::set_typed(&mut light, form.frame, &form.typed)?;
            Ok(Edit::Light(LightEdit::Light { light }))
        })
        .await
}

#[derive(Deserialize)]
struct AroundRequest {
    revision: i64,
    /// None: without.
    asset: Option<AssetName>,
}

/// Puts a picture all round. What comes from everywhere comes from there then.
#[post("/shots/{id}/surroundings")]
async fn set_surroundings(editor: Editor, body: web::Json<AroundRequest>) -> Result<impl Responder, PageError> {
    let AroundRequest { revision, asset } = body.into_inner();
    editor
        .apply(revision, move |app, shot| {
            let mut light = shot.document().light.clone();
            let asset = asset.map(|name| assets::find(&app.store, &name)).transpose()?.map(|taken| taken.asset);
            if let Some(asset) = &asset {
                // What cannot be read is told now, not at the next picture.
                panorama(app, asset)?;
                if light.surroundings.is_none() {
                    light.ambient = 0.0.into();
                }
            }
            light.surroundings = asset.map(Surroundings::new);
            Ok(Edit::Light(LightEdit::Light { light }))
        })
        .await
}

fn panorama(app: &AppState, asset: &Asset) -> Result<Arc<Panorama>, EngineError> {
    let files = ShotAssets::of_all(&app.store, &app.files, std::iter::once(asset), None)?;
    Ok(files.surroundings(&asset.name).map_err(|why| assets::AssetsError::Shown { why: why.0 })?)
}

/// Changes surroundings of the head, where there are any.
fn with_around(
    shot: &OpenShot,
    change: impl FnOnce(&mut Surroundings) -> Result<(), EngineError>,
) -> Result<Edit, EngineError> {
    let mut light = shot.document().light.clone();
    change(light.surroundings.as_mut().ok_or(ShotError::Gone { what: "picture all round" })?)?;
    Ok(Edit::Light(LightEdit::Light { light }))
}

#[post("/shots/{id}/surroundings/values")]
async fn change_surroundings(editor: Editor, form: web::Form<LightForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            with_around(shot, |around| Ok(surroundings::set_typed(around, form.frame, &form.typed)?))
        })
        .await
}

/// What is all round as it lights, to be seen beside the plate.
#[get("/shots/{id}/surroundings.jpg")]
async fn show_surroundings(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        let shot = app.open(*id)?;
        let around =
            shot.document().light.surroundings.as_ref().ok_or(ShotError::Gone { what: "picture all round" })?;
        picture::surroundings_jpeg(&*panorama(&app, &around.asset)?, &around.at(0.0))
    })
    .await?;
    Ok(jpeg(bytes, false))
}

#[derive(Deserialize)]
struct CatchForm {
    revision: i64,
    #[serde(default)]
    frame: f64,
    /// 0 for the floor.
    surface: u32,
    #[serde(flatten)]
    typed: BTreeMap<String, String>,
}

/// Changes what the floor, or a surface, does with what is placed.
#[post("/shots/{id}/catch")]
async fn change_catch(editor: Editor, form: web::Form<CatchForm>) -> Result<impl Responder, PageError> {
    let CatchForm { revision, frame, surface, typed } = form.into_inner();
    editor
        .apply(revision, move |_, shot| {
            let mut light = shot.document().light.clone();
            let surface = (surface > 0).then_some(SurfaceId(surface));
            surroundings::set_catch_typed(&mut light, surface, frame, &typed)?;
            Ok(Edit::Light(LightEdit::Light { light }))
        })
        .await
}

#[derive(Deserialize)]
struct SunRequest {
    revision: i64,
    #[serde(flatten)]
    shadow: Shadow,
}

/// Puts the sun where a shadow on the plate says that it stands.
#[post("/shots/{id}/sun")]
async fn set_sun(editor: Editor, body: web::Json<SunRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let light = light::by_shadow(shot.document(), &*app.solution(shot)?, &body.shadow)?;
            Ok(Edit::Light(LightEdit::Light { light }))
        })
        .await
}
