//! Putting a track run or a solve to use: what was laid in the camera before comes along, or the camera before stays.

use super::{EngineError, ShotError, read_solve};
use fennik_core::scene::{
    AnalysisId, Edit, FrameRange, ShotDocument, SolveOfClip, SolvingEdit, Transfer, TransferError, floor_corners,
    marks_of, transfer,
};
use fennik_core::solve::Solution;
use fennik_store::{AnalysisRow, RevisionId, ShotId, ShotState, Store, StoreError};

/// How often an edit is tried again when somebody else's came in between.
const TRIES: usize = 20;

/// Makes an edit of the head as it is when it is made, whoever else is at work on the shot.
///
/// # Errors
/// What `make` or the store said.
pub fn edit_head(
    store: &Store,
    id: ShotId,
    mut make: impl FnMut(&ShotDocument) -> Result<Edit, EngineError>,
) -> Result<ShotState, EngineError> {
    let mut tries = 0;
    loop {
        let head = store.shot(id)?.head;
        match store.edit(id, Some(head.id), &make(&head.document)?) {
            Err(StoreError::Stale { .. }) if tries < TRIES => tries += 1,
            other => return Ok(other?),
        }
    }
}

/// A result belongs to the part of the clip that it was computed for.
///
/// # Errors
/// A message where the trim is another by now.
pub fn unchanged_trim(document: &ShotDocument, trim: FrameRange) -> Result<(), EngineError> {
    if document.trim == trim {
        return Ok(());
    }
    Err(ShotError::TrimChanged.into())
}

/// A way to another world, with the corners of the floor that goes along.
pub type WithFloor = (Transfer, Vec<[f64; 3]>);

/// How what is laid would come over to a solve, with the corners of the floor; `None` where there is nothing to come
/// over.
///
/// # Errors
/// [`EngineError::Transfer`] where it cannot; others when the camera that it was laid in cannot be read.
pub fn way_to(
    store: &Store,
    document: &ShotDocument,
    row: &AnalysisRow,
    new: &Solution,
) -> Result<Option<WithFloor>, EngineError> {
    let Some(laid_in) = document.laid_in().filter(|_| document.has_laid()) else { return Ok(None) };
    let old_row = store.analysis(laid_in)?;
    let old = read_solve(store, laid_in)?;
    let begins = |row: &AnalysisRow| row.trim.unwrap_or(document.trim).first;
    let same_run = row.source.is_some() && row.source == old_row.source;
    let (from, to) = (
        SolveOfClip { solution: &old, first_frame: begins(&old_row) },
        SolveOfClip { solution: new, first_frame: begins(row) },
    );
    let way = transfer(from, to, same_run, &marks_of(document, &old))?;
    Ok(Some((way, floor_corners(&document.datum, &old).iter().map(|c| (*c).into()).collect())))
}

/// What becomes of a solve that was just made.
pub enum Adopted {
    /// It is in use.
    InUse,
    /// Nothing could be carried over to it; the one before stays in use.
    Kept(TransferError),
}

/// The edit that puts a solve of this trim to use.
fn use_edit(
    store: &Store,
    document: &ShotDocument,
    row: &AnalysisRow,
    new: &Solution,
    anyway: bool,
) -> Result<Edit, EngineError> {
    if let Some(trim) = row.trim.filter(|t| *t != document.trim) {
        return Err(ShotError::OtherTrim { first: trim.first, last: trim.last }.into());
    }
    let way = match way_to(store, document, row, new) {
        Err(EngineError::Transfer(_)) if anyway => None,
        other => other?,
    };
    let (way, outline) = way.map_or((None, Vec::new()), |(way, outline)| (Some(way), outline));
    Ok(Edit::Solving(SolvingEdit::UseSolve {
        analysis: row.id,
        new_from_old: way.map(|w| w.new_from_old),
        fit: way.map(|w| w.fit),
        outline,
    }))
}

/// Puts a fresh solve to use, unless what is placed cannot come along.
///
/// # Errors
/// [`EngineError`] when the trim is another by now or the store refuses.
pub fn adopt_solve(
    store: &Store,
    id: ShotId,
    analysis: AnalysisId,
    new: &Solution,
    trim: FrameRange,
) -> Result<Adopted, EngineError> {
    let row = store.analysis(analysis)?;
    let edited = edit_head(store, id, |document| {
        unchanged_trim(document, trim)?;
        use_edit(store, document, &row, new, false)
    });
    match edited {
        Ok(_) => Ok(Adopted::InUse),
        Err(EngineError::Transfer(why)) => Ok(Adopted::Kept(why)),
        Err(other) => Err(other),
    }
}

/// Puts a kept solve to use; `anyway`, even where what is placed cannot come along.
///
/// # Errors
/// [`EngineError::Transfer`] where it cannot and `anyway` was not said.
pub fn use_kept(
    store: &Store,
    id: ShotId,
    started_from: RevisionId,
    analysis: AnalysisId,
    anyway: bool,
) -> Result<ShotState, EngineError> {
    let state = store.shot(id)?;
    let row = store.analysis(analysis)?;
    let new = kept_solve(store, id, &row)?;
    let edit = use_edit(store, &state.head.document, &row, &new, anyway)?;
    Ok(store.edit(id, Some(started_from), &edit)?)
}

/// A solve of this shot.
///
/// # Errors
/// A message where it belongs to another shot.
pub fn kept_solve(store: &Store, shot: ShotId, row: &AnalysisRow) -> Result<Solution, EngineError> {
    if row.shot != shot || row.kind != fennik_store::AnalysisKind::Solve {
        return Err(StoreError::WrongAnalysis { id: row.id.0, wanted: "solve" }.into());
    }
    read_solve(store, row.id)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::engine::plain;
    use fennik_core::scene::{DatumEdit, PlacingEdit};
    use fennik_core::solve::Motion;
    use fennik_store::{AnalysisKind, NewAnalysis};

    /// Fault: a solve to which nothing could be carried over was put to use at once, and what was placed lay anywhere.
    #[test]
    fn a_fresh_solve_is_put_to_use_only_where_what_is_placed_can_come_along() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let clip = store.add_clip("quay.mp4", "quay", "{}", 250).unwrap();
        let id = store.add_shot("Quay", clip, &ShotDocument::new(250)).unwrap();
        let old: Solution = serde_json::from_slice(plain::REEL.solve).unwrap();
        let trim = FrameRange { first: 0, last: 249 };
        let add = |solution: &Solution| {
            let bytes = serde_json::to_vec(solution).unwrap();
            let kind = AnalysisKind::Solve;
            store
                .add_analysis(id, &NewAnalysis { kind, settings: "{}", reading: "", source: None, trim, bytes: &bytes })
        };
        let in_use = || store.shot(id).unwrap().head.document.solving.solve;
        let first = add(&old).unwrap();
        assert!(matches!(adopt_solve(&store, id, first, &old, trim), Ok(Adopted::InUse)), "nothing is laid yet");
        let (datum, insert) = plain::staging(&old).unwrap();
        store
            .edit(id, None, &Edit::Datum(DatumEdit::Datum { datum, follow: fennik_core::scene::Follow::Picture }))
            .unwrap();
        store.edit(id, None, &Edit::Placing(PlacingEdit::AddInsert { insert })).unwrap();

        let turning = Solution { motion: Motion::Nodal, ..old.clone() };
        let second = add(&turning).unwrap();
        assert!(matches!(adopt_solve(&store, id, second, &turning, trim), Ok(Adopted::Kept(TransferError::Kinds))));
        assert_eq!(in_use(), Some(first));
        let other = FrameRange { first: 3, last: 200 };
        assert!(adopt_solve(&store, id, second, &turning, other).is_err(), "the trim is another by now");

        let third = add(&old).unwrap();
        assert!(matches!(adopt_solve(&store, id, third, &old, trim), Ok(Adopted::InUse)));
        let document = store.shot(id).unwrap().head.document;
        assert_eq!((document.solving.solve, document.laid_in()), (Some(third), Some(third)));
        assert!(document.solving.transfer.is_some_and(|fit| fit.rms_px < 1e-6), "{:?}", document.solving.transfer);
    }
}
