//! The sheet: all about the one thing that is chosen.

use super::answer::Part;
use super::stations::track::mode_word;
use super::stations::view::{ShotView, drawn};
use super::{PageError, block};
use crate::engine::EngineError;
use crate::engine::ShotError;
use crate::engine::kinds::{self, Field, Input, Values};
use crate::engine::laying::plane_named;
use crate::web::answer::Editor;
use actix_web::{Responder, get, web};
use askama::Template;
use fennik_core::matte::Mask;
use fennik_core::scene::{Insert, InsertId, Surface, SurfaceId};
use fennik_store::ShotId;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_sheet);
}

/// What a sheet can be about.
#[derive(Debug, Clone, Copy, PartialEq)]
enum About {
    /// An insert, with its values at a frame.
    Insert(InsertId, f64),
    Mask(u32),
    Surface(SurfaceId),
}

impl About {
    /// From the name of its part: `sheet/insert-3-at-12`, `sheet/mask-2`, `sheet/surface-4`.
    fn of(name: &str) -> Option<Self> {
        let name = name.strip_prefix("sheet/")?;
        if let Some(id) = name.strip_prefix("mask-") {
            return Some(Self::Mask(id.parse().ok()?));
        }
        if let Some(id) = name.strip_prefix("surface-") {
            return Some(Self::Surface(SurfaceId(id.parse().ok()?)));
        }
        let (id, frame) = name.strip_prefix("insert-")?.split_once("-at-")?;
        Some(Self::Insert(InsertId(id.parse().ok()?), f64::from(frame.parse::<u32>().ok()?)))
    }
}

/// Whether a part is a sheet.
pub fn is_sheet(name: &str) -> bool {
    About::of(name).is_some()
}

/// A value as the form shows it.
struct Line {
    field: Field,
    value: String,
}

impl Line {
    fn of(field: &Field, values: &Values) -> Self {
        let value = match values.get(field.name) {
            Some(serde_json::Value::String(text)) => text.clone(),
            Some(other) => other.to_string(),
            None => String::new(),
        };
        Self { field: *field, value }
    }

    /// A number with its measure and step.
    fn number(&self) -> Option<(&'static str, f64, f64)> {
        match self.field.input {
            Input::Number(measure, step) => Some((measure.word(), step, self.value.parse().unwrap_or_default())),
            _ => None,
        }
    }

    fn choices(&self) -> Option<Vec<&'static str>> {
        match self.field.input {
            Input::Choice(of) => Some(of()),
            _ => None,
        }
    }

    fn is_colour(&self) -> bool {
        matches!(self.field.input, Input::Colour)
    }

    fn is_long(&self) -> bool {
        matches!(self.field.input, Input::Lines)
    }

    /// Whether it needs the whole breadth.
    fn is_wide(&self) -> bool {
        matches!(self.field.input, Input::Lines | Input::Choice(_))
    }
}

#[derive(Template)]
#[template(path = "sheet/insert.html")]
struct InsertSheet {
    shot: i64,
    id: u32,
    kind: &'static str,
    name: String,
    place: Vec<Line>,
    look: Vec<Line>,
    /// The file that it shows.
    file: Option<String>,
    /// Its keys.
    keys: usize,
    content: Vec<Line>,
}

fn insert_sheet(view: &ShotView, insert: &Insert, frame: f64) -> Result<String, EngineError> {
    let values = kinds::values(insert, frame);
    let lines = |fields: &[Field]| fields.iter().map(|f| Line::of(f, &values)).collect();
    drawn(&InsertSheet {
        shot: view.id(),
        id: insert.id.0,
        kind: insert.content.word(),
        name: insert.shown_name(),
        place: lines(&kinds::PLACE_FIELDS),
        look: lines(&kinds::LOOK_FIELDS),
        file: insert.content.asset().map(|a| a.file.clone()),
        keys: insert.key_frames().len(),
        content: lines(kinds::fields(&insert.content)),
    })
}

#[derive(Template)]
#[template(path = "sheet/mask.html")]
struct MaskSheet<'a> {
    mask: &'a Mask,
    mode: &'static str,
    first: String,
    last: String,
    keys: usize,
    smooth: bool,
}

fn mask_sheet(mask: &Mask) -> Result<String, EngineError> {
    let end = |f: Option<u32>| f.map(|f| f.to_string()).unwrap_or_default();
    drawn(&MaskSheet {
        mask,
        mode: mode_word(mask),
        first: end(mask.span.map(|s| s.0)),
        last: end(mask.span.map(|s| s.1)),
        keys: mask.outline.keys.len(),
        smooth: mask.outline.smooth.contains(&true),
    })
}

#[derive(Template)]
#[template(path = "sheet/surface.html")]
struct SurfaceSheet<'a> {
    surface: &'a Surface,
    kind: &'static str,
    /// Its readings, with what each is of.
    lines: Vec<(&'static str, String)>,
    /// Planes that it can be hinged on or squared to.
    others: Vec<String>,
}

fn surface_sheet(view: &ShotView, surface: &Surface) -> Result<String, EngineError> {
    let document = view.document();
    let mut lines = vec![("tilt", format!("{:.2} deg", surface.tilt_deg()))];
    match &surface.reading {
        Some(r) => {
            lines.push(("fit", format!("{:.2} px · {:.0} mm", r.fit_px, 1000.0 * r.fit_m)));
            let left_out = match r.left_out.len() {
                0 => String::new(),
                n => format!(", {n} left out"),
            };
            lines.push(("rests on", format!("{} windows, {} points{left_out}", r.windows, r.points)));
            lines.push((
                "known to",
                format!("{:.2} deg · {:.0} mm", r.normal_deviation_deg, 1000.0 * r.place_deviation_m),
            ));
        }
        None => lines.push(("fit", "moved by hand".to_owned())),
    }
    let floor = document.datum.floor.is_some().then(|| "floor".to_owned());
    let named = document.surfacing.surfaces.iter().filter(|s| s.id != surface.id).map(|s| s.name.clone());
    let others: Vec<String> = floor.into_iter().chain(named).collect();
    for other in &others {
        if let Ok(plane) = plane_named(&view.shot, other) {
            if *other == "floor" || others.len() <= 4 {
                lines.push(("angle", format!("{:.2} deg to {other}", surface.plane().angle_deg(&plane))));
            }
        }
    }
    drawn(&SurfaceSheet { surface, kind: surface.kind.word(), lines, others })
}

/// The sheet of a name; `None` where what it is about is gone.
pub fn part(view: &ShotView, name: &str) -> Result<Option<Part>, EngineError> {
    let document = view.document();
    let html = match About::of(name) {
        Some(About::Insert(id, frame)) => document.insert(id).map(|i| insert_sheet(view, i, frame)),
        Some(About::Mask(id)) => document.mask(id).map(mask_sheet),
        Some(About::Surface(id)) => document.surfacing.surface(id).map(|s| surface_sheet(view, s)),
        None => None,
    };
    Ok(html.transpose()?.map(|html| Part::new(name, html)))
}

/// The sheet of what was chosen.
#[get("/shots/{id}/sheet/{about}")]
async fn show_sheet(editor: Editor, path: web::Path<(ShotId, String)>) -> Result<impl Responder, PageError> {
    let name = format!("sheet/{}", path.1);
    block(move || {
        let view = ShotView::open(&editor.app, editor.id)?;
        let gone = || ShotError::Gone { what: "insert, mask or surface" };
        Ok(web::Html::new(part(&view, &name)?.ok_or_else(gone)?.element()))
    })
    .await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sheet_is_named_by_what_it_is_about() {
        assert_eq!(About::of("sheet/insert-3-at-12"), Some(About::Insert(InsertId(3), 12.0)));
        assert_eq!(About::of("sheet/mask-2"), Some(About::Mask(2)));
        assert_eq!(About::of("sheet/surface-4"), Some(About::Surface(SurfaceId(4))));
        for wrong in ["station/track", "sheet/insert-3", "sheet/insert-x-at-1", "sheet/mask--1", "sheet/"] {
            assert_eq!(About::of(wrong), None, "{wrong}");
        }
    }
}
