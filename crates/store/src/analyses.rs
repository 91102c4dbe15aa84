//! Finished track runs, solves and surveys.

use crate::{ShotId, Store, StoreError, now_ms};
use fennik_core::scene::{AnalysisId, FrameRange};
use rusqlite::{OptionalExtension, named_params};
use std::io::Write;

/// What was computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AnalysisKind {
    /// Point tracks.
    Tracks,
    /// A camera.
    Solve,
    /// What was found of the scene.
    Survey,
}

impl AnalysisKind {
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Tracks => "tracks",
            Self::Solve => "solve",
            Self::Survey => "survey",
        }
    }
}

/// An analysis that is to be kept.
#[derive(Debug, Clone, Copy)]
pub struct NewAnalysis<'a> {
    /// What was computed.
    pub kind: AnalysisKind,
    /// What it was computed with, JSON.
    pub settings: &'a str,
    /// How it came out, a line for people.
    pub reading: &'a str,
    /// The track run that a solve comes from, or the solve that a survey does.
    pub source: Option<AnalysisId>,
    /// The frames of the clip that it is about.
    pub trim: FrameRange,
    /// The result.
    pub bytes: &'a [u8],
}

/// One finished analysis.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AnalysisRow {
    /// Its number.
    pub id: AnalysisId,
    /// Its shot.
    pub shot: ShotId,
    /// What was computed.
    pub kind: AnalysisKind,
    /// What it was computed with, JSON.
    pub settings: String,
    /// The name that a person gave it.
    pub name: String,
    /// How it came out, a line for people.
    pub reading: String,
    /// The track run that a solve comes from, or the solve that a survey does, where that is known.
    pub source: Option<AnalysisId>,
    /// The frames of the clip that it is about, where that is known.
    pub trim: Option<FrameRange>,
}

/// What is read of an analysis.
const COLUMNS: &str = "id, shot_id, kind, settings, name, reading, source, trim_first, trim_last";

/// Longest name of an analysis, characters.
const MAX_NAME: usize = 80;

fn row(r: &rusqlite::Row) -> rusqlite::Result<AnalysisRow> {
    let (first, last): (Option<u32>, Option<u32>) = (r.get("trim_first")?, r.get("trim_last")?);
    Ok(AnalysisRow {
        id: AnalysisId(r.get("id")?),
        shot: ShotId(r.get("shot_id")?),
        kind: match r.get::<_, String>("kind")?.as_str() {
            "tracks" => AnalysisKind::Tracks,
            "survey" => AnalysisKind::Survey,
            _ => AnalysisKind::Solve,
        },
        trim: first.zip(last).map(|(first, last)| FrameRange { first, last }),
        settings: r.get("settings")?,
        name: r.get("name")?,
        reading: r.get("reading")?,
        source: r.get::<_, Option<i64>>("source")?.map(AnalysisId),
    })
}

impl Store {
    /// Keeps an analysis whole: the bytes are written under a temporary name, synced and renamed; the
    /// row comes last, so that a crash leaves no row without data.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the shot is gone; others when the disk or the database refuses.
    pub fn add_analysis(&self, shot: ShotId, new: &NewAnalysis) -> Result<AnalysisId, StoreError> {
        const SQL: &str =
            "INSERT INTO analyses (shot_id, kind, settings, reading, source, trim_first, trim_last, file, created_ms)
            SELECT :shot, :kind, :settings, :reading, :source, :first, :last, :file, :now
            WHERE EXISTS (SELECT 1 FROM shots WHERE id = :shot AND deleted_ms IS NULL)";
        let NewAnalysis { kind, settings, reading, source, trim, bytes } = *new;
        let name = format!("{}-{}.bin", kind.word(), ulid::Ulid::generate());
        let folder = self.root.join("analyses");
        let (partial, target) = (folder.join(format!("{name}.part")), folder.join(&name));
        let failed = |source| StoreError::File { what: format!("the {} could not be kept", kind.word()), source };
        let write = || -> std::io::Result<()> {
            let mut file = std::fs::File::create(&partial)?;
            file.write_all(bytes)?;
            file.sync_all()?;
            std::fs::rename(&partial, &target)
        };
        if let Err(source) = write() {
            let _ = std::fs::remove_file(&partial);
            return Err(failed(source));
        }
        let db = self.lock();
        let added = db.execute(
            SQL,
            named_params! { ":shot": shot.0, ":kind": kind.word(), ":settings": settings, ":reading": reading,
            ":source": source.map(|s| s.0), ":first": trim.first, ":last": trim.last, ":file": name, ":now": now_ms() },
        );
        match added {
            Ok(1..) => Ok(AnalysisId(db.last_insert_rowid())),
            other => {
                // Without a row nobody would ever find the file.
                let _ = std::fs::remove_file(&target);
                other?;
                Err(StoreError::Missing { what: "shot", id: shot.0 })
            }
        }
    }

    /// One analysis.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn analysis(&self, id: AnalysisId) -> Result<AnalysisRow, StoreError> {
        let sql = format!("SELECT {COLUMNS} FROM analyses WHERE id = :id");
        let found = self.read().query_row(&sql, named_params! { ":id": id.0 }, row).optional()?;
        found.ok_or(StoreError::Missing { what: "analysis", id: id.0 })
    }

    /// All solves of a shot, the oldest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn solves(&self, shot: ShotId) -> Result<Vec<AnalysisRow>, StoreError> {
        let sql = format!("SELECT {COLUMNS} FROM analyses WHERE shot_id = :shot AND kind = 'solve' ORDER BY id");
        let db = self.read();
        let mut statement = db.prepare(&sql)?;
        let rows = statement.query_map(named_params! { ":shot": shot.0 }, row)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }

    /// The survey of a solve; `None` where none was made yet.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn survey_of(&self, solve: AnalysisId) -> Result<Option<AnalysisId>, StoreError> {
        const SQL: &str = "SELECT id FROM analyses WHERE source = :solve AND kind = 'survey' ORDER BY id DESC LIMIT 1";
        let id = self.read().query_row(SQL, named_params! { ":solve": solve.0 }, |r| r.get(0)).optional()?;
        Ok(id.map(AnalysisId))
    }

    /// Names an analysis.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn name_analysis(&self, id: AnalysisId, name: &str) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE analyses SET name = :name WHERE id = :id";
        let name: String = name.trim().chars().filter(|c| !c.is_control()).take(MAX_NAME).collect();
        match self.lock().execute(SQL, named_params! { ":name": name, ":id": id.0 })? {
            0 => Err(StoreError::Missing { what: "analysis", id: id.0 }),
            _ => Ok(()),
        }
    }

    /// The bytes of an analysis.
    ///
    /// # Errors
    /// [`StoreError`] when it is gone from the database or the disk.
    pub fn analysis_bytes(&self, id: AnalysisId) -> Result<Vec<u8>, StoreError> {
        const SQL: &str = "SELECT file FROM analyses WHERE id = :id";
        let file: Option<String> =
            self.read().query_row(SQL, named_params! { ":id": id.0 }, |r| r.get("file")).optional()?;
        let file = file.ok_or(StoreError::Missing { what: "analysis", id: id.0 })?;
        std::fs::read(self.root.join("analyses").join(file)).map_err(|source| StoreError::File {
            what: format!("the data of analysis {} cannot be read; run it again", id.0),
            source,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::ShotDocument;

    #[test]
    fn bytes_come_back_and_a_lost_file_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a", "c", "{}", 9).unwrap();
        let shot = store.add_shot("s", clip, &ShotDocument::new(9)).unwrap();
        let new = |kind, source, bytes| NewAnalysis {
            kind,
            settings: "{}",
            reading: "0.2 px",
            source,
            trim: FrameRange { first: 0, last: 8 },
            bytes,
        };
        let id = store.add_analysis(shot, &new(AnalysisKind::Tracks, None, b"abc")).unwrap();
        let solve = store.add_analysis(shot, &new(AnalysisKind::Solve, Some(id), b"def")).unwrap();
        store.name_analysis(solve, "  without the boats\n ").unwrap();
        let kept = store.solves(shot).unwrap();
        assert_eq!(
            (kept.len(), kept[0].id, kept[0].name.as_str(), kept[0].source),
            (1, solve, "without the boats", Some(id))
        );
        assert_eq!(store.survey_of(solve).unwrap(), None);
        let survey = store.add_analysis(shot, &new(AnalysisKind::Survey, Some(solve), b"ghi")).unwrap();
        assert_eq!((store.survey_of(solve).unwrap(), store.solves(shot).unwrap().len()), (Some(survey), 1));
        assert_eq!(store.analysis(survey).unwrap().kind, AnalysisKind::Survey);
        assert!(store.name_analysis(AnalysisId(99), "x").is_err());
        assert_eq!(store.analysis_bytes(id).unwrap(), b"abc");
        for entry in std::fs::read_dir(folder.path().join("analyses")).unwrap() {
            std::fs::remove_file(entry.unwrap().path()).unwrap();
        }
        assert!(matches!(store.analysis_bytes(id), Err(StoreError::File { .. })));
        assert!(matches!(store.analysis(AnalysisId(99)), Err(StoreError::Missing { .. })));
    }
}
