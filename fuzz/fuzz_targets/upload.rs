//! The body of an upload; the first byte says after how many bytes its reads are cut.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Some((cut, body)) = bytes.split_first() {
        fennik::outside::upload(body, usize::from(*cut));
    }
});
