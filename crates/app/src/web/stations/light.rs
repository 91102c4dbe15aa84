//! Sun and ambient light.

use super::view::{ShotView, Station};
use crate::engine::EngineError;
use crate::engine::kinds::Field;
use crate::engine::light::{self, Shadow};
use crate::web::PageError;
use crate::web::answer::Editor;
use crate::web::lines::Line;
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{Edit, LightEdit};
use serde::Deserialize;
use std::collections::BTreeMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_light).service(set_sun);
}

#[derive(Template)]
#[template(path = "stations/light.html")]
struct Tools {
    id: i64,
    /// What each group is called, and its values.
    groups: Vec<(&'static str, Vec<Line>)>,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let now = view.document().light.at(0.0);
    let reading =
        format!("sun {} · ambient {}", crate::web::views::shown(now.sun), crate::web::views::shown(now.ambient));
    let values = light::values(&now);
    let lines = |fields: &[Field]| fields.iter().map(|f| Line::of(f, &values, None, false)).collect();
    let groups = vec![
        ("sun", lines(&light::SUN)),
        ("from everywhere", lines(&light::AMBIENT)),
        ("shadow of what is placed", lines(&light::FLOOR)),
    ];
    Station::new("light", "Light", reading, &Tools { id: view.id(), groups })
}

#[derive(Deserialize)]
struct LightForm {
    revision: i64,
    #[serde(flatten)]
    typed: BTreeMap<String, String>,
}

#[post("/shots/{id}/light")]
async fn change_light(editor: Editor, form: web::Form<LightForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            let mut light = shot.document().light.clone();
            light::set_typed(&mut light, &form.typed)?;
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
