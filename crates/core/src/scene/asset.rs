//! Files that inserts show, by their content.

use serde::{Deserialize, Serialize};

/// Digits of a name.
const DIGITS: usize = 32;

/// Names a file by its content: the first 32 hexadecimal digits of its SHA-256. What is taken in never changes, so that
/// a shot shows the same for as long as it names the same.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct AssetName(String);

/// A file that something shows.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Asset {
    /// Its content.
    pub name: AssetName,
    /// What it was called when it was taken in; only ever shown.
    pub file: String,
}

/// A name that is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} names no file that was taken in")]
pub struct AssetNameError(String);

impl AssetName {
    /// From the digest of a file.
    pub fn of_digest(digest: &[u8]) -> Self {
        Self(digest.iter().take(DIGITS / 2).map(|b| format!("{b:02x}")).collect())
    }

    /// Its digits.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for AssetName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for AssetName {
    type Error = AssetNameError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        let is_digit = |c: char| matches!(c, '0'..='9' | 'a'..='f');
        if text.len() == DIGITS && text.chars().all(is_digit) { Ok(Self(text)) } else { Err(AssetNameError(text)) }
    }
}

impl From<AssetName> for String {
    fn from(name: AssetName) -> Self {
        name.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_digits_and_nothing_that_leads_out_of_a_folder() {
        let name = AssetName::of_digest(&[0xAB; 32]);
        assert_eq!(name.as_str(), "ab".repeat(16));
        assert_eq!(serde_json::from_value::<AssetName>(serde_json::json!(name.as_str())).unwrap(), name);
        for wrong in ["", "../../etc/passwd", &"AB".repeat(16), &"ab".repeat(15), &"é".repeat(16)] {
            assert!(AssetName::try_from(wrong.to_owned()).is_err(), "{wrong}");
        }
    }
}
