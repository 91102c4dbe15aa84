//! How the camera is solved, and which solve is in use.

use super::AnalysisId;
use super::error::EditError;
use crate::geometry::Similarity;
use crate::scene::transfer_fit::TransferFit;
use crate::solve::SolveSettings;
use serde::{Deserialize, Serialize};

/// The part of the document that is about the camera.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Solving {
    /// How the camera is solved.
    pub settings: SolveSettings,
    /// The solve in use.
    pub solve: Option<AnalysisId>,
    /// The solve whose world the datum and the inserts were laid in last; outlasts a trim that lets the solve go.
    /// Nothing in documents of the first version, where it is the solve in use.
    pub laid_in: Option<AnalysisId>,
    /// How well datum and inserts came over from the solve before.
    pub transfer: Option<TransferFit>,
}

/// A change of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum SolvingEdit {
    /// Changes how the camera is solved.
    SolveSettings {
        /// The settings.
        settings: SolveSettings,
    },
    /// Puts a solve to use; the datum and what is placed follow.
    UseSolve {
        /// The solve.
        analysis: AnalysisId,
        /// From the world of the solve that the datum was laid in to that of this one. Without it the datum's numbers
        /// stay what they are.
        new_from_old: Option<Similarity>,
        /// How well things stay where they were on the picture.
        fit: Option<TransferFit>,
        /// The corners of a floor that an earlier version laid, which knows them by its points alone.
        #[serde(default)]
        outline: Vec<[f64; 3]>,
    },
}

impl Solving {
    /// The solve whose world datum and inserts are laid in.
    pub fn laid_in(&self) -> Option<AnalysisId> {
        self.laid_in.or(self.solve)
    }

    /// Without a solve: it belongs to a part of the clip. What it was laid in is remembered.
    pub(super) fn let_solve_go(&mut self) {
        self.laid_in = self.laid_in();
        self.solve = None;
    }

    pub(super) fn apply(&mut self, edit: &SolvingEdit) -> Result<(), EditError> {
        match edit {
            SolvingEdit::SolveSettings { settings } => {
                settings.validate()?;
                self.settings = settings.clone();
            }
            SolvingEdit::UseSolve { analysis, fit, .. } => {
                self.solve = Some(*analysis);
                self.laid_in = Some(*analysis);
                self.transfer = *fit;
            }
        }
        Ok(())
    }
}

impl SolvingEdit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::SolveSettings { .. } => "solve settings".to_owned(),
            Self::UseSolve { .. } => "new solve".to_owned(),
        }
    }
}
