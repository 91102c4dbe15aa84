//! The document of a shot and the edits that change it.

use super::datum::Datum;
use super::insert::{Insert, InsertId};
use super::transfer::TransferFit;
use crate::geometry::{Similarity, log_so3};
use crate::solve::SolveSettings;
use crate::solve::TrackChoice;
use crate::track::{Mask, Masks, TrackId, TrackSettings};
use nalgebra::{Rotation3, Vector3};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Names a finished track run or solve.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct AnalysisId(pub i64);

/// Frames of the file, both ends included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FrameRange {
    /// First frame used.
    pub first: u32,
    /// Last frame used.
    pub last: u32,
}

impl FrameRange {
    /// Number of frames.
    pub fn count(self) -> u32 {
        self.last - self.first + 1
    }
}

/// Sun and ambient light.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Light {
    /// Compass bearing of the sun about Y, degrees; 0 is +Z, 90 is +X.
    pub bearing_deg: f64,
    /// Height of the sun over the floor, degrees.
    pub height_deg: f64,
    /// Strength of the sun; 1 shows a facing white surface white.
    pub sun: f64,
    /// Strength of the light from everywhere.
    pub ambient: f64,
}

impl Default for Light {
    fn default() -> Self {
        Self { bearing_deg: 40.0, height_deg: 45.0, sun: 0.8, ambient: 0.35 }
    }
}

impl Light {
    /// Unit direction towards the sun.
    pub fn toward_sun(&self) -> Vector3<f64> {
        let (b, h) = (self.bearing_deg.to_radians(), self.height_deg.to_radians());
        Vector3::new(b.sin() * h.cos(), h.sin(), b.cos() * h.cos())
    }
}

/// All that a person decided about a shot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ShotDocument {
    /// The part of the clip that is used.
    pub trim: FrameRange,
    /// How points are tracked.
    pub track_settings: TrackSettings,
    /// Where the analysis looks.
    pub masks: Masks,
    /// The id that the next mask gets.
    #[serde(default)]
    pub next_mask: u32,
    /// The track run in use.
    pub tracks: Option<AnalysisId>,
    /// Tracks taken out by hand.
    pub deleted_tracks: BTreeSet<TrackId>,
    /// Tracks that are used even where they do not follow the camera.
    #[serde(default)]
    pub trusted_tracks: BTreeSet<TrackId>,
    /// How the camera is solved.
    pub solve_settings: SolveSettings,
    /// The solve in use.
    pub solve: Option<AnalysisId>,
    /// The solve whose world the datum and the inserts were laid in last; outlasts a trim that lets the solve go.
    /// Nothing in documents of earlier versions, where it is the solve in use.
    #[serde(default)]
    pub laid_in: Option<AnalysisId>,
    /// How well datum and inserts came over from the solve before.
    #[serde(default)]
    pub transfer: Option<TransferFit>,
    /// Origin, floor, heading, scale.
    pub datum: Datum,
    /// What is placed.
    pub inserts: Vec<Insert>,
    /// The id that the next insert gets.
    pub next_insert: InsertId,
    /// Sun and ambient light.
    pub light: Light,
}

/// One change, as a person makes it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "edit")]
pub enum Edit {
    /// Uses another part of the clip. Analyses belong to a part and are let go.
    Trim {
        /// The part.
        range: FrameRange,
    },
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
    /// Changes how the camera is solved.
    SolveSettings {
        /// The settings.
        settings: SolveSettings,
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
    /// Draws a mask; its id is given by the document.
    AddMask {
        /// Its shape.
        mask: Mask,
    },
    /// Draws several.
    AddMasks {
        /// Their shapes.
        masks: Vec<Mask>,
    },
    /// Changes a mask.
    ChangeMask {
        /// With the id of the one it replaces.
        mask: Mask,
    },
    /// Takes a mask away.
    RemoveMask {
        /// Which.
        id: u32,
    },
    /// Changes the datum. What is placed stays where it is in the picture.
    Datum {
        /// The new one.
        datum: Datum,
    },
    /// Places something; its id is given by the document.
    AddInsert {
        /// What and where.
        insert: Insert,
    },
    /// Changes what is placed.
    ChangeInsert {
        /// With the id of the one it replaces.
        insert: Insert,
    },
    /// Takes something away.
    RemoveInsert {
        /// Which.
        id: InsertId,
    },
    /// Changes sun and ambient light.
    Light {
        /// The new ones.
        light: Light,
    },
}

/// Why an edit was refused; the document is as it was.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The range is empty.
    #[error("the trim runs from frame {first} to {last}; it must hold at least one frame")]
    EmptyTrim {
        /// First frame.
        first: u32,
        /// Last frame.
        last: u32,
    },
    /// No such insert.
    #[error("there is no insert {id} any more; reload the page", id = id.0)]
    NoInsert {
        /// Which.
        id: InsertId,
    },
    /// No such mask.
    #[error("there is no mask {id} any more; reload the page")]
    NoMask {
        /// Which.
        id: u32,
    },
    /// A value that cannot be used.
    #[error("{0}")]
    Value(String),
}

impl ShotDocument {
    /// The document of a clip of `frames` frames, untouched.
    pub fn new(frames: u32) -> Self {
        Self {
            trim: FrameRange { first: 0, last: frames.saturating_sub(1) },
            track_settings: TrackSettings::default(),
            masks: Masks::default(),
            next_mask: 1,
            tracks: None,
            deleted_tracks: BTreeSet::new(),
            trusted_tracks: BTreeSet::new(),
            solve_settings: SolveSettings::default(),
            solve: None,
            laid_in: None,
            transfer: None,
            datum: Datum::default(),
            inserts: Vec::new(),
            next_insert: InsertId(1),
            light: Light::default(),
        }
    }

    /// The solve whose world datum and inserts are laid in.
    pub fn laid_in(&self) -> Option<AnalysisId> {
        self.laid_in.or(self.solve)
    }

    /// Whether a floor, another datum or anything placed would be thrown about by a camera in another world.
    pub fn has_laid(&self) -> bool {
        !self.inserts.is_empty() || self.datum != Datum::default()
    }

    /// The insert with an id.
    pub fn insert(&self, id: InsertId) -> Option<&Insert> {
        self.inserts.iter().find(|i| i.id == id)
    }

    /// Which tracks a solve uses, and where.
    pub fn track_choice(&self) -> TrackChoice {
        TrackChoice {
            left_out: self.deleted_tracks.clone(),
            trusted: self.trusted_tracks.clone(),
            masks: self.masks.clone(),
            window_half_px: f64::from(self.track_settings.window_half_px),
        }
    }

    /// The mask with an id.
    pub fn mask(&self, id: u32) -> Option<&Mask> {
        self.masks.masks.iter().find(|m| m.id == id)
    }

    fn add_mask(&mut self, mask: &Mask) {
        let id = self.next_mask.max(1);
        self.next_mask = id + 1;
        let name = if mask.name.trim().is_empty() { format!("mask {id}") } else { mask.name.clone() };
        self.masks.masks.push(Mask { id, name, ..mask.clone() });
    }

    /// The document after an edit.
    ///
    /// # Errors
    /// [`EditError`] when the edit makes no sense for this document.
    pub fn apply(&self, edit: &Edit) -> Result<Self, EditError> {
        let mut next = self.clone();
        match edit {
            Edit::Trim { range } => {
                if range.last < range.first {
                    return Err(EditError::EmptyTrim { first: range.first, last: range.last });
                }
                if *range != self.trim {
                    // Masks stay on the frames of the file on which they were drawn.
                    let by = i64::from(self.trim.first) - i64::from(range.first);
                    next.masks.masks.iter_mut().for_each(|m| m.shift(by));
                    next.trim = *range;
                    next.tracks = None;
                    next.laid_in = self.laid_in();
                    next.solve = None;
                    next.deleted_tracks.clear();
                    next.trusted_tracks.clear();
                }
            }
            Edit::TrackSettings { settings } => {
                settings.validate().map_err(|e| EditError::Value(e.to_string()))?;
                next.track_settings = settings.clone();
            }
            Edit::UseTracks { analysis } => {
                if next.tracks != Some(*analysis) {
                    next.tracks = Some(*analysis);
                    next.deleted_tracks.clear();
                    next.trusted_tracks.clear();
                }
            }
            Edit::UseSolve { analysis, new_from_old, fit, outline } => {
                next.solve = Some(*analysis);
                next.laid_in = Some(*analysis);
                next.transfer = *fit;
                if let Some(floor) = next.datum.floor.as_mut().filter(|f| f.outline.is_empty()) {
                    floor.outline.clone_from(outline);
                }
                if let Some(way) = new_from_old {
                    if !way.is_sound() {
                        return Err(EditError::Value(
                            "the way from the old camera to the new one is none; solve again".to_owned(),
                        ));
                    }
                    // The old datum is reached from the new world by going back first.
                    next.datum.world_from_solve = way.inverse().then(&self.datum.world_from_solve);
                }
            }
            Edit::SolveSettings { settings } => {
                settings.validate().map_err(EditError::Value)?;
                next.solve_settings = settings.clone();
            }
            Edit::DeleteTracks { tracks } => {
                next.deleted_tracks.extend(tracks.iter().copied());
                next.trusted_tracks.retain(|t| !tracks.contains(t));
            }
            Edit::TrustTracks { tracks } => {
                next.trusted_tracks.extend(tracks.iter().copied());
                next.deleted_tracks.retain(|t| !tracks.contains(t));
            }
            Edit::DoubtTracks { tracks } => next.trusted_tracks.retain(|t| !tracks.contains(t)),
            Edit::AddMask { mask } => next.add_mask(mask),
            Edit::AddMasks { masks } => masks.iter().for_each(|m| next.add_mask(m)),
            Edit::ChangeMask { mask } => {
                let slot =
                    next.masks.masks.iter_mut().find(|m| m.id == mask.id).ok_or(EditError::NoMask { id: mask.id })?;
                *slot = mask.clone();
            }
            Edit::RemoveMask { id } => {
                if self.mask(*id).is_none() {
                    return Err(EditError::NoMask { id: *id });
                }
                next.masks.masks.retain(|m| m.id != *id);
            }
            Edit::RestoreTracks { tracks } => tracks.iter().for_each(|t| {
                next.deleted_tracks.remove(t);
            }),
            Edit::Datum { datum } => {
                let s = &datum.world_from_solve;
                if !s.is_sound() {
                    return Err(EditError::Value(
                        "the datum must have finite numbers, a turn that is one, and a scale above zero; choose \
                            other points"
                            .to_owned(),
                    ));
                }
                let moves = self.datum.world_from_solve.inverse().then(s);
                next.inserts.iter_mut().for_each(|i| carry(i, &moves));
                next.datum = datum.clone();
            }
            Edit::AddInsert { insert } => {
                insert.validate().map_err(EditError::Value)?;
                let id = next.next_insert;
                next.next_insert = InsertId(id.0 + 1);
                let mut insert = Insert { id, ..insert.clone() };
                insert.name = insert.shown_name();
                next.inserts.push(insert);
            }
            Edit::ChangeInsert { insert } => {
                insert.validate().map_err(EditError::Value)?;
                let slot =
                    next.inserts.iter_mut().find(|i| i.id == insert.id).ok_or(EditError::NoInsert { id: insert.id })?;
                *slot = insert.clone();
            }
            Edit::RemoveInsert { id } => {
                if self.insert(*id).is_none() {
                    return Err(EditError::NoInsert { id: *id });
                }
                next.inserts.retain(|i| i.id != *id);
            }
            Edit::Light { light } => {
                let good = light.bearing_deg.is_finite()
                    && (-90.0..=90.0).contains(&light.height_deg)
                    && (0.0..=20.0).contains(&light.sun)
                    && (0.0..=20.0).contains(&light.ambient);
                if !good {
                    return Err(EditError::Value(
                        "the sun's height lies between -90 and 90 degrees, strengths between 0 and 20".to_owned(),
                    ));
                }
                next.light = *light;
            }
        }
        if next.masks != self.masks {
            next.masks.validate().map_err(|e| EditError::Value(e.to_string()))?;
        }
        Ok(next)
    }
}

impl Edit {
    /// A few words for the undo button.
    pub fn label(&self) -> String {
        match self {
            Self::Trim { range } => format!("trim to frames {} to {}", range.first, range.last),
            Self::TrackSettings { .. } => "track settings".to_owned(),
            Self::UseTracks { .. } => "new tracks".to_owned(),
            Self::UseSolve { .. } => "new solve".to_owned(),
            Self::SolveSettings { .. } => "solve settings".to_owned(),
            Self::DeleteTracks { tracks } => format!("delete {} tracks", tracks.len()),
            Self::RestoreTracks { tracks } => format!("restore {} tracks", tracks.len()),
            Self::TrustTracks { tracks } => format!("use {} tracks anyway", tracks.len()),
            Self::DoubtTracks { tracks } => format!("leave {} tracks to the solve", tracks.len()),
            Self::AddMask { .. } => "draw mask".to_owned(),
            Self::AddMasks { masks } => format!("draw {} masks", masks.len()),
            Self::ChangeMask { .. } => "change mask".to_owned(),
            Self::RemoveMask { .. } => "remove mask".to_owned(),
            Self::Datum { .. } => "datum".to_owned(),
            Self::AddInsert { .. } => "place insert".to_owned(),
            Self::ChangeInsert { .. } => "change insert".to_owned(),
            Self::RemoveInsert { .. } => "remove insert".to_owned(),
            Self::Light { .. } => "light".to_owned(),
        }
    }
}

/// Moves an insert with the world, so that it stays where it is in the picture.
fn carry(insert: &mut Insert, by: &Similarity) {
    let p = &mut insert.placement;
    let before = p.rotation();
    p.foot = by.point(Vector3::from(p.foot)).into();
    p.normal = (by.rotation * Vector3::from(p.normal)).into();
    p.lift_m *= by.scale;
    p.scale *= by.scale;
    // The heading is counted from the world's axes; whatever turn is missing goes into it.
    let wanted = by.rotation * before;
    let n = Vector3::from(p.normal);
    let rest: Rotation3<f64> = wanted * p.rotation().inverse();
    p.turn_deg += log_so3(&rest).dot(&n).to_degrees();
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::{InsertKind, Placement, Stance, Title};
    use proptest::prelude::*;

    fn insert(foot: [f64; 3], turn_deg: f64) -> Insert {
        let title =
            Title { text: "A".into(), font: "x".into(), height_m: 1.0, depth_m: 0.2, bevel_m: 0.0, colour: [255; 3] };
        let placement = Placement {
            foot,
            normal: [0.0, 1.0, 0.0],
            turn_deg,
            lean_deg: 0.0,
            lift_m: 0.1,
            scale: 1.5,
            stance: Stance::Standing,
        };
        Insert { id: InsertId(0), name: String::new(), content: InsertKind::Title(title), placement, hidden: false }
    }

    #[test]
    fn ids_are_never_used_twice() {
        let doc = ShotDocument::new(10);
        let doc = doc.apply(&Edit::AddInsert { insert: insert([0.0; 3], 0.0) }).unwrap();
        let doc = doc.apply(&Edit::RemoveInsert { id: InsertId(1) }).unwrap();
        let doc = doc.apply(&Edit::AddInsert { insert: insert([0.0; 3], 0.0) }).unwrap();
        assert_eq!(doc.inserts[0].id, InsertId(2));
        assert_eq!(doc.apply(&Edit::RemoveInsert { id: InsertId(1) }), Err(EditError::NoInsert { id: InsertId(1) }));
    }

    #[test]
    fn nonsense_is_refused() {
        let doc = ShotDocument::new(10);
        assert!(doc.apply(&Edit::Trim { range: FrameRange { first: 5, last: 4 } }).is_err());
        assert!(doc.apply(&Edit::AddInsert { insert: insert([f64::NAN, 0.0, 0.0], 0.0) }).is_err());
        let light = Light { sun: f64::INFINITY, ..Light::default() };
        assert!(doc.apply(&Edit::Light { light }).is_err());
    }

    #[test]
    fn mirrored_and_endless_datums_are_refused() {
        let doc = ShotDocument::new(10);
        let json = |turn: &str, scale: &str| {
            format!(
                r#"{{"edit":"datum","datum":{{"world_from_solve":{{"scale":{scale},"rotation":{turn},"translation":[0,0,0]}},"floor":null,"known_distance_m":null}}}}"#
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
            assert!(matches!(doc.apply(&edit), Err(EditError::Value(_))), "{turn} {scale}");
        }
    }

    /// Fault: after a trim, or with tracks of another run, the next solve took the datum's numbers as they were.
    #[test]
    fn the_datum_remembers_the_solve_that_it_was_laid_in() {
        let way = Similarity { scale: 2.0, ..Similarity::identity() };
        let use_solve = |id, new_from_old| Edit::UseSolve {
            analysis: AnalysisId(id),
            new_from_old,
            fit: None,
            outline: Vec::new(),
        };
        let mut doc = ShotDocument::new(90).apply(&use_solve(4, None)).unwrap();
        doc.laid_in = None;
        let trimmed = doc.apply(&Edit::Trim { range: FrameRange { first: 5, last: 80 } }).unwrap();
        assert_eq!((trimmed.solve, trimmed.laid_in()), (None, Some(AnalysisId(4))), "as an earlier version left it");
        let tracked = trimmed.apply(&Edit::UseTracks { analysis: AnalysisId(7) }).unwrap();
        let solved = tracked.apply(&use_solve(8, Some(way))).unwrap();
        assert_eq!((solved.laid_in(), solved.datum.world_from_solve.scale), (Some(AnalysisId(8)), 0.5));
        let again = solved.apply(&Edit::UseTracks { analysis: AnalysisId(9) }).unwrap();
        assert_eq!(
            (again.solve, again.laid_in()),
            (Some(AnalysisId(8)), Some(AnalysisId(8))),
            "the old camera stays in use"
        );
    }

    fn square_mask() -> Mask {
        use crate::track::{MaskKey, MaskMode};
        let outline = |x: f64| vec![[x, 0.0], [x + 10.0, 0.0], [x, 10.0]];
        Mask::new(
            MaskMode::KeepOut,
            vec![MaskKey { frame: 0, outline: outline(0.0) }, MaskKey { frame: 8, outline: outline(80.0) }],
        )
    }

    #[test]
    fn masks_are_drawn_changed_and_taken_away_and_keep_to_their_frames() {
        let doc = ShotDocument::new(20).apply(&Edit::AddMask { mask: square_mask() }).unwrap();
        assert_eq!((doc.masks.masks[0].id, doc.masks.masks[0].name.as_str()), (1, "mask 1"));
        let mut mask = doc.masks.masks[0].clone();
        mask.span = Some((2, 10));
        let doc = doc.apply(&Edit::ChangeMask { mask: mask.clone() }).unwrap();
        let trimmed = doc.apply(&Edit::Trim { range: FrameRange { first: 4, last: 19 } }).unwrap();
        let moved = &trimmed.masks.masks[0];
        assert_eq!(
            (moved.outline_at(0)[0], moved.outline_at(4)[0], moved.span),
            ([40.0, 0.0], [80.0, 0.0], Some((0, 6)))
        );
        let back = trimmed.apply(&Edit::Trim { range: FrameRange { first: 0, last: 19 } }).unwrap();
        assert_eq!(back.masks.masks[0].outline_at(8)[0], [80.0, 0.0]);
        let two = back.apply(&Edit::AddMasks { masks: vec![square_mask(), square_mask()] }).unwrap();
        assert_eq!(two.masks.masks.iter().map(|m| m.id).collect::<Vec<_>>(), [1, 2, 3]);
        let gone = doc.apply(&Edit::RemoveMask { id: 1 }).unwrap();
        assert_eq!(gone.apply(&Edit::ChangeMask { mask: mask.clone() }), Err(EditError::NoMask { id: 1 }));
        assert_eq!(
            gone.apply(&Edit::AddMask { mask: square_mask() }).unwrap().masks.masks[0].id,
            2,
            "ids are never used twice"
        );
        mask.keys[0].outline.pop();
        assert!(matches!(doc.apply(&Edit::ChangeMask { mask }), Err(EditError::Value(_))));
    }

    #[test]
    fn a_track_is_either_deleted_or_trusted() {
        let tracks = || vec![TrackId(3), TrackId(5)];
        let doc = ShotDocument::new(20).apply(&Edit::DeleteTracks { tracks: tracks() }).unwrap();
        let doc = doc.apply(&Edit::TrustTracks { tracks: vec![TrackId(5)] }).unwrap();
        let choice = doc.track_choice();
        assert_eq!((choice.left_out, choice.trusted), ([TrackId(3)].into(), [TrackId(5)].into()));
        let doc = doc.apply(&Edit::DeleteTracks { tracks: tracks() }).unwrap();
        assert!(doc.trusted_tracks.is_empty() && doc.deleted_tracks.len() == 2);
        let doc = doc
            .apply(&Edit::TrustTracks { tracks: tracks() })
            .unwrap()
            .apply(&Edit::DoubtTracks { tracks: tracks() })
            .unwrap();
        assert!(doc.trusted_tracks.is_empty() && doc.deleted_tracks.is_empty());
    }

    proptest! {
        #[test]
        fn a_change_of_datum_keeps_inserts_in_the_picture(
            turn in -180f64..180.0, wx in -170f64..170.0, wy in -170f64..170.0, wz in -170f64..170.0, s in 0.1f64..9.0, t in -5f64..5.0,
        ) {
            let doc = ShotDocument::new(10).apply(&Edit::AddInsert { insert: insert([1.0, 0.0, -3.0], turn) }).unwrap();
            let mut datum = doc.datum.nudged([wx, wy, wz], [t, 1.0, -t]);
            datum.world_from_solve = datum.world_from_solve.then(&Similarity { scale: s, ..Similarity::identity() });
            let after = doc.apply(&Edit::Datum { datum: datum.clone() }).unwrap();
            let corner = Vector3::new(0.7, 1.2, 0.1);
            let place = |d: &ShotDocument| {
                let p = &d.inserts[0].placement;
                d.datum.world_from_solve.inverse().point(p.origin() + p.rotation() * (corner * p.scale))
            };
            prop_assert!((place(&doc) - place(&after)).norm() < 1e-6, "moved by {}", (place(&doc) - place(&after)).norm());
        }
    }
}
