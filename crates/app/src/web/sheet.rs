//! The sheet: all about the one thing that is chosen.

use super::answer::Part;
use super::lines::Line;
use super::stations::track::mode_word;
use super::stations::view::{ShotView, drawn};
use super::{PageError, block};
use crate::engine::EngineError;
use crate::engine::ShotError;
use crate::engine::assets::{self, AssetInfo};
use crate::engine::holding;
use crate::engine::kinds::{self, Field};
use crate::engine::laying::plane_named;
use crate::web::answer::Editor;
use actix_web::{Responder, get, web};
use askama::Template;
use fennik_core::matte::{KeyBy, Mask};
use fennik_core::scene::anim::Ease;
use fennik_core::scene::{
    Asset, Holdout, HoldoutBy, HoldoutId, Insert, InsertId, InsertKind, Layout, ModelMap, Surface, SurfaceId, kin_of,
};
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
    /// A holdout, with its values at a frame.
    Holdout(u32, f64),
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
        if let Some(named) = name.strip_prefix("holdout-") {
            let (id, frame) = named.split_once("-at-")?;
            return Some(Self::Holdout(id.parse().ok()?, f64::from(frame.parse::<u32>().ok()?)));
        }
        let (id, frame) = name.strip_prefix("insert-")?.split_once("-at-")?;
        Some(Self::Insert(InsertId(id.parse().ok()?), f64::from(frame.parse::<u32>().ok()?)))
    }
}

/// Whether a part is a sheet.
pub fn is_sheet(name: &str) -> bool {
    About::of(name).is_some()
}

/// Values that belong together.
struct Group {
    name: &'static str,
    lines: Vec<Line>,
}

/// A material of a model as it is, and what was changed of it.
struct MaterialLine {
    name: String,
    colour: Option<String>,
    metal: Option<f64>,
    rough: Option<f64>,
    glow: Option<f64>,
    maps: Vec<String>,
}

#[derive(Template)]
#[template(path = "sheet/insert.html")]
struct InsertSheet {
    shot: i64,
    id: u32,
    kind: &'static str,
    name: String,
    locked: bool,
    hidden: bool,
    solo: bool,
    /// What people change most comes first.
    groups: Vec<Group>,
    /// The file that it shows.
    file: Option<String>,
    /// Pictures on face, bevel and side of letters; and a font of one's own.
    coverings: Option<[Option<String>; 3]>,
    font: Option<String>,
    materials: Vec<MaterialLine>,
    /// Of a far picture: masks whose shape it may take, and whether it has one.
    shapes: Option<(Vec<String>, bool)>,
    /// Whether it goes with the camera instead of standing somewhere.
    is_far: bool,
    /// Whether its corners can be pulled.
    is_card: bool,
    /// Its keys, and how it goes on from one at the playhead.
    keys: usize,
    ease: Option<Ease>,
    /// What it may hang on, and whether it does.
    others: Vec<(u32, String, bool)>,
    shots: Vec<(i64, String)>,
    copies: Vec<u32>,
    on_path: bool,
    can_be_put_back: bool,
}

fn insert_sheet(view: &ShotView, insert: &Insert, frame: f64) -> Result<String, EngineError> {
    let values = kinds::values(insert, frame);
    let began = insert.began.as_deref().map(|b| kinds::values(b, frame));
    let mut copy = insert.clone();
    let keyed: Vec<String> =
        copy.all_tracks().into_iter().filter(|(_, t)| !t.key_frames().is_empty()).map(|(n, _)| n.to_owned()).collect();
    let ease = copy.all_tracks().into_iter().find_map(|(_, t)| t.ease_of(frame));
    let info = shown_info(view, insert)?;
    // One picture has no time of its own.
    let still = matches!(info, Some(AssetInfo::Picture { .. }));
    let group = |(name, fields): (&'static str, Vec<&'static Field>)| Group {
        name,
        lines: fields
            .into_iter()
            .filter(|f| !(still && kinds::is_of_clip(f)))
            .map(|f| Line::of(f, &values, began.as_ref(), keyed.iter().any(|k| k == kinds::track_of(f.name))))
            .collect(),
    };
    let inserts = &view.document().placing.inserts;
    let free = |i: &&Insert| !kin_of(inserts, i, insert.id);
    let shots = view.app.store.shots()?.into_iter().filter(|s| s.id.0 != view.id()).take(50);
    let lettering = match &insert.content {
        InsertKind::Title(title) => Some(&title.lettering),
        _ => None,
    };
    drawn(&InsertSheet {
        shot: view.id(),
        id: insert.id.0,
        kind: insert.content.word(),
        name: insert.shown_name(),
        locked: insert.locked,
        hidden: insert.hidden,
        solo: insert.solo,
        groups: kinds::groups(insert).into_iter().map(group).collect(),
        file: insert.content.asset().map(|a| a.file.clone()),
        coverings: lettering.map(|l| {
            l.coverings()
                .map(|c| c.map(|c| c.asset.as_ref().map_or_else(|| "the plate".to_owned(), |a| a.file.clone())))
        }),
        font: lettering.and_then(|l| l.font_file.as_ref()).map(|f| f.file.clone()),
        materials: materials(insert, info),
        shapes: match &insert.content {
            InsertKind::Backdrop(far) => Some((
                view.document().masking.masks.masks.iter().map(|m| m.name.clone()).collect(),
                far.cutout.is_some(),
            )),
            _ => None,
        },
        is_far: matches!(insert.content, InsertKind::Backdrop(_)),
        is_card: matches!(insert.content, InsertKind::Sign(_) | InsertKind::Effect(_)),
        keys: insert.key_frames().len(),
        ease,
        others: inserts.iter().filter(free).map(|i| (i.id.0, i.shown_name(), insert.parent == Some(i.id))).collect(),
        shots: shots.map(|s| (s.id.0, s.name)).collect(),
        copies: insert.copies.as_ref().map_or_else(Vec::new, |c| c.all().iter().map(|c| c.number + 1).collect()),
        on_path: matches!(insert.copies.as_ref().map(|c| &c.layout), Some(Layout::Path { .. })),
        can_be_put_back: insert.began.is_some(),
    })
}

/// What is known of the file that an insert shows, if it shows one that is there.
fn shown_info(view: &ShotView, insert: &Insert) -> Result<Option<AssetInfo>, EngineError> {
    let Some(asset) = insert.content.asset() else { return Ok(None) };
    if view.app.store.asset(&asset.name)?.is_none() {
        return Ok(None);
    }
    Ok(Some(assets::find(&view.app.store, &asset.name)?.info))
}

/// The materials of a model, with what was changed of each.
fn materials(insert: &Insert, info: Option<AssetInfo>) -> Vec<MaterialLine> {
    let (InsertKind::Prop(prop), Some(AssetInfo::Model { materials, .. })) = (&insert.content, info) else {
        return Vec::new();
    };
    let line = |name: String| {
        let change = prop.materials.get(&name).cloned().unwrap_or_default();
        let map = |(which, asset): (&ModelMap, &Asset)| format!("{}: {}", map_word(*which), asset.file);
        MaterialLine {
            colour: change.colour.map(|[r, g, b]| format!("#{r:02x}{g:02x}{b:02x}")),
            metal: change.metal,
            rough: change.rough,
            glow: change.glow,
            maps: change.maps.iter().map(map).collect(),
            name,
        }
    };
    // A file may hold any number of them.
    materials.into_iter().take(40).map(line).collect()
}

fn map_word(map: ModelMap) -> &'static str {
    match map {
        ModelMap::Base => "base",
        ModelMap::Rough => "rough",
        ModelMap::Gloss => "gloss",
        ModelMap::Metal => "metal",
        ModelMap::Normal => "normal",
        ModelMap::Emission => "emission",
    }
}

#[derive(Template)]
#[template(path = "sheet/mask.html")]
struct MaskSheet<'a> {
    mask: &'a Mask,
    mode: &'static str,
    first: String,
    last: String,
    mask_keys: usize,
}

fn mask_sheet(mask: &Mask) -> Result<String, EngineError> {
    let end = |f: Option<u32>| f.map(|f| f.to_string()).unwrap_or_default();
    drawn(&MaskSheet {
        mask,
        mode: mode_word(mask),
        first: end(mask.span.map(|s| s.0)),
        last: end(mask.span.map(|s| s.1)),
        mask_keys: mask.outline.keys.len(),
    })
}

/// Something that a holdout may stand in front of, by its id and name.
struct OfLine {
    id: u32,
    name: String,
    chosen: bool,
}

#[derive(Template)]
#[template(path = "sheet/holdout.html")]
struct HoldoutSheet<'a> {
    shot: i64,
    holdout: &'a Holdout,
    told_by: String,
    lines: Vec<Line>,
    first: String,
    last: String,
    inserts: Vec<OfLine>,
    mask: Option<&'a Mask>,
    mask_keys: usize,
    is_wall: bool,
    is_colour: bool,
    keys: usize,
}

fn holdout_sheet(view: &ShotView, holdout: &Holdout, frame: f64) -> Result<String, EngineError> {
    let document = view.document();
    let values = holding::values(holdout, frame);
    let keys = holdout.strength.key_frames().count();
    let line = |f: &&Field| Line::of(f, &values, None, f.name == "strength" && keys > 0);
    let end = |f: Option<u32>| f.map(|f| f.to_string()).unwrap_or_default();
    let of = |i: &Insert| OfLine { id: i.id.0, name: i.shown_name(), chosen: holdout.of.contains(&i.id) };
    let mask = match holdout.by {
        HoldoutBy::Mask { mask } => document.mask(mask),
        _ => None,
    };
    drawn(&HoldoutSheet {
        shot: view.id(),
        holdout,
        told_by: holding::told_by(document, holdout),
        lines: holding::fields(holdout).iter().map(line).collect(),
        first: end(holdout.span.map(|s| s.0)),
        last: end(holdout.span.map(|s| s.1)),
        inserts: document.placing.inserts.iter().map(of).collect(),
        mask,
        mask_keys: mask.map_or(0, |m| m.outline.keys.len()),
        is_wall: matches!(holdout.by, HoldoutBy::Surface { .. }),
        is_colour: matches!(&holdout.by, HoldoutBy::Key { key } if key.by == KeyBy::Colour),
        keys,
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
        Some(About::Holdout(id, frame)) => {
            document.holding.holdout(HoldoutId(id)).map(|h| holdout_sheet(view, h, frame))
        }
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
        let gone = || ShotError::Gone { what: "insert, mask, surface or holdout" };
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
        assert_eq!(About::of("sheet/holdout-4-at-9"), Some(About::Holdout(4, 9.0)));
        for wrong in
            ["station/track", "sheet/insert-3", "sheet/insert-x-at-1", "sheet/mask--1", "sheet/holdout-4", "sheet/"]
        {
            assert_eq!(About::of(wrong), None, "{wrong}");
        }
    }
}
