//! Lens and film, and drawing what is placed towards the plate.

use super::inserts::changed;
use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::kinds::Field;
use crate::engine::{EngineError, grading, matching};
use crate::web::PageError;
use crate::web::answer::Editor;
use crate::web::lines::Line;
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::colour::{decode, likeness_of};
use fennik_core::scene::{Edit, FinishEdit, LensLook};
use fennik_store::JobKind;
use serde::Deserialize;
use std::collections::BTreeMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_lens).service(draw_colour).service(let_go);
}

#[derive(Template)]
#[template(path = "stations/matching.html")]
struct Tools {
    id: i64,
    lines: Vec<Line>,
    keys: usize,
    /// What was measured of the plate, in a line.
    measured: Option<String>,
    looks: Vec<String>,
    measure: Option<JobLine>,
    draw: Option<JobLine>,
}

impl Tools {
    /// What can change over time: names, and what they are called.
    fn keyable(&self) -> Vec<(&'static str, &'static str)> {
        self.lines.iter().map(|l| (l.field.name, l.field.label)).collect()
    }
}

/// What was measured, in a line.
fn reading(lens: &LensLook) -> Option<String> {
    let mut all = Vec::new();
    if let Some(blur) = lens.measured.blur_px {
        all.push(format!("edges blurred by {blur:.2} px"));
    }
    if let Some(grain) = &lens.measured.grain {
        let mean = grain.deviation.iter().map(|d| d[1]).sum::<f64>() / grain.deviation.len().max(1) as f64;
        all.push(format!("grain {:.1} of 255, {:.1} px", 255.0 * mean, grain.blur_px[0]));
    }
    (!all.is_empty()).then(|| all.join(" · "))
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let lens = &view.document().lens;
    let (values, usual) = (matching::values(lens, 0.0), matching::values(&LensLook::default(), 0.0));
    let keyed = matching::keyed(lens);
    let line = |f: &Field| Line::of(f, &values, Some(&usual), keyed.iter().any(|(name, _)| name == f.name));
    let drawn = view.document().placing.inserts.iter().filter(|i| i.drawn.is_some()).count();
    let told = match (drawn, lens.at(0.0).acts()) {
        (0, false) => "as it is drawn".to_owned(),
        (0, true) => "lens".to_owned(),
        (n, _) => format!("{n} drawn to the plate"),
    };
    let tools = Tools {
        id: view.id(),
        lines: matching::LENS_FIELDS.iter().map(line).collect(),
        keys: keyed.iter().map(|(_, keys)| keys.len()).sum(),
        measured: reading(lens),
        looks: view.app.store.looks()?,
        measure: view.job_or_words(JobKind::Measure),
        draw: view.job_or_words(JobKind::Draw),
    };
    Station::new("match", "Match", told, &tools)
}

#[derive(Deserialize)]
struct LensForm {
    revision: i64,
    /// Where the playhead stands: what changes over time is set there.
    #[serde(default)]
    frame: f64,
    #[serde(flatten)]
    typed: BTreeMap<String, String>,
}

#[post("/shots/{id}/lens")]
async fn change_lens(editor: Editor, form: web::Form<LensForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            let mut lens = shot.document().lens.clone();
            matching::set_typed(&mut lens, form.frame, &form.typed)?;
            Ok(Edit::Finish(FinishEdit::Lens { lens }))
        })
        .await
}

#[derive(Deserialize)]
struct ColourRequest {
    revision: i64,
    insert: u32,
    /// As it is seen, and as it should be: display values, 0 to 255.
    from: [f64; 3],
    to: [f64; 3],
}

/// This should look like that.
#[post("/shots/{id}/match/colour")]
async fn draw_colour(editor: Editor, body: web::Json<ColourRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |_, shot| {
            let light = |c: [f64; 3]| c.map(|v| decode((v / 255.0).clamp(0.0, 1.0) as f32));
            let like = likeness_of(light(body.from), light(body.to));
            // What was drawn before is seen already: the rest comes on top of it by hand.
            changed(shot, body.insert, |insert| {
                insert.grade = grading::with_likeness(&insert.grade, &like);
                Ok(())
            })
        })
        .await
}

#[derive(Deserialize)]
struct LetGoRequest {
    revision: i64,
    insert: u32,
}

/// Its colours are its own again.
#[post("/shots/{id}/match/let-go")]
async fn let_go(editor: Editor, body: web::Json<LetGoRequest>) -> Result<impl Responder, PageError> {
    let LetGoRequest { revision, insert } = body.into_inner();
    editor
        .apply(revision, move |_, shot| {
            changed(shot, insert, |insert| {
                insert.drawn = None;
                Ok(())
            })
        })
        .await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_measured_is_told_in_a_line() {
        let mut lens = LensLook::default();
        assert_eq!(reading(&lens), None);
        lens.measured.blur_px = Some(1.25);
        assert_eq!(reading(&lens).as_deref(), Some("edges blurred by 1.25 px"));
    }
}
