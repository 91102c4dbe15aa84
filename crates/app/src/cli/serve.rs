//! `fennik serve` and `fennik demo`.

use crate::engine::{EngineError, demo};
use crate::jobs::{Decode, JobRequest, Jobs};
use crate::web;
use fennik_store::Store;
use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::Arc;

/// The usual port.
const PORT: u16 = 4780;

/// Options of `fennik serve`.
#[derive(clap::Args)]
pub struct ServeArguments {
    /// The data folder; made when it is not there.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
    /// The port on 127.0.0.1; 0 takes a free one.
    #[arg(long, value_name = "N", default_value_t = PORT)]
    port: u16,
}

/// Options of `fennik demo`.
#[derive(clap::Args)]
pub struct DemoArguments {
    /// The data folder of the demo project.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
    /// The port on 127.0.0.1; 0 takes a free one.
    #[arg(long, value_name = "N", default_value_t = PORT)]
    port: u16,
    /// Throw the demo project's changes away and begin again.
    #[arg(long)]
    reset: bool,
    /// Track and solve the demo clip and write the analyses that ship with it to this folder.
    #[arg(long, value_name = "DIR", hide = true)]
    make_analyses: Option<PathBuf>,
}

/// Marks a data folder as that of a demo project, which may be begun anew.
const DEMO_MARK: &str = "fennik-demo";

/// Serves a data folder.
pub fn run(arguments: &ServeArguments) -> Result<(), String> {
    let data = arguments.data.clone().unwrap_or_else(web::default_data_folder);
    let listener = bind(arguments.port)?;
    let lock = Store::lock_folder(&data).map_err(|e| e.to_string())?;
    let store = Store::open(&data).map_err(|e| e.to_string())?;
    listen(Arc::new(store), listener, lock)
}

/// Serves the demo project, making it when it is not there.
pub fn run_demo(arguments: &DemoArguments) -> Result<(), String> {
    if let Some(folder) = &arguments.make_analyses {
        return demo::make_analyses(folder).map_err(|e| e.to_string());
    }
    let data = arguments.data.clone().unwrap_or_else(|| web::default_data_folder().join("demo"));
    let listener = bind(arguments.port)?;
    let lock = Store::lock_folder(&data).map_err(|e| e.to_string())?;
    let mark = data.join(DEMO_MARK);
    if arguments.reset && data.join("fennik.sqlite").exists() {
        if !mark.exists() {
            return Err(format!(
                "{} is not marked as a demo project's folder, so nothing in it is thrown away; start the demo there \
                    once without --reset, or name another folder",
                data.display()
            ));
        }
        Store::remove_own_files(&data).map_err(|e| e.to_string())?;
    }
    let store = Arc::new(Store::open(&data).map_err(|e| e.to_string())?);
    let fresh = store.shots().map_err(|e| e.to_string())?.is_empty();
    demo::ensure(&store).map_err(|e| e.to_string())?;
    // A folder of one's own clips in which somebody once started the demo stays unmarked.
    if fresh || store.has_clip_named(demo::CLIP_NAME).map_err(|e| e.to_string())? {
        std::fs::write(&mark, "the demo project of Fennik; fennik demo --reset begins it anew\n")
            .map_err(|e| format!("{} cannot be written: {e}", mark.display()))?;
    }
    listen(store, listener, lock)
}

/// Before anything is marked or made, the port must be ours.
fn bind(port: u16) -> Result<TcpListener, String> {
    TcpListener::bind(("127.0.0.1", port))
        .map_err(|e| format!("port {port} cannot be used ({e}); choose another with --port"))
}

/// Serves a folder that is locked until the program ends.
fn listen(store: Arc<Store>, listener: TcpListener, lock: std::fs::File) -> Result<(), String> {
    tracing_subscriber::fmt().with_writer(std::io::stderr).with_max_level(tracing::Level::WARN).init();
    store.mark_interrupted().map_err(|e| e.to_string())?;
    store.purge_deleted().and_then(|_| store.sweep()).map_err(|e| e.to_string())?;
    let address = listener.local_addr().map_err(|e| e.to_string())?;
    let jobs = Jobs::start(store.clone());
    resume_decoding(&store, &jobs).map_err(|e| e.to_string())?;
    let up = || println!("Fennik is at http://{address}/");
    let ended = web::serve(listener, store.clone(), jobs.clone(), up).map_err(|e| e.to_string());
    jobs.end();
    // Until here deleted shots could be brought back. What cannot be freed now is by the next start.
    let _ = store.purge_deleted();
    drop(lock);
    ended
}

/// Preview frames cost nothing but time; clips that lack theirs get them without asking.
fn resume_decoding(store: &Store, jobs: &Jobs) -> Result<(), EngineError> {
    let mut begun = std::collections::BTreeSet::new();
    for shot in store.shots()? {
        if !store.clip(shot.clip)?.proxies && begun.insert(shot.clip) {
            jobs.queue(shot.id, &JobRequest::Decode(Decode {}))?;
        }
    }
    Ok(())
}
