//! Masks: made of a cluster of tracks, and set to follow the picture. Drawing and changing them are plain edits.

use super::edits::apply;
use super::{Desk, PageError, block, workbench};
use crate::engine::{EngineError, read_tracks};
use actix_web::{Responder, post, web};
use fennik_core::scene::{Edit, MaskingEdit};
use fennik_core::track::{TrackId, clusters_of, keep_out_of};
use fennik_store::{JobKind, ShotId};
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(draw_round).service(follow);
}

#[derive(Deserialize)]
struct DrawRequest {
    revision: i64,
    tracks: Vec<TrackId>,
}

/// Keep-outs round the given tracks, one for each cluster of them that stays together, that move with them.
#[post("/shots/{id}/masks/round-tracks")]
async fn draw_round(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    body: web::Json<DrawRequest>,
) -> Result<impl Responder, PageError> {
    let (id, body) = (*id, body.into_inner());
    apply(desk, id, body.revision, move |desk| {
        let shot = desk.open(id)?;
        let nothing = || EngineError::Message("select tracks first; the keep-out is drawn round them".to_owned());
        let run = shot.document().tracking.run.ok_or_else(nothing)?;
        let set = read_tracks(&desk.store, run)?;
        let chosen: Vec<_> = set.tracks.iter().filter(|t| body.tracks.contains(&t.id)).collect();
        let margin_px = 1.5 * f64::from(shot.document().tracking.settings.window_half_px);
        if chosen.is_empty() {
            return Err(nothing());
        }
        let clusters = clusters_of(&chosen, set.width);
        // A few that belong to no cluster are meant together.
        let groups = if clusters.is_empty() { vec![chosen] } else { clusters };
        Ok(Edit::Masking(MaskingEdit::AddMasks {
            masks: groups.iter().filter_map(|g| keep_out_of(g, margin_px)).collect(),
        }))
    })
    .await
}

#[derive(Deserialize)]
struct FollowForm {
    mask: u32,
    frame: u32,
}

/// Has a mask follow the picture from a frame on, both ways.
#[post("/shots/{id}/masks/follow")]
async fn follow(
    desk: web::Data<Desk>,
    id: web::Path<ShotId>,
    form: web::Json<FollowForm>,
) -> Result<impl Responder, PageError> {
    let (id, form) = (*id, form.into_inner());
    block(move || {
        desk.jobs.queue(id, JobKind::Follow, &format!("{} {}", form.mask, form.frame))?;
        workbench::route_html(&desk, id)
    })
    .await
}
