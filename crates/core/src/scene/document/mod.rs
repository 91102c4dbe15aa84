//! The document of a shot: all that a person decided, in parts, and the edits that change it.
//!
//! Each part has its data, its edits and how they apply in a file of its own; this one knows what an edit of one part
//! means for the others.

mod edit;
mod error;
mod finishing;
mod footage;
mod holding;
mod laying;
mod light;
mod masking;
mod placing;
mod solving;
mod surfacing;
mod tracking;
mod upgrade;

pub use edit::Edit;
pub use error::EditError;
pub use finishing::FinishEdit;
pub use footage::{FootageEdit, FrameRange, PlateColour};
pub use holding::{Holding, HoldoutEdit};
pub use laying::{DatumEdit, Follow};
pub use light::{Light, LightColour, LightEdit, LightNow};
pub use masking::{Masking, MaskingEdit};
pub use placing::{Placing, PlacingEdit};
pub use solving::{Solving, SolvingEdit};
pub use surfacing::{Surfacing, SurfacingEdit};
pub use tracking::{Tracking, TrackingEdit};
pub use upgrade::DocumentError;

use super::{Datum, Finish, Holdout, HoldoutBy, Insert, InsertId, LensLook};
use crate::matte::{Mask, MaskMode};
use crate::solve::TrackChoice;
use serde::{Deserialize, Serialize};

/// Names a finished track run or solve.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct AnalysisId(pub i64);

/// All that a person decided about a shot.
///
/// Documents of earlier formats are brought up to date as they are read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "serde_json::Value")]
pub struct ShotDocument {
    format: u64,
    /// The part of the clip that is used.
    pub trim: FrameRange,
    /// Tracks.
    pub tracking: Tracking,
    /// Masks of the analysis.
    pub masking: Masking,
    /// The camera.
    pub solving: Solving,
    /// Origin, floor, heading, scale.
    pub datum: Datum,
    /// Walls and other flat parts.
    pub surfacing: Surfacing,
    /// What is placed.
    pub placing: Placing,
    /// Sun and ambient light.
    pub light: Light,
    /// What stands in front.
    pub holding: Holding,
    /// What is done over all.
    pub finish: Finish,
    /// How what is placed is seen through the plate's lens and on its film.
    pub lens: LensLook,
    /// What the code values of the plate mean.
    pub plate: PlateColour,
}

/// The same, as the newest format is written.
#[derive(Deserialize)]
struct Written {
    trim: FrameRange,
    tracking: Tracking,
    masking: Masking,
    solving: Solving,
    datum: Datum,
    surfacing: Surfacing,
    placing: Placing,
    light: Light,
    holding: Holding,
    finish: Finish,
    #[serde(default)]
    lens: LensLook,
    #[serde(default)]
    plate: PlateColour,
}

impl TryFrom<serde_json::Value> for ShotDocument {
    type Error = DocumentError;

    fn try_from(value: serde_json::Value) -> Result<Self, DocumentError> {
        let written: Written = serde_json::from_value(upgrade::upgrade(value)?)?;
        let Written {
            trim,
            tracking,
            masking,
            solving,
            datum,
            surfacing,
            placing,
            light,
            holding,
            finish,
            lens,
            plate,
        } = written;
        let format = upgrade::FORMAT;
        Ok(Self {
            format,
            trim,
            tracking,
            masking,
            solving,
            datum,
            surfacing,
            placing,
            light,
            holding,
            finish,
            lens,
            plate,
        })
    }
}

impl ShotDocument {
    /// The document of a clip of `frames` frames, untouched.
    pub fn new(frames: u32) -> Self {
        Self {
            format: upgrade::FORMAT,
            trim: FrameRange { first: 0, last: frames.saturating_sub(1) },
            tracking: Tracking::default(),
            masking: Masking::default(),
            solving: Solving::default(),
            datum: Datum::default(),
            surfacing: Surfacing::default(),
            placing: Placing::default(),
            light: Light::default(),
            holding: Holding::default(),
            finish: Finish::default(),
            lens: LensLook::default(),
            plate: PlateColour::default(),
        }
    }

    /// The solve whose world datum and inserts are laid in.
    pub fn laid_in(&self) -> Option<AnalysisId> {
        self.solving.laid_in()
    }

    /// Whether a floor, another datum or anything placed would be thrown about by a camera in another world.
    pub fn has_laid(&self) -> bool {
        !self.placing.inserts.is_empty() || !self.surfacing.surfaces.is_empty() || self.datum != Datum::default()
    }

    /// The insert with an id.
    pub fn insert(&self, id: InsertId) -> Option<&Insert> {
        self.placing.insert(id)
    }

    /// The mask with an id.
    pub fn mask(&self, id: u32) -> Option<&Mask> {
        self.masking.mask(id)
    }

    /// Which tracks a solve uses, and where.
    pub fn track_choice(&self) -> TrackChoice {
        TrackChoice {
            left_out: self.tracking.deleted.clone(),
            trusted: self.tracking.trusted.clone(),
            masks: self.masking.masks.of_analysis(),
            window_half_px: f64::from(self.tracking.settings.window_half_px),
        }
    }

    /// The document after an edit.
    ///
    /// # Errors
    /// [`EditError`] when the edit makes no sense for this document.
    pub fn apply(&self, edit: &Edit) -> Result<Self, EditError> {
        let mut next = self.clone();
        match edit {
            Edit::Footage(FootageEdit::Trim { range }) => next.trim_to(*range)?,
            Edit::Footage(FootageEdit::PlateColour { colour }) => next.plate = colour.clone(),
            Edit::Tracking(edit) => next.tracking.apply(edit)?,
            Edit::Masking(edit) => {
                next.masking.apply(edit)?;
                if let MaskingEdit::RemoveMask { id } = edit {
                    // What it told is told by nothing any more.
                    next.holding.holdouts.retain(|h| h.by != HoldoutBy::Mask { mask: *id });
                }
            }
            Edit::Solving(edit) => {
                next.solving.apply(edit)?;
                if let SolvingEdit::UseSolve { new_from_old, outline, .. } = edit {
                    next.datum.follow(new_from_old.as_ref(), outline)?;
                }
            }
            Edit::Datum(edit) => {
                let moves = next.datum.apply(edit)?;
                next.surfacing.move_with(&moves);
                if edit.follow() == Follow::Picture {
                    next.placing.move_with(&moves);
                    next.light.scale(moves.scale);
                    next.lens.scale(moves.scale);
                }
                next.surfacing.take(edit.surfaces())?;
            }
            Edit::Surfacing(edit) => next.surfacing.apply(edit)?,
            Edit::Placing(edit) => next.placing.apply(edit)?,
            Edit::Light(edit) => next.light.apply(edit)?,
            Edit::Holding(edit) => next.hold(edit)?,
            Edit::Finish(FinishEdit::Lens { lens }) => {
                lens.validate()?;
                next.lens = lens.clone();
            }
            Edit::Finish(edit) => next.finish.apply(edit)?,
        }
        Ok(next)
    }

    /// Holdouts are told by shapes, which are drawn and go with them.
    fn hold(&mut self, edit: &HoldoutEdit) -> Result<(), EditError> {
        let drawn = match edit {
            HoldoutEdit::DrawHoldout { mask } => std::slice::from_ref(mask),
            HoldoutEdit::DrawHoldouts { masks } => masks,
            _ => &[],
        };
        for mask in drawn {
            let id = self.masking.next.max(1);
            self.masking.apply(&MaskingEdit::AddMask { mask: Mask { mode: MaskMode::Shape, ..mask.clone() } })?;
            self.holding.add(&Holdout::new(mask.name.clone(), HoldoutBy::Mask { mask: id }))?;
        }
        let gone = self.holding.apply(edit)?;
        if let Some(Holdout { by: HoldoutBy::Mask { mask }, .. }) = gone {
            let is_shape = self.mask(mask).is_some_and(|m| m.mode == MaskMode::Shape);
            if is_shape && !self.holding.uses_mask(mask) {
                self.masking.apply(&MaskingEdit::RemoveMask { id: mask })?;
            }
        }
        Ok(())
    }

    /// Analyses belong to a part of the clip; masks and keys stay on the frames of the file on which they were set.
    fn trim_to(&mut self, range: FrameRange) -> Result<(), EditError> {
        range.validate()?;
        if range != self.trim {
            let by = i64::from(self.trim.first) - i64::from(range.first);
            self.masking.shift(by)?;
            self.placing.shift(by as f64);
            self.light.shift(by as f64);
            self.holding.shift(by);
            self.finish.shift(by as f64);
            self.lens.shift(by as f64);
            self.trim = range;
            self.tracking.let_run_go();
            self.solving.let_solve_go();
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Similarity;
    use crate::scene::{InsertKind, Placement, Stance, Title};
    use crate::track::TrackId;
    use nalgebra::Vector3;
    use proptest::prelude::*;

    fn insert(foot: [f64; 3], turn_deg: f64) -> Insert {
        let title = Title {
            text: "A".into(),
            font: "x".into(),
            height_m: 1.0,
            depth_m: 0.2,
            bevel_m: 0.0,
            colour: [255; 3],
            lettering: crate::scene::Lettering::default(),
        };
        let mut placement = Placement::on(foot, [0.0, 1.0, 0.0], Stance::Standing);
        placement.set_turn_lean_deg(0.0, [turn_deg, 0.0]);
        placement.anchor.lift_m = 0.1.into();
        placement.scale = 1.5.into();
        Insert::new(InsertKind::Title(title), placement)
    }

    #[test]
    fn ids_are_never_used_twice() {
        let doc = ShotDocument::new(10);
        let doc = doc.apply(&Edit::Placing(PlacingEdit::AddInsert { insert: insert([0.0; 3], 0.0) })).unwrap();
        let doc = doc.apply(&Edit::Placing(PlacingEdit::RemoveInsert { id: InsertId(1) })).unwrap();
        let doc = doc.apply(&Edit::Placing(PlacingEdit::AddInsert { insert: insert([0.0; 3], 0.0) })).unwrap();
        assert_eq!(doc.placing.inserts[0].id, InsertId(2));
        assert_eq!(
            doc.apply(&Edit::Placing(PlacingEdit::RemoveInsert { id: InsertId(1) })),
            Err(EditError::NoInsert { id: InsertId(1) })
        );
    }

    #[test]
    fn nonsense_is_refused() {
        let doc = ShotDocument::new(10);
        assert!(doc.apply(&Edit::Footage(FootageEdit::Trim { range: FrameRange { first: 5, last: 4 } })).is_err());
        assert!(
            doc.apply(&Edit::Placing(PlacingEdit::AddInsert { insert: insert([f64::NAN, 0.0, 0.0], 0.0) })).is_err()
        );
        let light = Light { sun: f64::INFINITY.into(), ..Light::default() };
        assert!(doc.apply(&Edit::Light(LightEdit::Light { light })).is_err());
    }

    #[test]
    fn mirrored_and_endless_datums_are_refused() {
        let doc = ShotDocument::new(10);
        let json = |turn: &str, scale: &str| {
            format!(
                r#"{{"edit":"datum","datum":{{"floor":null,"scale":{{"basis":"unset"}},
                "world_from_solve":{{"scale":{scale},"rotation":{turn},"translation":[0,0,0]}}}}}}"#
            )
        };
        let straight = "[1,0,0,0,1,0,0,0,1]";
        assert!(doc.apply(&serde_json::from_str(&json(straight, "2")).unwrap()).is_ok());
        for (turn, scale) in [
            ("[1,0,0,0,1,0,0,0,-1]", "1"),
            ("[9,0,0,0,9,0,0,0,9]", "1"),
            ("[0,0,0,0,0,0,0,0,0]", "1"),
            (straight, "-1"),
            (straight, "0"),
        ] {
            let edit: Edit = serde_json::from_str(&json(turn, scale)).unwrap();
            assert!(matches!(doc.apply(&edit), Err(EditError::Datum(_))), "{turn} {scale}");
        }
    }

    /// Fault: after a trim, or with tracks of another run, the next solve took the datum's numbers as they were.
    #[test]
    fn the_datum_remembers_the_solve_that_it_was_laid_in() {
        let way = Similarity { scale: 2.0, ..Similarity::identity() };
        let use_solve = |id, new_from_old| {
            Edit::Solving(SolvingEdit::UseSolve {
                analysis: AnalysisId(id),
                new_from_old,
                fit: None,
                outline: Vec::new(),
            })
        };
        let mut doc = ShotDocument::new(90).apply(&use_solve(4, None)).unwrap();
        doc.solving.laid_in = None;
        let trimmed =
            doc.apply(&Edit::Footage(FootageEdit::Trim { range: FrameRange { first: 5, last: 80 } })).unwrap();
        assert_eq!(
            (trimmed.solving.solve, trimmed.laid_in()),
            (None, Some(AnalysisId(4))),
            "as an earlier version left it"
        );
        let tracked = trimmed.apply(&Edit::Tracking(TrackingEdit::UseTracks { analysis: AnalysisId(7) })).unwrap();
        let solved = tracked.apply(&use_solve(8, Some(way))).unwrap();
        assert_eq!((solved.laid_in(), solved.datum.world_from_solve.scale), (Some(AnalysisId(8)), 0.5));
        let again = solved.apply(&Edit::Tracking(TrackingEdit::UseTracks { analysis: AnalysisId(9) })).unwrap();
        assert_eq!(
            (again.solving.solve, again.laid_in()),
            (Some(AnalysisId(8)), Some(AnalysisId(8))),
            "the old camera stays in use"
        );
    }

    fn square_mask() -> Mask {
        use crate::matte::{MaskMode, OutlineKey};
        let outline = |x: f64| vec![[x, 0.0], [x + 10.0, 0.0], [x, 10.0]];
        Mask::new(MaskMode::KeepOut, vec![OutlineKey::new(0, outline(0.0)), OutlineKey::new(8, outline(80.0))])
    }

    #[test]
    fn masks_are_drawn_changed_and_taken_away_and_keep_to_their_frames() {
        let doc = ShotDocument::new(20).apply(&Edit::Masking(MaskingEdit::AddMask { mask: square_mask() })).unwrap();
        assert_eq!((doc.masking.masks.masks[0].id, doc.masking.masks.masks[0].name.as_str()), (1, "mask 1"));
        let mut mask = doc.masking.masks.masks[0].clone();
        mask.span = Some((2, 10));
        let doc = doc.apply(&Edit::Masking(MaskingEdit::ChangeMask { mask: mask.clone() })).unwrap();
        let trimmed =
            doc.apply(&Edit::Footage(FootageEdit::Trim { range: FrameRange { first: 4, last: 19 } })).unwrap();
        let moved = &trimmed.masking.masks.masks[0];
        assert_eq!(
            (moved.outline.at(0)[0], moved.outline.at(4)[0], moved.span),
            ([40.0, 0.0], [80.0, 0.0], Some((0, 6)))
        );
        let back =
            trimmed.apply(&Edit::Footage(FootageEdit::Trim { range: FrameRange { first: 0, last: 19 } })).unwrap();
        assert_eq!(back.masking.masks.masks[0].outline.at(8)[0], [80.0, 0.0]);
        let two =
            back.apply(&Edit::Masking(MaskingEdit::AddMasks { masks: vec![square_mask(), square_mask()] })).unwrap();
        assert_eq!(two.masking.masks.masks.iter().map(|m| m.id).collect::<Vec<_>>(), [1, 2, 3]);
        let gone = doc.apply(&Edit::Masking(MaskingEdit::RemoveMask { id: 1 })).unwrap();
        assert_eq!(
            gone.apply(&Edit::Masking(MaskingEdit::ChangeMask { mask: mask.clone() })),
            Err(EditError::NoMask { id: 1 })
        );
        assert_eq!(
            gone.apply(&Edit::Masking(MaskingEdit::AddMask { mask: square_mask() })).unwrap().masking.masks.masks[0].id,
            2,
            "ids are never used twice"
        );
        mask.outline.keys[0].outline.pop();
        assert!(matches!(doc.apply(&Edit::Masking(MaskingEdit::ChangeMask { mask })), Err(EditError::Mask(_))));
    }

    #[test]
    fn a_holdout_comes_with_its_shape_and_goes_with_it_unless_another_needs_it() {
        let held = |edit| Edit::Holding(edit);
        let doc = ShotDocument::new(20)
            .apply(&held(HoldoutEdit::DrawHoldout { mask: Mask { name: "mast".into(), ..square_mask() } }))
            .unwrap();
        let one = doc.holding.holdouts[0].clone();
        assert_eq!(
            (one.name.as_str(), &one.by, one.id),
            ("mast", &HoldoutBy::Mask { mask: 1 }, crate::scene::HoldoutId(1))
        );
        assert_eq!((doc.masking.masks.masks[0].mode, doc.track_choice().masks.masks.len()), (MaskMode::Shape, 0));
        let two = doc.apply(&held(HoldoutEdit::AddHoldout { holdout: one.clone() })).unwrap();
        let kept = two.apply(&held(HoldoutEdit::RemoveHoldout { id: one.id })).unwrap();
        assert_eq!((kept.holding.holdouts.len(), kept.masking.masks.masks.len()), (1, 1));
        let last = kept.holding.holdouts[0].id;
        let gone = kept.apply(&held(HoldoutEdit::RemoveHoldout { id: last })).unwrap();
        assert_eq!((gone.holding.holdouts.len(), gone.masking.masks.masks.len()), (0, 0));
        let bare = two.apply(&Edit::Masking(MaskingEdit::RemoveMask { id: 1 })).unwrap();
        assert!(bare.holding.holdouts.is_empty());
        let wrong = HoldoutEdit::RemoveHoldout { id: crate::scene::HoldoutId(9) };
        assert_eq!(doc.apply(&held(wrong)), Err(EditError::NoHoldout { id: 9 }));
        let swapped = two.apply(&held(HoldoutEdit::OrderHoldout { id: one.id, to: 9 })).unwrap();
        assert_eq!(swapped.holding.holdouts[1].id, one.id);
        let trimmed =
            doc.apply(&Edit::Footage(FootageEdit::Trim { range: FrameRange { first: 4, last: 19 } })).unwrap();
        assert_eq!(trimmed.masking.masks.masks[0].outline.at(0)[0], [40.0, 0.0]);
    }

    #[test]
    fn a_track_is_either_deleted_or_trusted() {
        let tracks = || vec![TrackId(3), TrackId(5)];
        let doc =
            ShotDocument::new(20).apply(&Edit::Tracking(TrackingEdit::DeleteTracks { tracks: tracks() })).unwrap();
        let doc = doc.apply(&Edit::Tracking(TrackingEdit::TrustTracks { tracks: vec![TrackId(5)] })).unwrap();
        let choice = doc.track_choice();
        assert_eq!((choice.left_out, choice.trusted), ([TrackId(3)].into(), [TrackId(5)].into()));
        let doc = doc.apply(&Edit::Tracking(TrackingEdit::DeleteTracks { tracks: tracks() })).unwrap();
        assert!(doc.tracking.trusted.is_empty() && doc.tracking.deleted.len() == 2);
        let doc = doc
            .apply(&Edit::Tracking(TrackingEdit::TrustTracks { tracks: tracks() }))
            .unwrap()
            .apply(&Edit::Tracking(TrackingEdit::DoubtTracks { tracks: tracks() }))
            .unwrap();
        assert!(doc.tracking.trusted.is_empty() && doc.tracking.deleted.is_empty());
    }

    proptest! {
        #[test]
        fn a_change_of_datum_keeps_inserts_in_the_picture(
            turn in -180f64..180.0, wx in -170f64..170.0, wy in -170f64..170.0, wz in -170f64..170.0,
                s in 0.1f64..9.0, t in -5f64..5.0,
        ) {
            let doc = ShotDocument::new(10)
                .apply(&Edit::Placing(PlacingEdit::AddInsert { insert: insert([1.0, 0.0, -3.0], turn) })).unwrap();
            let mut datum = doc.datum.nudged([wx, wy, wz], [t, 1.0, -t]);
            datum.world_from_solve = datum.world_from_solve.then(&Similarity { scale: s, ..Similarity::identity() });
            let after = doc.apply(&Edit::Datum(DatumEdit::Datum { datum: datum.clone(), follow: Follow::Picture })).unwrap();
            let corner = Vector3::new(0.7, 1.2, 0.1);
            let place = |d: &ShotDocument| {
                let p = &d.placing.inserts[0].placement;
                d.datum.world_from_solve.inverse().point(p.origin(0.0) + p.rotation(0.0) * (corner * p.scale.at(0.0)))
            };
            prop_assert!((place(&doc) - place(&after)).norm() < 1e-6, "moved by {}", (place(&doc) - place(&after))
                .norm());
        }
    }
}
