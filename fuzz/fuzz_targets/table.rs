//! Tables of colours: whatever the text is, a table that gives colours for all colours, or an error.
#![no_main]

use fennik_core::colour::ColourTable;

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(table) = ColourTable::read(text) {
        for colour in [[0.0; 3], [0.3, 0.6, 0.9], [1.0; 3], [-2.0, 5.0, 0.5]] {
            assert!(table.look(colour).iter().all(|v| !v.is_nan()), "{colour:?}");
        }
    }
});
