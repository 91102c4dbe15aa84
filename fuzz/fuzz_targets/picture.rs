//! Pictures that inserts show: whatever the bytes are, a picture within bounds or an error.
#![no_main]

use fennik_media::{Picture, Pixels};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((kind, bytes)) = bytes.split_first() else { return };
    let kinds = ["png", "jpg", "webp", "tif", "exr", "svg", "hdr"];
    let name = format!("picture.{}", kinds[usize::from(*kind) % kinds.len()]);
    if let Ok(picture) = Picture::read(bytes, &name) {
        assert!((1..=4096).contains(&picture.width) && (1..=4096).contains(&picture.height));
        let numbers = match &picture.pixels {
            Pixels::Encoded(p) => p.len(),
            Pixels::Linear(p) => p.len(),
        };
        assert_eq!(numbers, 4 * picture.width as usize * picture.height as usize);
    }
});
