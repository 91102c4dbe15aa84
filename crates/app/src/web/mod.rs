//! The pages. One module an area; handlers read input, make one call, fill one view.

mod answer;
mod assets;
mod bench;
mod clips;
mod data;
mod error;
mod events;
mod files;
#[cfg(test)]
mod golden;
mod guard;
mod lines;
mod picture;
mod sheet;
mod shots;
mod state;
mod stations;
mod track_view;
mod views;

use crate::engine::EngineError;
use crate::jobs::Jobs;
use actix_web::{App, HttpServer, middleware, web};
use error::PageError;
use fennik_store::Store;
use state::AppState;
use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::Arc;

/// Largest body of an edit, bytes.
const EDIT_LIMIT: usize = 4 * 1024 * 1024;

/// Serves the pages on a listener that is already bound, until the process ends. `up` is called once it answers, and
/// heeds the signals that end it.
///
/// # Errors
/// When the server cannot be started.
pub fn serve(listener: TcpListener, store: Arc<Store>, jobs: Arc<Jobs>, up: impl FnOnce()) -> std::io::Result<()> {
    let port = listener.local_addr()?.port();
    let app = web::Data::new(AppState::new(store, jobs, bench::draw));
    actix_web::rt::System::new().block_on(async move {
        let server = HttpServer::new(move || {
            App::new()
                .app_data(app.clone())
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
                .configure(files::routes)
                .configure(bench::routes)
                .configure(stations::routes)
                .configure(sheet::routes)
                .configure(data::routes)
                .configure(track_view::routes)
                .configure(picture::routes)
                .configure(events::routes)
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
