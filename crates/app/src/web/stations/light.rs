//! Sun and ambient light.

use super::view::{ShotView, Station};
use crate::engine::EngineError;
use crate::web::PageError;
use crate::web::answer::Editor;
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::scene::{Edit, LightEdit, LightNow};
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_light);
}

#[derive(Template)]
#[template(path = "stations/light.html")]
struct Tools {
    id: i64,
    light: LightNow,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let light = view.document().light.at(0.0);
    let reading =
        format!("sun {} · ambient {}", crate::web::views::shown(light.sun), crate::web::views::shown(light.ambient));
    Station::new("light", "Light", reading, &Tools { id: view.id(), light })
}

#[derive(Deserialize)]
struct LightForm {
    revision: i64,
    bearing_deg: f64,
    height_deg: f64,
    sun: f64,
    ambient: f64,
    floor_shadow: f64,
}

#[post("/shots/{id}/light")]
async fn change_light(editor: Editor, form: web::Form<LightForm>) -> Result<impl Responder, PageError> {
    let f = form.into_inner();
    let light = LightNow {
        bearing_deg: f.bearing_deg,
        height_deg: f.height_deg,
        sun: f.sun,
        ambient: f.ambient,
        floor_shadow: f.floor_shadow,
    };
    editor.apply(f.revision, move |_, _| Ok(Edit::Light(LightEdit::Light { light: light.into() }))).await
}
