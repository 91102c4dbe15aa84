//! What the scripts draw from.

use super::stations::track::TrackForm;
use super::{AppState, PageError, block};
use crate::engine::adopt::{kept_solve, way_to};
use crate::engine::compose::shows_plate_anew;
use crate::engine::laying::proposed;
use crate::engine::measure::measure;
use crate::engine::picture::{self, grey_jpeg};
use crate::engine::{EngineError, OpenShot, analyse};
use actix_web::http::header::{self, ETag, EntityTag, IfNoneMatch};
use actix_web::{HttpResponse, Responder, get, web};
use fennik_core::camera::{Camera, CameraPath};
use fennik_core::geometry::Similarity;
use fennik_core::scene::{AnalysisId, SolveOfClip, spot_at, transfer};
use fennik_core::solve::{Solution, covariance};
use fennik_store::{AnalysisRow, ShotId};
use nalgebra::{Vector2, Vector3};
use serde::Deserialize;
use serde_json::json;
use std::hash::{Hash, Hasher};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(show_state)
        .service(show_tracks)
        .service(show_solve)
        .service(show_surface)
        .service(show_proposal)
        .service(show_measure)
        .service(look_first)
        .service(show_seen)
        .service(show_comparison);
}

#[get("/shots/{id}/state")]
async fn show_state(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = app.open(*id)?;
        let document = shot.document();
        Ok(json!({
            "shot": shot.state.shot.id,
            "revision": shot.state.head.id,
            "width": shot.clip.width,
            "height": shot.clip.height,
            "rate": [shot.clip.rate.frames, shot.clip.rate.seconds],
            "frames": document.trim.count(),
            "trim": document.trim,
            // What cannot be read is not there for the page; the route says so.
            "tracks": document.tracking.run.filter(|_| app.tracks(&shot).is_ok()),
            "solve": document.solving.solve.filter(|_| app.solution(&shot).is_ok()),
            "deleted": document.tracking.deleted,
            "trusted": document.tracking.trusted,
            "masks": document.masking.masks.masks,
            "floor": document.datum.floor,
            "surfaces": document.surfacing.surfaces,
            "lines": document.datum.lines,
            "inserts": document.placing.inserts,
            "light": document.light,
            "holdouts": document.holding.holdouts,
            "finish": document.finish,
            "lens": document.lens,
            // Whether frames look otherwise than they were filmed although nothing is placed.
            "graded": !document.finish.is_plain() || shows_plate_anew(&shot),
            "plate": document.plate,
            // What its pictures and its solve are made from: as long as these stay, nothing need be fetched anew.
            "picture": picture::key(&shot),
            "scene": scene_key(&app, &shot),
        }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

#[get("/shots/{id}/tracks")]
async fn show_tracks(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        let shot = app.open(*id)?;
        Ok(shot.document().tracking.run.map(|t| app.store.analysis_bytes(t)).transpose()?)
    })
    .await?;
    Ok(match bytes {
        Some(bytes) => HttpResponse::Ok().content_type("application/octet-stream").body(bytes),
        None => HttpResponse::NoContent().finish(),
    })
}

/// Names the answer of `solve` by what it is made from.
fn scene_key(app: &AppState, shot: &OpenShot) -> String {
    let own = shot.solve_is_of_these_tracks(&app.store).is_ok();
    let made_from = (shot.document().solving.solve, own, shot.document().datum.world_from_solve);
    let mut hasher = std::collections::hash_map::DefaultHasher::new();
    serde_json::to_string(&made_from).unwrap_or_default().hash(&mut hasher);
    format!("{:016x}", hasher.finish())
}

/// Cameras and points in the world of the datum, and the readings of the lanes.
#[get("/shots/{id}/solve")]
async fn show_solve(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    known: web::Header<IfNoneMatch>,
) -> Result<impl Responder, PageError> {
    let (tag, body) = block(move || {
        let shot = app.open(*id)?;
        let tag = EntityTag::new_strong(scene_key(&app, &shot));
        // Who has it already need not be sent it again.
        if matches!(known.into_inner(), IfNoneMatch::Items(tags) if tags.iter().any(|t| t.weak_eq(&tag))) {
            return Ok((tag, None));
        }
        let body = solve_of(&app, &shot)?;
        Ok((tag, Some(body)))
    })
    .await?;
    let mut answer = if body.is_some() { HttpResponse::Ok() } else { HttpResponse::NotModified() };
    answer.insert_header(ETag(tag)).insert_header((header::CACHE_CONTROL, "private, no-cache"));
    Ok(match body {
        Some(body) => answer.json(body),
        None => answer.finish(),
    })
}

fn solve_of(app: &AppState, shot: &OpenShot) -> Result<serde_json::Value, EngineError> {
    let solution = app.solution(shot)?;
    let own = shot.solve_is_of_these_tracks(&app.store).is_ok();
    let world = &shot.document().datum.world_from_solve;
    let path = CameraPath::new(&solution, world);
    let frames: Vec<_> = solution
        .frames
        .iter()
        .zip(path.cameras())
        .map(|(f, camera)| {
            let mut shown = camera_as_sent(&camera, solution.height);
            let readings = json!({ "rms": f.rms_px, "n": f.points, "slip": f.slip_px,
                "spread": in_world(&f.spread, world) });
            if let (Some(shown), serde_json::Value::Object(readings)) = (shown.as_object_mut(), readings) {
                shown.extend(readings);
            }
            shown
        })
        .collect();
    let points: Vec<_> = solution
        .points
        .iter()
        .enumerate()
        .map(|(i, p)| {
            let id = if own { i64::from(p.id.0) } else { -1 - i as i64 };
            json!({ "id": id, "x": world.point(p.position), "rms": p.rms_px, "views": p.views,
                "parallax": p.parallax_deg, "spread": in_world(&p.spread, world) })
        })
        .collect();
    let reasons: Vec<_> =
        solution.verdict.reasons.iter().map(|r| json!({ "frames": r.frames, "tracks": r.tracks })).collect();
    if !own {
        // Ids of another run mean other tracks.
        return Ok(
            json!({ "own": false, "frames": frames, "points": points, "rejected": [], "outliers": [], "again": [],
                "reasons": reasons, "rms": solution.rms_px, "zoom": solution.zoom }),
        );
    }
    Ok(json!({ "own": true, "frames": frames, "points": points, "rejected": solution.rejected,
        "outliers": solution.outliers, "again": solution.agreeing_again, "reasons": reasons, "rms": solution.rms_px,
        "zoom": solution.zoom }))
}

/// A camera as the page projects with it (static/js/math/camera.js): where its middle row stands, its lens, and how it
/// moves while the rows are read.
pub fn camera_as_sent(camera: &Camera, height: u32) -> serde_json::Value {
    let pose = camera.pose();
    let m = pose.rotation.matrix();
    let rows: [[f64; 3]; 3] = std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)]));
    let motion = camera.row_motion();
    let velocity = motion.map(|(v, _)| {
        json!({ "turn": v.turn, "shift": v.shift, "turn_acceleration": v.turn_acceleration,
            "shift_acceleration": v.shift_acceleration })
    });
    json!({ "frame": camera.frame, "r": rows, "t": pose.translation, "f": camera.lens.focal_px,
        "c": camera.lens.centre_px, "k": [camera.lens.k1, camera.lens.k2], "v": velocity, "rows": height,
        "readout": camera.readout(), "origin": motion.map(|(_, origin)| origin) })
}

/// A covariance in the world of the datum, of the same six numbers.
fn in_world(spread: &[f64; 6], world: &Similarity) -> [f64; 6] {
    let r = world.rotation.matrix();
    let m = r * covariance(*spread) * r.transpose() * (world.scale * world.scale);
    [m[(0, 0)], m[(0, 1)], m[(0, 2)], m[(1, 1)], m[(1, 2)], m[(2, 2)]]
}

#[derive(Deserialize)]
struct At {
    frame: u32,
    x: f64,
    y: f64,
}

#[get("/shots/{id}/surface")]
async fn show_surface(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    at: web::Query<At>,
) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = app.open(*id)?;
        let solution = app.solution(&shot)?;
        let document = shot.document();
        let surfaces = &document.surfacing.surfaces;
        Ok(match spot_at(&solution, &document.datum, surfaces, at.frame, Vector2::new(at.x, at.y)) {
            Ok(spot) => json!(spot),
            Err(why) => json!({ "why": why.to_string() }),
        })
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// The datum that is proposed, as a world within that of the datum in use: where its origin lies, its axes, how long
/// its metre is, and the outlines of its floor and surfaces.
#[get("/shots/{id}/proposal")]
async fn show_proposal(app: web::Data<AppState>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = app.open(*id)?;
        let (solution, survey) = (app.solution(&shot)?, app.survey(&shot)?);
        let datum = &shot.document().datum;
        Ok(proposed(&shot, &solution, &survey).map(|p| {
            let here = p.datum.world_from_solve.inverse().then(&datum.world_from_solve);
            let axis = |v: Vector3<f64>| here.rotation * v;
            let round = |outline: &[[f64; 3]]| -> Vec<Vector3<f64>> {
                outline.iter().map(|c| here.point(Vector3::from(*c))).collect()
            };
            let surfaces: Vec<_> = p
                .surfaces
                .iter()
                .map(|s| json!({ "name": s.name, "kind": s.kind, "outline": round(&s.outline) }))
                .collect();
            json!({ "origin": here.translation, "normal": axis(Vector3::y()), "ahead": axis(-Vector3::z()),
                "metre": here.scale, "floor": p.datum.floor.is_some(),
                "outline": p.datum.floor.map(|f| round(&f.outline)), "surfaces": surfaces })
        }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

#[derive(Deserialize)]
struct Between {
    frame: u32,
    x: f64,
    y: f64,
    to_frame: u32,
    to_x: f64,
    to_y: f64,
}

/// What lies between two places under pixels: distance, heights over the floor, the angle between their surfaces.
#[get("/shots/{id}/measure")]
async fn show_measure(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    between: web::Query<Between>,
) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = app.open(*id)?;
        let solution = app.solution(&shot)?;
        let document = shot.document();
        let pixels = [(between.frame, between.x, between.y), (between.to_frame, between.to_x, between.to_y)];
        let [a, b] = pixels.map(|(frame, x, y)| {
            spot_at(&solution, &document.datum, &document.surfacing.surfaces, frame, Vector2::new(x, y))
        });
        let (a, b) = (a?, b?);
        let measured = measure(&solution, document, (&a, pixels[0].0), (&b, pixels[1].0));
        Ok(json!({ "from": a.point, "to": b.point, "text": measured.text(document.datum.scale.is_known()),
            "distance": measured.distance, "distance_deviation": measured.distance_deviation,
            "heights": measured.heights, "angle_deg": measured.angle_deg }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// Where points would land on a frame of the trimmed clip, and how much of it they cover.
#[get("/shots/{id}/look")]
async fn look_first(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    look: web::Query<TrackForm>,
) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = app.open(*id)?;
        let document = shot.document();
        let settings = look.over(&document.tracking.settings);
        settings.validate()?;
        let picture = app.seen(&shot, look.frame, &settings.picture)?;
        let seen = analyse::look(&picture, look.frame, &settings, document.masking.masks.clone())?;
        Ok(json!({ "frame": look.frame, "points": seen.points, "coverage": seen.coverage }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// A frame of the trimmed clip as the tracker would see it.
#[get("/shots/{id}/seen")]
async fn show_seen(
    app: web::Data<AppState>,
    id: web::Path<ShotId>,
    look: web::Query<TrackForm>,
) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        let shot = app.open(*id)?;
        let settings = look.over(&shot.document().tracking.settings);
        settings.validate()?;
        let picture = app.seen(&shot, look.frame, &settings.picture)?;
        grey_jpeg(&picture)
    })
    .await?;
    Ok(HttpResponse::Ok().content_type("image/jpeg").body(bytes))
}

/// The readings of a kept solve, to be compared with the one in use, on the frames of the trim; and how what is placed
/// would come along to it.
#[get("/shots/{id}/solves/{analysis}")]
async fn show_comparison(
    app: web::Data<AppState>,
    path: web::Path<(ShotId, AnalysisId)>,
) -> Result<impl Responder, PageError> {
    let (id, analysis) = path.into_inner();
    let body = block(move || {
        let shot = app.open(id)?;
        comparison(&app, &shot, analysis)
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

fn comparison(app: &AppState, shot: &OpenShot, analysis: AnalysisId) -> Result<serde_json::Value, EngineError> {
    let row = app.store.analysis(analysis)?;
    let solution = kept_solve(&app.store, shot.state.shot.id, &row)?;
    let trim = shot.document().trim;
    let begins = row.trim.unwrap_or(trim).first;
    let here = |frame: u32| (frame + begins).checked_sub(trim.first).filter(|f| *f < trim.count());
    let shown = || solution.frames.iter().filter_map(|f| Some((here(f.frame)?, f)));
    let frames: Vec<_> =
        shown().map(|(frame, f)| json!({ "frame": frame, "rms": f.rms_px, "f": f.lens.focal_px })).collect();
    let world = &shot.document().datum.world_from_solve;
    // Laid over the solve in use, so that the paths can be compared.
    let way = way_to(&app.store, shot.document(), &row, &solution);
    let (carried, apart, over) = match &way {
        Ok(Some((way, _))) => (Some(way.fit), None, Some(way.new_from_old.inverse())),
        Ok(None) => (None, None, overlay(app, shot, &row, &solution)),
        Err(why) => (None, Some(why.to_string()), None),
    };
    let path: Vec<_> =
        over.map_or_else(Vec::new, |o| shown().map(|(_, f)| json!(world.point(o.point(f.pose.centre())))).collect());
    Ok(json!({ "id": analysis, "rms": solution.rms_px, "frames": frames, "path": path, "regions": solution.regions_px,
        "carried": carried, "apart": apart }))
}

/// The way from a kept solve to the one in use, where nothing is laid that would ask for it.
fn overlay(app: &AppState, shot: &OpenShot, row: &AnalysisRow, kept: &Solution) -> Option<Similarity> {
    let used = app.solution(shot).ok()?;
    let used_row = app.store.analysis(shot.document().solving.solve?).ok()?;
    let trim = shot.document().trim;
    let of = |solution, row: &AnalysisRow| SolveOfClip { solution, first_frame: row.trim.unwrap_or(trim).first };
    let same_run = row.source.is_some() && row.source == used_row.source;
    transfer(of(kept, row), of(&used, &used_row), same_run, &[]).ok().map(|t| t.new_from_old)
}
