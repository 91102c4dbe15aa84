//! A stored document, and an edit from outside behind a zero byte.
#![no_main]

use fennik_core::scene::{Edit, ShotDocument};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let at = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    let document = serde_json::from_slice::<ShotDocument>(&bytes[..at]).unwrap_or_else(|_| ShotDocument::new(100));
    let edit = bytes.get(at + 1..).and_then(|b| serde_json::from_slice::<Edit>(b).ok());
    if let Some(next) = edit.and_then(|e| document.apply(&e).ok()) {
        let written = serde_json::to_string(&next).expect("a document can be written down");
        let _ = (serde_json::from_str::<ShotDocument>(&written), next.track_choice(), next.has_laid());
    }
});
