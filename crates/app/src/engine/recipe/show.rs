//! What there is in a shot, as JSON for other programs (docs/formats.md).

use crate::engine::assets::ShotAssets;
use crate::engine::kinds::Values;
use crate::engine::readings::readings;
use crate::engine::{EngineError, OpenShot, holding, light, survey};
use fennik_core::scene::{Datum, Insert, LightNow, Surface, floor_corners, world_of};
use fennik_core::solve::Solution;
use fennik_media::CameraSurface;
use fennik_render::{Assets, RenderScene};
use fennik_store::Store;
use serde_json::{Value, json};
use std::sync::Arc;

/// The shot's readings, inserts and surfaces, in the world of the datum, metres.
///
/// # Errors
/// [`EngineError`] when something of it cannot be read.
pub fn of_shot(store: &Store, shot: &OpenShot) -> Result<Value, EngineError> {
    let document = shot.document();
    let solution = document.solving.solve.map(|_| shot.solution(store)).transpose()?;
    let tracks = document.tracking.run.map(|id| store.analysis(id)).transpose()?;
    let mut readings = json!({});
    if let Some(row) = tracks {
        readings["tracks"] = json!({ "reading": row.reading, "deleted": document.tracking.deleted.len() });
    }
    if let Some(solution) = &solution {
        readings["solve"] = solve_reading(solution, shot.solve_is_of_these_tracks(store).is_err());
        readings["datum"] = datum_reading(shot, solution);
    }
    let assets = ShotAssets::of(store, &Arc::default(), &document.placing.inserts, Some(shot))?;
    let inserts = document.placing.inserts.iter().map(|insert| {
        let all = &document.placing.inserts;
        let world = world_of(all, insert, 0.0);
        let m = world.rotation * insert.placement.rotation(0.0);
        let rows: [[f64; 3]; 3] = std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)]));
        let origin = world.point(insert.placement.origin(0.0));
        let on = insert.parent.and_then(|p| document.insert(p)).map(Insert::shown_name);
        let size = size(insert, assets.as_ref())?.map(|v| v * world.scale);
        Ok(json!({ "name": insert.shown_name(), "kind": insert.content.word(), "origin": origin.as_slice(),
            "rotation": rows, "size": size, "hidden": insert.hidden, "locked": insert.locked, "on": on,
            "copies": insert.copies.as_ref().map_or(1, |c| c.all().len()) }))
    });
    let inserts = inserts.collect::<Result<Vec<_>, EngineError>>()?;
    let masks: Vec<_> = document
        .masking
        .masks
        .masks
        .iter()
        .map(|m| json!({ "name": m.name, "mode": m.mode, "keys": m.outline.keys.len() }))
        .collect();
    let holdouts: Vec<_> = document
        .holding
        .holdouts
        .iter()
        .map(|h| {
            let (told_by, of) = (holding::told_by(document, h), holding::of_names(document, h));
            json!({ "name": h.name, "by": told_by, "span": h.span, "of": of, "hidden": h.hidden,
                "values": holding::values(h, 0.0) })
        })
        .collect();
    let light = light_reading(&document.light.at(0.0));
    let surfaces = solution.as_ref().map_or_else(Vec::new, |s| surfaces(shot, s));
    Ok(json!({ "shot": shot.state.shot.id, "name": shot.state.shot.name, "revision": shot.state.head.id,
        "clip": shot.clip_row.name, "width": shot.clip.width, "height": shot.clip.height,
        "frame_rate": [shot.clip.rate.frames, shot.clip.rate.seconds],
        "trim": document.trim, "readings": readings, "masks": masks, "holdouts": holdouts, "inserts": inserts, "surfaces": surfaces,
        "light": light }))
}

/// The light by the names of a recipe; what was named otherwise before keeps that name.
fn light_reading(light: &LightNow) -> Values {
    let mut values = light::values(light);
    values.insert("floor_shadow".to_owned(), json!(light.floor_shadow));
    values
}

fn solve_reading(solution: &Solution, out_of_date: bool) -> Value {
    let reasons: Vec<_> = solution
        .verdict
        .reasons
        .iter()
        .map(|r| json!({ "grade": r.grade.word(), "text": r.text, "frames": r.frames }))
        .collect();
    json!({ "rms_px": solution.rms_px, "verdict": solution.verdict.grade.word(), "reasons": reasons,
        "motion": solution.motion.word(), "zoom": solution.zoom, "frames_solved": solution.frames.len(),
        "frames": solution.frames_total, "points": solution.points.len(),
        "focal_px": solution.frames.first().map(|f| f.lens.focal_px), "of_other_tracks": out_of_date })
}

fn datum_reading(shot: &OpenShot, solution: &Solution) -> Value {
    let (datum, fit) = (&shot.document().datum, &shot.document().solving.transfer);
    let floor = datum.floor.as_ref().map(|f| {
        json!({ "fit_px": f.fit_px, "level_deg": f.level_deg, "points": f.points.len(), "windows": f.windows,
            "normal_deviation_deg": f.normal_deviation_deg, "place_deviation": f.place_deviation })
    });
    let carried = fit.as_ref().map(
        |f| json!({ "rms_px": f.rms_px, "worst_px": f.worst_px, "worst_frame": f.worst_frame, "frames": f.frames }),
    );
    let told = readings(datum, solution, &survey::views_of(shot, solution));
    let slide = told.slide.map(|s| json!({ "rms_px": s.rms_px, "worst_px": s.worst_px, "leans_deg": s.leans_deg }));
    let verticals = told.verticals.map(|(lean, lines)| json!({ "lean_deg": lean, "lines": lines }));
    json!({ "floor": floor, "scale": datum.scale, "scale_deviation": told.scale_deviation, "carried_over": carried,
        "level_deg": told.level_deg, "slide": slide, "verticals": verticals, "verdict": told.grade.word(),
        "reason": told.reason })
}

/// Width, height and depth of an insert as it stands, metres.
fn size(insert: &fennik_core::scene::Insert, assets: &dyn Assets) -> Result<[f64; 3], EngineError> {
    let (mesh, at) = RenderScene::shape(insert, &[], 0.0, assets)?;
    let (low, high) = mesh.bounds().unwrap_or_default();
    Ok(std::array::from_fn(|k| f64::from(high[k] - low[k]) * at.scale))
}

/// The flat parts of the scene that are laid: the floor, walls and others.
pub fn surfaces(shot: &OpenShot, solution: &Solution) -> Vec<CameraSurface> {
    let document = shot.document();
    surfaces_of(&document.datum, &document.surfacing.surfaces, solution)
}

/// The floor of a datum and surfaces in its world, as they are written to files.
pub fn surfaces_of(datum: &Datum, surfaces: &[Surface], solution: &Solution) -> Vec<CameraSurface> {
    let floor = datum.floor.is_some().then(|| CameraSurface {
        name: "floor".to_owned(),
        kind: "floor".to_owned(),
        point: [0.0; 3],
        normal: [0.0, 1.0, 0.0],
        outline: floor_corners(datum, solution).iter().map(|p| [p.x, 0.0, p.z]).collect(),
    });
    let others = surfaces.iter().map(|s| CameraSurface {
        name: s.name.clone(),
        kind: s.kind.word().to_owned(),
        point: s.point,
        normal: s.normal,
        outline: s.outline.clone(),
    });
    floor.into_iter().chain(others).collect()
}
