//! `fennik serve` and `fennik demo`.

use super::error::CliError;
use crate::engine::{EngineError, demo, plain};
use crate::jobs::{Decode, JobRequest, Jobs};
use crate::web;
use fennik_store::Store;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
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
    /// Make the plain project instead, which everything is measured and tried on.
    #[arg(long, hide = true)]
    plain: bool,
    /// Track and solve the clips that ship and write the analyses that ship with them to this folder.
    #[arg(long, value_name = "DIR", hide = true)]
    make_analyses: Option<PathBuf>,
}

/// Marks a data folder as that of a demo project, which may be begun anew.
const DEMO_MARK: &str = "fennik-demo";
/// What the mark says while the project is made, and from then on.
const BEING_MADE: &str = "the demo project of Fennik is being made\n";
const MADE: &str = "the demo project of Fennik; fennik demo --reset begins it anew\n";

/// Says in a data folder how far its demo project is.
fn mark_demo(data: &Path, says: &str) -> Result<(), CliError> {
    let path = data.join(DEMO_MARK);
    std::fs::write(&path, says).map_err(|why| CliError::Unwritten { path, why })
}

/// Whether the demo project of a data folder was never made whole.
fn is_half_made(data: &Path) -> bool {
    std::fs::read(data.join(DEMO_MARK)).is_ok_and(|says| says == BEING_MADE.as_bytes())
}

/// Serves a data folder.
pub fn run(arguments: &ServeArguments) -> Result<(), CliError> {
    let data = arguments.data.clone().unwrap_or_else(web::default_data_folder);
    let listener = bind(arguments.port)?;
    let lock = Store::lock_folder(&data)?;
    let store = Store::open(&data)?;
    listen(Arc::new(store), listener, lock)
}

/// Serves the demo project, making it when it is not there.
pub fn run_demo(arguments: &DemoArguments) -> Result<(), CliError> {
    if let Some(folder) = &arguments.make_analyses {
        return Ok(demo::make_analyses(folder)?);
    }
    let data = arguments.data.clone().unwrap_or_else(|| web::default_data_folder().join("demo"));
    let listener = bind(arguments.port)?;
    let lock = Store::lock_folder(&data)?;
    if arguments.reset && data.join("fennik.sqlite").exists() {
        if !data.join(DEMO_MARK).exists() {
            return Err(CliError::NoDemo { folder: data });
        }
        Store::remove_own_files(&data)?;
    }
    let store = Arc::new(Store::open(&data)?);
    let fresh = store.shots()?.is_empty();
    if fresh {
        mark_demo(&data, BEING_MADE)?;
        if !arguments.plain {
            eprintln!("making the demo project; that is done once and takes about a minute");
        }
    }
    if arguments.plain { plain::ensure(&store) } else { demo::ensure(&store) }?;
    if !fresh && is_half_made(&data) {
        // Nothing that is there goes unasked.
        eprintln!("the demo project was interrupted while it was made; fennik demo --reset makes it anew");
    } else if fresh || demo::is_of_demo(&store)? {
        // A folder of one's own clips in which somebody once started the demo stays unmarked.
        mark_demo(&data, MADE)?;
    }
    listen(store, listener, lock)
}

/// Before anything is marked or made, the port must be ours.
fn bind(port: u16) -> Result<TcpListener, CliError> {
    TcpListener::bind(("127.0.0.1", port)).map_err(|why| CliError::Port { port, why })
}

/// Serves a folder that is locked until the program ends.
fn listen(store: Arc<Store>, listener: TcpListener, lock: std::fs::File) -> Result<(), CliError> {
    tracing_subscriber::fmt().with_writer(std::io::stderr).with_max_level(tracing::Level::WARN).init();
    store.mark_interrupted()?;
    store.purge_deleted().and_then(|_| store.sweep())?;
    let address = listener.local_addr()?;
    let jobs = Jobs::start(store.clone());
    resume_decoding(&store, &jobs)?;
    let up = || println!("Fennik is at http://{address}/");
    let ended = web::serve(listener, store.clone(), jobs.clone(), up);
    jobs.end();
    // Until here deleted shots could be brought back. What cannot be freed now is by the next start.
    let _ = store.purge_deleted();
    drop(lock);
    Ok(ended?)
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
