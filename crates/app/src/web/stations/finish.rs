//! What is done over all.

use super::inserts::changed;
use super::view::{ShotView, Station};
use crate::engine::finishing::{self, Look};
use crate::engine::kinds::Field;
use crate::engine::{EngineError, assets, grading};
use crate::web::PageError;
use crate::web::answer::Editor;
use crate::web::lines::Line;
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{AssetName, Edit, Finish, FinishEdit};
use serde::Deserialize;
use std::collections::BTreeMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_finish).service(switch_finish).service(set_table).service(keep_look).service(use_look);
}

/// Values that belong together.
struct Group {
    name: &'static str,
    lines: Vec<Line>,
    across: usize,
    /// Whether any of them is other than usual.
    set: bool,
}

#[derive(Template)]
#[template(path = "stations/finish.html")]
struct Tools {
    id: i64,
    off: bool,
    groups: Vec<Group>,
    more: Vec<Line>,
    tables: Vec<(String, String)>,
    table: Option<String>,
    looks: Vec<String>,
    keys: usize,
}

impl Tools {
    /// What can change over time: names, and what they are called.
    fn keyable(&self) -> Vec<(&'static str, &'static str)> {
        let lines = self.groups.iter().flat_map(|g| &g.lines).chain(&self.more);
        lines.map(|l| (l.field.name, l.field.label)).collect()
    }
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let finish = &view.document().finish;
    let values = finishing::values(finish, 0.0);
    let usual = finishing::values(&Finish::default(), 0.0);
    let keyed = finishing::keyed(finish);
    let line = |f: &Field| Line::of(f, &values, Some(&usual), keyed.iter().any(|(name, _)| name == f.name));
    let group = |g: &grading::GradeGroup| {
        let lines: Vec<Line> = g.fields.iter().map(line).collect();
        Group { name: g.name, across: g.across, set: lines.iter().any(|l| l.began.is_some() || l.keyed), lines }
    };
    let reading = match (finish.off, finish.is_plain()) {
        (true, _) => "off",
        (_, true) => "as it is",
        _ => "graded",
    };
    let tools = Tools {
        id: view.id(),
        off: finish.off,
        groups: grading::GROUPS.iter().map(group).collect(),
        more: finishing::FIELDS.iter().map(line).collect(),
        tables: view.files_that(|a| a.kind == "table")?,
        table: finish.table.as_ref().map(|t| t.name.to_string()),
        looks: view.app.store.looks()?,
        keys: keyed.iter().map(|(_, keys)| keys.len()).sum(),
    };
    Station::new("finish", "Finish", reading.to_owned(), &tools)
}

#[derive(Deserialize)]
struct FinishForm {
    revision: i64,
    /// Where the playhead stands: what changes over time is set there.
    #[serde(default)]
    frame: f64,
    #[serde(flatten)]
    typed: BTreeMap<String, String>,
}

fn edit(finish: Finish) -> Edit {
    Edit::Finish(FinishEdit::Finish { finish })
}

#[post("/shots/{id}/finish")]
async fn change_finish(editor: Editor, form: web::Form<FinishForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            let mut finish = shot.document().finish.clone();
            finishing::set_typed(&mut finish, form.frame, &form.typed)?;
            Ok(edit(finish))
        })
        .await
}

#[derive(Deserialize)]
struct SwitchRequest {
    revision: i64,
    off: bool,
}

#[post("/shots/{id}/finish/switch")]
async fn switch_finish(editor: Editor, body: web::Json<SwitchRequest>) -> Result<impl Responder, PageError> {
    let SwitchRequest { revision, off } = body.into_inner();
    editor.apply(revision, move |_, shot| Ok(edit(Finish { off, ..shot.document().finish.clone() }))).await
}

#[derive(Deserialize)]
struct TableRequest {
    revision: i64,
    /// None: without.
    asset: Option<AssetName>,
}

#[post("/shots/{id}/finish/table")]
async fn set_table(editor: Editor, body: web::Json<TableRequest>) -> Result<impl Responder, PageError> {
    let TableRequest { revision, asset } = body.into_inner();
    editor
        .apply(revision, move |app, shot| {
            let table = asset.map(|name| assets::table_named(&app.store, &name)).transpose()?;
            Ok(edit(Finish { table, ..shot.document().finish.clone() }))
        })
        .await
}

#[derive(Deserialize)]
struct LookRequest {
    revision: i64,
    name: String,
    /// Of or on an insert; of or on the finish where there is none.
    #[serde(default)]
    insert: Option<u32>,
}

#[post("/shots/{id}/looks")]
async fn keep_look(editor: Editor, body: web::Json<LookRequest>) -> Result<impl Responder, PageError> {
    let LookRequest { name, insert, .. } = body.into_inner();
    editor
        .change(move |app, id| {
            let shot = app.open(id)?;
            let look = match insert {
                Some(id) => Look::of_insert(shot.insert(id)?),
                None => Look::of(&shot.document().finish),
            };
            look.keep(&app.store, &name)?;
            Ok(())
        })
        .await
}

#[post("/shots/{id}/looks/use")]
async fn use_look(editor: Editor, body: web::Json<LookRequest>) -> Result<impl Responder, PageError> {
    let LookRequest { revision, name, insert } = body.into_inner();
    editor
        .apply(revision, move |app, shot| {
            let look = Look::find(&app.store, &name)?;
            let Some(id) = insert else { return Ok(edit(look.on_finish())) };
            changed(shot, id, |insert| {
                look.on_insert(insert);
                Ok(())
            })
        })
        .await
}
