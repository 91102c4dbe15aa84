//! Point tracks.

use super::Job;
use crate::engine::run::{self, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Tracks the trimmed clip, as the shot is set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Track {}

impl Job for Track {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("track shot {}", shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::track(store, shot, step)
    }
}
