//! Tables of colours: `.cube`.

use super::{AssetFileError, bytes_of};
use fennik_core::colour::ColourTable;
use std::path::Path;

/// Largest file of a table, bytes.
const MOST_BYTES: usize = 128 * 1024 * 1024;

/// Reads a table; `name` is what the file is called.
///
/// # Errors
/// [`AssetFileError`] says what is wrong with it.
pub fn table(path: &Path, name: &str) -> Result<ColourTable, AssetFileError> {
    let bytes = bytes_of(path, name)?;
    if bytes.len() > MOST_BYTES {
        let what = format!("{} MB of at most {}", bytes.len() >> 20, MOST_BYTES >> 20);
        return Err(AssetFileError::TooLarge { name: name.to_owned(), what });
    }
    let text = String::from_utf8_lossy(&bytes);
    ColourTable::read(&text).map_err(|why| AssetFileError::unreadable(name, why))
}
