//! What the scripts draw from.

use super::{Desk, PageError, block, kept_solve};
use crate::engine::analyse;
use actix_web::{HttpResponse, Responder, get, web};
use fennik_core::scene::{AnalysisId, suggest_floor, surface_at};
use fennik_core::track::TrackSettings;
use fennik_store::ShotId;
use nalgebra::Vector2;
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
                    "k": [f.lens.k1, f.lens.k2], "rms": f.rms_px, "n": f.points })
            })
            .collect();
        let points: Vec<_> = solution.points.iter().map(|p| json!({ "id": p.id, "x": world.point(p.position), "rms": p.rms_px })).collect();
        Ok(json!({ "frames": frames, "points": points, "rejected": solution.rejected, "rms": solution.rms_px }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
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

#[derive(Deserialize)]
struct Look {
    frame: u32,
    spacing: f64,
    threshold: f64,
}

/// Where points would land on a frame of the trimmed clip, and how much of it they cover.
#[get("/shots/{id}/look")]
async fn look_first(desk: web::Data<Desk>, id: web::Path<ShotId>, look: web::Query<Look>) -> Result<impl Responder, PageError> {
    let body = block(move || {
        let shot = desk.open(*id)?;
        let document = shot.document();
        let settings = TrackSettings { spacing_px: look.spacing, threshold: look.threshold, ..document.track_settings.clone() };
        let picture = desk.grey(&shot, look.frame)?;
        let seen = analyse::look(&picture, look.frame, &settings, document.masks.clone())?;
        Ok(json!({ "frame": look.frame, "points": seen.points, "coverage": seen.coverage }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}

/// The readings of a kept solve, to be compared with the one in use.
#[get("/shots/{id}/solves/{analysis}")]
async fn show_rival(desk: web::Data<Desk>, path: web::Path<(ShotId, AnalysisId)>) -> Result<impl Responder, PageError> {
    let (id, analysis) = path.into_inner();
    let body = block(move || {
        let shot = desk.open(id)?;
        let solution = kept_solve(&desk, &shot, analysis)?;
        let frames: Vec<_> = solution.frames.iter().map(|f| json!({ "frame": f.frame, "rms": f.rms_px, "f": f.lens.focal_px })).collect();
        Ok(json!({ "id": analysis, "rms": solution.rms_px, "frames": frames }))
    })
    .await?;
    Ok(HttpResponse::Ok().json(body))
}
