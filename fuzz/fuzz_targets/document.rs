//! A stored document, and an edit from outside behind a zero byte.
#![no_main]

use fennik_core::scene::{Edit, ShotDocument};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let at = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    let document = serde_json::from_slice::<ShotDocument>(&bytes[..at]).unwrap_or_else(|_| ShotDocument::new(100));
    let edit = bytes.get(at + 1..).and_then(|b| serde_json::from_slice::<Edit>(b).ok());
    if let Some(next) = edit.and_then(|e| document.apply(&e).ok()) {
        for insert in &next.placing.inserts {
            for frame in [-1.0, 3.5, 1e6] {
                let place = insert.placement.origin(frame);
                assert!(place.iter().all(|v| v.is_finite()), "it is somewhere at any time");
                assert!(insert.placement.turn_lean_deg(frame).iter().all(|v| v.is_finite()), "and turned somehow");
            }
        }
        let written = serde_json::to_string(&next).expect("a document can be written down");
        let _ = (serde_json::from_str::<ShotDocument>(&written), next.track_choice(), next.has_laid());
    }
});
