//! Files that inserts show, by their content.

use crate::{Store, StoreError, now_ms};
use fennik_core::scene::AssetName;
use rusqlite::{OptionalExtension, named_params};
use sha2::{Digest, Sha256};
use std::fs::File;
use std::path::{Path, PathBuf};

/// A file that was taken in.
#[derive(Debug, Clone, PartialEq)]
pub struct AssetRow {
    /// Its content.
    pub name: AssetName,
    /// What it was called.
    pub file: String,
    /// `picture`, `clip` or `model`.
    pub kind: String,
    /// What the media layer knows of it, JSON.
    pub info: String,
}

fn row(r: &rusqlite::Row) -> rusqlite::Result<AssetRow> {
    let name: String = r.get("name")?;
    let name = AssetName::try_from(name)
        .map_err(|e| rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Text, Box::new(e)))?;
    Ok(AssetRow { name, file: r.get("file")?, kind: r.get("kind")?, info: r.get("info")? })
}

/// A folder in which a file is laid before it is taken in; what nobody takes goes again.
pub struct AssetFolder {
    path: PathBuf,
}

impl AssetFolder {
    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Names what lies in it by its content: the file and what came with it, each with its own name.
    ///
    /// # Errors
    /// [`StoreError::File`] when it cannot be read.
    pub fn name(&self) -> Result<AssetName, StoreError> {
        let mut digest = Sha256::new();
        digest_of(&self.path, &mut digest)
            .map_err(|source| StoreError::File { what: "the file could not be read again".to_owned(), source })?;
        Ok(AssetName::of_digest(&digest.finalize()))
    }
}

/// Everything in a folder, by name and content.
fn digest_of(folder: &Path, digest: &mut Sha256) -> std::io::Result<()> {
    let mut entries: Vec<PathBuf> = std::fs::read_dir(folder)?.flatten().map(|e| e.path()).collect();
    entries.sort();
    for path in entries {
        digest.update(path.file_name().map(|n| n.as_encoded_bytes().to_vec()).unwrap_or_default());
        if path.is_dir() {
            digest_of(&path, digest)?;
        } else {
            std::io::copy(&mut File::open(&path)?, &mut Hashing(digest))?;
        }
    }
    Ok(())
}

struct Hashing<'a>(&'a mut Sha256);

impl std::io::Write for Hashing<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

impl Drop for AssetFolder {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.path);
    }
}

impl Store {
    /// Makes a folder in which a file is laid that is to be taken in.
    ///
    /// # Errors
    /// [`StoreError::Folder`] when the disk refuses.
    pub fn new_asset_folder(&self) -> Result<AssetFolder, StoreError> {
        let path = self.root.join("assets").join(format!(".arriving-{}", ulid::Ulid::generate()));
        std::fs::create_dir_all(&path).map_err(|source| StoreError::Folder { path: path.clone(), source })?;
        Ok(AssetFolder { path })
    }

    /// Where the files of an asset lie.
    pub fn asset_folder(&self, name: &AssetName) -> PathBuf {
        self.root.join("assets").join(name.as_str())
    }

    /// Takes in what lies in a folder; what was taken in before is there already.
    ///
    /// # Errors
    /// [`StoreError`] when the disk or the database refuses.
    pub fn add_asset(&self, folder: AssetFolder, row: &AssetRow) -> Result<(), StoreError> {
        const SQL: &str = "INSERT INTO assets (name, file, kind, info, created_ms)
            VALUES (:name, :file, :kind, :info, :now) ON CONFLICT (name) DO NOTHING";
        let kept = |source| StoreError::File { what: "the file could not be stored for good".to_owned(), source };
        let target = self.asset_folder(&row.name);
        if !target.exists() {
            File::open(&folder.path).and_then(|f| Ok(rustix::fs::syncfs(f)?)).map_err(kept)?;
            match std::fs::rename(&folder.path, &target) {
                // Another arrived at the same moment with the same.
                Err(_) if target.exists() => {}
                done => done.map_err(kept)?,
            }
        }
        let (name, now) = (row.name.as_str(), now_ms());
        self.lock().execute(
            SQL,
            named_params! { ":name": name, ":file": row.file, ":kind": row.kind, ":info": row.info, ":now": now },
        )?;
        Ok(())
    }

    /// A file that was taken in.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn asset(&self, name: &AssetName) -> Result<Option<AssetRow>, StoreError> {
        Ok(self.read().query_row("SELECT * FROM assets WHERE name = ?1", [name.as_str()], row).optional()?)
    }

    /// All files that were taken in, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn assets(&self) -> Result<Vec<AssetRow>, StoreError> {
        let db = self.read();
        let mut statement = db.prepare("SELECT * FROM assets ORDER BY created_ms DESC, name")?;
        let rows = statement.query_map([], row)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }
}
