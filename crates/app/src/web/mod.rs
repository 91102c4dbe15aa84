//! The pages. One module an area; handlers read input, make one call, fill one view.

mod assets;
mod clips;
mod data;
mod delivered;
mod edits;
mod error;
mod events;
mod focal;
mod guard;
mod masks;
mod picture;
mod shots;
mod track_view;
mod views;
mod workbench;

use crate::engine::{EngineError, OpenShot, analyse, read_solve};
use crate::jobs::Jobs;
use actix_web::{App, HttpServer, middleware, web};
use error::PageError;
use fennik_core::image::{PictureSettings, Plane};
use fennik_core::scene::AnalysisId;
use fennik_core::solve::Solution;
use fennik_render::Stage;
use fennik_store::{ClipId, RevisionId, ShotId, Store};
use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

/// Largest body of an edit, bytes.
const EDIT_LIMIT: usize = 4 * 1024 * 1024;

/// A frame as the tracker sees it, and what it was made of.
struct Seen {
    of: (ClipId, u32, PictureSettings),
    plane: Arc<Plane>,
}

/// What every handler may use.
pub struct Desk {
    store: Arc<Store>,
    jobs: Arc<Jobs>,
    solution: Mutex<Option<(AnalysisId, Arc<Solution>)>>,
    stage: Mutex<Option<(RevisionId, Arc<Stage>)>>,
    pictures: picture::Cache,
    seen: Mutex<Option<Seen>>,
}

impl Desk {
    fn new(store: Arc<Store>, jobs: Arc<Jobs>) -> Self {
        Self {
            store,
            jobs,
            solution: Mutex::new(None),
            stage: Mutex::new(None),
            pictures: picture::Cache::default(),
            seen: Mutex::new(None),
        }
    }

    fn open(&self, id: ShotId) -> Result<OpenShot, EngineError> {
        OpenShot::load(&self.store, id)
    }

    /// The solve in use, read once.
    fn solution(&self, shot: &OpenShot) -> Result<Arc<Solution>, EngineError> {
        let mut slot = self.solution.lock().unwrap_or_else(PoisonError::into_inner);
        if let (Some(id), Some((held, solution))) = (shot.document().solve, slot.as_ref()) {
            if *held == id {
                return Ok(solution.clone());
            }
        }
        let solution = Arc::new(shot.solution(&self.store)?);
        *slot = shot.document().solve.map(|id| (id, solution.clone()));
        Ok(solution)
    }

    /// A frame of the trimmed clip as the tracker sees it; the last one is kept, so that values may move over it.
    fn seen(&self, shot: &OpenShot, frame: u32, picture: &PictureSettings) -> Result<Arc<Plane>, EngineError> {
        let (first, end) = shot.range();
        let (clip, at) = (shot.state.shot.clip, (first + frame).min(end.saturating_sub(1)));
        let mut slot = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let of = (clip, at, *picture);
        if let Some(held) = slot.as_ref().filter(|s| s.of == of) {
            return Ok(held.plane.clone());
        }
        let plane = Arc::new(analyse::seen_frame(&shot.clip, at, picture)?);
        *slot = Some(Seen { of, plane: plane.clone() });
        Ok(plane)
    }

    /// The inserts of the head, built once.
    fn stage(&self, shot: &OpenShot) -> Result<Arc<Stage>, EngineError> {
        let mut slot = self.stage.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((held, stage)) = slot.as_ref() {
            if *held == shot.state.head.id {
                return Ok(stage.clone());
            }
        }
        let stage = Arc::new(Stage::build(&shot.document().inserts, &shot.document().light)?);
        *slot = Some((shot.state.head.id, stage.clone()));
        Ok(stage)
    }
}

/// A solve of this shot, from the tracks in use.
///
/// # Errors
/// A message where it belongs to another shot or to other tracks.
fn kept_solve(desk: &Desk, shot: &OpenShot, id: AnalysisId) -> Result<Solution, EngineError> {
    let row = desk.store.analysis(id)?;
    let same_tracks = row.source.is_none() || row.source == shot.document().tracks;
    if row.shot != shot.state.shot.id || !same_tracks {
        return Err(EngineError::Message("this solve belongs to another shot or to other tracks; solve again".to_owned()));
    }
    read_solve(&desk.store, id)
}

/// Serves the pages on a listener that is already bound, until the process ends.
///
/// # Errors
/// When the server cannot be started.
pub fn serve(listener: TcpListener, store: Arc<Store>, jobs: Arc<Jobs>) -> std::io::Result<()> {
    let port = listener.local_addr()?.port();
    let desk = web::Data::new(Desk::new(store, jobs));
    actix_web::rt::System::new().block_on(
        HttpServer::new(move || {
            App::new()
                .app_data(desk.clone())
                .app_data(web::JsonConfig::default().limit(EDIT_LIMIT).error_handler(|e, _| PageError::bad_request(&e).into()))
                .app_data(web::FormConfig::default().error_handler(|e, _| PageError::bad_request(&e).into()))
                .app_data(web::QueryConfig::default().error_handler(|e, _| PageError::bad_request(&e).into()))
                .app_data(web::PathConfig::default().error_handler(|_, _| PageError::not_found().into()))
                .wrap(middleware::from_fn(move |request, next| guard::local_only(port, request, next)))
                .configure(assets::routes)
                .configure(shots::routes)
                .configure(clips::routes)
                .configure(workbench::routes)
                .configure(edits::routes)
                .configure(data::routes)
                .configure(masks::routes)
                .configure(track_view::routes)
                .configure(picture::routes)
                .configure(events::routes)
                .configure(delivered::routes)
                .default_service(web::to(|| async { PageError::not_found() }))
        })
        .workers(2)
        .keep_alive(std::time::Duration::from_secs(60))
        .shutdown_timeout(1)
        .listen(listener)?
        .run(),
    )
}

/// Runs a piece of work that reads files or the database off the reactor.
async fn block<T: Send + 'static>(work: impl FnOnce() -> Result<T, EngineError> + Send + 'static) -> Result<T, PageError> {
    // The pool itself ends only with the process, so what fails here is a panic in the work.
    Ok(web::block(work).await.map_err(|_| EngineError::Fault)??)
}

/// The default data folder: `$XDG_DATA_HOME/fennik`, or `~/.local/share/fennik`.
pub fn default_data_folder() -> PathBuf {
    let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("."), PathBuf::from);
    std::env::var_os("XDG_DATA_HOME").map_or_else(|| home().join(".local/share"), PathBuf::from).join("fennik")
}
