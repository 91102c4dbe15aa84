//! The finished video.

use super::Job;
use crate::engine::run::{self, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Renders the trimmed clip with its inserts and keeps the video with the shot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Deliver {}

impl Job for Deliver {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("deliver shot {}", shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::deliver(store, shot, step)
    }
}
