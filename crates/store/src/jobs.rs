//! Long work and how far it got.

use crate::{ShotId, Store, StoreError, now_ms};
use rusqlite::{OptionalExtension, named_params};
use serde::{Deserialize, Serialize};

/// Names a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct JobId(pub i64);

/// An enum whose values the database and the addresses of pages know by a word each.
macro_rules! word_enum {
    ($(#[$doc:meta])* $name:ident { $($(#[$vdoc:meta])* $variant:ident = $word:literal),* $(,)? }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(rename_all = "lowercase")]
        pub enum $name { $($(#[$vdoc])* $variant),* }

        impl $name {
            #[cfg(test)]
            const ALL: &[Self] = &[$(Self::$variant),*];

            /// As the database keeps it.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }

            fn parse(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)* _ => None }
            }
        }
    };
}

word_enum! {
    /// What a job does.
    JobKind {
        /// Preview frames of a clip.
        Decode = "decode",
        /// Point tracks.
        Track = "track",
        /// The camera.
        Solve = "solve",
        /// The camera, from where it stands.
        Refine = "refine",
        /// Tracks, camera and a datum that is proposed, one after the other.
        Analyse = "analyse",
        /// A mask that follows the picture.
        Follow = "follow",
        /// Grain and sharpness of the plate.
        Measure = "measure",
        /// Something placed that is drawn to the plate about it.
        Draw = "draw",
        /// The finished video.
        Deliver = "deliver",
    }
}

word_enum! {
    /// Where a job stands.
    JobState {
        /// Not begun.
        Waiting = "waiting",
        /// At work.
        Running = "running",
        /// Finished.
        Done = "done",
        /// Ended without a result; the message says why.
        Failed = "failed",
        /// Ended by a person.
        Stopped = "stopped",
        /// Cut off by the end of the program.
        Interrupted = "interrupted",
    }
}

/// A job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct JobRow {
    /// Its number.
    pub id: JobId,
    /// Its shot.
    pub shot: ShotId,
    /// What it does.
    pub kind: JobKind,
    /// Where it stands.
    pub state: JobState,
    /// Steps done.
    pub done: u32,
    /// Steps in all; 0 while not known.
    pub total: u32,
    /// What is being done, or why it ended.
    pub message: String,
    /// What was asked for, as JSON of its kind.
    pub request: String,
}

fn row(r: &rusqlite::Row) -> rusqlite::Result<JobRow> {
    let (kind, state): (String, String) = (r.get("kind")?, r.get("state")?);
    Ok(JobRow {
        id: JobId(r.get("id")?),
        shot: ShotId(r.get("shot_id")?),
        // The table's checks allow no other words.
        kind: JobKind::parse(&kind).unwrap_or(JobKind::Decode),
        state: JobState::parse(&state).unwrap_or(JobState::Failed),
        done: r.get("done")?,
        total: r.get("total")?,
        message: r.get("message")?,
        request: r.get("request")?,
    })
}

impl Store {
    /// Notes a job that waits.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when the shot is gone.
    pub fn add_job(&self, shot: ShotId, kind: JobKind, request: &str) -> Result<JobId, StoreError> {
        const SQL: &str = "INSERT INTO jobs (shot_id, kind, request, state, created_ms, changed_ms)
            SELECT :shot, :kind, :request, 'waiting', :now, :now
            WHERE EXISTS (SELECT 1 FROM shots WHERE id = :shot AND deleted_ms IS NULL)";
        let db = self.lock();
        match db.execute(
            SQL,
            named_params! { ":shot": shot.0, ":kind": kind.word(), ":request": request, ":now": now_ms() },
        )? {
            0 => Err(StoreError::Missing { what: "shot", id: shot.0 }),
            _ => Ok(JobId(db.last_insert_rowid())),
        }
    }

    /// Notes where a job stands.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn update_job(&self, job: &JobRow) -> Result<(), StoreError> {
        const SQL: &str = "UPDATE jobs SET state = :state, done = :done, total = :total, message = :message, \
            changed_ms = :now WHERE id = :id";
        self.lock().execute(
            SQL,
            named_params! { ":state": job.state.word(), ":done": job.done, ":total": job.total,
            ":message": job.message, ":now": now_ms(), ":id": job.id.0 },
        )?;
        Ok(())
    }

    /// One job.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn job(&self, id: JobId) -> Result<JobRow, StoreError> {
        const SQL: &str = "SELECT id, shot_id, kind, state, done, total, message, request FROM jobs WHERE id = :id";
        let found = self.read().query_row(SQL, named_params! { ":id": id.0 }, row).optional()?;
        found.ok_or(StoreError::Missing { what: "job", id: id.0 })
    }

    /// The newest job of each kind of a shot.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn latest_jobs(&self, shot: ShotId) -> Result<Vec<JobRow>, StoreError> {
        const SQL: &str = "SELECT id, shot_id, kind, state, done, total, message, request FROM jobs
            WHERE id IN (SELECT max(id) FROM jobs WHERE shot_id = :shot GROUP BY kind) ORDER BY id";
        let db = self.read();
        let mut statement = db.prepare(SQL)?;
        let rows = statement.query_map(named_params! { ":shot": shot.0 }, row)?.collect::<Result<_, _>>()?;
        Ok(rows)
    }

    /// At the start of the program: what was at work or waiting when it last ended was interrupted.
    /// Returns how many those are.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    pub fn mark_interrupted(&self) -> Result<usize, StoreError> {
        const SQL: &str = "UPDATE jobs SET state = 'interrupted', changed_ms = :now,
            message = 'the program ended while this was at work'
            WHERE state IN ('waiting', 'running')";
        Ok(self.lock().execute(SQL, named_params! { ":now": now_ms() })?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::JobState::{Done, Interrupted, Running};
    use fennik_core::scene::ShotDocument;

    #[test]
    fn every_kind_and_state_is_kept_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a", "c", "{}", 9).unwrap();
        let shot = store.add_shot("s", clip, &ShotDocument::new(9)).unwrap();
        for kind in JobKind::ALL {
            let id = store.add_job(shot, *kind, "{}").unwrap();
            for state in JobState::ALL {
                store.update_job(&JobRow { state: *state, ..store.job(id).unwrap() }).unwrap();
                let kept = store.job(id).unwrap();
                assert_eq!((kept.kind, kept.state), (*kind, *state));
            }
        }
    }

    #[test]
    fn what_was_running_is_interrupted_after_a_restart_and_what_was_done_stays_done() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("a", "c", "{}", 9).unwrap();
        let shot = store.add_shot("s", clip, &ShotDocument::new(9)).unwrap();
        for (kind, state) in [(JobKind::Track, Running), (JobKind::Solve, Done)] {
            let id = store.add_job(shot, kind, "{}").unwrap();
            store.update_job(&JobRow { state, done: 3, total: 9, ..store.job(id).unwrap() }).unwrap();
        }
        drop(store);
        let store = Store::open(folder.path()).unwrap();
        assert_eq!(store.mark_interrupted().unwrap(), 1);
        let states: Vec<_> = store.latest_jobs(shot).unwrap().into_iter().map(|j| (j.kind, j.state, j.done)).collect();
        assert_eq!(states, [(JobKind::Track, Interrupted, 3), (JobKind::Solve, Done, 3)]);
    }
}
