//! Documents of revisions: whole every so often, else as a patch (RFC 6902) on the one before, so that a revision costs
//! about what it changes.

use crate::ids::{RevisionId, ShotId};
use crate::{StoreError, now_ms};
use fennik_core::scene::ShotDocument;
use rusqlite::{Connection, named_params};
use serde_json::Value;

/// Patches that lead to a document at most: each costs a look at the one before, and a damaged one takes those that
/// stand on it along.
const MOST_PATCHES: u32 = 24;
/// Part of the whole document that a patch may cost.
const WORTH: f64 = 0.5;

/// The document of a revision, as it was written.
///
/// # Errors
/// [`StoreError::Document`] when it, or one that it is a patch of, cannot be read.
pub(crate) fn read(db: &Connection, revision: RevisionId) -> Result<Value, StoreError> {
    const SQL: &str = "SELECT document, patch_of FROM revisions WHERE id = :id";
    let unread = |cause: String| StoreError::Document { revision: revision.0, cause };
    let mut patches = Vec::new();
    let mut at = Some(revision.0);
    let mut whole = Value::Null;
    while let Some(id) = at {
        if patches.len() > MOST_PATCHES as usize {
            return Err(unread("its patches lead nowhere".to_owned()));
        }
        let (text, base) = db.query_row(SQL, named_params! { ":id": id }, |r| {
            Ok((r.get::<_, String>(0)?, r.get::<_, Option<i64>>(1)?))
        })?;
        if base.is_none() {
            whole = serde_json::from_str(&text).map_err(|e| unread(e.to_string()))?;
        } else {
            patches.push(text);
        }
        at = base;
    }
    for patch in patches.iter().rev() {
        let patch: json_patch::Patch = serde_json::from_str(patch).map_err(|e| unread(e.to_string()))?;
        json_patch::patch(&mut whole, &patch).map_err(|e| unread(e.to_string()))?;
    }
    Ok(whole)
}

/// Adds a revision and makes it the head.
pub(crate) fn add(
    db: &Connection,
    shot: ShotId,
    parent: Option<RevisionId>,
    label: &str,
    document: &ShotDocument,
) -> Result<(), StoreError> {
    const ADD: &str = "INSERT INTO revisions (shot_id, parent, label, document, patch_of, patches, created_ms)
        VALUES (:shot, :parent, :label, :document, :patch_of, :patches, :now)";
    const HEAD: &str = "UPDATE shots SET head = :head WHERE id = :shot";
    let whole = serde_json::to_value(document)?;
    let (text, patches) = written(db, parent, &whole)?;
    let parent = parent.map(|p| p.0);
    let patch_of = parent.filter(|_| patches > 0);
    db.execute(
        ADD,
        named_params! { ":shot": shot.0, ":parent": parent, ":label": label, ":document": text, ":patch_of": patch_of,
        ":patches": patches, ":now": now_ms() },
    )?;
    db.execute(HEAD, named_params! { ":head": db.last_insert_rowid(), ":shot": shot.0 })?;
    Ok(())
}

/// A document as a patch on its parent's, with the patches that lead to it then, or whole with none.
fn written(db: &Connection, parent: Option<RevisionId>, whole: &Value) -> Result<(String, u32), StoreError> {
    const PATCHES: &str = "SELECT patches FROM revisions WHERE id = :id";
    let text = whole.to_string();
    let Some(parent) = parent else { return Ok((text, 0)) };
    let before: u32 = db.query_row(PATCHES, named_params! { ":id": parent.0 }, |r| r.get(0))?;
    // What stands on a document that cannot be read is written whole.
    let Some(base) = read(db, parent).ok().filter(|_| before < MOST_PATCHES) else { return Ok((text, 0)) };
    let patch = serde_json::to_string(&json_patch::diff(&base, whole))?;
    Ok(if (patch.len() as f64) < WORTH * text.len() as f64 { (patch, before + 1) } else { (text, 0) })
}

#[cfg(test)]
mod tests {
    use crate::Store;
    use fennik_core::matte::{Mask, MaskMode, OutlineKey};
    use fennik_core::scene::{Edit, Light, LightEdit, MaskingEdit, ShotDocument};

    /// A mask that was followed over a clip: a key a frame.
    fn followed(keys: u32) -> Mask {
        let corner = |f: u32, k: u32| {
            let a = f64::from(k) * 0.7 + 0.003 * f64::from(f);
            [400.0 + 1.37 * f64::from(f) + 90.0 * a.cos(), 300.0 + 80.0 * (a + 0.01 * f64::from(f)).sin()]
        };
        let key = |frame| OutlineKey::new(frame, (0..8).map(|k| corner(frame, k)).collect());
        Mask::new(MaskMode::KeepOut, (0..keys).map(key).collect())
    }

    #[test]
    fn a_revision_costs_about_what_it_changes() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a.mp4", "a", "{}", 250).unwrap();
        let shot = store.add_shot("a", clip, &ShotDocument::new(250)).unwrap();
        store.edit(shot, None, &Edit::Masking(MaskingEdit::AddMask { mask: followed(250) })).unwrap();
        let mut expected = Vec::new();
        for i in 0..200u32 {
            // Now and then a key of the mask itself is moved.
            let edit = if i % 10 == 9 {
                let mut mask = store.shot(shot).unwrap().head.document.masking.masks.masks[0].clone();
                mask.outline.keys[i as usize].outline[3] = [f64::from(i) / 7.0, 1.0 / 3.0];
                Edit::Masking(MaskingEdit::ChangeMask { mask })
            } else {
                Edit::Light(LightEdit::Light {
                    light: Light { sun: (0.1 + f64::from(i) / 300.0).into(), ..Light::default() },
                })
            };
            expected.push(store.edit(shot, None, &edit).unwrap().head.document);
        }
        let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        let (bytes, whole): (i64, i64) = db
            .query_row("SELECT sum(length(document)), max(length(document)) FROM revisions", [], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })
            .unwrap();
        assert!(whole > 50_000 && bytes < 15 * whole, "{bytes} bytes for documents of {whole}");
        // Every one of them is there to the last digit.
        for document in expected.iter().rev() {
            let state = store.shot(shot).unwrap();
            assert_eq!(state.head.document, *document);
            store.undo(shot, state.head.id).unwrap();
        }
        store.delete_shot(shot).unwrap();
        assert_eq!(store.purge_deleted().unwrap(), 1);
    }

    #[test]
    fn a_damaged_patch_takes_only_what_stands_on_it_and_the_next_change_is_written_whole() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a.mp4", "a", "{}", 90).unwrap();
        let shot = store.add_shot("a", clip, &ShotDocument::new(90)).unwrap();
        let sun = |sun: f64| Edit::Light(LightEdit::Light { light: Light { sun: sun.into(), ..Light::default() } });
        let states: Vec<_> = (1..=3).map(|i| store.edit(shot, None, &sun(f64::from(i))).unwrap()).collect();
        let db = rusqlite::Connection::open(folder.path().join("fennik.sqlite")).unwrap();
        for damage in [r#"[{"op":"replace","path":"/nowhere/at/all","value":1}]"#, "7"] {
            db.execute("UPDATE revisions SET document = ?1 WHERE id = ?2", (damage, states[1].head.id.0)).unwrap();
            assert!(store.shot(shot).unwrap_err().to_string().contains("Go back"));
        }
        store.undo(shot, states[2].head.id).unwrap();
        store.undo(shot, states[1].head.id).unwrap();
        assert_eq!(store.shot(shot).unwrap().head.document, states[0].head.document);
        // A patch that is its own base leads nowhere, and does not hang.
        db.execute("UPDATE revisions SET patch_of = id WHERE id = ?1", [states[0].head.id.0]).unwrap();
        assert!(store.shot(shot).is_err());
    }
}
