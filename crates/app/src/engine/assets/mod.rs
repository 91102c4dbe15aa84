//! Files that inserts show: taking them in, and giving them to whoever draws.

mod ground;
mod key;
mod shown;

pub use ground::ShotOn;
pub use shown::{AssetFiles, ShotAssets, display_values, model_of};

use super::EngineError;
use super::import::{STILLS_RATE, extension, relative};
use fennik_core::colour::{ColourTable, TableShape};
use fennik_core::scene::{Asset, AssetName};
use fennik_media::{
    AssetFileError, AssetKind, ClipInfo, Companions, FontFile, FrameReader, MediaError, ModelFile, Picture, PixelKind,
    SequenceError, Source, gather_folder, probe, table, unpack_zip,
};
use fennik_store::{AssetRow, Store};
use ground::shot_on;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Why a file cannot be taken in or shown.
#[derive(Debug, thiserror::Error)]
pub enum AssetsError {
    /// A picture or a model.
    #[error(transparent)]
    File(#[from] AssetFileError),
    /// A clip.
    #[error(transparent)]
    Clip(#[from] MediaError),
    /// Not there.
    #[error("the file {name} was never taken in here; take it in again")]
    NoSuch {
        /// Which.
        name: AssetName,
    },
    /// It cannot be shown.
    #[error("{why}")]
    Shown {
        /// Why.
        why: String,
    },
    /// Nothing arrived.
    #[error("no file arrived; choose a picture, a clip, a model or a font")]
    Nothing,
    /// More than one that could be shown.
    #[error("{} and {} could both be shown; take them in one after the other", names[0], names[1])]
    Several {
        /// The first of them.
        names: Vec<String>,
    },
    /// A file that cannot be opened.
    #[error("{} cannot be read: {why}", path.display())]
    Unread {
        /// Which.
        path: PathBuf,
        /// What is wrong with it.
        why: std::io::Error,
    },
    /// No room.
    #[error("the file could not be stored ({why}); make room on the disk and try again")]
    NoRoom {
        /// What the disk says.
        why: std::io::Error,
    },
    /// What is kept of it is damaged.
    #[error("what is kept of “{file}” is damaged: {why}; take it in again")]
    Record {
        /// Its name.
        file: String,
        /// What is wrong with it.
        why: serde_json::Error,
    },
}

/// What is known of a file.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "lowercase")]
pub enum AssetInfo {
    /// One picture.
    Picture {
        /// px.
        width: u32,
        /// px.
        height: u32,
        /// What its pictures are shot on.
        #[serde(default)]
        ground: ShotOn,
    },
    /// A clip.
    Clip {
        /// As it was opened.
        clip: Box<ClipInfo>,
        /// What its pictures are shot on.
        #[serde(default)]
        ground: ShotOn,
    },
    /// A model.
    Model {
        /// In its own units.
        size: [f32; 3],
        /// Metres of one of them.
        unit_m: f64,
        /// Whether its own Z points up.
        z_up: bool,
        /// Triangles.
        triangles: usize,
        /// What is approximated or missing.
        notes: Vec<String>,
        /// How long its own motion is, seconds; 0 where it has none.
        #[serde(default)]
        length_s: f64,
        /// What its materials are called.
        #[serde(default)]
        materials: Vec<String>,
    },
    /// Colours by colours.
    Table {
        /// Entries along a side.
        size: usize,
        /// Whether red, green and blue are looked up together.
        cube: bool,
    },
    /// Letters.
    Font {
        /// What it calls itself.
        family: String,
        /// How many glyphs it has.
        glyphs: u16,
    },
}

impl AssetInfo {
    /// What pictures are shot on; a model on nothing.
    pub fn ground(&self) -> ShotOn {
        match self {
            Self::Picture { ground, .. } | Self::Clip { ground, .. } => *ground,
            Self::Model { .. } | Self::Font { .. } | Self::Table { .. } => ShotOn::Anything,
        }
    }

    /// Width over height of what is seen; 1 for a model.
    pub fn aspect(&self) -> f64 {
        match self {
            Self::Picture { width, height, .. } => f64::from(*width) / f64::from(*height),
            Self::Clip { clip, .. } => f64::from(clip.width) / f64::from(clip.height),
            Self::Model { .. } | Self::Font { .. } | Self::Table { .. } => 1.0,
        }
    }

    /// What it is, in a line.
    pub fn reading(&self) -> String {
        match self {
            Self::Picture { width, height, .. } => format!("{width} x {height} px"),
            Self::Clip { clip, .. } => {
                let seconds = f64::from(clip.frames) / clip.rate.per_second();
                format!("{} x {} px, {} frames, {seconds:.1} s", clip.width, clip.height, clip.frames)
            }
            Self::Table { size, cube: true } => format!("{size} x {size} x {size} colours"),
            Self::Table { size, .. } => format!("{size} entries a channel"),
            Self::Font { family, glyphs } => format!("{family}, {glyphs} glyphs"),
            Self::Model { size, unit_m, triangles, notes, .. } => {
                let [x, y, z] = size.map(|v| f64::from(v) * unit_m);
                let notes: String = notes.iter().map(|n| format!("; {n}")).collect();
                format!("{x:.2} x {y:.2} x {z:.2} m, {triangles} triangles{notes}")
            }
        }
    }
}

/// A file that was taken in, with what is known of it.
#[derive(Debug, Clone)]
pub struct TakenAsset {
    /// How inserts name it.
    pub asset: Asset,
    /// `picture`, `clip`, `model` or `font`.
    pub kind: String,
    /// What is known of it.
    pub info: AssetInfo,
}

impl TakenAsset {
    fn of(row: AssetRow) -> Result<Self, AssetsError> {
        let info =
            serde_json::from_str(&row.info).map_err(|why| AssetsError::Record { file: row.file.clone(), why })?;
        Ok(Self { asset: Asset { name: row.name, file: row.file }, kind: row.kind, info })
    }
}

/// The file of an asset's folder that it is named after.
fn main_file(folder: &Path, file: &str) -> PathBuf {
    folder.join(format!("asset.{}", extension(file)))
}

/// A file that arrived: what it was called, and where its bytes are.
pub type ArrivedFile = (String, PathBuf);

/// A file on the disk with those beside it that a model refers to.
pub fn with_companions(name: String, path: PathBuf) -> Vec<ArrivedFile> {
    let mut files = vec![(name.clone(), path.clone())];
    if AssetKind::of(&name) == AssetKind::Model {
        let beside = |e: &PathBuf| {
            let n = e.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            e.is_file() && *e != path && ["mtl", "bin", "png", "jpg", "jpeg", "webp"].contains(&extension(&n).as_str())
        };
        let folder = path.parent().map(std::fs::read_dir);
        let entries = folder.into_iter().flatten().flatten().flatten().map(|e| e.path()).filter(beside).take(200);
        files.extend(
            entries.map(|e| (e.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(), e.clone())),
        );
    }
    files
}

/// How a file comes to its place: [`std::fs::rename`] for what arrived in the data folder, a copy of what is somebody's.
pub type Lay = fn(&Path, &Path) -> std::io::Result<()>;

/// Takes in a file with what came with it (pictures and buffers of a model).
///
/// # Errors
/// [`EngineError`] says what is wrong with it; nothing is kept then.
pub fn take_in(store: &Store, arrived: &[ArrivedFile], lay: Lay) -> Result<TakenAsset, EngineError> {
    let models: Vec<&ArrivedFile> = arrived.iter().filter(|(n, _)| AssetKind::of(n) == AssetKind::Model).collect();
    if models.is_empty() && arrived.len() > 1 && arrived.iter().all(|(n, _)| AssetKind::of(n) == AssetKind::Picture) {
        return take_in_series(store, arrived, lay);
    }
    let (main, with): (&ArrivedFile, Vec<&ArrivedFile>) = match (models.as_slice(), arrived) {
        ([], []) => return Err(AssetsError::Nothing.into()),
        ([], [one]) => (one, Vec::new()),
        ([one], all) => (one, all.iter().filter(|f| !std::ptr::eq(*f, *one)).collect()),
        (several, all) => {
            let mut names: Vec<String> = several.iter().map(|f| f.0.clone()).collect();
            names.extend(all.iter().map(|f| f.0.clone()));
            return Err(AssetsError::Several { names }.into());
        }
    };
    if let Some((_, path)) = arrived.iter().find(|(_, path)| !path.is_file()) {
        let why = std::fs::metadata(path).err().unwrap_or_else(|| std::io::ErrorKind::InvalidInput.into());
        return Err(AssetsError::Unread { path: path.clone(), why }.into());
    }
    let folder = store.new_asset_folder()?;
    let no_room = |why| AssetsError::NoRoom { why };
    let target = main_file(folder.path(), &main.0);
    lay(&main.1, &target).map_err(no_room)?;
    for (name, path) in &with {
        lay(path, &folder.path().join(companion_name(name))).map_err(no_room)?;
    }
    let kind = AssetKind::of(&main.0);
    let info = look(kind, folder.path(), &main.0)?;
    let name = folder.name()?;
    let row =
        AssetRow { name, file: shown_name(&main.0), kind: kind.word().to_owned(), info: serde_json::to_string(&info)? };
    store.add_asset(folder, &row)?;
    // What was there before keeps its name.
    find(store, &row.name)
}

/// Takes in pictures that follow one another as a clip.
fn take_in_series(store: &Store, arrived: &[ArrivedFile], lay: Lay) -> Result<TakenAsset, EngineError> {
    let folder = store.new_asset_folder()?;
    let no_room = |why| AssetsError::NoRoom { why };
    let named = folder.path().join("arrived");
    std::fs::create_dir_all(&named).map_err(no_room)?;
    for (name, path) in arrived {
        lay(path, &named.join(companion_name(name))).map_err(no_room)?;
    }
    let file = format!("{} and {} more", shown_name(&arrived[0].0), arrived.len() - 1);
    let sequence =
        |why: SequenceError| AssetsError::Clip(MediaError::Unreadable { name: file.clone(), why: why.to_string() });
    let gathered = gather_folder(&named, &folder.path().join("stills"), STILLS_RATE).map_err(sequence);
    let _ = std::fs::remove_dir_all(&named);
    // What the folder is named by is its main file: here a list of what it holds.
    let list: Vec<&str> = arrived.iter().map(|f| f.0.as_str()).collect();
    std::fs::write(main_file(folder.path(), "series.txt"), list.join("\n")).map_err(no_room)?;
    let info = clip_of(gathered?.source, folder.path(), &file)?;
    let name = folder.name()?;
    let row = AssetRow { name, file, kind: AssetKind::Clip.word().to_owned(), info: serde_json::to_string(&info)? };
    store.add_asset(folder, &row)?;
    find(store, &row.name)
}

/// What is known of a clip that lies in an asset's folder.
fn clip_of(source: Source, folder: &Path, file: &str) -> Result<AssetInfo, AssetsError> {
    let mut clip = ClipInfo { shown: Some(shown_name(file)), ..probe(&source)? };
    relative(&mut clip, folder);
    Ok(AssetInfo::Clip { ground: ground_of(&clip, folder), clip: Box::new(clip) })
}

/// A file name that leads nowhere else; what a model refers to is looked up by it.
fn companion_name(name: &str) -> String {
    let last = name.rsplit(['/', '\\']).next().unwrap_or(name);
    let plain: String = last.chars().filter(|c| !c.is_control()).take(120).collect();
    if plain.starts_with('.') || plain.is_empty() { format!("file{plain}") } else { plain }
}

fn shown_name(name: &str) -> String {
    let last = name.rsplit(['/', '\\']).next().unwrap_or(name);
    last.chars().filter(|c| !c.is_control()).take(80).collect()
}

fn look(kind: AssetKind, folder: &Path, file: &str) -> Result<AssetInfo, AssetsError> {
    let path = main_file(folder, file);
    Ok(match kind {
        AssetKind::Picture => {
            let picture = Picture::open(&path, file)?;
            let (width, height) = (picture.width, picture.height);
            let rgba = shown::display_values(picture.pixels);
            AssetInfo::Picture { width, height, ground: shot_on(&rgba, width as usize, height as usize) }
        }
        AssetKind::Clip if extension(file) == "zip" => {
            let unreadable =
                |why: SequenceError| MediaError::Unreadable { name: shown_name(file), why: why.to_string() };
            let stills = unpack_zip(&path, &folder.join("stills"), STILLS_RATE).map_err(unreadable)?;
            clip_of(stills.source, folder, file)?
        }
        AssetKind::Clip => {
            let scratch = folder.join("scratch");
            let opened = ClipInfo::open(&path, &scratch);
            let _ = std::fs::remove_dir_all(&scratch);
            let mut clip = ClipInfo { shown: Some(shown_name(file)), ..opened? };
            relative(&mut clip, &folder.canonicalize().unwrap_or_else(|_| folder.to_owned()));
            AssetInfo::Clip { ground: ground_of(&clip, folder), clip: Box::new(clip) }
        }
        AssetKind::Font => {
            let font = FontFile::open(&path, file)?;
            AssetInfo::Font { family: font.family, glyphs: font.glyphs }
        }
        AssetKind::Table => {
            let (shape, size) = table(&path, file)?.size();
            AssetInfo::Table { size, cube: shape == TableShape::Cube }
        }
        AssetKind::Model => {
            let model = ModelFile::open(&path, file, &companions(folder, &path))?;
            let [low, high] = model.bounds();
            AssetInfo::Model {
                size: std::array::from_fn(|k| high[k] - low[k]),
                unit_m: model.unit_m,
                z_up: model.z_up,
                triangles: model.triangles.len(),
                length_s: model.rig.as_ref().map_or(0.0, |r| r.length_s),
                materials: model.materials.iter().map(|m| m.name.clone()).collect(),
                notes: model.notes,
            }
        }
    })
}

/// What a clip is shot on, by a frame of its middle.
fn ground_of(clip: &ClipInfo, folder: &Path) -> ShotOn {
    let mut clip = clip.clone();
    clip.source = clip.source.rebased(folder);
    let middle = clip.frames / 2;
    let read = || {
        let mut reader = FrameReader::open(&clip, Some((middle, middle + 1)), PixelKind::Rgba).ok()?;
        reader.next_frame().ok()?.map(|rgba| shot_on(rgba, clip.width as usize, clip.height as usize))
    };
    read().unwrap_or_default()
}

/// Largest file that comes with a model, bytes.
const MOST_COMPANION: u64 = 512 * 1024 * 1024;

fn companions(folder: &Path, main: &Path) -> Companions {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path());
    let others = entries.filter(|p| p != main && p.is_file());
    let small = others.filter(|p| p.metadata().is_ok_and(|m| m.len() <= MOST_COMPANION));
    small.filter_map(|p| Some((p.file_name()?.to_string_lossy().into_owned(), std::fs::read(&p).ok()?))).collect()
}

/// A file that was taken in.
///
/// # Errors
/// [`AssetsError::NoSuch`] where there is none.
pub fn find(store: &Store, name: &AssetName) -> Result<TakenAsset, EngineError> {
    let row = store.asset(name)?.ok_or_else(|| AssetsError::NoSuch { name: name.clone() })?;
    Ok(TakenAsset::of(row)?)
}

/// A table of colours that was taken in.
///
/// # Errors
/// [`EngineError`] where there is none, or it cannot be read any more.
pub fn table_of(store: &Store, asset: &Asset) -> Result<Arc<ColourTable>, EngineError> {
    let taken = find(store, &asset.name)?;
    if !matches!(taken.info, AssetInfo::Table { .. }) {
        return Err(AssetsError::Shown { why: format!("“{}” is no table of colours (.cube)", taken.asset.file) }.into());
    }
    let folder = store.asset_folder(&asset.name);
    Ok(Arc::new(table(&main_file(&folder, &taken.asset.file), &taken.asset.file).map_err(AssetsError::from)?))
}

/// One by its name, which can be read.
///
/// # Errors
/// As [`table_of`].
pub fn table_named(store: &Store, name: &AssetName) -> Result<Asset, EngineError> {
    let asset = find(store, name)?.asset;
    table_of(store, &asset)?;
    Ok(asset)
}

/// All files that were taken in, the newest first.
///
/// # Errors
/// [`EngineError`] when the database refuses or a record is damaged.
pub fn all(store: &Store) -> Result<Vec<TakenAsset>, EngineError> {
    store.assets()?.into_iter().map(|row| Ok(TakenAsset::of(row)?)).collect()
}
