//! Long work: a queue, a bounded pool, and news of how far it is.

mod work;

pub use work::delivered_path;

use crate::engine::EngineError;
use fennik_store::{JobId, JobKind, JobRow, JobState, ShotId, Store, StoreError};
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::{Duration, Instant};
use tokio::sync::broadcast;

/// Time between two notes of progress.
const NEWS_EVERY: Duration = Duration::from_millis(120);
/// Time between two notes of progress in the database.
const KEEP_EVERY: Duration = Duration::from_secs(2);
/// Longest time that the end of the program waits for the work to hear of it.
const END_WITHIN: Duration = Duration::from_secs(5);

/// What the page hears of a job.
#[derive(Debug, Clone, serde::Serialize)]
pub struct News {
    /// The job.
    pub job: JobRow,
    /// Seconds left, once that can be told.
    pub left_s: Option<u32>,
}

/// The queue and its workers.
pub struct Jobs {
    store: Arc<Store>,
    queues: [mpsc::Sender<JobId>; 2],
    stops: Mutex<HashMap<JobId, Arc<AtomicBool>>>,
    news: broadcast::Sender<News>,
    ending: AtomicBool,
    at_work: AtomicUsize,
}

impl Jobs {
    /// Starts the workers: one for analyses, one for decoding and delivering, so that a clip can be
    /// taken in while another is tracked. Each uses both cores by itself.
    pub fn start(store: Arc<Store>) -> Arc<Self> {
        let (analyses, analysis_jobs) = mpsc::channel();
        let (files, file_jobs) = mpsc::channel();
        let jobs = Arc::new(Self {
            store,
            queues: [analyses, files],
            stops: Mutex::new(HashMap::new()),
            news: broadcast::channel(256).0,
            ending: AtomicBool::new(false),
            at_work: AtomicUsize::new(0),
        });
        for queue in [analysis_jobs, file_jobs] {
            let jobs = Arc::downgrade(&jobs);
            std::thread::spawn(move || {
                while let Ok(id) = queue.recv() {
                    let Some(jobs) = jobs.upgrade() else { break };
                    jobs.at_work.fetch_add(1, Ordering::SeqCst);
                    if !jobs.ending.load(Ordering::SeqCst) {
                        jobs.run(id);
                    }
                    jobs.at_work.fetch_sub(1, Ordering::SeqCst);
                }
            });
        }
        jobs
    }

    /// Queues a job with what it is to work on, unless one of its kind is already waiting or at work for the shot.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn queue(&self, shot: ShotId, kind: JobKind, argument: &str) -> Result<JobId, StoreError> {
        let active = |j: &JobRow| j.kind == kind && matches!(j.state, JobState::Waiting | JobState::Running);
        if let Some(job) = self.store.latest_jobs(shot)?.into_iter().find(active) {
            return Ok(job.id);
        }
        let id = self.store.add_job(shot, kind, argument)?;
        self.stops().insert(id, Arc::new(AtomicBool::new(false)));
        let queue = usize::from(matches!(kind, JobKind::Decode | JobKind::Deliver));
        // The receiver lives as long as the program.
        let _ = self.queues[queue].send(id);
        self.tell(self.store.job(id)?, None);
        Ok(id)
    }

    /// Asks a job to stop.
    pub fn stop(&self, id: JobId) {
        if let Some(flag) = self.stops().get(&id) {
            flag.store(true, Ordering::Relaxed);
        }
    }

    /// Ends all work and what it runs; the next start of the program finds it interrupted.
    pub fn end(&self) {
        self.ending.store(true, Ordering::SeqCst);
        for flag in self.stops().values() {
            flag.store(true, Ordering::Relaxed);
        }
        let began = Instant::now();
        while self.at_work.load(Ordering::SeqCst) > 0 && began.elapsed() < END_WITHIN {
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// News of all jobs from now on.
    pub fn listen(&self) -> broadcast::Receiver<News> {
        self.news.subscribe()
    }

    fn stops(&self) -> std::sync::MutexGuard<'_, HashMap<JobId, Arc<AtomicBool>>> {
        self.stops.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn tell(&self, job: JobRow, left_s: Option<u32>) {
        // Nobody listening is no fault.
        let _ = self.news.send(News { job, left_s });
    }

    fn run(&self, id: JobId) {
        let Ok(mut job) = self.store.job(id) else { return };
        let stop = self.stops().get(&id).cloned().unwrap_or_default();
        job.state = JobState::Running;
        let mut reporter = Reporter { jobs: self, job: job.clone(), stop, began: Instant::now(), told: None, kept: Instant::now() };
        reporter.keep();
        let outcome = if reporter.stop.load(Ordering::Relaxed) { Err(EngineError::Stopped) } else { work::run(&self.store, &mut reporter) };
        let mut job = reporter.job.clone();
        let stopped = matches!(outcome, Err(EngineError::Stopped | EngineError::Solve(fennik_core::solve::SolveFailure::Stopped)));
        if stopped && self.ending.load(Ordering::SeqCst) {
            return;
        }
        (job.state, job.message) = match outcome {
            Ok(message) => (JobState::Done, message),
            Err(_) if stopped => (JobState::Stopped, "stopped; what was there before is kept".to_owned()),
            Err(error) => (JobState::Failed, error.to_string()),
        };
        if let Err(error) = self.store.update_job(&job) {
            tracing::error!(%error, "a job's end could not be noted");
        }
        self.stops().remove(&id);
        self.tell(job, None);
    }
}

/// How a piece of work tells how far it is and hears that it should stop.
pub struct Reporter<'a> {
    jobs: &'a Jobs,
    /// The job.
    pub job: JobRow,
    stop: Arc<AtomicBool>,
    began: Instant,
    told: Option<Instant>,
    kept: Instant,
}

impl Reporter<'_> {
    /// Tells that `done` of `total` steps are done; `false` when the work should stop.
    pub fn step(&mut self, done: u32, total: u32, message: &str) -> bool {
        self.job.done = done;
        self.job.total = total;
        if self.job.message != message {
            message.clone_into(&mut self.job.message);
        }
        if self.told.is_none_or(|t| t.elapsed() > NEWS_EVERY) {
            self.told = Some(Instant::now());
            let elapsed = self.began.elapsed().as_secs_f64();
            let left =
                (done > 0 && total >= done && elapsed > 1.0).then(|| (elapsed / f64::from(done) * f64::from(total - done)).ceil() as u32);
            self.jobs.tell(self.job.clone(), left);
            if self.kept.elapsed() > KEEP_EVERY {
                self.keep();
            }
        }
        !self.stop.load(Ordering::Relaxed)
    }

    fn keep(&mut self) {
        self.kept = Instant::now();
        if let Err(error) = self.jobs.store.update_job(&self.job) {
            tracing::error!(%error, "a job's progress could not be noted");
        }
    }
}
