//! Image sequences: several stills that make a clip.

use crate::clip::{Rate, Source};
use std::io::Read;
use std::path::{Path, PathBuf};

/// Kinds of stills that are taken.
const KINDS: [&str; 6] = ["png", "jpg", "jpeg", "tif", "tiff", "exr"];
/// Bytes that one still may unpack to.
const MAX_STILL_BYTES: u64 = 512 * 1024 * 1024;
/// Stills that one sequence may hold.
const MAX_STILLS: usize = 20_000;

/// What can be wrong with a sequence.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SequenceError {
    /// Nothing usable.
    #[error("there are no PNG, JPEG, TIFF or EXR pictures in it")]
    Empty,
    /// More than one kind.
    #[error("it mixes .{first} and .{second} pictures; use one kind for the whole sequence")]
    Mixed {
        /// One kind.
        first: String,
        /// Another.
        second: String,
    },
    /// Too many or too large.
    #[error("it is too large: at most {MAX_STILLS} pictures of {} MB each can be taken", MAX_STILL_BYTES / 1_000_000)]
    TooLarge,
    /// The archive is broken.
    #[error("the zip archive cannot be read: {0}")]
    Zip(#[from] zip::result::ZipError),
    /// Files.
    #[error("{0}")]
    Io(#[from] std::io::Error),
}

/// Takes the stills of `folder`, in the natural order of their names, as a sequence: they are linked
/// (or copied) as 000000.ext, ... into `target`.
///
/// # Errors
/// [`SequenceError`] when there are none, or they are of several kinds.
pub fn gather_folder(folder: &Path, target: &Path, rate: Rate) -> Result<Source, SequenceError> {
    let mut names: Vec<PathBuf> = std::fs::read_dir(folder)?.filter_map(|e| Some(e.ok()?.path())).filter(|p| kind(p).is_some()).collect();
    names.sort_by_cached_key(|p| natural_key(&p.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()));
    let extension = common_kind(&names)?;
    std::fs::create_dir_all(target)?;
    for (i, path) in names.iter().enumerate() {
        let to = target.join(format!("{i:06}.{extension}"));
        let _ = std::fs::remove_file(&to);
        if std::fs::hard_link(path, &to).is_err() {
            std::fs::copy(path, &to)?;
        }
    }
    Ok(Source::Sequence { folder: target.to_owned(), extension, count: names.len() as u32, rate })
}

/// Unpacks the stills of a zip archive as a sequence into `target`. Names inside only give the order;
/// no path of the archive is ever used as one.
///
/// # Errors
/// [`SequenceError`] when it is broken, too large, empty or mixed.
pub fn unpack_zip(archive: &Path, target: &Path, rate: Rate) -> Result<Source, SequenceError> {
    let mut zip = zip::ZipArchive::new(std::fs::File::open(archive)?)?;
    let mut entries: Vec<(PathBuf, usize)> = Vec::new();
    for i in 0..zip.len() {
        let entry = zip.by_index(i)?;
        let name = PathBuf::from(entry.name());
        let hidden = entry.name().split('/').any(|part| (part.starts_with('.') && part != "..") || part == "__MACOSX");
        if entry.is_file() && !hidden && kind(&name).is_some() {
            entries.push((name, i));
        }
    }
    if entries.len() > MAX_STILLS {
        return Err(SequenceError::TooLarge);
    }
    entries.sort_by_cached_key(|(p, _)| natural_key(&p.to_string_lossy()));
    let names: Vec<PathBuf> = entries.iter().map(|e| e.0.clone()).collect();
    let extension = common_kind(&names)?;
    std::fs::create_dir_all(target)?;
    for (n, (_, i)) in entries.iter().enumerate() {
        let mut limited = zip.by_index(*i)?.take(MAX_STILL_BYTES + 1);
        let mut file = std::fs::File::create(target.join(format!("{n:06}.{extension}")))?;
        if std::io::copy(&mut limited, &mut file)? > MAX_STILL_BYTES {
            return Err(SequenceError::TooLarge);
        }
    }
    Ok(Source::Sequence { folder: target.to_owned(), extension, count: entries.len() as u32, rate })
}

fn kind(path: &Path) -> Option<String> {
    let extension = path.extension()?.to_str()?.to_ascii_lowercase();
    KINDS.contains(&extension.as_str()).then_some(extension)
}

fn common_kind(names: &[PathBuf]) -> Result<String, SequenceError> {
    let plain = |p: &PathBuf| {
        kind(p).map(|k| match k.as_str() {
            "jpeg" => "jpg".to_owned(),
            "tiff" => "tif".to_owned(),
            _ => k,
        })
    };
    let first = names.first().and_then(plain).ok_or(SequenceError::Empty)?;
    match names.iter().filter_map(plain).find(|k| *k != first) {
        Some(second) => Err(SequenceError::Mixed { first, second }),
        None => Ok(first),
    }
}

/// Numbers inside a name compare by value: shot2 before shot10.
fn natural_key(name: &str) -> Vec<(String, u128)> {
    let mut key = Vec::new();
    let (mut text, mut digits) = (String::new(), String::new());
    for c in name.chars() {
        if c.is_ascii_digit() {
            digits.push(c);
        } else {
            if !digits.is_empty() {
                key.push((std::mem::take(&mut text), digits.parse().unwrap_or(u128::MAX)));
                digits.clear();
            }
            text.extend(c.to_lowercase());
        }
    }
    key.push((text, digits.parse().unwrap_or(0)));
    key
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ten_comes_after_two() {
        let mut names = ["shot10.png", "shot2.png", "Shot1.png"];
        names.sort_by_key(|n| natural_key(n));
        assert_eq!(names, ["Shot1.png", "shot2.png", "shot10.png"]);
    }
}
