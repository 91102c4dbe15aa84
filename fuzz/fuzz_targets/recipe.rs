//! A recipe, and numbers with units.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    fennik::outside::recipe(bytes);
    if let Ok(text) = std::str::from_utf8(bytes) {
        fennik::outside::quantity(text);
    }
});
