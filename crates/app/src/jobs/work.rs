//! What each kind of job does.

use super::Reporter;
use crate::engine::run::{self, Begin};
use crate::engine::{EngineError, OpenShot};
use fennik_store::{JobKind, Store};

/// Does the job; returns its closing words.
pub fn run(store: &Store, reporter: &mut Reporter) -> Result<String, EngineError> {
    let shot = OpenShot::load(store, reporter.job.shot)?;
    let (kind, argument) = (reporter.job.kind, reporter.job.argument.clone());
    let mut step = |done: u32, total: u32, message: &str| reporter.step(done, total, message);
    match kind {
        JobKind::Decode => run::decode(store, &shot, &mut step),
        JobKind::Track => run::track(store, &shot, &mut step),
        JobKind::Solve => run::solve(store, &shot, Begin::Afresh, &mut step),
        JobKind::Refine => run::solve(store, &shot, Begin::FromHere, &mut step),
        JobKind::Follow => {
            let (mask, key) = followed(&argument)?;
            run::follow(store, &shot, mask, key, &mut step)
        }
        JobKind::Deliver => run::deliver(store, &shot, &mut step),
    }
}

/// What a mask is followed from, as a job keeps it: `mask frame`.
fn followed(argument: &str) -> Result<(u32, u32), EngineError> {
    let numbers: Vec<u32> = argument.split(' ').filter_map(|n| n.parse().ok()).collect();
    match numbers[..] {
        [mask, key] => Ok((mask, key)),
        _ => Err(EngineError::Message("which mask was to follow is not known; ask for it again".to_owned())),
    }
}
