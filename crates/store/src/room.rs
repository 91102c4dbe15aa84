//! What takes room in the data folder, and how it is freed.

use crate::clips::FILLING;
use crate::{ShotId, Store, StoreError, now_ms};
use rusqlite::{OptionalExtension, named_params};
use std::collections::BTreeSet;
use std::fs::{self, File};
use std::path::{Path, PathBuf};

/// What takes room, bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Room {
    /// Clips as they were taken in.
    pub clips: u64,
    /// Preview frames, which can be made again.
    pub previews: u64,
    /// Track runs and solves.
    pub analyses: u64,
    /// Finished videos.
    pub videos: u64,
    /// Files that inserts show.
    pub files: u64,
    /// Those of them that no state of any shot shows; counted above as well.
    pub unused: u64,
    /// Deleted shots that can still be brought back; counted in the others as well.
    pub deleted: u64,
}

/// Bytes of the files in a folder and below; 0 for one that is not there.
fn bytes_below(path: &Path) -> u64 {
    let Ok(entries) = fs::read_dir(path) else { return 0 };
    let size = |e: fs::DirEntry| match e.metadata() {
        Ok(m) if m.is_dir() => bytes_below(&e.path()),
        Ok(m) => m.len(),
        Err(_) => 0,
    };
    entries.flatten().map(size).sum()
}

fn names(store: &Store, sql: &str) -> Result<BTreeSet<String>, StoreError> {
    let db = store.read();
    let mut statement = db.prepare(sql)?;
    let rows = statement.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?;
    Ok(rows)
}

/// Folders of clips that deleted shots alone use, and files of their analyses.
const DELETED_CLIPS: &str = "SELECT folder FROM clips c WHERE NOT EXISTS (SELECT 1 FROM shots s WHERE s.clip_id = \
    c.id AND s.deleted_ms IS NULL)";
/// Deletes a clip that no shot is made from.
const FREE_CLIP: &str = "DELETE FROM clips WHERE id = CAST(?1 AS INTEGER)
    AND NOT EXISTS (SELECT 1 FROM shots s WHERE s.clip_id = clips.id) RETURNING folder";
const DELETED_ANALYSES: &str =
    "SELECT a.file FROM analyses a JOIN shots s ON s.id = a.shot_id WHERE s.deleted_ms IS NOT NULL";

/// Files that no state of any shot shows, also none that could be gone back to: a state, or the patch that first brought
/// it, holds the whole name.
const UNUSED: &str = "SELECT name FROM assets a WHERE NOT EXISTS \
    (SELECT 1 FROM revisions r WHERE instr(r.document, a.name) > 0) \
    AND NOT EXISTS (SELECT 1 FROM looks l WHERE instr(l.settings, a.name) > 0)";

/// Clips whose shot never came.
const SHOTLESS: &str =
    "DELETE FROM clips WHERE created_ms < :before AND NOT EXISTS (SELECT 1 FROM shots s WHERE s.clip_id = clips.id)";

impl Store {
    /// Counts what takes room. Reads the sizes of all files, so it takes a moment.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn room(&self) -> Result<Room, StoreError> {
        let clips = self.root.join("clips");
        let mut room = Room {
            analyses: bytes_below(&self.root.join("analyses")),
            videos: bytes_below(&self.root.join("delivered")),
            files: bytes_below(&self.root.join("assets")),
            ..Room::default()
        };
        for folder in fs::read_dir(&clips).into_iter().flatten().flatten() {
            let previews = bytes_below(&folder.path().join("proxies"));
            room.previews += previews;
            room.clips += bytes_below(&folder.path()).saturating_sub(previews);
        }
        room.unused = names(self, UNUSED)?.iter().map(|n| bytes_below(&self.root.join("assets").join(n))).sum();
        room.deleted += names(self, DELETED_CLIPS)?.iter().map(|f| bytes_below(&clips.join(f))).sum::<u64>();
        let size = |path: &Path| fs::metadata(path).map_or(0, |m| m.len());
        room.deleted +=
            names(self, DELETED_ANALYSES)?.iter().map(|f| size(&self.root.join("analyses").join(f))).sum::<u64>();
        room.deleted += self.deleted_shots()?.iter().map(|s| size(&self.delivered_path(s.id))).sum::<u64>();
        Ok(room)
    }

    /// Frees what deleted shots take: their revisions, analyses, videos, and clips that no other shot uses. Afterwards
    /// they cannot be brought back. Returns how many shots those were.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses; nothing is freed then.
    pub fn purge_deleted(&self) -> Result<usize, StoreError> {
        self.purge(None)
    }

    /// Frees the files that no state of any shot shows. Returns how many.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses; nothing is freed then.
    pub fn drop_unused_assets(&self) -> Result<usize, StoreError> {
        let gone: Vec<String> = {
            let db = self.lock();
            let mut statement = db.prepare(&format!("DELETE FROM assets WHERE name IN ({UNUSED}) RETURNING name"))?;
            let rows = statement.query_map([], |r| r.get(0))?;
            rows.collect::<Result<_, _>>()?
        };
        // What cannot be removed now is swept up by the next start.
        for name in &gone {
            let _ = fs::remove_dir_all(self.root.join("assets").join(name));
        }
        Ok(gone.len())
    }

    /// Takes a shot away for good, as if it had never been.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn discard_shot(&self, id: ShotId) -> Result<(), StoreError> {
        self.delete_shot(id)?;
        self.purge(Some(id)).map(|_| ())
    }

    /// Frees all deleted shots, or the one.
    fn purge(&self, only: Option<ShotId>) -> Result<usize, StoreError> {
        const WHICH: &str = "deleted_ms IS NOT NULL AND (:only IS NULL OR id = :only)";
        let of_these = format!("shot_id IN (SELECT id FROM shots WHERE {WHICH})");
        let only = only.map(|o| o.0);
        let mut db = self.lock();
        let change = db.transaction()?;
        let these = named_params! { ":only": only };
        let listed = |sql: &str| -> Result<Vec<String>, rusqlite::Error> {
            change.prepare(sql)?.query_map(these, |r| r.get(0))?.collect()
        };
        let videos = listed(&format!("SELECT id || '.mp4' FROM shots WHERE {WHICH}"))?;
        let analyses = listed(&format!("SELECT file FROM analyses WHERE {of_these}"))?;
        change.execute(&format!("UPDATE shots SET head = NULL WHERE {WHICH}"), these)?;
        change.execute(&format!("UPDATE revisions SET parent = NULL, patch_of = NULL WHERE {of_these}"), these)?;
        change.execute(&format!("UPDATE analyses SET source = NULL WHERE {of_these}"), these)?;
        // A clip that just came in has no shot yet for a moment; only those of these shots are looked at.
        let their_clips = listed(&format!("SELECT DISTINCT CAST(clip_id AS TEXT) FROM shots WHERE {WHICH}"))?;
        let gone = change.execute(&format!("DELETE FROM shots WHERE {WHICH}"), these)?;
        let mut clips = Vec::new();
        for clip in their_clips {
            clips.extend(change.query_row(FREE_CLIP, [clip], |r| r.get::<_, String>(0)).optional()?);
        }
        change.commit()?;
        drop(db);
        // What cannot be removed now is swept up by the next start.
        let below = |folder: &str, names: Vec<String>| {
            names.into_iter().map(|n| self.root.join(folder).join(n)).collect::<Vec<PathBuf>>()
        };
        below("delivered", videos).into_iter().chain(below("analyses", analyses)).for_each(|file| {
            let _ = fs::remove_file(file);
        });
        below("clips", clips).into_iter().for_each(|folder| {
            let _ = fs::remove_dir_all(folder);
        });
        Ok(gone)
    }

    /// Removes files that no row tells of: what a crash left half-done, and what was deleted. Folders that somebody is
    /// just filling stay. Returns how many files and folders went.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn sweep(&self) -> Result<usize, StoreError> {
        // What is on the disk is listed first: a row that comes meanwhile belongs to a file that is not in the list.
        let listed = |folder: &str| -> Vec<fs::DirEntry> {
            fs::read_dir(self.root.join(folder)).into_iter().flatten().flatten().collect()
        };
        let (clips, analyses, videos) = (listed("clips"), listed("analyses"), listed("delivered"));
        let assets = listed("assets");
        let young = i64::try_from(ROW_COMES_WITHIN.as_millis()).unwrap_or(i64::MAX);
        self.lock().execute(SHOTLESS, named_params! { ":before": now_ms() - young })?;
        let mut gone = 0;
        let known = names(self, "SELECT folder FROM clips")?;
        for entry in clips {
            let name = entry.file_name().to_string_lossy().into_owned();
            if known.contains(&name) {
                // Half-written previews are written over; a temporary name is nobody's.
                gone += remove_partial(&entry.path());
            } else if !is_being_filled(&entry.path()) && fs::remove_dir_all(entry.path()).is_ok() {
                gone += 1;
            }
        }
        let known = names(self, "SELECT name FROM assets")?;
        let nobodys = |e: &&fs::DirEntry| {
            let name = e.file_name().to_string_lossy().into_owned();
            let within = if name.starts_with('.') { ARRIVES_WITHIN } else { ROW_COMES_WITHIN };
            !known.contains(&name) && is_older(e, within)
        };
        gone += assets.iter().filter(nobodys).filter(|e| fs::remove_dir_all(e.path()).is_ok()).count();
        for (files, known) in [(analyses, "SELECT file FROM analyses"), (videos, "SELECT id || '.mp4' FROM shots")] {
            let known = names(self, known)?;
            let nobodys = |e: &&fs::DirEntry| !known.contains(&*e.file_name().to_string_lossy()) && is_old(e);
            gone += files.iter().filter(nobodys).filter(|e| fs::remove_file(e.path()).is_ok()).count();
        }
        Ok(gone)
    }

    /// Whether any shot, deleted or not, is made from a clip of this name.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn has_clip_named(&self, name: &str) -> Result<bool, StoreError> {
        const SQL: &str = "SELECT EXISTS (SELECT 1 FROM clips WHERE name = :name)";
        Ok(self.read().query_row(SQL, named_params! { ":name": name }, |r| r.get(0))?)
    }
}

/// A file gets its row right after it got its name; younger ones may be about to.
const ROW_COMES_WITHIN: std::time::Duration = std::time::Duration::from_secs(60);

/// What somebody is bringing in is whole by then.
const ARRIVES_WITHIN: std::time::Duration = std::time::Duration::from_secs(86_400);

fn is_old(entry: &fs::DirEntry) -> bool {
    is_older(entry, ROW_COMES_WITHIN)
}

fn is_older(entry: &fs::DirEntry, than: std::time::Duration) -> bool {
    let age = entry.metadata().and_then(|m| m.modified()).ok().and_then(|t| t.elapsed().ok());
    age.is_none_or(|a| a > than)
}

/// Whether the process that fills a folder is alive: its lock goes with it.
fn is_being_filled(folder: &Path) -> bool {
    match File::open(folder.join(FILLING)) {
        Ok(file) => matches!(file.try_lock(), Err(fs::TryLockError::WouldBlock)),
        // Folders of earlier versions carry no lock; one that is fresh may be theirs.
        Err(_) => fs::metadata(folder)
            .and_then(|m| m.modified())
            .ok()
            .and_then(|t| t.elapsed().ok())
            .is_some_and(|a| a < ROW_COMES_WITHIN),
    }
}

fn remove_partial(folder: &Path) -> usize {
    let partial = |e: &fs::DirEntry| e.file_name().to_string_lossy().ends_with(".part");
    let below = [folder.to_owned(), folder.join("proxies")];
    below
        .iter()
        .flat_map(fs::read_dir)
        .flatten()
        .flatten()
        .filter(|e| partial(e) && is_old(e) && fs::remove_file(e.path()).is_ok())
        .count()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::AssetRow;
    use crate::{AnalysisKind, NewAnalysis};
    use fennik_core::scene::{
        Asset, Edit, FrameRange, Insert, InsertKind, Placement, PlacingEdit, ShotDocument, Sign, Stance,
    };

    #[test]
    fn a_deleted_shot_frees_its_clip_analyses_and_video_and_leaves_what_others_use() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let shot = |name: &str| {
            let files = store.new_clip_folder().unwrap();
            fs::create_dir(files.path().join("proxies")).unwrap();
            fs::write(files.path().join("clip.mp4"), [0; 100]).unwrap();
            fs::write(files.path().join("proxies/000000.jpg"), [0; 10]).unwrap();
            fs::write(files.path().join("proxies/000001.jpg"), [0; 20]).unwrap();
            let clip = store.add_clip_in(files, name, "{}", 9).unwrap();
            let shot = store.add_shot(name, clip, &ShotDocument::new(9)).unwrap();
            let trim = FrameRange { first: 0, last: 8 };
            let new = NewAnalysis {
                kind: AnalysisKind::Tracks,
                settings: "{}",
                reading: "",
                source: None,
                trim,
                bytes: &[7; 50],
            };
            store.add_analysis(shot, &new).unwrap();
            fs::create_dir_all(folder.path().join("delivered")).unwrap();
            fs::write(store.delivered_path(shot), [0; 20]).unwrap();
            (clip, shot)
        };
        let ((clip, first), (_, second)) = (shot("a"), shot("b"));
        let sibling = store.add_shot("a again", clip, &ShotDocument::new(9)).unwrap();
        assert_eq!(
            store.room().unwrap(),
            Room { clips: 200, previews: 60, analyses: 100, videos: 40, ..Room::default() }
        );
        store.delete_shot(second).unwrap();
        assert_eq!(store.room().unwrap().deleted, 200);
        store.delete_shot(first).unwrap();
        assert_eq!(store.room().unwrap().deleted, 270, "its clip is a sibling's too");
        assert_eq!(store.purge_deleted().unwrap(), 2);
        assert_eq!(store.room().unwrap(), Room { clips: 100, previews: 30, ..Room::default() });
        store.drop_proxies(clip).unwrap();
        assert_eq!(
            (store.room().unwrap().previews, store.clip(clip).unwrap().proxies),
            (10, false),
            "the first stays for the list"
        );
        assert!(store.shot(sibling).is_ok());
    }

    #[test]
    fn files_that_nothing_shows_are_freed_and_those_that_can_be_gone_back_to_stay() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a.mp4", "a", "{}", 9).unwrap();
        let shot = store.add_shot("a", clip, &ShotDocument::new(9)).unwrap();
        let file = |text: &str| {
            let arriving = store.new_asset_folder().unwrap();
            fs::write(arriving.path().join("sign.png"), text).unwrap();
            let name = arriving.name().unwrap();
            let (info, kind) = ("{}".to_owned(), "picture".to_owned());
            store.add_asset(arriving, &AssetRow { name: name.clone(), file: "sign.png".into(), kind, info }).unwrap();
            name
        };
        let (shown, never) = (file("shown once"), file("never"));
        let asset = Asset { name: shown.clone(), file: "sign.png".into() };
        let content = InsertKind::Sign(Sign::new(asset, 1.0, 1.0));
        let insert = Insert::new(content, Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing));
        let state = store.edit(shot, None, &Edit::Placing(PlacingEdit::AddInsert { insert })).unwrap();
        store.undo(shot, state.head.id).unwrap();
        let room = store.room().unwrap();
        assert_eq!((room.files, room.unused), (15, 5));
        assert_eq!(store.drop_unused_assets().unwrap(), 1);
        assert!(store.asset(&never).unwrap().is_none() && !store.asset_folder(&never).exists());
        assert!(store.asset(&shown).unwrap().is_some(), "a step forwards shows it again");
        let room = store.room().unwrap();
        assert_eq!((room.files, room.unused), (10, 0));
    }

    #[test]
    fn what_a_crash_left_goes_and_what_is_being_filled_stays() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let filling = store.new_clip_folder().unwrap();
        fs::write(filling.path().join("clip.mp4"), "half").unwrap();
        let dead = folder.path().join("clips/01ABC");
        fs::create_dir(&dead).unwrap();
        fs::write(dead.join(FILLING), "").unwrap();
        fs::write(dead.join("clip.mp4"), "half").unwrap();
        store.sweep().unwrap();
        assert!(filling.path().exists() && !dead.exists());
        let path = filling.path().to_owned();
        drop(filling);
        assert!(!path.exists(), "what came to nothing leaves nothing");
    }
}
