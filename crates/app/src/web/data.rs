//! What the scripts draw from.

use super::edits::TrackForm;
use super::{Desk, PageError, block, kept_solve};
use crate::engine::analyse;
use crate::engine::picture::grey_jpeg;
use actix_web::{HttpResponse, Responder, get, web};
use fennik_core::geometry::Similarity;
use fennik_core::scene::{AnalysisId, suggest_floor, surface_at};
use fennik_store::ShotId;
use nalgebra::{Matrix3, Vector2};
use serde::Deserialize;
use serde_json::json;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(show_state)
        .service(show_tracks)
        .service(show_solve)
        .service(show_surface)
        .service(show_floor)
        .service(look_first)
        .service(show_seen)
        .service(show_rival);
}

#[get("/shots/{id}/state")]
async fn show_state(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = desk.open(*id)?;
        let document = shot.document();
        Ok(json!({
            "shot": shot.state.shot.id,
            "revision": shot.state.head.id,
            "width": shot.clip.width,
            "height": shot.clip.height,
            "rate": [shot.clip.rate.frames, shot.clip.rate.seconds],
            "frames": document.trim.count(),
            "trim": document.trim,
            "tracks": document.tracks,
            "solve": document.solve,
            "deleted": document.deleted_tracks,
            "trusted": document.trusted_tracks,
            "masks": document.masks.masks,
            "floor": document.datum.floor,
            "inserts": document.inserts,
        }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

#[get("/shots/{id}/tracks")]
async fn show_tracks(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        let shot = desk.open(*id)?;
        Ok(shot.document().tracks.map(|t| desk.store.analysis_bytes(t)).transpose()?)
    })
    .await?;
    Ok(match bytes {
        Some(bytes) => HttpResponse::Ok().content_type("application/octet-stream").body(bytes),
        None => HttpResponse::NoContent().finish(),
    })
}

/// Cameras and points in the world of the datum, and the readings of the lanes.
#[get("/shots/{id}/solve")]
async fn show_solve(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = desk.open(*id)?;
        let solution = desk.solution(&shot)?;
        let world = &shot.document().datum.world_from_solve;
        let frames: Vec<_> = solution
            .frames
            .iter()
            .map(|f| {
                let pose = world.pose(&f.pose);
                let m = pose.rotation.matrix();
                let rows: [[f64; 3]; 3] = std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)]));
                json!({ "frame": f.frame, "r": rows, "t": pose.translation, "f": f.lens.focal_px, "c": f.lens.centre_px,
                    "k": [f.lens.k1, f.lens.k2], "rms": f.rms_px, "n": f.points, "slip": f.slip_px, "spread": in_world(&f.spread, world) })
            })
            .collect();
        let points: Vec<_> = solution
            .points
            .iter()
            .map(|p| {
                json!({ "id": p.id, "x": world.point(p.position), "rms": p.rms_px, "views": p.views, "parallax": p.parallax_deg,
                    "spread": in_world(&p.spread, world) })
            })
            .collect();
        let reasons: Vec<_> = solution.verdict.reasons.iter().map(|r| json!({ "frames": r.frames, "tracks": r.tracks })).collect();
        Ok(json!({ "frames": frames, "points": points, "rejected": solution.rejected, "astray": solution.astray,
            "again": solution.agreeing_again, "reasons": reasons, "rms": solution.rms_px, "zoom": solution.zoom }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// A covariance in the world of the datum, of the same six numbers.
fn in_world(spread: &[f64; 6], world: &Similarity) -> [f64; 6] {
    let [xx, xy, xz, yy, yz, zz] = *spread;
    let r = world.rotation.matrix();
    let m = r * Matrix3::new(xx, xy, xz, xy, yy, yz, xz, yz, zz) * r.transpose() * (world.scale * world.scale);
    [m[(0, 0)], m[(0, 1)], m[(0, 2)], m[(1, 1)], m[(1, 2)], m[(2, 2)]]
}

#[derive(Deserialize)]
struct At {
    frame: u32,
    x: f64,
    y: f64,
}

#[get("/shots/{id}/surface")]
async fn show_surface(desk: web::Data<Desk>, id: web::Path<ShotId>, at: web::Query<At>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = desk.open(*id)?;
        let solution = desk.solution(&shot)?;
        Ok(match surface_at(&solution, &shot.document().datum, at.frame, Vector2::new(at.x, at.y)) {
            Ok(surface) => json!(surface),
            Err(why) => json!({ "why": why }),
        })
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// The floor that Fennik would lay, as a plane in the world of the datum.
#[get("/shots/{id}/floor")]
async fn show_floor(desk: web::Data<Desk>, id: web::Path<ShotId>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = desk.open(*id)?;
        let solution = desk.solution(&shot)?;
        let world = &shot.document().datum.world_from_solve;
        Ok(suggest_floor(&solution)
            .map(|fit| json!({ "middle": world.point(fit.middle), "normal": world.rotation * fit.normal, "reading": fit.reading })))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// Where points would land on a frame of the trimmed clip, and how much of it they cover.
#[get("/shots/{id}/look")]
async fn look_first(desk: web::Data<Desk>, id: web::Path<ShotId>, look: web::Query<TrackForm>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = desk.open(*id)?;
        let document = shot.document();
        let settings = look.over(&document.track_settings);
        settings.validate()?;
        let picture = desk.seen(&shot, look.frame, &settings.picture)?;
        let seen = analyse::look(&picture, look.frame, &settings, document.masks.clone())?;
        Ok(json!({ "frame": look.frame, "points": seen.points, "coverage": seen.coverage }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// A frame of the trimmed clip as the tracker would see it.
#[get("/shots/{id}/seen")]
async fn show_seen(desk: web::Data<Desk>, id: web::Path<ShotId>, look: web::Query<TrackForm>) -> Result<impl Responder, PageError> {
    let bytes = block(move || {
        let shot = desk.open(*id)?;
        let settings = look.over(&shot.document().track_settings);
        settings.validate()?;
        let picture = desk.seen(&shot, look.frame, &settings.picture)?;
        grey_jpeg(&picture)
    })
    .await?;
    Ok(HttpResponse::Ok().content_type("image/jpeg").body(bytes))
}

/// The readings of a kept solve, to be compared with the one in use.
#[get("/shots/{id}/solves/{analysis}")]
async fn show_rival(desk: web::Data<Desk>, path: web::Path<(ShotId, AnalysisId)>) -> Result<impl Responder, PageError> {
    let (id, analysis) = path.into_inner();
    let body = block(move || {
        let shot = desk.open(id)?;
        let solution = kept_solve(&desk, &shot, analysis)?;
        let frames: Vec<_> = solution.frames.iter().map(|f| json!({ "frame": f.frame, "rms": f.rms_px, "f": f.lens.focal_px })).collect();
        let world = &shot.document().datum.world_from_solve;
        // Laid over the solve in use, so that the paths can be compared.
        let over = desk.solution(&shot).ok().and_then(|held| analyse::between_solves(&solution, &held));
        let path: Vec<_> =
            over.map_or_else(Vec::new, |o| solution.frames.iter().map(|f| json!(world.point(o.point(f.pose.centre())))).collect());
        Ok(json!({ "id": analysis, "rms": solution.rms_px, "frames": frames, "path": path, "regions": solution.regions_px }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}
