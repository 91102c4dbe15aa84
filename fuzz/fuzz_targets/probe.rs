//! What ffprobe tells of a clip: JSON, then the lines of its packets behind a zero byte.
#![no_main]

use fennik_media::{Rate, Source, read_probe};
use std::collections::HashMap;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let at = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    let lines = String::from_utf8_lossy(&bytes[(at + 1).min(bytes.len())..]);
    for source in [
        Source::Video("clip.mp4".into()),
        Source::Sequence {
            folder: "stills".into(),
            extension: "png".into(),
            count: 4,
            rate: Rate { frames: 25, seconds: 1 },
        },
    ] {
        if let Ok(clip) = read_probe(&source, &bytes[..at], &lines, &HashMap::new()) {
            assert!((1..=8192).contains(&clip.width) && (1..=8192).contains(&clip.height));
            assert!(clip.rate.per_second().is_finite());
        }
    }
});
