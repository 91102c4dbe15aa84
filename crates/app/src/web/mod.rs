//! The pages. One module an area; handlers read input, make one call, fill one view.

mod assets;
mod clips;
mod data;
mod delivered;
mod edits;
mod error;
mod events;
mod guard;
mod masks;
mod picture;
mod shots;
mod track_view;
mod views;
mod workbench;

use crate::engine::{EngineError, OpenShot, analyse, read_tracks};
use crate::jobs::Jobs;
use actix_web::{App, HttpServer, middleware, web};
use error::PageError;
use fennik_core::image::{PictureSettings, Plane};
use fennik_core::scene::{AnalysisId, FloorFit, suggest_floor};
use fennik_core::solve::Solution;
use fennik_core::track::TrackSet;
use fennik_render::{RenderScene, ShapeCache};
use fennik_store::{ClipId, ShotId, Store};
use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::atomic::AtomicUsize;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

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
    tracks: Mutex<Option<(AnalysisId, Arc<TrackSet>)>>,
    floor: Mutex<Option<(AnalysisId, Option<FloorFit>)>>,
    scene: Mutex<Option<(String, Arc<RenderScene>)>>,
    shapes: ShapeCache,
    pictures: picture::Cache,
    seen: Mutex<Option<Seen>>,
    /// Those who decode a frame for a look take turns; whoever asks for what is there already does not wait for them.
    looking: Mutex<()>,
    listeners: Arc<AtomicUsize>,
}

/// A lock of something that a panic leaves whole.
fn held<T>(slot: &Mutex<T>) -> MutexGuard<'_, T> {
    slot.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Desk {
    fn new(store: Arc<Store>, jobs: Arc<Jobs>) -> Self {
        Self {
            store,
            jobs,
            solution: Mutex::new(None),
            tracks: Mutex::new(None),
            floor: Mutex::new(None),
            scene: Mutex::new(None),
            shapes: ShapeCache::default(),
            pictures: picture::Cache::default(),
            seen: Mutex::new(None),
            looking: Mutex::new(()),
            listeners: Arc::default(),
        }
    }

    fn open(&self, id: ShotId) -> Result<OpenShot, EngineError> {
        OpenShot::load(&self.store, id)
    }

    /// The solve in use, read once.
    fn solution(&self, shot: &OpenShot) -> Result<Arc<Solution>, EngineError> {
        if let (Some(id), Some((kept, solution))) = (shot.document().solving.solve, held(&self.solution).as_ref()) {
            if *kept == id {
                return Ok(solution.clone());
            }
        }
        let solution = Arc::new(shot.solution(&self.store)?);
        *held(&self.solution) = shot.document().solving.solve.map(|id| (id, solution.clone()));
        Ok(solution)
    }

    /// The track run in use, read once; `None` where there is none.
    fn tracks(&self, shot: &OpenShot) -> Result<Option<Arc<TrackSet>>, EngineError> {
        let Some(id) = shot.document().tracking.run else { return Ok(None) };
        if let Some((_, set)) = held(&self.tracks).as_ref().filter(|(kept, _)| *kept == id) {
            return Ok(Some(set.clone()));
        }
        let set = Arc::new(read_tracks(&self.store, id)?);
        *held(&self.tracks) = Some((id, set.clone()));
        Ok(Some(set))
    }

    /// The floor that stands out in the solve in use, looked for once.
    fn suggested_floor(&self, shot: &OpenShot) -> Result<Option<FloorFit>, EngineError> {
        let solution = self.solution(shot)?;
        let Some(id) = shot.document().solving.solve else { return Ok(None) };
        if let Some((_, fit)) = held(&self.floor).as_ref().filter(|(kept, _)| *kept == id) {
            return Ok(fit.clone());
        }
        let fit = suggest_floor(&solution);
        *held(&self.floor) = Some((id, fit.clone()));
        Ok(fit)
    }

    /// A frame of the trimmed clip as the tracker sees it; the last one is kept, so that values may move over it.
    fn seen(&self, shot: &OpenShot, frame: u32, picture: &PictureSettings) -> Result<Arc<Plane>, EngineError> {
        let (first, end) = shot.range();
        let (clip, at) = (shot.state.shot.clip, (first + frame).min(end.saturating_sub(1)));
        let of = (clip, at, *picture);
        let there = || held(&self.seen).as_ref().filter(|s| s.of == of).map(|s| s.plane.clone());
        if let Some(plane) = there() {
            return Ok(plane);
        }
        let _turn = held(&self.looking);
        // Whoever had the turn before may have looked at the same.
        if let Some(plane) = there() {
            return Ok(plane);
        }
        let plane = Arc::new(analyse::seen_frame(&shot.clip, at, picture)?);
        *held(&self.seen) = Some(Seen { of, plane: plane.clone() });
        Ok(plane)
    }

    /// The inserts of the head, built once for as long as nothing of them changes. `key` is that of the picture.
    fn scene(&self, shot: &OpenShot, key: &str) -> Result<Arc<RenderScene>, EngineError> {
        let mut slot = held(&self.scene);
        if let Some((_, scene)) = slot.as_ref().filter(|(kept, _)| kept == key) {
            return Ok(scene.clone());
        }
        let document = shot.document();
        let scene = Arc::new(RenderScene::build(&document.placing.inserts, &document.light, &self.shapes)?);
        *slot = Some((key.to_owned(), scene.clone()));
        Ok(scene)
    }
}

/// Serves the pages on a listener that is already bound, until the process ends. `up` is called once it answers, and
/// heeds the signals that end it.
///
/// # Errors
/// When the server cannot be started.
pub fn serve(listener: TcpListener, store: Arc<Store>, jobs: Arc<Jobs>, up: impl FnOnce()) -> std::io::Result<()> {
    let port = listener.local_addr()?.port();
    let desk = web::Data::new(Desk::new(store, jobs));
    actix_web::rt::System::new().block_on(async move {
        let server = HttpServer::new(move || {
            App::new()
                .app_data(desk.clone())
                .app_data(
                    web::JsonConfig::default()
                        .limit(EDIT_LIMIT)
                        .error_handler(|e, _| PageError::bad_request(&e).into()),
                )
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
        .run();
        let told = async {
            tokio::task::yield_now().await;
            up();
        };
        futures_util::future::join(server, told).await.0
    })
}

/// Runs a piece of work that reads files or the database off the reactor.
async fn block<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, EngineError> + Send + 'static,
) -> Result<T, PageError> {
    // The pool itself ends only with the process, so what fails here is a panic in the work.
    Ok(web::block(work).await.map_err(|_| EngineError::Fault)??)
}

/// Receives an upload as the page's handler does, into a folder that goes again.
pub fn receive_for_fuzzing(body: &[u8], cut: usize) {
    clips::receive_for_fuzzing(body, cut);
}

/// The default data folder: `$XDG_DATA_HOME/fennik`, or `~/.local/share/fennik`.
pub fn default_data_folder() -> PathBuf {
    let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("."), PathBuf::from);
    std::env::var_os("XDG_DATA_HOME").map_or_else(|| home().join(".local/share"), PathBuf::from).join("fennik")
}
