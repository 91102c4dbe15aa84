//! Files that inserts show: pictures and models, each with its limits.

mod font;
pub mod model;
mod picture;
mod svg;
mod table;

pub use font::FontFile;
pub use picture::{Picture, Pixels};
pub use table::table;

use std::path::Path;

/// Largest file of a picture or a model, bytes.
const MOST_BYTES: u64 = 512 * 1024 * 1024;

/// What a file is, by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AssetKind {
    /// One picture.
    Picture,
    /// A video.
    Clip,
    /// A model.
    Model,
    /// Letters.
    Font,
    /// Colours by colours.
    Table,
}

/// Extensions of pictures and of models; what is neither is tried as a clip.
const PICTURES: [&str; 9] = ["png", "jpg", "jpeg", "webp", "tif", "tiff", "exr", "hdr", "svg"];
const MODELS: [&str; 5] = ["glb", "gltf", "obj", "ply", "stl"];
const FONTS: [&str; 4] = ["ttf", "otf", "woff", "woff2"];
const TABLES: [&str; 1] = ["cube"];

impl AssetKind {
    /// By the extension of a file.
    pub fn of(name: &str) -> Self {
        let kind = extension(name);
        if PICTURES.contains(&kind.as_str()) {
            Self::Picture
        } else if MODELS.contains(&kind.as_str()) {
            Self::Model
        } else if FONTS.contains(&kind.as_str()) {
            Self::Font
        } else if TABLES.contains(&kind.as_str()) {
            Self::Table
        } else {
            Self::Clip
        }
    }

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Picture => "picture",
            Self::Clip => "clip",
            Self::Model => "model",
            Self::Font => "font",
            Self::Table => "table",
        }
    }
}

/// What follows the last dot, in small letters.
pub(crate) fn extension(name: &str) -> String {
    Path::new(name).extension().map(|e| e.to_string_lossy().to_ascii_lowercase()).unwrap_or_default()
}

/// Why a picture or a model cannot be shown.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AssetFileError {
    /// Its bytes cannot be read as what it is called.
    #[error("“{name}” cannot be read: {why}. Export it again, or convert it")]
    Unreadable {
        /// The file's name.
        name: String,
        /// What is wrong with it.
        why: String,
    },
    /// Too much of it.
    #[error("“{name}” is too large: {what}. Make it smaller and take it in again")]
    TooLarge {
        /// The file's name.
        name: String,
        /// What there is too much of.
        what: String,
    },
    /// It refers to files that did not come with it.
    #[error(
        "“{name}” refers to {}, which did not come with it. Export it as one file (GLB), or take all its files in \
            together",
        crate::error::listed(files)
    )]
    Missing {
        /// The file's name.
        name: String,
        /// What it refers to.
        files: Vec<String>,
    },
    /// It needs what is not supported.
    #[error("“{name}” needs {what}, which is not supported. Export it without")]
    Unsupported {
        /// The file's name.
        name: String,
        /// What it needs.
        what: String,
    },
    /// Nothing to be seen in it.
    #[error("“{name}” holds nothing that can be seen")]
    Empty {
        /// The file's name.
        name: String,
    },
}

impl AssetFileError {
    pub(crate) fn unreadable(name: &str, why: impl std::fmt::Display) -> Self {
        // The parsers' own texts may quote the file at any length.
        let why: String = why.to_string().chars().filter(|c| !c.is_control()).take(200).collect();
        Self::Unreadable { name: name.to_owned(), why }
    }
}

/// The bytes of a file that is not too large.
pub(crate) fn bytes_of(path: &Path, name: &str) -> Result<Vec<u8>, AssetFileError> {
    let unreadable = |why| AssetFileError::unreadable(name, why);
    let size = std::fs::metadata(path).map_err(unreadable)?.len();
    if size > MOST_BYTES {
        let what = format!("{} MB of at most {}", size >> 20, MOST_BYTES >> 20);
        return Err(AssetFileError::TooLarge { name: name.to_owned(), what });
    }
    std::fs::read(path).map_err(unreadable)
}
