//! A kept track run.
#![no_main]

use fennik_core::track::TrackSet;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(set) = TrackSet::from_bytes(bytes) {
        assert_eq!(TrackSet::from_bytes(&set.to_bytes()).map(|s| s.tracks.len()), Ok(set.tracks.len()));
        if set.frames < 10_000 {
            assert_eq!(set.counts().len(), set.frames as usize);
        }
    }
});
