//! How points are tracked, and which of them are used.

use super::AnalysisId;
use super::error::EditError;
use crate::track::{TrackId, TrackSettings};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// The part of the document that is about tracks.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Tracking {
    /// How points are tracked.
    pub settings: TrackSettings,
    /// The track run in use.
    pub run: Option<AnalysisId>,
    /// Tracks taken out by hand.
    pub deleted: BTreeSet<TrackId>,
    /// Tracks that are used even where they do not follow the camera.
    pub trusted: BTreeSet<TrackId>,
}

/// A change of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum TrackingEdit {
    /// Changes how points are tracked.
    TrackSettings {
        /// The settings.
        settings: TrackSettings,
    },
    /// Puts a track run to use. The solve stays, out of date, until there is one of these tracks.
    UseTracks {
        /// The run.
        analysis: AnalysisId,
    },
    /// Takes tracks out.
    DeleteTracks {
        /// Which.
        tracks: Vec<TrackId>,
    },
    /// Takes tracks back.
    RestoreTracks {
        /// Which.
        tracks: Vec<TrackId>,
    },
    /// Uses tracks whether they follow the camera or not.
    TrustTracks {
        /// Which.
        tracks: Vec<TrackId>,
    },
    /// Leaves it to the solve again whether tracks are used.
    DoubtTracks {
        /// Which.
        tracks: Vec<TrackId>,
    },
}

impl Tracking {
    /// Without a run: tracks belong to a part of the clip.
    pub(super) fn let_run_go(&mut self) {
        self.run = None;
        self.deleted.clear();
        self.trusted.clear();
    }

    pub(super) fn apply(&mut self, edit: &TrackingEdit) -> Result<(), EditError> {
        match edit {
            TrackingEdit::TrackSettings { settings } => {
                settings.validate()?;
                self.settings = settings.clone();
            }
            TrackingEdit::UseTracks { analysis } => {
                if self.run != Some(*analysis) {
                    self.let_run_go();
                    self.run = Some(*analysis);
                }
            }
            TrackingEdit::DeleteTracks { tracks } => {
                self.deleted.extend(tracks.iter().copied());
                self.trusted.retain(|t| !tracks.contains(t));
            }
            TrackingEdit::RestoreTracks { tracks } => self.deleted.retain(|t| !tracks.contains(t)),
            TrackingEdit::TrustTracks { tracks } => {
                self.trusted.extend(tracks.iter().copied());
                self.deleted.retain(|t| !tracks.contains(t));
            }
            TrackingEdit::DoubtTracks { tracks } => self.trusted.retain(|t| !tracks.contains(t)),
        }
        Ok(())
    }
}

impl TrackingEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::TrackSettings { .. } => "track settings".to_owned(),
            Self::UseTracks { .. } => "new tracks".to_owned(),
            Self::DeleteTracks { tracks } => format!("delete {} tracks", tracks.len()),
            Self::RestoreTracks { tracks } => format!("restore {} tracks", tracks.len()),
            Self::TrustTracks { tracks } => format!("use {} tracks anyway", tracks.len()),
            Self::DoubtTracks { tracks } => format!("leave {} tracks to the solve", tracks.len()),
        }
    }
}
