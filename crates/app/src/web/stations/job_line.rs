//! The line of a job at its station.

use fennik_store::{JobRow, JobState};

/// A job that is waiting, at work, or ended other than well.
pub struct JobLine {
    pub id: i64,
    pub kind: &'static str,
    pub word: &'static str,
    pub active: bool,
    pub done: u32,
    pub total: u32,
    pub percent: u32,
    pub message: String,
}

impl JobLine {
    /// Nothing of a job that ended well: what it made is seen.
    pub fn of(job: &JobRow) -> Option<Self> {
        (job.state != JobState::Done).then(|| Self::with_words(job))
    }

    /// With its closing words where it ended well.
    pub fn with_words(job: &JobRow) -> Self {
        Self {
            id: job.id.0,
            kind: job.kind.word(),
            word: job.state.word(),
            active: matches!(job.state, JobState::Waiting | JobState::Running),
            done: job.done,
            total: job.total,
            percent: (100 * u64::from(job.done) / u64::from(job.total.max(1))) as u32,
            message: job.message.clone(),
        }
    }
}
