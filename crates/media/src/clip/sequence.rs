//! Image sequences: several stills that make a clip.

use crate::clip::note::Note;
use crate::clip::rate::Rate;
use crate::clip::source::Source;
use crate::clip::still::{self, Still, StillError};
use rayon::prelude::*;
use std::io::Read;
use std::path::{Path, PathBuf};

/// Kinds of stills that are taken.
const KINDS: [&str; 6] = ["png", "jpg", "jpeg", "tif", "tiff", "exr"];
/// Bytes that one still may unpack to.
const MAX_STILL_BYTES: u64 = 512 * 1024 * 1024;
/// Stills that one sequence may hold.
const MAX_STILLS: usize = 20_000;

/// Bytes that all stills of an archive may unpack to.
const MAX_ARCHIVE_BYTES: u64 = 64 * 1024 * 1024 * 1024;
/// Beside the stills: how their files were called, one a line.
const NAMES: &str = "names.txt";

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
    /// All together are too large.
    #[error("the archive unpacks to more than {} GB; take the pictures in as a folder",
        MAX_ARCHIVE_BYTES / 1_000_000_000)]
    ArchiveTooLarge,
    /// A still is not whole.
    #[error("“{name}” cannot be used: {why}. Replace it, or leave it out{}", others(*more))]
    Damaged {
        /// The first such still.
        name: String,
        /// What is wrong with it.
        why: StillError,
        /// How many others there are.
        more: usize,
    },
    /// The archive is broken.
    #[error("the zip archive cannot be read: {0}")]
    Zip(#[from] zip::result::ZipError),
    /// Files.
    #[error("{0}")]
    Io(#[from] std::io::Error),
}

fn others(more: usize) -> String {
    if more == 0 { String::new() } else { format!("; {more} more pictures are damaged too") }
}

/// Stills that were made a sequence of.
#[derive(Debug)]
pub struct Gathered {
    /// The sequence.
    pub source: Source,
    /// What is odd about it.
    pub notes: Vec<Note>,
}

/// Takes the stills of `folder`, in the natural order of their names, as a sequence: they are linked
/// (or copied) as 000000.ext, ... into `target`.
///
/// # Errors
/// [`SequenceError`] when there are none, they are of several kinds, or one is damaged.
pub fn gather_folder(folder: &Path, target: &Path, rate: Rate) -> Result<Gathered, SequenceError> {
    let mut files: Vec<PathBuf> =
        std::fs::read_dir(folder)?.filter_map(|e| Some(e.ok()?.path())).filter(|p| still_kind(p).is_some()).collect();
    let name = |p: &PathBuf| p.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    files.sort_by_cached_key(|p| natural_key(&name(p)));
    let extension = common_kind(&files)?;
    if files.len() > MAX_STILLS {
        return Err(SequenceError::TooLarge);
    }
    std::fs::create_dir_all(target)?;
    for (i, path) in files.iter().enumerate() {
        let to = target.join(format!("{i:06}.{extension}"));
        let _ = std::fs::remove_file(&to);
        if std::fs::hard_link(path, &to).is_err() {
            std::fs::copy(path, &to)?;
        }
    }
    finish(target, extension, files.iter().map(name).collect(), rate)
}

/// Looks at stills that are in their places, notes how they were called, and makes a sequence of them.
pub(crate) fn finish(
    target: &Path,
    extension: String,
    names: Vec<String>,
    rate: Rate,
) -> Result<Gathered, SequenceError> {
    let seen: Vec<Result<Still, StillError>> = (0..names.len())
        .into_par_iter()
        .map(|i| still::look(&target.join(format!("{i:06}.{extension}")), &extension))
        .collect();
    let mut stills = Vec::with_capacity(names.len());
    let mut damaged = Vec::new();
    for (still, name) in seen.into_iter().zip(&names) {
        match still {
            Ok(still) => stills.push(still),
            Err(why) => damaged.push((name, why)),
        }
    }
    let more = damaged.len().saturating_sub(1);
    if let Some((name, why)) = damaged.into_iter().next() {
        return Err(SequenceError::Damaged { name: name.clone(), why, more });
    }
    let mut notes: Vec<Note> = missing_numbers(&names).map(Note::MissingNumbers).into_iter().collect();
    let odd: Vec<usize> = (0..stills.len()).filter(|&i| stills[i] != stills[0]).collect();
    if let Some(&i) = odd.first() {
        let size = |s: Still| format!("{}x{}", s.width, s.height);
        let more = if odd.len() > 1 { format!(" and {} more", odd.len() - 1) } else { String::new() };
        notes.push(Note::MixedSizes(format!(
            "{} is {}{more}, {} is {}",
            names[i],
            size(stills[i]),
            names[0],
            size(stills[0])
        )));
    }
    // A name is one line, whatever is in it.
    let lines: Vec<String> = names.iter().map(|n| n.replace(['\n', '\r'], "_")).collect();
    std::fs::write(target.join(NAMES), lines.join("\n"))?;
    let count = names.len() as u32;
    Ok(Gathered { source: Source::Sequence { folder: target.to_owned(), extension, count, rate }, notes })
}

/// How the stills of a stored sequence were called; nothing for those of earlier versions.
pub(crate) fn names_of(folder: &Path) -> Vec<String> {
    std::fs::read_to_string(folder.join(NAMES)).map(|t| t.lines().map(str::to_owned).collect()).unwrap_or_default()
}

/// Which numbers are missing among names that are otherwise numbered one by one.
fn missing_numbers(names: &[String]) -> Option<String> {
    let numbers: Vec<u128> = names.iter().map(|n| last_number(n)).collect::<Option<_>>()?;
    let steps = numbers.windows(2).map(|p| p[1].checked_sub(p[0]));
    let single = steps.clone().filter(|s| *s == Some(1)).count();
    // Numbers in tens, or several series, are not counted one by one.
    if numbers.len() < 3 || single * 2 < numbers.len() || steps.clone().any(|s| s.is_none_or(|s| s == 0)) {
        return None;
    }
    let gaps = numbers.windows(2).filter(|p| p[1] - p[0] > 1);
    let shown: Vec<String> = gaps
        .map(|p| if p[1] - p[0] == 2 { format!("{}", p[0] + 1) } else { format!("{} to {}", p[0] + 1, p[1] - 1) })
        .collect();
    (!shown.is_empty()).then(|| crate::error::listed(&shown))
}

/// The last number in a name, its extension left out.
fn last_number(name: &str) -> Option<u128> {
    split_number(name)?.1.parse().ok().filter(|n| *n < u128::from(u64::MAX))
}

/// What stands before the last number in a name, and that number.
fn split_number(name: &str) -> Option<(&str, &str)> {
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    let end = stem.rfind(|c: char| c.is_ascii_digit())? + 1;
    let digits = stem[..end].chars().rev().take_while(char::is_ascii_digit).count();
    Some(stem[..end].split_at(end - digits))
}

/// The series that a numbered still belongs to: its name up to the number.
#[must_use]
pub fn series_of(name: &str) -> Option<String> {
    split_number(name).map(|(series, _)| series.to_owned())
}

/// Unpacks the stills of a zip archive as a sequence into `target`. Names inside only give the order;
/// no path of the archive is ever used as one.
///
/// # Errors
/// [`SequenceError`] when it is broken, too large, empty or mixed, or a still is damaged.
pub fn unpack_zip(archive: &Path, target: &Path, rate: Rate) -> Result<Gathered, SequenceError> {
    let mut zip = zip::ZipArchive::new(std::fs::File::open(archive)?)?;
    let mut entries: Vec<(PathBuf, usize)> = Vec::new();
    for i in 0..zip.len() {
        let entry = zip.by_index(i)?;
        let name = PathBuf::from(entry.name());
        let hidden = entry.name().split('/').any(|part| (part.starts_with('.') && part != "..") || part == "__MACOSX");
        if entry.is_file() && !hidden && still_kind(&name).is_some() {
            entries.push((name, i));
        }
    }
    if entries.len() > MAX_STILLS {
        return Err(SequenceError::TooLarge);
    }
    entries.sort_by_cached_key(|(p, _)| natural_key(&p.to_string_lossy()));
    let files: Vec<PathBuf> = entries.iter().map(|e| e.0.clone()).collect();
    let extension = common_kind(&files)?;
    std::fs::create_dir_all(target)?;
    let mut total = 0;
    for (n, (_, i)) in entries.iter().enumerate() {
        let mut limited = zip.by_index(*i)?.take(MAX_STILL_BYTES + 1);
        let mut file = std::fs::File::create(target.join(format!("{n:06}.{extension}")))?;
        let size = std::io::copy(&mut limited, &mut file)?;
        total += size;
        if size > MAX_STILL_BYTES {
            return Err(SequenceError::TooLarge);
        }
        if total > MAX_ARCHIVE_BYTES {
            return Err(SequenceError::ArchiveTooLarge);
        }
        file.sync_all()?;
    }
    let name = |p: &PathBuf| {
        p.file_name().map_or_else(|| p.to_string_lossy().into_owned(), |n| n.to_string_lossy().into_owned())
    };
    finish(target, extension, files.iter().map(name).collect(), rate)
}

/// The kind of a still by its name: an extension in lower case; `None` for what is no still.
pub fn still_kind(path: &Path) -> Option<String> {
    let extension = path.extension()?.to_str()?.to_ascii_lowercase();
    KINDS.contains(&extension.as_str()).then_some(extension)
}

fn common_kind(names: &[PathBuf]) -> Result<String, SequenceError> {
    let plain = |p: &PathBuf| {
        still_kind(p).map(|k| match k.as_str() {
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
    fn numbers_that_are_missing_are_told() {
        let missing = |names: &[&str]| missing_numbers(&names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>());
        assert_eq!(
            missing(&["a_001.png", "a_002.png", "a_005.png", "a_006.png", "a_008.png", "a_009.png", "a_010.png"])
                .unwrap(),
            "3 to 4, 7"
        );
        assert_eq!(missing(&["a 1.png", "a 2.png", "a 3.png"]), None);
        assert_eq!(missing(&["t0010.png", "t0020.png", "t0030.png", "t0050.png"]), None, "counted in tens");
        assert_eq!(missing(&["x.png", "y.png", "z.png"]), None);
        assert_eq!(missing(&["a1.png", "b1.png", "c1.png", "d1.png"]), None);
    }

    #[test]
    fn ten_comes_after_two() {
        let mut names = ["shot10.png", "shot2.png", "Shot1.png"];
        names.sort_by_key(|n| natural_key(n));
        assert_eq!(names, ["Shot1.png", "shot2.png", "shot10.png"]);
    }
}
