//! Long work: a queue, a bounded pool, and news of how far it is.

mod kinds;

pub use kinds::{Decode, JobRequest};

use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, JobId, JobRow, JobState, ShotId, Store, StoreError};
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
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

/// Time between two tries to note ends of jobs that could not be noted.
const NOTE_AGAIN_EVERY: Duration = Duration::from_secs(1);

/// The queue and its workers.
pub struct Jobs {
    store: Arc<Store>,
    queues: [mpsc::Sender<JobId>; 2],
    /// What waits or is at work, with the flag that stops it.
    active: Mutex<HashMap<JobId, Active>>,
    /// Ends that the disk would not take; they count, and are noted again.
    unnoted: Mutex<HashMap<JobId, JobRow>>,
    news: broadcast::Sender<News>,
    ending: AtomicBool,
    at_work: AtomicUsize,
}

struct Active {
    shot: ShotId,
    key: String,
    stop: Arc<AtomicBool>,
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
            active: Mutex::new(HashMap::new()),
            unnoted: Mutex::new(HashMap::new()),
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
        let noting = Arc::downgrade(&jobs);
        std::thread::spawn(move || {
            while let Some(jobs) = noting.upgrade() {
                jobs.note_again();
                drop(jobs);
                std::thread::sleep(NOTE_AGAIN_EVERY);
            }
        });
        jobs
    }

    /// Queues what is asked for, unless the same is already waiting or at work.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the shot is gone; others when the database refuses.
    pub fn queue(&self, shot: ShotId, request: &JobRequest) -> Result<JobId, EngineError> {
        let clip = self.store.shot_clip(shot)?;
        // Held until the job is noted, so that of many who ask at once one is first.
        let mut active = self.active();
        let key = request.key(shot, clip);
        if let Some((id, _)) = active.iter().find(|(_, a)| a.key == key) {
            return Ok(*id);
        }
        let id = self.store.add_job(shot, request.kind(), &request.written()?)?;
        let stop = Arc::new(AtomicBool::new(false));
        active.insert(id, Active { shot, key, stop });
        drop(active);
        let queue = usize::from(request.is_about_files());
        // The receiver lives as long as the program.
        let _ = self.queues[queue].send(id);
        self.tell(self.store.job(id)?, None);
        Ok(id)
    }

    /// The newest job of each kind of a shot, as it stands.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn latest(&self, shot: ShotId) -> Result<Vec<JobRow>, StoreError> {
        let mut jobs = self.store.latest_jobs(shot)?;
        let unnoted = self.unnoted.lock().unwrap_or_else(PoisonError::into_inner);
        for job in &mut jobs {
            if let Some(end) = unnoted.get(&job.id) {
                *job = end.clone();
            }
        }
        Ok(jobs)
    }

    /// Whether somebody is making the preview frames of a clip.
    pub fn decodes(&self, clip: ClipId) -> bool {
        // The same whichever shot of the clip asked.
        let key = JobRequest::Decode(Decode {}).key(ShotId(0), clip);
        self.active().values().any(|a| a.key == key)
    }

    /// Asks a job to stop.
    pub fn stop(&self, id: JobId) {
        if let Some(active) = self.active().get(&id) {
            active.stop.store(true, Ordering::Relaxed);
        }
    }

    /// Asks all jobs of a shot to stop.
    pub fn stop_all_of(&self, shot: ShotId) {
        for active in self.active().values().filter(|a| a.shot == shot) {
            active.stop.store(true, Ordering::Relaxed);
        }
    }

    /// Ends all work and what it runs; the next start of the program finds it interrupted.
    pub fn end(&self) {
        self.ending.store(true, Ordering::SeqCst);
        for active in self.active().values() {
            active.stop.store(true, Ordering::Relaxed);
        }
        let began = Instant::now();
        while self.at_work.load(Ordering::SeqCst) > 0 && began.elapsed() < END_WITHIN {
            std::thread::sleep(Duration::from_millis(10));
        }
        self.note_again();
    }

    /// News of all jobs from now on.
    pub fn listen(&self) -> broadcast::Receiver<News> {
        self.news.subscribe()
    }

    fn active(&self) -> std::sync::MutexGuard<'_, HashMap<JobId, Active>> {
        self.active.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn tell(&self, job: JobRow, left_s: Option<u32>) {
        // Nobody listening is no fault.
        let _ = self.news.send(News { job, left_s });
    }

    fn run(&self, id: JobId) {
        let Ok(mut job) = self.store.job(id) else {
            self.active().remove(&id);
            return;
        };
        let stop = self.active().get(&id).map(|a| a.stop.clone()).unwrap_or_default();
        job.state = JobState::Running;
        let mut reporter =
            Reporter { jobs: self, job: job.clone(), stop, began: Instant::now(), told: None, kept: Instant::now() };
        reporter.keep();
        let outcome =
            if reporter.stop.load(Ordering::Relaxed) { Err(EngineError::Stopped) } else { self.work(&mut reporter) };
        let mut job = reporter.job.clone();
        let stopped = matches!(
            outcome,
            Err(EngineError::Stopped | EngineError::Solve(fennik_core::solve::SolveFailure::Stopped))
        );
        if stopped && self.ending.load(Ordering::SeqCst) {
            return;
        }
        (job.state, job.message) = match outcome {
            Ok(message) => (JobState::Done, message),
            Err(_) if stopped => (JobState::Stopped, "stopped; what was there before is kept".to_owned()),
            Err(error) => (JobState::Failed, error.to_string()),
        };
        self.note_end(job.clone());
        self.active().remove(&id);
        self.tell(job, None);
    }

    fn work(&self, reporter: &mut Reporter) -> Result<String, EngineError> {
        let (id, kind, request) = (reporter.job.shot, reporter.job.kind, reporter.job.request.clone());
        let mut run = || {
            let shot = OpenShot::load(&self.store, id)?;
            let mut step = |done: u32, total: u32, message: &str| reporter.step(done, total, message);
            JobRequest::read(kind, &request)?.run(&self.store, &shot, &mut step)
        };
        guarded(|| with_room_made(&self.store, &mut run))
    }

    /// Notes the end of a job, or holds it until the disk takes it.
    fn note_end(&self, job: JobRow) {
        if let Err(error) = self.store.update_job(&job) {
            tracing::error!(%error, "a job's end could not be noted; it is tried again");
            self.unnoted.lock().unwrap_or_else(PoisonError::into_inner).insert(job.id, job);
        }
    }

    fn note_again(&self) {
        let mut unnoted = self.unnoted.lock().unwrap_or_else(PoisonError::into_inner);
        unnoted.retain(|_, job| self.store.update_job(job).is_err());
    }
}

/// Does a piece of work, and once more where the disk was full and deleted shots could be freed: they are kept until
/// their room is needed.
fn with_room_made(store: &Store, mut work: impl FnMut() -> Result<String, EngineError>) -> Result<String, EngineError> {
    match work() {
        Err(error) if error.is_full_disk() && store.purge_deleted()? > 0 => work(),
        other => other,
    }
}

/// Does a piece of work; a panic in it ends the job and not the queue.
fn guarded(work: impl FnOnce() -> Result<String, EngineError>) -> Result<String, EngineError> {
    // Nothing is read afterwards that the panic could have left half-changed: the reporter holds counts, the store its
    // own transactions.
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|panic| {
        let said =
            panic.downcast_ref::<String>().cloned().or_else(|| panic.downcast_ref::<&str>().map(|s| (*s).to_owned()));
        let reference = ulid::Ulid::generate();
        tracing::error!(%reference, said, "a job broke down");
        Err(EngineError::Broken { reference: reference.to_string() })
    })
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
            let left = (done > 0 && total >= done && elapsed > 1.0)
                .then(|| (elapsed / f64::from(done) * f64::from(total - done)).ceil() as u32);
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

#[cfg(test)]
mod tests {
    use super::kinds::Track;
    use super::*;
    use fennik_core::scene::ShotDocument;

    /// Fault: a panic in a job ended its queue until the next start of the program.
    #[test]
    fn a_panic_is_an_end_like_others_with_a_reference() {
        let ended = guarded(|| panic!("broken"));
        assert!(ended.is_err_and(|e| e.to_string().contains("Reference ")));
        assert!(guarded(|| Ok("done".into())).is_ok_and(|m| m == "done"));
    }

    #[test]
    fn a_full_disk_takes_the_deleted_shots_and_the_work_is_done_again_once() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let full = || EngineError::Media(fennik_media::MediaError::DiskFull { after: 3 });
        let tries = |fails: usize, error: fn() -> EngineError| {
            let mut n = 0;
            let ended = with_room_made(&store, || {
                n += 1;
                if n <= fails { Err(error()) } else { Ok(String::new()) }
            });
            (n, ended.is_ok())
        };
        let clip = store.add_clip("a.mp4", "a", "{}", 9).unwrap();
        let add = || store.add_shot("a", clip, &ShotDocument::new(9)).unwrap();
        let kept = add();
        assert_eq!(tries(1, full), (1, false), "nothing can be freed");
        let gone = add();
        store.delete_shot(gone).unwrap();
        assert_eq!(tries(1, || EngineError::Stopped), (1, false));
        assert!(store.restore_shot(gone).is_ok(), "it was not the disk");
        store.delete_shot(gone).unwrap();
        assert_eq!(tries(1, full), (2, true));
        assert!(store.restore_shot(gone).is_err() && store.shot(kept).is_ok());
        store.delete_shot(add()).unwrap();
        assert_eq!(tries(9, full), (2, false), "once more and no oftener");
    }

    /// Fault: a job whose end could not be written down stayed at work for ever.
    #[test]
    fn an_end_that_the_disk_would_not_take_counts_and_is_noted_again() {
        let folder = tempfile::tempdir().unwrap();
        let store = Arc::new(Store::open(folder.path()).unwrap());
        let clip = store.add_clip("a.mp4", "a", "{}", 9).unwrap();
        let shot = store.add_shot("a", clip, &ShotDocument::new(9)).unwrap();
        let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        db.execute_batch(
            "CREATE TRIGGER full BEFORE UPDATE ON jobs WHEN NEW.state = 'failed' BEGIN SELECT \
            RAISE(ABORT, 'full'); END",
        )
        .unwrap();
        let jobs = Jobs::start(store.clone());
        let id = jobs.queue(shot, &JobRequest::Track(Track {})).unwrap();
        let until = |good: &dyn Fn() -> bool| {
            let began = Instant::now();
            while !good() {
                assert!(began.elapsed() < Duration::from_secs(20), "it never came");
                std::thread::sleep(Duration::from_millis(10));
            }
        };
        // The clip's record says nothing, so the job fails at once.
        until(&|| jobs.latest(shot).unwrap()[0].state == JobState::Failed);
        assert_eq!(store.job(id).unwrap().state, JobState::Running, "the disk has not taken it");
        assert_ne!(jobs.queue(shot, &JobRequest::Track(Track {})).unwrap(), id, "the next can begin");
        db.execute_batch("DROP TRIGGER full").unwrap();
        until(&|| store.job(id).unwrap().state == JobState::Failed);
    }
}
