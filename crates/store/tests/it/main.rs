//! The store on its real SQLite file: what survives, what is refused, and who sees what.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

use fennik_core::scene::{Edit, FrameRange, Light, ShotDocument};
use fennik_core::track::TrackId;
use fennik_store::{AnalysisKind, JobKind, JobRow, JobState, NewAnalysis, ShotId, Store, StoreError};
use std::sync::{Arc, Barrier};

struct House {
    folder: tempfile::TempDir,
    store: Store,
    shot: ShotId,
}

fn house() -> House {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path()).unwrap();
    let clip = store.add_clip("quay.mp4", "folder", "{}", 100).unwrap();
    let shot = store.add_shot("one", clip, &ShotDocument::new(100)).unwrap();
    House { folder, store, shot }
}

fn trim(first: u32) -> Edit {
    Edit::Trim { range: FrameRange { first, last: 99 } }
}

#[test]
fn an_edit_after_an_undo_begins_a_new_branch_and_the_old_one_is_not_lost() {
    let House { folder, store, shot } = house();
    let old = store.edit(shot, None, &trim(5)).unwrap();
    let back = store.undo(shot, old.head.id).unwrap();
    let new = store.edit(shot, Some(back.head.id), &trim(9)).unwrap();
    assert!(new.redo.is_none(), "there is nothing after the newest edit");
    let back = store.undo(shot, new.head.id).unwrap();
    assert_eq!(store.redo(shot, back.head.id).unwrap().head.document.trim.first, 9, "redo follows the newest branch");
    drop(store);
    let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
    let kept: i64 = db.query_row("SELECT count(*) FROM revisions", [], |r| r.get(0)).unwrap();
    assert_eq!(kept, 3, "the first document and both branches");
}

#[test]
fn labels_tell_what_undo_and_redo_would_do() {
    let House { store, shot, .. } = house();
    let first = store.shot(shot).unwrap();
    assert!(first.undo.is_none() && first.redo.is_none());
    let after = store.edit(shot, None, &Edit::DeleteTracks { tracks: vec![TrackId(3), TrackId(4)] }).unwrap();
    assert_eq!(after.undo.as_deref(), Some("delete 2 tracks"));
    let back = store.undo(shot, after.head.id).unwrap();
    assert_eq!((back.undo, back.redo.as_deref()), (None, Some("delete 2 tracks")));
    assert!(matches!(store.undo(shot, back.head.id), Err(StoreError::NoStep("undo"))));
}

#[test]
fn a_refused_edit_adds_no_revision() {
    let House { store, shot, .. } = house();
    let before = store.shot(shot).unwrap();
    let dark = Light { sun: f64::NAN, ..Light::default() };
    let wrong = Edit::Trim { range: FrameRange { first: 8, last: 2 } };
    for edit in [Edit::Light { light: dark }, wrong] {
        assert!(matches!(store.edit(shot, None, &edit), Err(StoreError::Edit(_))));
        assert_eq!(store.shot(shot).unwrap(), before);
    }
}

#[test]
fn of_many_edits_from_the_same_revision_just_one_wins() {
    let House { folder, store, shot } = house();
    let start = store.shot(shot).unwrap().head.id;
    let gate = Arc::new(Barrier::new(6));
    let runs: Vec<_> = (0..6u32)
        .map(|i| {
            let (gate, root) = (gate.clone(), folder.path().to_owned());
            // Each has a connection of its own, as a second process would.
            std::thread::spawn(move || {
                let store = Store::open(&root).unwrap();
                gate.wait();
                store.edit(shot, Some(start), &trim(10 + i)).map(|s| s.head.document.trim.first)
            })
        })
        .collect();
    let ends: Vec<_> = runs.into_iter().map(|r| r.join().unwrap()).collect();
    let won: Vec<u32> = ends.iter().filter_map(|e| e.as_ref().ok().copied()).collect();
    assert_eq!(won.len(), 1, "{ends:?}");
    assert!(ends.iter().filter(|e| e.is_err()).all(|e| matches!(e, Err(StoreError::Stale { .. }))), "{ends:?}");
    assert_eq!(store.shot(shot).unwrap().head.document.trim.first, won[0]);
}

#[test]
fn a_half_written_analysis_is_never_seen() {
    let House { folder, store, shot } = house();
    let analyses = folder.path().join("analyses");
    let plain = NewAnalysis { kind: AnalysisKind::Tracks, settings: "{}", reading: "", source: None, bytes: b"" };
    std::fs::write(analyses.join("tracks-01.bin.part"), b"half").unwrap();
    let id = store.add_analysis(shot, &NewAnalysis { settings: "{\"spacing\": 1}", bytes: &[7; 4096], ..plain }).unwrap();
    assert_eq!(store.analysis_bytes(id).unwrap(), [7; 4096]);
    assert_eq!((store.analysis(id).unwrap().shot, store.analysis(id).unwrap().settings.as_str()), (shot, "{\"spacing\": 1}"));
    // A folder in the way stands for a disk that refuses: no row may point at what is not there.
    std::fs::remove_dir_all(&analyses).unwrap();
    std::fs::write(&analyses, b"").unwrap();
    let refused = store.add_analysis(shot, &NewAnalysis { kind: AnalysisKind::Solve, bytes: b"x", ..plain });
    assert!(matches!(refused, Err(StoreError::File { .. })), "{refused:?}");
    let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
    let rows: i64 = db.query_row("SELECT count(*) FROM analyses", [], |r| r.get(0)).unwrap();
    assert_eq!(rows, 1);
}

#[test]
fn only_the_newest_job_of_each_kind_is_shown() {
    let House { store, shot, .. } = house();
    let first = store.add_job(shot, JobKind::Track, "").unwrap();
    store.update_job(&JobRow { state: JobState::Failed, message: "no".into(), ..store.job(first).unwrap() }).unwrap();
    let second = store.add_job(shot, JobKind::Track, "").unwrap();
    let other = store.add_job(shot, JobKind::Deliver, "").unwrap();
    let shown: Vec<_> = store.latest_jobs(shot).unwrap().into_iter().map(|j| (j.id, j.state)).collect();
    assert_eq!(shown, [(second, JobState::Waiting), (other, JobState::Waiting)]);
    assert_eq!(store.mark_interrupted().unwrap(), 2);
    assert_eq!(store.job(first).unwrap().message, "no", "what had ended keeps its reason");
}

#[test]
fn a_shot_of_a_clip_that_is_not_there_is_refused() {
    let House { store, shot, .. } = house();
    let clip = store.shot(shot).unwrap().shot.clip;
    assert!(store.clip(clip).is_ok());
    assert!(store.add_shot("two", fennik_store::ClipId(99), &ShotDocument::new(3)).is_err());
    assert!(matches!(store.clip(fennik_store::ClipId(99)), Err(StoreError::Missing { .. })));
    assert_eq!(store.shots().unwrap().len(), 1);
}

#[test]
fn the_true_number_of_frames_puts_every_document_right() {
    let House { store, shot, .. } = house();
    let clip = store.shot(shot).unwrap().shot.clip;
    assert!(!store.clip(clip).unwrap().proxies);
    let trimmed = store.edit(shot, None, &trim(20)).unwrap();
    store.finish_proxies(clip, 98).unwrap();
    let row = store.clip(clip).unwrap();
    assert_eq!((row.proxies, row.frames), (true, 98));
    assert_eq!(store.shot(shot).unwrap().head.document.trim, FrameRange { first: 20, last: 97 });
    let back = store.undo(shot, trimmed.head.id).unwrap();
    assert_eq!(back.head.document.trim, FrameRange { first: 0, last: 97 });
}
