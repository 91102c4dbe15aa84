//! A mask that follows the picture.

use super::Job;
use crate::engine::run::{self, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Has a mask follow what it was drawn round, both ways from a frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Follow {
    /// Which mask.
    pub mask: u32,
    /// Frame of the trimmed clip.
    pub frame: u32,
}

impl Job for Follow {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("follow mask {} from frame {} of shot {}", self.mask, self.frame, shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::follow(store, shot, self.mask, self.frame, step)
    }
}
