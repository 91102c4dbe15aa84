//! What can be asked for: one file a kind of job, with its request, its key and its run; and the list of them.

mod analyse;
mod decode;
mod deliver;
mod follow;
mod matching;
mod solve;
mod track;

pub use analyse::Analyse;
pub use decode::Decode;
pub use deliver::Deliver;
pub use follow::Follow;
pub use matching::{Draw, Measure};
pub use solve::{Refine, Solve};
pub use track::Track;

use crate::engine::run::Step;
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, JobKind, ShotId, Store};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

/// One kind of job.
trait Job: Serialize + DeserializeOwned {
    /// What it makes, so that the same is not made twice at once.
    fn key(&self, shot: ShotId, clip: ClipId) -> String;

    /// Makes it; returns its closing words.
    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError>;
}

/// What is asked for, of any kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "kind")]
pub enum JobRequest {
    /// Preview frames of a clip.
    Decode(Decode),
    /// Point tracks.
    Track(Track),
    /// The camera.
    Solve(Solve),
    /// The camera, from where it stands.
    Refine(Refine),
    /// Tracks, the camera and a proposed datum.
    Analyse(Analyse),
    /// A mask that follows the picture.
    Follow(Follow),
    /// Grain and sharpness of the plate.
    Measure(Measure),
    /// Something placed that is drawn to the plate about it.
    Draw(Draw),
    /// The finished video.
    Deliver(Deliver),
}

/// Does something with the request of whatever kind it is.
macro_rules! of_any_kind {
    ($request:expr, $job:ident => $what:expr) => {
        match $request {
            JobRequest::Decode($job) => $what,
            JobRequest::Track($job) => $what,
            JobRequest::Solve($job) => $what,
            JobRequest::Refine($job) => $what,
            JobRequest::Analyse($job) => $what,
            JobRequest::Follow($job) => $what,
            JobRequest::Measure($job) => $what,
            JobRequest::Draw($job) => $what,
            JobRequest::Deliver($job) => $what,
        }
    };
}

impl JobRequest {
    /// Reads what is asked for of a kind, as JSON.
    ///
    /// # Errors
    /// A message that says what is wrong with it.
    pub fn read(kind: JobKind, json: &str) -> Result<Self, EngineError> {
        let unread = |why| EngineError::Request { why };
        fn of<T: DeserializeOwned>(json: &str) -> Result<T, serde_json::Error> {
            serde_json::from_str(json)
        }
        Ok(match kind {
            JobKind::Decode => Self::Decode(of(json).map_err(unread)?),
            JobKind::Track => Self::Track(of(json).map_err(unread)?),
            JobKind::Solve => Self::Solve(of(json).map_err(unread)?),
            JobKind::Refine => Self::Refine(of(json).map_err(unread)?),
            JobKind::Analyse => Self::Analyse(of(json).map_err(unread)?),
            JobKind::Follow => Self::Follow(of(json).map_err(unread)?),
            JobKind::Measure => Self::Measure(of(json).map_err(unread)?),
            JobKind::Draw => Self::Draw(of(json).map_err(unread)?),
            JobKind::Deliver => Self::Deliver(of(json).map_err(unread)?),
        })
    }

    /// Which kind it is.
    pub fn kind(&self) -> JobKind {
        match self {
            Self::Decode(_) => JobKind::Decode,
            Self::Track(_) => JobKind::Track,
            Self::Solve(_) => JobKind::Solve,
            Self::Refine(_) => JobKind::Refine,
            Self::Analyse(_) => JobKind::Analyse,
            Self::Follow(_) => JobKind::Follow,
            Self::Measure(_) => JobKind::Measure,
            Self::Draw(_) => JobKind::Draw,
            Self::Deliver(_) => JobKind::Deliver,
        }
    }

    /// As it is kept, without its kind.
    ///
    /// # Errors
    /// [`EngineError::Json`] when it cannot be written down.
    pub fn written(&self) -> Result<String, EngineError> {
        Ok(of_any_kind!(self, job => serde_json::to_string(job))?)
    }

    /// What it makes.
    pub fn key(&self, shot: ShotId, clip: ClipId) -> String {
        of_any_kind!(self, job => job.key(shot, clip))
    }

    /// Makes it; returns its closing words.
    ///
    /// # Errors
    /// [`EngineError`] when it cannot be made, or a person stops it.
    pub fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        of_any_kind!(self, job => job.run(store, shot, step))
    }

    /// Whether it is about files rather than an analysis: each sort has a worker of its own.
    pub fn is_about_files(&self) -> bool {
        matches!(self, Self::Decode(_) | Self::Deliver(_))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_are_read_as_they_were_written() {
        let all = [
            JobRequest::Decode(Decode {}),
            JobRequest::Track(Track {}),
            JobRequest::Solve(Solve {}),
            JobRequest::Refine(Refine {}),
            JobRequest::Analyse(Analyse {}),
            JobRequest::Follow(Follow { mask: 3, frame: 17 }),
            JobRequest::Measure(Measure {}),
            JobRequest::Draw(Draw { insert: 2, follows: true }),
            JobRequest::Deliver(Deliver {}),
        ];
        for request in all {
            assert_eq!(JobRequest::read(request.kind(), &request.written().unwrap()).unwrap(), request);
        }
        assert!(JobRequest::read(JobKind::Follow, "{}").unwrap_err().to_string().contains("mask"));
    }

    #[test]
    fn the_same_has_one_key_and_what_differs_has_two() {
        let key = |request: JobRequest, shot| request.key(ShotId(shot), ClipId(7));
        let follow = |mask, frame| JobRequest::Follow(Follow { mask, frame });
        assert_eq!(key(JobRequest::Decode(Decode {}), 1), key(JobRequest::Decode(Decode {}), 2), "one clip, two shots");
        assert_ne!(key(JobRequest::Track(Track {}), 1), key(JobRequest::Track(Track {}), 2));
        assert_ne!(key(JobRequest::Track(Track {}), 1), key(JobRequest::Solve(Solve {}), 1));
        assert_ne!(key(follow(1, 5), 1), key(follow(2, 5), 1), "another mask");
        assert_ne!(key(follow(1, 5), 1), key(follow(1, 6), 1), "from another frame");
        assert_eq!(key(follow(1, 5), 1), key(follow(1, 5), 1));
    }
}
