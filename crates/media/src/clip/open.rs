//! Opening a clip where it lies.

use crate::clip::info::ClipInfo;
use crate::clip::probe::probe;
use crate::clip::rate::Rate;
use crate::clip::sequence::{Gathered, SequenceError, gather_folder};
use crate::clip::source::Source;
use crate::error::{MediaError, io_error};
use std::path::Path;

impl ClipInfo {
    /// Reads a file's metadata from a path: a video file, or a folder of stills.
    ///
    /// # Errors
    /// As [`probe`], and when a folder holds no stills.
    pub fn open(path: &Path, scratch: &Path) -> Result<Self, MediaError> {
        let absolute = path.canonicalize().map_err(io_error(format!("{} cannot be opened", path.display())))?;
        let shown = absolute.file_name().map(|n| n.to_string_lossy().into_owned());
        if absolute.is_dir() {
            let unreadable =
                |e: SequenceError| MediaError::Unreadable { name: path.display().to_string(), why: e.to_string() };
            let Gathered { source, notes } =
                gather_folder(&absolute, scratch, Rate { frames: 25, seconds: 1 }).map_err(unreadable)?;
            let mut info = probe(&source)?;
            info.notes.extend(notes);
            return Ok(Self { shown, ..info });
        }
        Ok(Self { shown, ..probe(&Source::Video(absolute))? })
    }
}
