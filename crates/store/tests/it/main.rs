//! The store on its real SQLite file: what survives, what is refused, and who sees what.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

use fennik_core::scene::{Edit, FootageEdit, FrameRange, Light, LightEdit, ShotDocument, TrackingEdit};
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
    Edit::Footage(FootageEdit::Trim { range: FrameRange { first, last: 99 } })
}

#[test]
fn an_edit_after_an_undo_begins_a_new_branch_and_the_old_one_is_not_lost() {
    let House { folder, store, shot } = house();
    let old = store.edit(shot, None, &trim(5)).unwrap();
    store.undo(shot, old.head.id).unwrap();
    let back = store.shot(shot).unwrap();
    let new = store.edit(shot, Some(back.head.id), &trim(9)).unwrap();
    assert!(new.redo.is_none(), "there is nothing after the newest edit");
    store.undo(shot, new.head.id).unwrap();
    store.redo(shot, store.head(shot).unwrap()).unwrap();
    assert_eq!(store.shot(shot).unwrap().head.document.trim.first, 9, "redo follows the newest branch");
    drop(store);
    let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
    let kept: i64 = db.query_row("SELECT count(*) FROM revisions", [], |r| r.get(0)).unwrap();
    assert_eq!(kept, 3, "the first document and both branches");
}

#[test]
fn labels_tell_what_undo_and_redo_would_do() {
    let House { store, shot, folder: _folder } = house();
    let first = store.shot(shot).unwrap();
    assert!(first.undo.is_none() && first.redo.is_none());
    let after = store
        .edit(shot, None, &Edit::Tracking(TrackingEdit::DeleteTracks { tracks: vec![TrackId(3), TrackId(4)] }))
        .unwrap();
    assert_eq!(after.undo.as_deref(), Some("delete 2 tracks"));
    store.undo(shot, after.head.id).unwrap();
    let back = store.shot(shot).unwrap();
    assert_eq!((back.undo, back.redo.as_deref()), (None, Some("delete 2 tracks")));
    assert!(matches!(store.undo(shot, back.head.id), Err(StoreError::NoStep("undo"))));
}

#[test]
fn a_refused_edit_adds_no_revision() {
    let House { store, shot, folder: _folder } = house();
    let before = store.shot(shot).unwrap();
    let dark = Light { sun: f64::NAN.into(), ..Light::default() };
    let wrong = Edit::Footage(FootageEdit::Trim { range: FrameRange { first: 8, last: 2 } });
    for edit in [Edit::Light(LightEdit::Light { light: dark }), wrong] {
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
    let plain = NewAnalysis {
        kind: AnalysisKind::Tracks,
        settings: "{}",
        reading: "",
        source: None,
        trim: FrameRange { first: 0, last: 99 },
        bytes: b"",
    };
    std::fs::write(analyses.join("tracks-01.bin.part"), b"half").unwrap();
    let id =
        store.add_analysis(shot, &NewAnalysis { settings: "{\"spacing\": 1}", bytes: &[7; 4096], ..plain }).unwrap();
    assert_eq!(store.analysis_bytes(id).unwrap(), [7; 4096]);
    assert_eq!(
        (store.analysis(id).unwrap().shot, store.analysis(id).unwrap().settings.as_str()),
        (shot, "{\"spacing\": 1}")
    );
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
    let House { store, shot, folder: _folder } = house();
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
    let House { store, shot, folder: _folder } = house();
    let clip = store.shot(shot).unwrap().shot.clip;
    assert!(store.clip(clip).is_ok());
    assert!(store.add_shot("two", fennik_store::ClipId(99), &ShotDocument::new(3)).is_err());
    assert!(matches!(store.clip(fennik_store::ClipId(99)), Err(StoreError::Missing { .. })));
    assert_eq!(store.shots().unwrap().len(), 1);
}

#[test]
fn the_true_number_of_frames_is_seen_by_every_document_and_rewrites_none() {
    let House { folder, store, shot } = house();
    let clip = store.shot(shot).unwrap().shot.clip;
    assert!(!store.clip(clip).unwrap().proxies);
    let trimmed = store.edit(shot, None, &trim(20)).unwrap();
    let kept = || -> Vec<String> {
        let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        let mut all = db.prepare("SELECT document FROM revisions ORDER BY id").unwrap();
        all.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
    };
    let before = kept();
    for (frames, last) in [(98, 97), (103, 102)] {
        store.finish_proxies(clip, frames).unwrap();
        let row = store.clip(clip).unwrap();
        assert_eq!((row.proxies, row.frames), (true, frames));
        assert_eq!(store.shot(shot).unwrap().head.document.trim, FrameRange { first: 20, last });
    }
    assert_eq!(kept(), before);
    store.undo(shot, trimmed.head.id).unwrap();
    assert_eq!(store.shot(shot).unwrap().head.document.trim, FrameRange { first: 0, last: 102 });
}

/// Fault: the id of a deleted shot, its clip and its analyses was given to the next ones, which then showed its solve.
#[test]
fn what_is_new_never_gets_the_number_of_what_is_gone() {
    let House { store, shot, folder: _folder } = house();
    let plain = NewAnalysis {
        kind: AnalysisKind::Tracks,
        settings: "{}",
        reading: "",
        source: None,
        trim: FrameRange { first: 0, last: 9 },
        bytes: b"x",
    };
    let tracks = store.add_analysis(shot, &plain).unwrap();
    let job = store.add_job(shot, JobKind::Track, "").unwrap();
    let (clip, head) = (store.shot(shot).unwrap().shot.clip, store.head(shot).unwrap());
    store.delete_shot(shot).unwrap();
    assert!(
        matches!(store.add_analysis(shot, &plain), Err(StoreError::Missing { what: "shot", .. })),
        "a job of a deleted shot keeps nothing"
    );
    assert!(matches!(store.add_job(shot, JobKind::Solve, ""), Err(StoreError::Missing { .. })));
    store.purge_deleted().unwrap();
    let next = store.add_clip("next", "next", "{}", 9).unwrap();
    let second = store.add_shot("next", next, &ShotDocument::new(9)).unwrap();
    assert!(next > clip && second > shot && store.head(second).unwrap() > head);
    assert!(
        store.add_analysis(second, &plain).unwrap() > tracks
            && store.add_job(second, JobKind::Track, "").unwrap() > job
    );
}

/// Fault: a raw edit could put an analysis of another shot or of another kind to use, after which no page of the shot
/// came.
#[test]
fn only_analyses_of_the_shot_and_of_the_right_kind_are_put_to_use() {
    let House { store, shot, folder: _folder } = house();
    let clip = store.shot(shot).unwrap().shot.clip;
    let other = store.add_shot("two", clip, &ShotDocument::new(100)).unwrap();
    let new = |kind| NewAnalysis {
        kind,
        settings: "{}",
        reading: "",
        source: None,
        trim: FrameRange { first: 0, last: 99 },
        bytes: b"x",
    };
    let tracks = store.add_analysis(shot, &new(AnalysisKind::Tracks)).unwrap();
    let solve = store.add_analysis(shot, &new(AnalysisKind::Solve)).unwrap();
    let foreign = store.add_analysis(other, &new(AnalysisKind::Tracks)).unwrap();
    let before = store.shot(shot).unwrap();
    for analysis in [solve, foreign, fennik_core::scene::AnalysisId(99)] {
        assert!(matches!(
            store.edit(shot, None, &Edit::Tracking(TrackingEdit::UseTracks { analysis })),
            Err(StoreError::WrongAnalysis { .. })
        ));
    }
    for range in [FrameRange { first: 0, last: 100 }, FrameRange { first: 0, last: u32::MAX }] {
        assert!(matches!(
            store.edit(shot, None, &Edit::Footage(FootageEdit::Trim { range })),
            Err(StoreError::BeyondClip { end: 99 })
        ));
    }
    assert_eq!(store.shot(shot).unwrap(), before);
    assert!(store.edit(shot, None, &Edit::Tracking(TrackingEdit::UseTracks { analysis: tracks })).is_ok());
}

/// Fault: a write that waits for another program held up every look, for nine seconds and more.
#[test]
fn a_locked_database_holds_up_changes_and_no_look() {
    let House { folder, store, shot } = house();
    let stranger = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
    stranger.execute_batch("BEGIN IMMEDIATE").unwrap();
    let (store, asked) = (Arc::new(store), Arc::new(Barrier::new(2)));
    let (writing, gate) = (store.clone(), asked.clone());
    let change = std::thread::spawn(move || {
        gate.wait();
        writing.edit(shot, None, &trim(7)).map(|s| s.head.document.trim.first)
    });
    asked.wait();
    std::thread::sleep(std::time::Duration::from_millis(300));
    let looks = (0..20).filter(|_| store.shot(shot).unwrap().head.document.trim.first == 0).count();
    assert_eq!(looks, 20, "they see what is saved");
    assert!(!change.is_finished(), "the change still waits, and no look waited with it");
    stranger.execute_batch("COMMIT").unwrap();
    assert_eq!(change.join().unwrap().unwrap(), 7);
}

/// Fault: one document that cannot be read took the whole list with it, and its own undo.
#[test]
fn a_document_that_cannot_be_read_is_told_and_undo_leads_back() {
    let House { folder, store, shot } = house();
    let bad = store.edit(shot, None, &trim(5)).unwrap().head.id;
    let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
    db.execute("UPDATE revisions SET document = '{\"trim\": 7}' WHERE id = ?1", [bad.0]).unwrap();
    assert!(matches!(store.shot(shot), Err(StoreError::Document { revision, .. }) if revision == bad.0));
    assert_eq!(store.shots().unwrap().len(), 1);
    store.undo(shot, store.head(shot).unwrap()).unwrap();
    assert_eq!(store.shot(shot).unwrap().head.document.trim.first, 0);
}

/// A project folder's database as earlier versions left it (see tests/fixtures/README.md).
#[test]
fn a_project_of_an_earlier_version_opens_with_every_revision() {
    opens("project-4.sqlite", 13);
    opens("project-5.sqlite", 18);
    opens("project-6.sqlite", 21);
}

fn opens(kept: &str, steps: usize) {
    let folder = tempfile::tempdir().unwrap();
    let kept = format!("{}/tests/fixtures/{kept}", env!("CARGO_MANIFEST_DIR"));
    std::fs::copy(kept, folder.path().join("fennik.sqlite")).unwrap();
    let store = Store::open(folder.path()).unwrap();
    let names: Vec<String> = store.shots().unwrap().into_iter().map(|s| s.name).collect();
    assert_eq!(names, ["Walk", "two", "one", "Walk"]);
    let shot = ShotId(1);
    let newest = store.shot(shot).unwrap();
    let mut state = newest.clone();
    let mut labels = Vec::new();
    while let Some(label) = state.undo.clone() {
        labels.push(label);
        store.undo(shot, state.head.id).unwrap();
        state = store.shot(shot).unwrap();
    }
    assert_eq!(labels.len(), steps, "{labels:?}");
    assert_eq!(labels.last().map(String::as_str), Some("trim to frames 5 to 139"));
    for _ in &labels {
        store.redo(shot, store.head(shot).unwrap()).unwrap();
    }
    assert_eq!(store.shot(shot).unwrap().head.document, newest.head.document);
    let lit = store
        .edit(
            shot,
            Some(newest.head.id),
            &Edit::Light(LightEdit::Light { light: Light { sun: 1.5.into(), ..Light::default() } }),
        )
        .unwrap();
    assert_eq!(store.shot(shot).unwrap().head.document, lit.head.document);
}
