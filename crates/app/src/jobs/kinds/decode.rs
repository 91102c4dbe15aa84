//! Preview frames of a clip.

use super::Job;
use crate::engine::run::{self, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Makes the preview frames of the shot's clip.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Decode {}

impl Job for Decode {
    fn key(&self, _: ShotId, clip: ClipId) -> String {
        // All shots of a clip look at the same previews.
        format!("decode clip {}", clip.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::decode(store, shot, step)
    }
}
