//! Fonts: whatever the bytes are, a font whose letters can be outlined, or an error.
#![no_main]

use fennik_media::FontFile;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(font) = FontFile::read(bytes, "letters.woff2") {
        assert!(font.glyphs > 0 && !font.bytes.is_empty());
    }
});
