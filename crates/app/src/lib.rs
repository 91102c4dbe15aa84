//! The pages, the jobs and the command line, behind one entry; and what reads from outside, for the fuzzers.

mod cli;
mod engine;
mod jobs;
mod web;

pub use cli::run;

/// What outside data is read by, opened for the targets under `fuzz/`.
pub mod outside {
    /// Reads a recipe, and writes one that was read back.
    pub fn recipe(bytes: &[u8]) {
        if let Ok(recipe) = crate::engine::recipe::read(bytes) {
            let written = serde_json::to_vec(&recipe).unwrap_or_default();
            assert!(crate::engine::recipe::read(&written).is_ok(), "what was written is read back");
        }
    }

    /// Reads numbers with units.
    pub fn quantity(text: &str) {
        use crate::engine::quantity::{Measure, read};
        for measure in [Measure::Length, Measure::Angle, Measure::Plain] {
            assert!(
                read(text, measure).is_ok_and(f64::is_finite) || read(text, measure).is_err(),
                "numbers are finite"
            );
        }
        let _ = crate::engine::focal::focal_px(text, 1280);
    }

    /// Receives an upload whose reads are cut after so many bytes.
    pub fn upload(body: &[u8], cut: usize) {
        crate::web::receive_for_fuzzing(body, cut);
    }
}
