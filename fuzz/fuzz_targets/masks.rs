//! A masks file, and the outlines of what it holds.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(masks) = fennik_media::read_masks(bytes) {
        for mask in &masks.masks {
            let corners = mask.outline.keys[0].outline.len();
            for frame in [0, 7, u32::MAX] {
                assert_eq!(mask.outline.at(frame).len(), corners);
            }
        }
    }
});
