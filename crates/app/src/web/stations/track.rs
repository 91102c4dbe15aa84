//! Tracks, where they are looked for, and which of them count.

use super::job_line::JobLine;
use super::view::{ShotView, Station};
use crate::engine::EngineError;
use crate::engine::ShotError;
use crate::web::PageError;
use crate::web::answer::Editor;
use actix_web::{Responder, post, web};
use askama::Template;
use fennik_core::image::{Channel, PictureSettings};
use fennik_core::matte::Mask;
use fennik_core::scene::{Edit, MaskingEdit, TrackingEdit};
use fennik_core::solve::{OutlierReason, Solution};
use fennik_core::track::{TrackDirection, TrackId, TrackSettings, clusters_of, keep_out_of};
use fennik_store::JobKind;
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(change_settings).service(draw_round);
}

/// One mask in its line.
struct MaskLine {
    id: u32,
    name: String,
    reading: String,
}

impl MaskLine {
    fn of(mask: &Mask) -> Self {
        let keys = mask.outline.keys.len();
        let mut reading = format!("{} · {keys} key{}", mode_word(mask), if keys == 1 { "" } else { "s" });
        if let Some((first, last)) = mask.span {
            reading.push_str(&format!(" · frames {first} to {last}"));
        }
        Self { id: mask.id, name: mask.name.clone(), reading }
    }
}

/// Which side a mask uses, in a word.
pub fn mode_word(mask: &Mask) -> &'static str {
    match mask.mode {
        fennik_core::matte::MaskMode::KeepOut => "keep-out",
        fennik_core::matte::MaskMode::KeepIn => "keep-in",
        fennik_core::matte::MaskMode::Shape => "shape",
    }
}

/// Tracks that are not used for one reason.
struct OutlierGroup {
    word: &'static str,
    name: &'static str,
    why: &'static str,
    count: usize,
}

/// What the solve does not use, by its reasons.
fn outlier_groups(solution: &Solution) -> Vec<OutlierGroup> {
    let count = |reason: OutlierReason| solution.outliers.iter().filter(|a| a.reason == reason).count();
    let group = |reason: OutlierReason| OutlierGroup {
        word: reason.word(),
        name: reason.name(),
        why: reason.why(),
        count: count(reason),
    };
    OutlierReason::ALL.into_iter().map(group).filter(|g| g.count > 0).collect()
}

#[derive(Template)]
#[template(path = "stations/track.html")]
struct Tools<'a> {
    id: i64,
    job: Option<JobLine>,
    working: bool,
    follow: Option<JobLine>,
    analyse: Option<JobLine>,
    tracks_fault: Option<&'a str>,
    has_tracks: bool,
    settings: &'a TrackSettings,
    plain_picture: bool,
    masks: Vec<MaskLine>,
    deleted: usize,
    trusted: usize,
    last_frame: u32,
    outliers: Vec<OutlierGroup>,
}

pub fn station(view: &ShotView) -> Result<Station, EngineError> {
    let document = view.document();
    let settings = &document.tracking.settings;
    let (job, analyse) = (view.job(JobKind::Track), view.job(JobKind::Analyse));
    let tools = Tools {
        id: view.id(),
        working: job.as_ref().or(analyse.as_ref()).is_some_and(|j| j.active),
        job,
        analyse,
        follow: view.job_or_words(JobKind::Follow),
        tracks_fault: view.tracks_fault.as_deref(),
        has_tracks: view.tracks.is_some(),
        settings,
        plain_picture: settings.picture == PictureSettings::default(),
        masks: document.masking.masks.masks.iter().map(MaskLine::of).collect(),
        deleted: document.tracking.deleted.len(),
        trusted: document.tracking.trusted.len(),
        last_frame: document.trim.count() - 1,
        outliers: view.solution.as_ref().map(|s| outlier_groups(s)).unwrap_or_default(),
    };
    Station::new("track", "Track", reading(view), &tools)
}

fn reading(view: &ShotView) -> String {
    let Some(set) = &view.tracks else { return "not tracked".to_owned() };
    let counts = set.counts();
    format!(
        "{} tracks · {} to {} a frame",
        set.tracks.len() - view.document().tracking.deleted.len().min(set.tracks.len()),
        counts.iter().min().unwrap_or(&0),
        counts.iter().max().unwrap_or(&0)
    )
}

/// What the tracker is set to, as the form and looking first hand it over.
#[derive(Debug, Deserialize)]
pub struct TrackForm {
    /// The revision that is changed; looking first changes none.
    #[serde(default)]
    revision: i64,
    /// The frame that is looked at.
    #[serde(default)]
    pub frame: u32,
    density: f64,
    spacing: f64,
    threshold: f64,
    #[serde(default)]
    direction: TrackDirection,
    #[serde(default)]
    channel: Channel,
    #[serde(default)]
    denoise: f64,
    #[serde(default)]
    contrast: f64,
    #[serde(default)]
    sharpen: f64,
}

impl TrackForm {
    /// The settings with these values.
    pub fn over(&self, settings: &TrackSettings) -> TrackSettings {
        let picture = PictureSettings {
            channel: self.channel,
            denoise_px: self.denoise,
            local_contrast: self.contrast,
            sharpen: self.sharpen,
        };
        let Self { density, spacing: spacing_px, threshold, direction, .. } = *self;
        TrackSettings { density, spacing_px, threshold, direction, picture, ..settings.clone() }
    }
}

#[post("/shots/{id}/track-settings")]
async fn change_settings(editor: Editor, form: web::Form<TrackForm>) -> Result<impl Responder, PageError> {
    let form = form.into_inner();
    editor
        .apply(form.revision, move |_, shot| {
            let settings = form.over(&shot.document().tracking.settings);
            Ok(Edit::Tracking(TrackingEdit::TrackSettings { settings }))
        })
        .await
}

#[derive(Deserialize)]
struct DrawRequest {
    revision: i64,
    tracks: Vec<TrackId>,
}

/// Keep-outs round the given tracks, one for each cluster of them that stays together, that move with them.
#[post("/shots/{id}/masks/round-tracks")]
async fn draw_round(editor: Editor, body: web::Json<DrawRequest>) -> Result<impl Responder, PageError> {
    let body = body.into_inner();
    editor
        .apply(body.revision, move |app, shot| {
            let set = app.tracks(shot)?.ok_or(ShotError::NothingSelected)?;
            let chosen: Vec<_> = set.tracks.iter().filter(|t| body.tracks.contains(&t.id)).collect();
            if chosen.is_empty() {
                return Err(ShotError::NothingSelected.into());
            }
            let margin_px = 1.5 * f64::from(shot.document().tracking.settings.window_half_px);
            let clusters = clusters_of(&chosen, set.width);
            // A few that belong to no cluster are meant together.
            let groups = if clusters.is_empty() { vec![chosen] } else { clusters };
            let masks = groups.iter().filter_map(|g| keep_out_of(g, margin_px)).collect();
            Ok(Edit::Masking(MaskingEdit::AddMasks { masks }))
        })
        .await
}
