//! Inserts: what is placed in the scene. One file a kind; a new kind is a file and a line in [`InsertKind`].

mod placement;
mod title;

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
    /// A sentence that names the first thing that cannot be used.
    pub fn validate(&self) -> Result<(), String> {
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
    /// A sentence that names the first that cannot be used.
    pub fn validate(&self) -> Result<(), String> {
        self.placement.validate()?;
        if self.name.chars().count() > MAX_NAME || self.name.chars().any(char::is_control) {
            return Err(format!("a name is one line of at most {MAX_NAME} characters"));
        }
        self.content.validate()
    }
}

/// Refuses a number out of its range.
pub(super) fn within(name: &str, value: f64, low: f64, high: f64) -> Result<(), String> {
    if (low..=high).contains(&value) {
        Ok(())
    } else {
        Err(format!("{name} is {value}; it must lie between {low} and {high}"))
    }
}
