//! What is looked at on the plate, so that what is placed belongs to it.

use super::Job;
use crate::engine::run::{self, Step};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{ClipId, ShotId, Store};
use serde::{Deserialize, Serialize};

/// Measures grain and sharpness of the plate, and gives what is placed as much of both where it had none.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Measure {}

impl Job for Measure {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("measure the plate of shot {}", shot.0)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::measure(store, shot, step)
    }
}

/// Draws the colours of an insert towards the plate about it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Draw {
    /// Which insert.
    pub insert: u32,
    /// Whether it follows what the plate becomes over the shot.
    #[serde(default)]
    pub follows: bool,
}

impl Job for Draw {
    fn key(&self, shot: ShotId, _: ClipId) -> String {
        format!("draw insert {} of shot {} to the plate, following: {}", self.insert, shot.0, self.follows)
    }

    fn run(&self, store: &Store, shot: &OpenShot, step: Step) -> Result<String, EngineError> {
        run::draw(store, shot, self.insert, self.follows, step)
    }
}
