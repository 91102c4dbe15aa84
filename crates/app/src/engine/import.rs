//! Taking clips in: of what arrives, every video and every zip is a clip, and stills of one kind are one together.

use super::EngineError;
use fennik_core::scene::ShotDocument;
use fennik_media::{ClipInfo, Gathered, Rate, Source, gather_folder, probe, series_of, still_kind, unpack_zip};
use fennik_store::{ClipFolder, ClipId, ShotId, Store};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

/// Why a clip cannot be taken in.
#[derive(Debug, thiserror::Error)]
pub enum ImportError {
    /// A folder that cannot be looked into.
    #[error("{} cannot be read: {why}", path.display())]
    Unread {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: std::io::Error,
    },
    /// Nothing to take.
    #[error("no files are in this folder; name a video or pictures")]
    EmptyFolder,
    /// Nothing to take.
    #[error("no file arrived; choose a video or pictures")]
    Nothing,
    /// No room.
    #[error("the clip could not be stored ({why}); make room on the disk and try again")]
    NoRoom {
        /// What the disk says.
        why: std::io::Error,
    },
    /// A file that cannot be put in its place.
    #[error("{name}: it could not be stored: {why}")]
    Unstored {
        /// Whose.
        name: String,
        /// What the disk says.
        why: std::io::Error,
    },
    /// Pictures that make no clip.
    #[error("{name}: {why}")]
    Sequence {
        /// Whose.
        name: String,
        /// What is wrong with them.
        why: fennik_media::SequenceError,
    },
    /// A file that was left out when it was looked at.
    #[error("{why}")]
    Left {
        /// The reason that was given then.
        why: String,
    },
    /// None of several.
    #[error("nothing of this could be taken in: {}", why.join("; "))]
    All {
        /// The reason for each.
        why: Vec<String>,
    },
}

/// Longest shot name that is kept, characters.
const MAX_NAME: usize = 120;
/// Stills have no rate of their own.
pub const STILLS_RATE: Rate = Rate { frames: 25, seconds: 1 };

/// One file that arrived, under a name of ours.
pub struct Arrived {
    /// The name that the person's machine gave; only ever shown.
    pub name: String,
    /// Where the bytes are.
    pub path: PathBuf,
    /// Why they could not be read.
    pub unread: Option<String>,
}

/// What became of what arrived.
#[derive(Debug, Default)]
pub struct TakenIn {
    /// The shots of what could be taken.
    pub shots: Vec<ShotId>,
    /// Names of what could not, each with the reason.
    pub refused: Vec<(String, String)>,
}

/// Files that were copied into the data folder, to be taken in from there.
pub struct Staged {
    /// Goes with what nobody took.
    _folder: ClipFolder,
    files: Vec<Arrived>,
}

impl Staged {
    /// As [`take_in`].
    ///
    /// # Errors
    /// As [`take_in`].
    pub fn take_in(self, store: &Store) -> Result<TakenIn, EngineError> {
        take_in(store, self.files)
    }
}

/// Bytes copied between two words of progress.
const CHUNK: usize = 4 * 1024 * 1024;

/// Copies files, and the files of folders, into the data folder. `on_bytes` hears of bytes done and in all; `false`
/// stops. What cannot be read is kept with its reason, so that the rest is taken in without it.
///
/// # Errors
/// [`EngineError`] that names a folder that cannot be read, or says that the disk is full.
pub fn stage(
    store: &Store,
    named: &[PathBuf],
    on_bytes: &mut dyn FnMut(u64, u64) -> bool,
) -> Result<Staged, EngineError> {
    let paths = listed(named)?;
    let total = paths.iter().filter_map(|p| fs::metadata(p).ok()).map(|m| m.len()).sum::<u64>().max(1);
    let folder = store.new_clip_folder()?;
    let mut done = 0;
    let mut files = Vec::new();
    for (i, path) in paths.iter().enumerate() {
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let target = folder.path().join(format!("clip-{i}.{}", extension(&name)));
        let unread = copy(path, &target, |bytes| {
            done += bytes;
            on_bytes(done, total)
        })?;
        files.push(Arrived { name, path: target, unread });
    }
    Ok(Staged { _folder: folder, files })
}

/// The files that were named; a folder stands for the files in it, but for hidden ones.
fn listed(named: &[PathBuf]) -> Result<Vec<PathBuf>, EngineError> {
    let mut files = Vec::new();
    let hidden = |p: &Path| p.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'));
    for path in named {
        if path.is_dir() {
            let entries = fs::read_dir(path).map_err(|why| ImportError::Unread { path: path.clone(), why })?;
            files.extend(entries.flatten().map(|e| e.path()).filter(|p| p.is_file() && !hidden(p)));
        } else {
            files.push(path.clone());
        }
    }
    if files.is_empty() {
        return Err(ImportError::EmptyFolder.into());
    }
    Ok(files)
}

/// Copies a file; why it could not be read, if so.
fn copy(from: &Path, to: &Path, mut on_bytes: impl FnMut(u64) -> bool) -> Result<Option<String>, EngineError> {
    let mut source = match File::open(from) {
        Ok(source) => source,
        Err(e) => return Ok(Some(format!("{} cannot be opened: {e}", from.display()))),
    };
    let full = |why| ImportError::NoRoom { why };
    let mut target = File::create(to).map_err(full)?;
    let mut buffer = vec![0; CHUNK];
    loop {
        let n = match source.read(&mut buffer) {
            Ok(0) => return Ok(None),
            Ok(n) => n,
            Err(e) => return Ok(Some(format!("{} cannot be read: {e}", from.display()))),
        };
        target.write_all(&buffer[..n]).map_err(full)?;
        if !on_bytes(n as u64) {
            return Err(EngineError::Stopped);
        }
    }
}

/// Makes the preview frames of shots that just came in; where that fails or is stopped, none of them stays.
///
/// # Errors
/// What the decoder or the disk said.
pub fn decode_all(store: &Store, shots: &[ShotId], tell: super::run::Step) -> Result<(), EngineError> {
    for id in shots {
        let made = super::OpenShot::load(store, *id).and_then(|shot| super::run::decode(store, &shot, &mut *tell));
        if let Err(error) = made {
            for shot in shots {
                store.discard_shot(*shot)?;
            }
            return Err(error);
        }
    }
    Ok(())
}

/// The extension of a name in lower case, if it is a plain one.
pub fn extension(name: &str) -> String {
    let extension = Path::new(name).extension().map(|e| e.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    if extension.len() <= 5 && extension.chars().all(|c| c.is_ascii_alphanumeric()) { extension } else { String::new() }
}

/// What belongs together.
enum Group {
    Video(Arrived),
    Zip(Arrived),
    Stills(Vec<Arrived>),
}

impl Group {
    /// The name that it goes by: that of its first file.
    fn name(&self) -> String {
        match self {
            Self::Video(file) | Self::Zip(file) => file.name.clone(),
            Self::Stills(files) => files.first().map(|f| f.name.clone()).unwrap_or_default(),
        }
    }

    /// Why one of its files could not be read.
    fn unread(&self) -> Option<&String> {
        match self {
            Self::Video(file) | Self::Zip(file) => file.unread.as_ref(),
            Self::Stills(files) => files.iter().find_map(|f| f.unread.as_ref()),
        }
    }
}

/// Sorts what arrived into clips, in the order of their names.
fn groups(mut files: Vec<Arrived>) -> Vec<Group> {
    files.sort_by(|a, b| a.name.cmp(&b.name));
    let mut stills: BTreeMap<String, Vec<Arrived>> = BTreeMap::new();
    let mut groups = Vec::new();
    for file in files {
        match still_kind(Path::new(&file.name)) {
            Some(kind) => {
                let kind = kind.replace("jpeg", "jpg").replace("tiff", "tif");
                stills.entry(kind).or_default().push(file);
            }
            None if extension(&file.name) == "zip" => groups.push(Group::Zip(file)),
            None => groups.push(Group::Video(file)),
        }
    }
    groups.extend(stills.into_values().flat_map(series).map(Group::Stills));
    groups
}

/// Stills of one kind, those apart that are numbered as several series.
fn series(files: Vec<Arrived>) -> Vec<Vec<Arrived>> {
    let names: Vec<Option<String>> = files.iter().map(|f| series_of(&f.name)).collect();
    let mut counts: BTreeMap<&Option<String>, usize> = BTreeMap::new();
    for name in &names {
        *counts.entry(name).or_default() += 1;
    }
    // A lone picture may as well belong to the others.
    if counts.contains_key(&None) || counts.values().any(|n| *n < 2) {
        return vec![files];
    }
    let mut apart: BTreeMap<Option<String>, Vec<Arrived>> = BTreeMap::new();
    for (name, file) in names.into_iter().zip(files) {
        apart.entry(name).or_default().push(file);
    }
    apart.into_values().collect()
}

/// Turns what arrived into clips and a shot of each. What cannot be taken is named with its reason, the rest is taken.
///
/// # Errors
/// [`EngineError`] when nothing at all could be taken.
pub fn take_in(store: &Store, files: Vec<Arrived>) -> Result<TakenIn, EngineError> {
    let mut taken = TakenIn::default();
    let mut last = ImportError::Nothing.into();
    for group in groups(files) {
        let name = group.name();
        match take_group(store, group) {
            Ok(shot) => taken.shots.push(shot),
            Err(error) => {
                taken.refused.push((name, error.to_string()));
                last = error;
            }
        }
    }
    if taken.shots.is_empty() { Err(of_all(taken.refused, last)) } else { Ok(taken) }
}

/// What is told where nothing could be taken.
fn of_all(refused: Vec<(String, String)>, last: EngineError) -> EngineError {
    if refused.len() < 2 {
        return last;
    }
    ImportError::All { why: refused.into_iter().map(|r| r.1).collect() }.into()
}

fn take_group(store: &Store, group: Group) -> Result<ShotId, EngineError> {
    if let Some(why) = group.unread() {
        return Err(ImportError::Left { why: why.clone() }.into());
    }
    let folder = store.new_clip_folder()?;
    let name = group.name();
    let stills = folder.path().join("stills");
    let failed = |why| ImportError::Unstored { name: name.clone(), why };
    let sequence = |why| ImportError::Sequence { name: name.clone(), why };
    let Gathered { source, notes } = match group {
        Group::Zip(file) => unpack_zip(&file.path, &stills, STILLS_RATE).map_err(sequence)?,
        Group::Stills(files) => {
            let named = folder.path().join("arrived");
            rename_all(files, &named).map_err(failed)?;
            let gathered = gather_folder(&named, &stills, STILLS_RATE).map_err(sequence);
            // They are linked under their numbers.
            let _ = std::fs::remove_dir_all(&named);
            gathered?
        }
        Group::Video(file) => {
            let path = folder.path().join(format!("clip.{}", extension(&file.name)));
            std::fs::rename(&file.path, &path).map_err(failed)?;
            Gathered { source: Source::Video(path), notes: Vec::new() }
        }
    };
    let mut info = probe(&source).map_err(|e| renamed(e, &name))?;
    info.notes.extend(notes);
    add(store, folder, &name, info)
}

fn add(store: &Store, folder: ClipFolder, name: &str, mut info: ClipInfo) -> Result<ShotId, EngineError> {
    let frames = info.frames;
    relative(&mut info, folder.path());
    let json = serde_json::to_string(&info)?;
    let clip = store.add_clip_in(folder, name, &json, frames)?;
    add_shot(store, clip, &shot_name(name), frames)
}

/// A shot of a clip.
///
/// # Errors
/// [`EngineError`] when the database refuses.
pub fn add_shot(store: &Store, clip: ClipId, name: &str, frames: u32) -> Result<ShotId, EngineError> {
    Ok(store.add_shot(name, clip, &ShotDocument::new(frames.max(1)))?)
}

/// Stills get the names back that give their order, as far as those are no paths.
fn rename_all(files: Vec<Arrived>, named: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(named)?;
    for (i, file) in files.into_iter().enumerate() {
        let stem: String =
            Path::new(&file.name).file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
        let plain: String =
            stem.chars().map(|c| if c.is_control() || c == '/' || c == '\\' { '_' } else { c }).take(60).collect();
        let mut target = named.join(format!("{plain}.{}", extension(&file.name)));
        if plain.starts_with('.') || target.exists() {
            target = named.join(format!("{} {i}.{}", plain.trim_start_matches('.'), extension(&file.name)));
        }
        std::fs::rename(&file.path, target)?;
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

pub(super) fn relative(info: &mut ClipInfo, folder: &Path) {
    let below = |p: &Path| p.strip_prefix(folder).map_or_else(|_| p.to_owned(), Path::to_owned);
    match &mut info.source {
        Source::Video(path) => *path = below(path),
        Source::Sequence { folder, .. } => *folder = below(folder),
    }
}

/// A shot's name from a file's, without what a line cannot show.
pub fn shot_name(file: &str) -> String {
    shot_name_of(&Path::new(file).file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default())
}

/// A shot's name from any text.
pub fn shot_name_of(text: &str) -> String {
    let name: String = text.chars().filter(|c| !c.is_control()).take(MAX_NAME).collect();
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

    #[test]
    fn numbered_series_in_one_folder_are_clips_of_their_own() {
        let split = |names: &[&str]| -> Vec<usize> {
            let files =
                names.iter().map(|n| Arrived { name: (*n).to_owned(), path: PathBuf::new(), unread: None }).collect();
            series(files).iter().map(Vec::len).collect()
        };
        assert_eq!(split(&["a_1.png", "a_2.png", "b_1.png", "b_2.png", "b_3.png"]), [2, 3]);
        assert_eq!(split(&["a_1.png", "a_2.png", "b_1.png"]), [3], "one picture is no series");
        assert_eq!(split(&["dawn.png", "dusk.png"]), [2]);
        assert_eq!(split(&["a 1.png", "a 2.png", "dusk.png"]), [3]);
    }

    #[test]
    fn videos_stand_alone_and_stills_of_a_kind_together() {
        let names = ["b.mp4", "s 2.PNG", "a.mov", "s 1.png", "t.jpeg", "t.JPG", "all.zip", "notes.txt"];
        let files =
            names.iter().map(|n| Arrived { name: (*n).to_owned(), path: PathBuf::new(), unread: None }).collect();
        let found: Vec<(char, String)> = groups(files)
            .iter()
            .map(|g| match g {
                Group::Video(_) => ('v', g.name()),
                Group::Zip(_) => ('z', g.name()),
                Group::Stills(files) => (char::from_digit(files.len() as u32, 10).unwrap(), g.name()),
            })
            .collect();
        let expected =
            [('v', "a.mov"), ('z', "all.zip"), ('v', "b.mp4"), ('v', "notes.txt"), ('2', "t.JPG"), ('2', "s 1.png")];
        assert_eq!(found, expected.map(|(k, n)| (k, n.to_owned())));
    }
}
