//! The camera.

use super::Job;
use crate::engine::run::{self, Begin, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Solves the camera afresh from the tracks in use.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Solve {}

impl Job for Solve {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("solve shot {}", shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::solve(store, shot, Begin::Afresh, step)
    }
}

/// Adjusts the camera in use to the tracks as they are chosen now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Refine {}

impl Job for Refine {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("refine shot {}", shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::solve(store, shot, Begin::FromHere, step)
    }
}
