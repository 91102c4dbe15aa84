//! Everything from the clip to a proposed datum.

use super::Job;
use crate::engine::run::{self, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Tracks the trimmed clip, solves the camera and looks for floor and walls, as the shot is set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Analyse {}

impl Job for Analyse {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("analyse shot {}", shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::analyse(store, shot, step)
    }
}
