//! Inserts: what is placed in the scene. One file a kind; a new kind is a file and a line in [`InsertKind`].

mod error;
mod placement;
mod title;

pub use error::InsertError;
pub(crate) use error::within;
pub use placement::{Placement, Stance};
pub use title::Title;

use serde::{Deserialize, Serialize};

/// Names an insert within its shot; never used twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct InsertId(pub u32);

/// What kind of thing an insert is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "kind")]
pub enum InsertKind {
    /// Letters.
    Title(Title),
}

/// Something placed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Insert {
    /// Its id in the document.
    pub id: InsertId,
    /// What people call it; its document gives it one where it has none.
    #[serde(default)]
    pub name: String,
    /// What it shows.
    pub content: InsertKind,
    /// Where it is.
    pub placement: Placement,
    /// Whether it is left out of the picture.
    pub hidden: bool,
}

/// Longest name, characters.
const MAX_NAME: usize = 80;

impl InsertKind {
    /// What it is, in a word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Title(_) => "title",
        }
    }

    /// What it shows, in a line.
    pub fn label(&self) -> String {
        match self {
            Self::Title(title) => title.text.lines().next().unwrap_or(self.word()).to_owned(),
        }
    }

    /// Its main colour as encoded for display, 0 to 255.
    pub fn base_colour(&self) -> [u8; 3] {
        match self {
            Self::Title(title) => title.colour,
        }
    }

    /// Checks all that it holds.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        match self {
            Self::Title(title) => title.validate(),
        }
    }
}

impl Insert {
    /// What it is called: its name, or for those of earlier versions its kind and number.
    pub fn shown_name(&self) -> String {
        if self.name.trim().is_empty() { format!("{} {}", self.content.word(), self.id.0) } else { self.name.clone() }
    }

    /// Checks every number and text.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        self.placement.validate()?;
        if self.name.chars().count() > MAX_NAME || self.name.chars().any(char::is_control) {
            return Err(InsertError::Name { most: MAX_NAME });
        }
        self.content.validate()
    }
}
