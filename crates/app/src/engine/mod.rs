//! What pages, jobs and the command line share: analysing a clip, making its pictures, delivering.

pub mod adopt;
pub mod analyse;
pub mod arrange;
pub mod assets;
pub mod compose;
pub mod demo;
pub mod error;
pub mod finishing;
pub mod focal;
pub mod follow;
pub mod fronts;
pub mod grading;
pub mod holding;
pub mod import;
mod jpeg;
pub mod kinds;
pub mod laying;
pub mod library;
pub mod light;
pub mod matching;
pub mod measure;
pub mod output;
pub mod picture;
pub mod place;
pub mod plain;
pub mod preview;
pub mod previews;
pub mod quantity;
pub mod readings;
pub mod recipe;
pub mod run;
pub mod stand;
pub mod surroundings;
pub mod survey;
pub mod turn;

pub use error::{EngineError, ShotError};

use fennik_core::matte::Masks;
use fennik_core::scene::{AnalysisId, Insert, InsertId, ShotDocument};
use fennik_core::solve::{Solution, SolveSettings};
use fennik_core::track::{TrackId, TrackSet};
use fennik_media::ClipInfo;
use fennik_store::{ClipRow, ShotId, ShotState, Store};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::path::PathBuf;

/// A shot with its clip opened for reading.
pub struct OpenShot {
    /// The shot as it stands.
    pub state: ShotState,
    /// Its clip's row.
    pub clip_row: ClipRow,
    /// Its clip, with paths that can be opened.
    pub clip: ClipInfo,
    /// Where its preview frames are.
    pub proxies: PathBuf,
}

impl OpenShot {
    /// Opens a shot.
    ///
    /// # Errors
    /// [`EngineError`] when it is gone or its clip cannot be read.
    pub fn load(store: &Store, id: ShotId) -> Result<Self, EngineError> {
        let state = store.shot(id)?;
        let clip_row = store.clip(state.shot.clip)?;
        let folder = store.root().join("clips").join(&clip_row.folder);
        let mut clip: ClipInfo = serde_json::from_str(&clip_row.info).map_err(|why| ShotError::ClipRecord { why })?;
        clip.source = clip.source.rebased(&folder);
        clip.frames = clip_row.frames;
        clip.counted = clip_row.proxies;
        clip.shown = Some(clip_row.name.clone());
        Ok(Self { state, clip_row, clip, proxies: folder.join("proxies") })
    }

    /// The document at its head.
    pub fn document(&self) -> &ShotDocument {
        &self.state.head.document
    }

    /// What is placed, by its id.
    ///
    /// # Errors
    /// [`ShotError::Gone`].
    pub fn insert(&self, id: u32) -> Result<&Insert, ShotError> {
        self.document().insert(InsertId(id)).ok_or(ShotError::Gone { what: "insert" })
    }

    /// The trim as first frame and the one after the last.
    pub fn range(&self) -> (u32, u32) {
        let trim = self.document().trim;
        (trim.first, trim.last + 1)
    }

    /// The solve in use.
    ///
    /// # Errors
    /// [`EngineError`] when there is none or its data cannot be read.
    pub fn solution(&self, store: &Store) -> Result<Solution, EngineError> {
        let id = self.document().solving.solve.ok_or(ShotError::NoCamera)?;
        read_solve(store, id)
    }

    /// Checks that the solve in use comes from the tracks in use, so that ids of one mean something in the other.
    ///
    /// # Errors
    /// [`ShotError::OtherTracks`] where it does not.
    pub fn solve_is_of_these_tracks(&self, store: &Store) -> Result<(), EngineError> {
        let document = self.document();
        let source = document.solving.solve.map(|id| store.analysis(id)).transpose()?.and_then(|row| row.source);
        if source.is_none() || source == document.tracking.run {
            return Ok(());
        }
        Err(ShotError::OtherTracks.into())
    }
}

/// What a solve was made with, kept beside it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SolveRecord {
    /// How it was solved.
    #[serde(flatten)]
    pub settings: SolveSettings,
    /// Where points could be used.
    #[serde(default)]
    pub masks: Masks,
    /// Tracks that were taken out.
    #[serde(default)]
    pub deleted: BTreeSet<TrackId>,
    /// Tracks that were used whatever they did.
    #[serde(default)]
    pub trusted: BTreeSet<TrackId>,
}

impl SolveRecord {
    /// What a solve of this document would be made with.
    pub fn of(document: &ShotDocument) -> Self {
        Self {
            settings: document.solving.settings.clone(),
            masks: document.masking.masks.of_analysis(),
            deleted: document.tracking.deleted.clone(),
            trusted: document.tracking.trusted.clone(),
        }
    }
}

/// A kept track run.
///
/// # Errors
/// [`EngineError`] when its data is gone or cannot be read.
pub fn read_tracks(store: &Store, id: AnalysisId) -> Result<TrackSet, EngineError> {
    Ok(TrackSet::from_bytes(&store.analysis_bytes(id)?).map_err(ShotError::from)?)
}

/// A kept solve.
///
/// # Errors
/// [`EngineError`] when its data is gone or cannot be read.
pub fn read_solve(store: &Store, id: AnalysisId) -> Result<Solution, EngineError> {
    let bytes = store.analysis_bytes(id)?;
    let unread = |why: &dyn std::fmt::Display| ShotError::SolveData { id: id.0, why: why.to_string() };
    let solution: Solution = serde_json::from_slice(&bytes).map_err(|e| unread(&e))?;
    solution.check().map_err(|why| unread(&why))?;
    Ok(solution)
}
