//! Looks: settings that are kept by a name and used on any shot.

use crate::{Store, StoreError, now_ms};
use rusqlite::OptionalExtension;

impl Store {
    /// Keeps settings, JSON, under a name; one of that name is replaced.
    ///
    /// # Errors
    /// [`StoreError`] when the disk or the database refuses.
    pub fn keep_look(&self, name: &str, settings: &str) -> Result<(), StoreError> {
        const SQL: &str = "INSERT INTO looks (name, settings, created_ms) VALUES (?1, ?2, ?3)
            ON CONFLICT (name) DO UPDATE SET settings = excluded.settings, created_ms = excluded.created_ms";
        self.lock().execute(SQL, (name, settings, now_ms()))?;
        Ok(())
    }

    /// The settings that are kept under a name.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn look(&self, name: &str) -> Result<Option<String>, StoreError> {
        Ok(self.read().query_row("SELECT settings FROM looks WHERE name = ?1", [name], |r| r.get(0)).optional()?)
    }

    /// The names of all looks, by their names.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn looks(&self) -> Result<Vec<String>, StoreError> {
        let db = self.read();
        let mut statement = db.prepare("SELECT name FROM looks ORDER BY name")?;
        let rows = statement.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?;
        Ok(rows)
    }

    /// Lets a look go; `false` where there is none of that name.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn forget_look(&self, name: &str) -> Result<bool, StoreError> {
        Ok(self.lock().execute("DELETE FROM looks WHERE name = ?1", [name])? > 0)
    }
}
