//! What was handed over, and which state of its shot it shows.

use crate::{RevisionId, ShotId, Store, StoreError, now_ms};
use rusqlite::{OptionalExtension, named_params};

/// Something that was handed over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// The revision that it shows.
    pub revision: Option<RevisionId>,
    /// Names all that can be seen in it.
    pub shows: String,
    /// Milliseconds since 1970.
    pub created_ms: i64,
}

impl Store {
    /// Notes that something of a kind was handed over.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the shot is gone.
    pub fn add_delivery(&self, shot: ShotId, kind: &str, revision: RevisionId, shows: &str) -> Result<(), StoreError> {
        const SQL: &str = "INSERT INTO deliveries (shot_id, kind, revision_id, shows, created_ms)
            SELECT :shot, :kind, :revision, :shows, :now
            WHERE EXISTS (SELECT 1 FROM shots WHERE id = :shot AND deleted_ms IS NULL)";
        let values = named_params! { ":shot": shot.0, ":kind": kind, ":revision": revision.0, ":shows": shows,
        ":now": now_ms() };
        match self.lock().execute(SQL, values)? {
            0 => Err(StoreError::Missing { what: "shot", id: shot.0 }),
            _ => Ok(()),
        }
    }

    /// The newest of a kind; `None` where there is none, or where an earlier version made it.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn latest_delivery(&self, shot: ShotId, kind: &str) -> Result<Option<Delivery>, StoreError> {
        const SQL: &str = "SELECT revision_id, shows, created_ms FROM deliveries
            WHERE shot_id = :shot AND kind = :kind ORDER BY id DESC LIMIT 1";
        let found = self.read().query_row(SQL, named_params! { ":shot": shot.0, ":kind": kind }, |r| {
            Ok(Delivery {
                revision: r.get::<_, Option<i64>>("revision_id")?.map(RevisionId),
                shows: r.get("shows")?,
                created_ms: r.get("created_ms")?,
            })
        });
        Ok(found.optional()?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fennik_core::scene::ShotDocument;

    #[test]
    fn the_newest_delivery_is_told_and_goes_with_its_shot() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a", "c", "{}", 9).unwrap();
        let shot = store.add_shot("s", clip, &ShotDocument::new(9)).unwrap();
        assert_eq!(store.latest_delivery(shot, "video").unwrap(), None);
        let head = store.head(shot).unwrap();
        store.add_delivery(shot, "video", head, "one").unwrap();
        store.add_delivery(shot, "video", head, "two").unwrap();
        let newest = store.latest_delivery(shot, "video").unwrap().unwrap();
        assert_eq!((newest.revision, newest.shows.as_str()), (Some(head), "two"));
        assert_eq!(store.latest_delivery(shot, "stills").unwrap(), None);
        store.delete_shot(shot).unwrap();
        assert!(matches!(store.add_delivery(shot, "video", head, "x"), Err(StoreError::Missing { .. })));
        assert_eq!(store.purge_deleted().unwrap(), 1, "it does not hold its shot back");
        assert_eq!(store.latest_delivery(shot, "video").unwrap(), None);
    }
}
