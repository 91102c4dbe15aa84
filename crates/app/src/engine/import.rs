//! Taking clips in.

use super::EngineError;
use fennik_core::scene::ShotDocument;
use fennik_media::{ClipInfo, Rate, Source, gather_folder, probe, unpack_zip};
use fennik_store::{ClipId, ShotId, Store};
use std::path::{Path, PathBuf};

/// Longest shot name that is kept, characters.
const MAX_NAME: usize = 120;

/// One uploaded file, already in the clip's own folder under a name of ours.
pub struct Arrived {
    /// The name that the person's machine gave; only ever shown.
    pub name: String,
    /// Where the bytes are.
    pub path: PathBuf,
}

/// Makes a fresh folder for a clip; returns its name below `clips` and its path.
///
/// # Errors
/// [`EngineError`] when the disk refuses.
pub fn new_folder(store: &Store) -> Result<(String, PathBuf), EngineError> {
    let name = ulid::Ulid::generate().to_string();
    let path = store.root().join("clips").join(&name);
    std::fs::create_dir_all(&path).map_err(|e| EngineError::Message(format!("no folder for the clip could be made: {e}")))?;
    Ok((name, path))
}

/// The extension of a name in lower case, if it is a plain one.
pub fn extension(name: &str) -> String {
    let extension = Path::new(name).extension().map(|e| e.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    if extension.len() <= 5 && extension.chars().all(|c| c.is_ascii_alphanumeric()) { extension } else { String::new() }
}

/// Turns what arrived into a clip and a shot of it. On an error the folder is removed again.
///
/// # Errors
/// [`EngineError`] when it is no usable clip.
pub fn take_in(store: &Store, folder_name: &str, folder: &Path, mut files: Vec<Arrived>) -> Result<ShotId, EngineError> {
    let result = (|| {
        files.sort_by(|a, b| a.name.cmp(&b.name));
        let first = files.first().ok_or_else(|| EngineError::Message("no file arrived; choose a video or pictures".to_owned()))?;
        let rate = Rate { frames: 25, seconds: 1 };
        let stills = folder.join("stills");
        let sequence = |e: fennik_media::SequenceError| EngineError::Message(format!("{}: {e}", first.name));
        let source = match (files.len(), extension(&first.name).as_str()) {
            (1, "zip") => unpack_zip(&first.path, &stills, rate).map_err(sequence)?,
            (1, "png" | "jpg" | "jpeg" | "tif" | "tiff" | "exr") | (2.., _) => {
                let named = folder.join("arrived");
                rename_all(&files, &named)?;
                gather_folder(&named, &stills, rate).map_err(sequence)?
            }
            _ => Source::Video(first.path.clone()),
        };
        let mut info = probe(&source).map_err(|e| renamed(e, &first.name))?;
        let frames = info.frames;
        relative(&mut info, folder);
        let json = serde_json::to_string(&info).map_err(|e| EngineError::Message(e.to_string()))?;
        let clip = store.add_clip(&first.name, folder_name, &json, frames)?;
        add_shot(store, clip, &shot_name(&first.name), frames)
    })();
    if result.is_err() {
        let _ = std::fs::remove_dir_all(folder);
    }
    result
}

/// A shot of a clip.
///
/// # Errors
/// [`EngineError`] when the database refuses.
pub fn add_shot(store: &Store, clip: ClipId, name: &str, frames: u32) -> Result<ShotId, EngineError> {
    Ok(store.add_shot(name, clip, &ShotDocument::new(frames.max(1)))?)
}

/// Stills arrive under names of ours; their own names give the order.
fn rename_all(files: &[Arrived], named: &Path) -> Result<(), EngineError> {
    let failed = |e: std::io::Error| EngineError::Message(format!("the pictures could not be stored: {e}"));
    std::fs::create_dir_all(named).map_err(failed)?;
    for (i, file) in files.iter().enumerate() {
        // Digits and letters of the name keep its natural order; anything else could be a path.
        let plain: String = file.name.chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).take(80).collect();
        let target = named.join(format!("{plain}_{i}.{}", extension(&file.name)));
        std::fs::rename(&file.path, target).map_err(failed)?;
    }
    Ok(())
}

/// Errors speak of the name that the person knows.
fn renamed(error: fennik_media::MediaError, shown: &str) -> EngineError {
    use fennik_media::MediaError::{NoFrames, NoVideo, Size, Unreadable};
    let name = shown.to_owned();
    EngineError::Media(match error {
        Unreadable { why, .. } => Unreadable { name, why },
        NoVideo { found, .. } => NoVideo { name, found },
        Size { width, height, limit, .. } => Size { name, width, height, limit },
        NoFrames { detail, .. } => NoFrames { name, detail },
        other => other,
    })
}

fn relative(info: &mut ClipInfo, folder: &Path) {
    let below = |p: &Path| p.strip_prefix(folder).map_or_else(|_| p.to_owned(), Path::to_owned);
    match &mut info.source {
        Source::Video(path) => *path = below(path),
        Source::Sequence { folder, .. } => *folder = below(folder),
    }
}

fn shot_name(file: &str) -> String {
    let stem = Path::new(file).file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    let name: String = stem.chars().filter(|c| !c.is_control()).take(MAX_NAME).collect();
    if name.trim().is_empty() { "untitled".to_owned() } else { name }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lose_what_could_be_a_path() {
        assert_eq!(extension("../../etc/passwd.mp4/../x"), "");
        assert_eq!(extension("a.MP4"), "mp4");
        assert_eq!(shot_name("../../x y's \"clip\" äöü.mov"), "x y's \"clip\" äöü");
        assert_eq!(shot_name(".."), "untitled");
    }
}
