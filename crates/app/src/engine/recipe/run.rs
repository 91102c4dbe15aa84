//! Doing the steps of a recipe, as a person would in the page: each makes a revision.

use super::{AGAINST_FROM, ExportFormat, GROUND_FROM, LensKind, Move, Place, Recipe, Region, Step, VERSION};
use crate::engine::adopt::edit_head;
use crate::engine::arrange::{Arrange, Arranging};
use crate::engine::assets::{self, ShotAssets, TakenAsset};
use crate::engine::compose::Composer;
use crate::engine::finishing::{self, Look};
use crate::engine::focal::focal_px;
use crate::engine::holding::{self, Wish};
use crate::engine::kinds::{self, Values, When, amount};
use crate::engine::laying::{End, Ground, Lay, SurfaceChange};
use crate::engine::matching;
use crate::engine::place::{Pixel, Put, duplicate, for_another_shot, insert_on, spot_for, spot_put};
use crate::engine::quantity::Measure;
use crate::engine::run::{self, Begin};
use crate::engine::stand::stand;
use crate::engine::surroundings::{self, CATCH_FIELDS};
use crate::engine::{EngineError, OpenShot, analyse, import, library, light, output, survey};
use fennik_core::image::PictureSettings;
use fennik_core::matte::{Mask, Outline};
use fennik_core::scene::anim::Ease;
use fennik_core::scene::{
    AssetName, DrawnLine, Edit, FinishEdit, Follow, FootageEdit, FrameRange, Holdout, HoldoutEdit, Insert, InsertKind,
    LensLook, LightEdit, MaskingEdit, ModelFoot, PlacingEdit, PlateColour, SolvingEdit, Stance, Surface, SurfaceId,
    SurfacingEdit, Surroundings, TrackingEdit, points_inside, spot_on,
};
use fennik_core::solve::{LensChoice, MotionChoice, Solution, SolveSettings};
use fennik_core::track::{TrackDirection, TrackId, TrackSettings};
use fennik_store::{ShotId, Store};
use nalgebra::Vector2;
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A step that did not hold. Those before it stay.
#[derive(Debug, thiserror::Error)]
#[error("step {number} ({verb}): {why}")]
pub struct CookError {
    /// Counted from 1.
    pub number: usize,
    /// Its verb.
    pub verb: &'static str,
    /// Why.
    pub why: EngineError,
}

/// Hears how far a step is: done, in all, what is being done; `false` stops.
type Tell<'a> = &'a mut dyn FnMut(u32, u32, &str) -> bool;

/// Somebody who does the steps of recipes.
pub struct Cook<'a> {
    store: &'a Store,
    /// The recipe's folder, from which its paths count.
    folder: PathBuf,
    /// The shot that the steps work on.
    shot: Option<ShotId>,
    /// What becomes of what is placed when the datum changes.
    follow: Follow,
    /// Of the recipe.
    version: u32,
}

/// Why a step does not hold, where that is about the recipe itself.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum StepError {
    /// Nothing was taken in.
    #[error("there is no shot to work on; begin with take-in, or name one with --shot")]
    NoShot,
    /// Several clips where one is meant.
    #[error("{clip} holds {what}; name one clip")]
    NotOne {
        /// As it was written.
        clip: String,
        /// What there is.
        what: String,
    },
    /// A name that is taken.
    #[error("there is {name:?} already; choose another name, or set its values")]
    Taken {
        /// As it was written.
        name: String,
    },
    /// A surface that there is not.
    #[error("there is no surface {name:?}; there is: {}", ["floor".to_owned()].iter().chain(all).cloned().collect::<Vec<_>>().join(", "))]
    NoSurface {
        /// As it was written.
        name: String,
        /// What there is beside the floor.
        all: Vec<String>,
    },
    /// A text for what shows none.
    #[error("a {kind} has no text")]
    NoText {
        /// What is placed.
        kind: String,
    },
    /// A key.
    #[error("this does not change over time; leave out frame")]
    Keyed,
    /// A value that the shutter has not.
    #[error("the shutter has no {name:?}; it has an angle, 0 to 360 deg")]
    NoShutterValue {
        /// As it was written.
        name: String,
    },
    /// A value that the light has not.
    #[error("the light has no {name:?}; it has {}", all.join(", "))]
    NoLightValue {
        /// As it was written.
        name: String,
        /// Those that it has.
        all: Vec<&'static str>,
    },
    /// A value that the finish has not.
    #[error("the finish has no {name:?}; it has off, {}", all.join(", "))]
    NoFinishValue {
        /// As it was written.
        name: String,
        /// Those that it has.
        all: Vec<&'static str>,
    },
    /// A value that the lens has not.
    #[error("the lens has no {name:?}; it has {}", all.join(", "))]
    NoLensValue {
        /// As it was written.
        name: String,
        /// Those that it has.
        all: Vec<&'static str>,
    },
    /// A value that the floor has not.
    #[error("the floor has no {name:?}; it has {}", all.join(", "))]
    NoFloorValue {
        /// As it was written.
        name: String,
        /// Those that it has.
        all: Vec<&'static str>,
    },
    /// No surroundings.
    #[error("there are no surroundings yet; give the shot some with a step `surroundings`")]
    NoSurroundings,
    /// A value that the surroundings have not.
    #[error("the surroundings have no {name:?}; they have hidden, {}", all.join(", "))]
    NoSurroundingsValue {
        /// As it was written.
        name: String,
        /// Those that they have.
        all: Vec<&'static str>,
    },
    /// A value that a holdout has not.
    #[error(
        "this holdout has no {name:?}; all have name, strength, combine, inverted and hidden, keys also key, colour, \
            from, soft and clean-frame, pictures also matte, start, first, last, speed and ends"
    )]
    NoHoldoutValue {
        /// As it was written.
        name: String,
    },
    /// A holdout that is told by nothing, or by several things.
    #[error("a holdout is told by one of mask, surface, key, file and asset; write one of them")]
    HeldBy,
    /// A mask that there is not.
    #[error("there is no mask {name:?}; there is: {}", if all.is_empty() { "none yet".to_owned() } else { all.join(", ") })]
    NoMask {
        /// As it was written.
        name: String,
        /// What there is.
        all: Vec<String>,
    },
    /// A value that a surface has not.
    #[error(
        "a surface has no {name:?} that can be set so; it has name, kind (wall, slope or other), push, shadow, contact, \
            contact-reach, tint, mirror, mirror-rough and mirror-fade"
    )]
    NoSurfaceValue {
        /// As it was written.
        name: String,
    },
    /// A thing that there is not.
    #[error("there is nothing called {name:?}; there is: {}", all.join(", "))]
    Nothing {
        /// As it was written.
        name: String,
        /// What there is.
        all: Vec<String>,
    },
    /// Several things of one name.
    #[error("{count} things are called {name:?}; give them names of their own")]
    Several {
        /// As it was written.
        name: String,
        /// How many.
        count: usize,
    },
    /// A region that is none.
    #[error("a region needs at least 3 corners; it has {corners}")]
    Region {
        /// How many it has.
        corners: usize,
    },
    /// A region without points.
    #[error(
        "{found} solved points lie in this region of frame {frame}; at least 3 are needed. Draw it larger, or on \
            another frame"
    )]
    EmptyRegion {
        /// How many lie in it.
        found: usize,
        /// Of the trimmed clip.
        frame: u32,
    },
}

impl<'a> Cook<'a> {
    /// Begins with a shot, or with none until one is taken in.
    pub fn new(store: &'a Store, folder: &Path, shot: Option<ShotId>) -> Self {
        Self { store, folder: folder.to_owned(), shot, follow: Follow::Picture, version: VERSION }
    }

    /// The shot that the steps worked on last.
    pub fn shot(&self) -> Option<ShotId> {
        self.shot
    }

    /// Does all steps in order. `tell` hears of the step's number and verb, and how far it is.
    ///
    /// # Errors
    /// [`CookError`] at the first step that does not hold.
    pub fn cook(
        &mut self,
        recipe: &Recipe,
        mut tell: impl FnMut(usize, &'static str, u32, u32, &str) -> bool,
    ) -> Result<(), CookError> {
        self.version = recipe.version;
        for (i, step) in recipe.steps.iter().enumerate() {
            let (number, verb) = (i + 1, step.verb());
            let mut on_step = |done: u32, total: u32, message: &str| tell(number, verb, done, total, message);
            self.step(step, &mut on_step).map_err(|why| CookError { number, verb, why })?;
        }
        Ok(())
    }

    fn open(&self) -> Result<OpenShot, EngineError> {
        let id = self.shot.ok_or(StepError::NoShot)?;
        OpenShot::load(self.store, id)
    }

    fn edit(&self, shot: &OpenShot, edit: &Edit) -> Result<(), EngineError> {
        Ok(self.store.edit(shot.state.shot.id, Some(shot.state.head.id), edit).map(|_| ())?)
    }

    /// Does long work with other settings; they are saved once it is done, so that a step that fails changes nothing.
    fn with_settings(
        &self,
        mut shot: OpenShot,
        settings: &Edit,
        work: impl FnOnce(&Store, &OpenShot) -> Result<String, EngineError>,
    ) -> Result<(), EngineError> {
        let wanted = shot.document().apply(settings).map_err(fennik_store::StoreError::from)?;
        shot.state.head.document = wanted;
        work(self.store, &shot)?;
        edit_head(self.store, shot.state.shot.id, |_| Ok(settings.clone())).map(|_| ())
    }

    fn path(&self, told: &str) -> PathBuf {
        self.folder.join(told)
    }

    fn step(&mut self, step: &Step, tell: Tell) -> Result<(), EngineError> {
        match step {
            Step::TakeIn { clip, name } => self.take_in(clip, name.as_deref(), tell),
            Step::Trim { first, last } => self.edit(
                &self.open()?,
                &Edit::Footage(FootageEdit::Trim { range: FrameRange { first: *first, last: *last } }),
            ),
            Step::PlateColour { transfer, primaries, file, asset } => {
                let taken = self.shown_file(file.as_deref(), asset.as_ref())?;
                if let Some(taken) = &taken {
                    assets::table_of(self.store, &taken.asset)?;
                }
                let table = taken.map(|taken| taken.asset);
                let colour = PlateColour { transfer: *transfer, primaries: *primaries, table };
                self.edit(&self.open()?, &Edit::Footage(FootageEdit::PlateColour { colour }))
            }
            Step::Mask { name, mode, keys, smooth, by_hand, inverted, span, feather, feathers } => {
                let mask = Mask::new(*mode, keys.clone());
                let outline = Outline { smooth: smooth.clone(), by_hand: by_hand.clone(), ..mask.outline.clone() };
                let (feather_px, corner_feathers_px) = (*feather, feathers.clone());
                let (inverted, span, name) = (*inverted, *span, name.clone());
                self.mask(Mask { name, outline, inverted, span, feather_px, corner_feathers_px, ..mask })
            }
            Step::HoldOut { .. } => self.hold_out(step),
            Step::FollowMask { mask, frame } => {
                let shot = self.open()?;
                let id = mask_named(&shot, mask)?.id;
                run::follow(self.store, &shot, id, *frame, tell).map(|_| ())
            }
            Step::StandMask { mask, frame } => {
                let shot = self.open()?;
                let id = mask_named(&shot, mask)?.id;
                self.edit(&shot, &stand(&shot, &shot.solution(self.store)?, id, *frame)?)
            }
            Step::Surroundings { file, asset, library } => {
                let taken = match library {
                    Some(item) => library::take(self.store, library::item(item)?)?.into_iter().next(),
                    None => self.shown_file(file.as_deref(), asset.as_ref())?,
                };
                let shot = self.open()?;
                let mut light = shot.document().light.clone();
                if let Some(taken) = &taken {
                    let shown = std::iter::once(&taken.asset);
                    ShotAssets::of_all(self.store, &Arc::default(), shown, None)?
                        .surroundings(&taken.asset.name)
                        .map_err(|why| assets::AssetsError::Shown { why: why.0 })?;
                }
                light.surroundings = taken.map(|taken| Surroundings::new(taken.asset));
                self.edit(&shot, &Edit::Light(LightEdit::Light { light }))
            }
            Step::Table { file, asset } => {
                let shown = self.shown_file(file.as_deref(), asset.as_ref())?;
                let shot = self.open()?;
                let mut finish = shot.document().finish.clone();
                if let Some(taken) = &shown {
                    assets::table_of(self.store, &taken.asset)?;
                }
                finish.table = shown.map(|taken| taken.asset);
                self.edit(&shot, &Edit::Finish(FinishEdit::Finish { finish }))
            }
            Step::MeasurePlate {} => {
                let shot = self.open()?;
                let lens = LensLook { measured: matching::measure_plate(&shot, tell)?, ..shot.document().lens.clone() };
                self.edit(&shot, &Edit::Finish(FinishEdit::Lens { lens }))
            }
            Step::Draw { thing, follows } => {
                let shot = self.open()?;
                let insert = find_insert(&shot, thing)?;
                let composer = Composer::of_shot(self.store, &shot)?;
                let drawn = Some(matching::measure_insert(&composer, &shot, insert, *follows, tell)?);
                let insert = Insert { drawn, ..insert.clone() };
                self.edit(&shot, &Edit::Placing(PlacingEdit::ChangeInsert { insert }))
            }
            Step::KeepLook { name, thing } => {
                let shot = self.open()?;
                let look = match thing {
                    Some(thing) => Look::of_insert(find_insert(&shot, thing)?),
                    None => Look::of(&shot.document().finish),
                };
                look.keep(self.store, name)
            }
            Step::UseLook { name, thing } => {
                let look = Look::find(self.store, name)?;
                let shot = self.open()?;
                let Some(thing) = thing else {
                    return self.edit(&shot, &Edit::Finish(FinishEdit::Finish { finish: look.on_finish() }));
                };
                let mut insert = find_insert(&shot, thing)?.clone();
                look.on_insert(&mut insert);
                self.edit(&shot, &Edit::Placing(PlacingEdit::ChangeInsert { insert }))
            }
            Step::Matte { out, frames } => {
                let shot = self.open()?;
                let all = shot.document().trim.count();
                let [first, last] = frames.unwrap_or([0, all.saturating_sub(1)]);
                let hear = |done, total| tell(done, total, "drawing mattes");
                output::mattes(self.store, &shot, (first, last), &self.path(out), hear)
            }
            Step::Track { .. } => self.track(step, tell),
            Step::Solve { .. } => self.solve(step, tell),
            Step::SolveOn {} => run::solve(self.store, &self.open()?, Begin::FromHere, tell).map(|_| ()),
            Step::ProposeDatum { floor } => self.lay(|_, _| Ok(Lay::Take { floor: floor.unwrap_or(0) })),
            Step::Follow { placed } => {
                self.follow = *placed;
                Ok(())
            }
            Step::ScaleBy { factor } => self.lay(|_, _| Ok(Lay::ScaleBy { factor: *factor })),
            Step::UpAxis { axis } => self.lay(|_, _| Ok(Lay::UpAxis { axis: *axis })),
            Step::Reset { part } => self.lay(|_, _| Ok(Lay::Reset { part: *part })),
            Step::Origin { at } => self.lay(|_, _| Ok(Lay::Origin { at: at.each(|p| end(*p)) })),
            Step::Floor { region } => self.lay(|_, solution| Ok(Lay::Floor { points: inside(solution, region)? })),
            Step::Surface { name, region } => {
                self.lay(|_, solution| Ok(Lay::Surface { points: inside(solution, region)?, name: name.clone() }))
            }
            Step::Corners { name, region } => self.lay(|_, _| {
                Ok(Lay::Corners { frame: region.frame, corners: region.outline.clone(), name: name.clone() })
            }),
            Step::Square { surface, to } => self.change(surface, |_| Ok(SurfaceChange::Square { to: to.clone() })),
            Step::Hinge { surface, to, angle } => {
                let angle_deg = angle.value(Measure::Angle)?;
                self.change(surface, |_| Ok(SurfaceChange::Hinge { to: to.clone(), angle_deg }))
            }
            Step::Heading { from, to } => self.lay(|_, _| Ok(Lay::Heading { from: end(*from), to: end(*to) })),
            Step::Sun(shadow) => {
                let shot = self.open()?;
                let solution = shot.solution(self.store)?;
                let light = light::by_shadow(shot.document(), &solution, shadow)?;
                self.edit(&shot, &Edit::Light(LightEdit::Light { light }))
            }
            Step::Scale { from, to, distance, more } => {
                let distance_m = distance.value(Measure::Length)?;
                self.lay(|_, _| Ok(Lay::Scale { from: end(*from), to: end(*to), distance_m, more: *more }))
            }
            Step::CameraHeight { height } => {
                let height_m = height.value(Measure::Length)?;
                self.lay(|_, _| Ok(Lay::CameraHeight { height_m }))
            }
            Step::Line { along, frame, from, to, to_edge } => {
                let line = DrawnLine { role: *along, frame: *frame, from: *from, to: *to, at_edge: false };
                self.lay(|_, _| Ok(Lay::Line { line, to_edge: *to_edge }))
            }
            Step::Upright {} => self.lay(|_, _| Ok(Lay::UprightByLines)),
            Step::HeadingByLines {} => self.lay(|_, _| Ok(Lay::HeadingByLines)),
            Step::Nudge { turn, shift } => self
                .lay(|_, _| Ok(Lay::Nudge { turn_deg: turn.unwrap_or_default(), shift_m: shift.unwrap_or_default() })),
            Step::Flip {} => self.lay(|_, _| Ok(Lay::Flip)),
            Step::Place { .. } => self.place(step),
            Step::Swap { thing, file, asset } => self.swap(thing, file.as_deref(), asset.as_ref()),
            Step::Set { thing, values, frame, ease } => self.set(thing, values, frame.map(|f| (f, *ease))),
            Step::Arrange { thing, frame, does } => self.arrange(thing, *frame, does),
            Step::Dress { thing, with, material } => {
                let shot = self.open()?;
                let mut insert = find_insert(&shot, thing)?.clone();
                library::dress(self.store, &shot, &mut insert, library::item(with)?, material.as_deref())?;
                self.can_be_shown(&shot, &insert)?;
                self.edit(&shot, &Edit::Placing(PlacingEdit::ChangeInsert { insert }))
            }
            Step::Hang { thing, on, frame } => self.placing(|shot| {
                let on = on.as_deref().map(|on| Ok::<_, EngineError>(find_insert(shot, on)?.id)).transpose()?;
                Ok(PlacingEdit::HangInsert { id: find_insert(shot, thing)?.id, on, frame: f64::from(*frame) })
            }),
            Step::Group { things, name, .. } => self.placing(|shot| {
                free(shot, name)?;
                let ids = things.iter().map(|t| Ok(find_insert(shot, t)?.id)).collect::<Result<_, EngineError>>()?;
                Ok(PlacingEdit::GroupInserts { ids, name: name.clone(), frame: 0.0 })
            }),
            Step::Order { thing, to } => {
                self.placing(|shot| Ok(PlacingEdit::OrderInsert { id: find_insert(shot, thing)?.id, to: *to }))
            }
            Step::TakeOut { thing, copy, name } => self.take_out(thing, *copy, name.as_deref()),
            Step::Duplicate { thing, name } => self.placing(|shot| {
                free(shot, name)?;
                let insert = find_insert(shot, thing)?;
                let shows = ShotAssets::of(self.store, &Arc::default(), std::slice::from_ref(insert), Some(shot))?;
                let insert = Insert { name: name.clone(), ..duplicate(insert, shows.as_ref())? };
                Ok(PlacingEdit::AddInsert { insert })
            }),
            Step::CopyTo { thing, shot } => self.copy_to(thing, shot),
            Step::Remove { thing } => {
                let shot = self.open()?;
                let edit = match (
                    find_insert(&shot, thing),
                    shot.document().masking.masks.masks.iter().find(|m| m.name == *thing),
                ) {
                    (Ok(insert), _) => Edit::Placing(PlacingEdit::RemoveInsert { id: insert.id }),
                    (Err(_), Some(mask)) => Edit::Masking(MaskingEdit::RemoveMask { id: mask.id }),
                    (Err(unknown), None) => {
                        let document = shot.document();
                        match (document.surfacing.named(thing), holding::named(document, thing)) {
                            (_, Some(holdout)) => Edit::Holding(HoldoutEdit::RemoveHoldout { id: holdout.id }),
                            (Some(surface), None) => Edit::Surfacing(SurfacingEdit::RemoveSurface { id: surface.id }),
                            (None, None) => return Err(unknown),
                        }
                    }
                };
                self.edit(&shot, &edit)
            }
            Step::Render { out, frames } => {
                let shot = self.open()?;
                let mut hear = |done, total| tell(done, total, "rendering");
                match frames {
                    Some([first, last]) => {
                        output::stills(self.store, &shot, (*first, *last), &self.path(out), &mut hear)
                    }
                    None => output::video(self.store, &shot, &self.path(out), hear),
                }
            }
            Step::Export { format, out } => {
                let shot = self.open()?;
                let bytes = match format {
                    ExportFormat::CameraJson => output::camera_json(self.store, &shot)?,
                    ExportFormat::Gltf => output::scene_glb(self.store, &shot)?,
                };
                output::write_file(&self.path(out), &bytes)
            }
        }
    }

    fn take_in(&mut self, clip: &str, name: Option<&str>, tell: Tell) -> Result<(), EngineError> {
        let staged = import::stage(self.store, &[self.path(clip)], &mut |done, total| {
            tell((100 * done / total.max(1)) as u32, 100, "copying")
        })?;
        let taken = staged.take_in(self.store)?;
        let all = import::decode_all(self.store, &taken.shots, tell);
        if let ([_, _, ..], _) | (_, [_, ..]) = (taken.shots.as_slice(), taken.refused.as_slice()) {
            taken.shots.iter().for_each(|shot| {
                let _ = self.store.discard_shot(*shot);
            });
            let what = taken
                .refused
                .first()
                .map_or_else(|| "several clips".to_owned(), |(name, why)| format!("{name}, which is none ({why})"));
            return Err(StepError::NotOne { clip: clip.to_owned(), what }.into());
        }
        all?;
        let shot = taken.shots[0];
        if let Some(name) = name {
            self.store.rename_shot(shot, &import::shot_name_of(name))?;
        }
        self.shot = Some(shot);
        Ok(())
    }

    fn mask(&self, mask: Mask) -> Result<(), EngineError> {
        let shot = self.open()?;
        let same = shot.document().masking.masks.masks.iter().find(|m| m.name == mask.name);
        let edit = match same {
            Some(there) => Edit::Masking(MaskingEdit::ChangeMask { mask: Mask { id: there.id, ..mask } }),
            None => Edit::Masking(MaskingEdit::AddMask { mask }),
        };
        self.edit(&shot, &edit)
    }

    /// Sets what the floor, or a surface, does with what is placed.
    fn set_catch(
        &self,
        shot: &OpenShot,
        surface: Option<SurfaceId>,
        when: When,
        values: &Values,
    ) -> Result<(), EngineError> {
        let mut light = shot.document().light.clone();
        for (name, value) in values {
            if !surroundings::set_catch(&mut light, surface, when, name, value).map_err(|why| why.of(name))? {
                let all = CATCH_FIELDS.iter().map(|f| f.name).collect();
                return Err(StepError::NoFloorValue { name: name.clone(), all }.into());
            }
        }
        self.edit(shot, &Edit::Light(LightEdit::Light { light }))
    }

    fn hold_out(&self, step: &Step) -> Result<(), EngineError> {
        let Step::HoldOut { name, mask, surface, key, file, asset, of, span, values } = step else {
            return Err(EngineError::Fault);
        };
        let taken = self.shown_file(file.as_deref(), asset.as_ref())?;
        let shot = self.open()?;
        let document = shot.document();
        let wish = match (mask, surface, key, &taken) {
            (Some(mask), None, None, None) => Wish::Mask(mask_named(&shot, mask)?.id),
            (None, Some(surface), None, None) => Wish::Surface(surface_named(&shot, surface)?.id),
            (None, None, Some(key), None) => Wish::Key(key),
            (None, None, None, Some(taken)) => Wish::Matte(taken),
            _ => return Err(StepError::HeldBy.into()),
        };
        let of = of.iter().map(|thing| Ok(find_insert(&shot, thing)?.id)).collect::<Result<_, EngineError>>()?;
        let mut holdout = Holdout { name: name.clone(), of, span: *span, ..holding::first_of(document, &wish, 0)? };
        for (value, to) in values {
            if !holding::set(&mut holdout, When::At(0.0), value, to).map_err(|why| why.of(value))? {
                return Err(StepError::NoHoldoutValue { name: value.clone() }.into());
            }
        }
        let edit = match holding::named(document, name) {
            Some(there) => HoldoutEdit::ChangeHoldout { holdout: Holdout { id: there.id, ..holdout } },
            None => HoldoutEdit::AddHoldout { holdout },
        };
        self.edit(&shot, &Edit::Holding(edit))
    }

    fn track(&self, step: &Step, tell: Tell) -> Result<(), EngineError> {
        let Step::Track { density, spacing, threshold, there_and_back, channel, denoise, local_contrast, sharpen } =
            step
        else {
            return Err(EngineError::Fault);
        };
        let shot = self.open()?;
        let old = &shot.document().tracking.settings;
        let settings = TrackSettings {
            density: density.unwrap_or(old.density),
            spacing_px: spacing.unwrap_or(old.spacing_px),
            threshold: threshold.unwrap_or(old.threshold),
            direction: there_and_back
                .map_or(old.direction, |b| if b { TrackDirection::Both } else { TrackDirection::Forward }),
            picture: PictureSettings {
                channel: channel.unwrap_or(old.picture.channel),
                denoise_px: denoise.unwrap_or(old.picture.denoise_px),
                local_contrast: local_contrast.unwrap_or(old.picture.local_contrast),
                sharpen: sharpen.unwrap_or(old.picture.sharpen),
            },
            ..old.clone()
        };
        self.with_settings(shot, &Edit::Tracking(TrackingEdit::TrackSettings { settings }), |store, shot| {
            run::track(store, shot, tell)
        })
    }

    fn solve(&self, step: &Step, tell: Tell) -> Result<(), EngineError> {
        let Step::Solve { motion, lens, focal, readout, centre } = step else { return Err(EngineError::Fault) };
        let shot = self.open()?;
        let old = &shot.document().solving.settings;
        let focal_said = focal.as_deref().map(|f| if f == "found" { "" } else { f });
        let given = |text: &String| if text == "found" { "auto".to_owned() } else { text.clone() };
        let settings = SolveSettings {
            motion: motion.map_or(old.motion, |m| match m {
                Move::Found => MotionChoice::Auto,
                Move::Travels => MotionChoice::Free,
                Move::Flat => MotionChoice::Planar,
                Move::Turns => MotionChoice::Nodal,
            }),
            lens: lens.map_or(old.lens, |l| match l {
                LensKind::Found => LensChoice::Auto,
                LensKind::Fixed => LensChoice::Fixed,
                LensKind::Zoom => LensChoice::Zoom,
            }),
            focal_px: focal_said.map_or(Ok(old.focal_px), |said| focal_px(said, shot.clip.width))?,
            focal_said: focal_said.map_or_else(|| old.focal_said.clone(), |said| said.trim().to_owned()),
            focal_hint_px: shot.clip.focal_hint_px(),
            readout: readout.as_ref().map_or(Ok(old.readout), |r| given(r).parse())?,
            centre: centre.as_ref().map_or(Ok(old.centre), |c| c.parse())?,
        };
        self.with_settings(shot, &Edit::Solving(SolvingEdit::SolveSettings { settings }), |store, shot| {
            run::solve(store, shot, Begin::Afresh, tell)
        })
    }

    fn lay(&self, what: impl FnOnce(&OpenShot, &Solution) -> Result<Lay, EngineError>) -> Result<(), EngineError> {
        let shot = self.open()?;
        let solution = shot.solution(self.store)?;
        let views = || Arc::new(survey::views_of(&shot, &solution));
        let found = || survey::of_shot(self.store, &shot, &solution).map(Arc::new);
        let picture = |frame| {
            let at = shot.range().0 + frame;
            Ok(Arc::new(analyse::seen_frame(&shot.clip, at, &PictureSettings::default())?))
        };
        let ground = Ground { shot: &shot, solution: &solution, views: &views, picture: &picture, survey: &found };
        let edit = ground.edit(&what(&shot, &solution)?, self.follow)?;
        self.edit(&shot, &edit)
    }

    /// Changes a surface, by its name.
    fn change(
        &self,
        name: &str,
        how: impl FnOnce(&Surface) -> Result<SurfaceChange, EngineError>,
    ) -> Result<(), EngineError> {
        self.lay(|shot, _| {
            let surface = surface_named(shot, name)?;
            Ok(Lay::Change { surface: surface.id, change: how(surface)? })
        })
    }

    /// Sets the values of a surface: its name, its kind, and how far it is pushed along its normal.
    /// How long the shutter is open, as the angle of a turning one.
    fn set_shutter(&self, shot: &OpenShot, values: &Values) -> Result<(), EngineError> {
        for (name, value) in values {
            if name != "angle" {
                return Err(StepError::NoShutterValue { name: name.clone() }.into());
            }
            let shutter = amount(value, Measure::Angle).map_err(|why| why.of(name))? / 360.0;
            self.edit(shot, &Edit::Placing(PlacingEdit::SetShutter { shutter }))?;
        }
        Ok(())
    }

    fn set_surface(&self, name: &str, values: &Values) -> Result<(), EngineError> {
        let mut called = name.to_owned();
        for (what, value) in values {
            let text =
                || value.as_str().map(str::to_owned).ok_or_else(|| StepError::NoSurfaceValue { name: what.clone() });
            match what.as_str() {
                "name" => {
                    let name = text()?;
                    self.change(&called, |s| Ok(SurfaceChange::Rename { name: name.clone(), kind: s.kind }))?;
                    called = name;
                }
                "kind" => {
                    let kind = serde_json::from_value(value.clone())?;
                    self.change(&called, |s| Ok(SurfaceChange::Rename { name: s.name.clone(), kind }))?;
                }
                "push" => {
                    let by_m = amount(value, Measure::Length).map_err(|why| why.of(what))?;
                    self.change(&called, |_| Ok(SurfaceChange::Push { by_m }))?;
                }
                _ => return Err(StepError::NoSurfaceValue { name: what.clone() }.into()),
            }
        }
        Ok(())
    }

    fn place(&self, step: &Step) -> Result<(), EngineError> {
        let Step::Place { kind, name, text, file, asset, library, at, depth, stance, on } = step else {
            return Err(EngineError::Fault);
        };
        kinds::known(kind)?;
        let shows = match library {
            Some(item) => library::take(self.store, library::item(item)?)?.into_iter().next(),
            None => self.shown_file(file.as_deref(), asset.as_ref())?,
        };
        let shot = self.open()?;
        free(&shot, name)?;
        let (solution, document) = (shot.solution(self.store)?, shot.document());
        let pixel = Vector2::from(at.pixel);
        let here = Pixel { frame: at.frame, at: at.pixel };
        let spot = match on.as_deref() {
            None if depth.is_some() => {
                let depth_m = depth.as_ref().map_or(Ok(1.0), |d| d.value(Measure::Length))?;
                spot_put(kind, &Put::Air { depth_m }, &solution, document, here)?
            }
            Some("far") => spot_put(kind, &Put::Far, &solution, document, here)?,
            None => spot_for(kind, &solution, document, Pixel { frame: at.frame, at: at.pixel })?,
            Some("floor") => spot_on(&solution, &document.datum, None, at.frame, pixel)?,
            Some(other) => spot_on(&solution, &document.datum, Some(surface_named(&shot, other)?), at.frame, pixel)?,
        };
        let stood = self.version < AGAINST_FROM && kind == "title";
        let stance = (*stance).or(stood.then_some(Stance::Standing));
        let mut insert = insert_on((kind, shows.as_ref()), &solution, document, at.frame, &spot, stance)?;
        if let (true, InsertKind::Prop(prop)) = (self.version < GROUND_FROM, &mut insert.content) {
            prop.foot = ModelFoot::Whole;
        }
        insert.name.clone_from(name);
        if let Some(text) = text {
            let set = kinds::set_content(&mut insert.content, "text", &Value::from(text.as_str()))?;
            if !set {
                return Err(StepError::NoText { kind: kind.clone() }.into());
            }
        }
        self.can_be_shown(&shot, &insert)?;
        self.edit(&shot, &Edit::Placing(PlacingEdit::AddInsert { insert }))
    }

    /// The file that something is to show: one beside the recipe, or one that was taken in before.
    fn shown_file(&self, file: Option<&str>, asset: Option<&AssetName>) -> Result<Option<TakenAsset>, EngineError> {
        match (file, asset) {
            (Some(file), _) => {
                let path = self.path(file);
                let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
                Ok(Some(assets::take_in(self.store, &assets::with_companions(name, path), |from, to| {
                    std::fs::copy(from, to).map(|_| ())
                })?))
            }
            (None, Some(name)) => Ok(Some(assets::find(self.store, name)?)),
            (None, None) => Ok(None),
        }
    }

    /// What cannot be drawn is told now, not at the next picture.
    fn can_be_shown(&self, shot: &OpenShot, insert: &Insert) -> Result<(), EngineError> {
        let inserts = std::slice::from_ref(insert);
        let shows = ShotAssets::of(self.store, &Arc::default(), inserts, Some(shot))?;
        fennik_render::RenderScene::mesh(insert, &[], 0.0, shows.as_ref())?;
        Ok(())
    }

    fn placing(&self, edit: impl FnOnce(&OpenShot) -> Result<PlacingEdit, EngineError>) -> Result<(), EngineError> {
        let shot = self.open()?;
        let edit = edit(&shot)?;
        self.edit(&shot, &Edit::Placing(edit))
    }

    fn arrange(&self, thing: &str, frame: u32, how: &Arrange) -> Result<(), EngineError> {
        let shot = self.open()?;
        let insert = find_insert(&shot, thing)?;
        let solution = shot.solution(self.store)?;
        let shows = ShotAssets::of(self.store, &Arc::default(), std::slice::from_ref(insert), Some(&shot))?;
        let file = |name: &AssetName| assets::find(self.store, name);
        let arranging = Arranging { shot: &shot, solution: &solution, frame, file: &file, assets: shows.as_ref() };
        let insert = arranging.arrange(insert.clone(), how)?.insert;
        self.can_be_shown(&shot, &insert)?;
        self.edit(&shot, &Edit::Placing(PlacingEdit::ChangeInsert { insert }))
    }

    fn take_out(&self, thing: &str, copy: u32, name: Option<&str>) -> Result<(), EngineError> {
        let copy = copy.saturating_sub(1);
        self.placing(|shot| Ok(PlacingEdit::TakeOutCopy { id: find_insert(shot, thing)?.id, copy }))?;
        let Some(name) = name else { return Ok(()) };
        self.placing(|shot| {
            free(shot, name)?;
            let insert = shot.document().placing.inserts.last().ok_or(EngineError::Fault)?;
            Ok(PlacingEdit::ChangeInsert { insert: Insert { name: name.to_owned(), ..insert.clone() } })
        })
    }

    fn copy_to(&self, thing: &str, shot: &str) -> Result<(), EngineError> {
        let here = self.open()?;
        let insert = find_insert(&here, thing)?;
        let shots = self.store.shots()?;
        let there = shots.iter().find(|s| s.name == shot);
        let all = || shots.iter().map(|s| s.name.clone()).collect();
        let there = there.ok_or_else(|| StepError::Nothing { name: shot.to_owned(), all: all() })?;
        let other = OpenShot::load(self.store, there.id)?;
        let solution = other.document().solving.solve.map(|_| other.solution(self.store)).transpose()?;
        let insert = for_another_shot(insert, solution.as_ref(), other.document());
        self.edit(&other, &Edit::Placing(PlacingEdit::AddInsert { insert }))
    }

    fn swap(&self, thing: &str, file: Option<&str>, asset: Option<&AssetName>) -> Result<(), EngineError> {
        let shot = self.open()?;
        let mut insert = find_insert(&shot, thing)?.clone();
        let shows = self.shown_file(file, asset)?.ok_or(assets::AssetsError::Nothing)?;
        kinds::swap(&mut insert.content, &shows)?;
        self.can_be_shown(&shot, &insert)?;
        self.edit(&shot, &Edit::Placing(PlacingEdit::ChangeInsert { insert }))
    }

    fn set(&self, thing: &str, values: &Values, key: Option<(u32, Option<Ease>)>) -> Result<(), EngineError> {
        let shot = self.open()?;
        if let Ok(insert) = find_insert(&shot, thing) {
            let mut insert = insert.clone();
            for (name, value) in values {
                match key {
                    Some((frame, ease)) => kinds::set_keyed(&mut insert, f64::from(frame), name, value, ease),
                    None => kinds::set(&mut insert, 0.0, name, value),
                }
                .map_err(|why| why.of(name))?;
            }
            self.can_be_shown(&shot, &insert)?;
            return self.edit(&shot, &Edit::Placing(PlacingEdit::ChangeInsert { insert }));
        }
        let when = key.map_or(When::At(0.0), |(frame, ease)| When::Key(f64::from(frame), ease.unwrap_or_default()));
        if key.is_some() && thing == "shutter" {
            return Err(StepError::Keyed.into());
        }
        if let Some(holdout) = holding::named(shot.document(), thing) {
            let mut holdout = holdout.clone();
            for (name, value) in values {
                if key.is_some() && name != "strength" {
                    return Err(StepError::Keyed.into());
                }
                if !holding::set(&mut holdout, when, name, value).map_err(|why| why.of(name))? {
                    return Err(StepError::NoHoldoutValue { name: name.clone() }.into());
                }
            }
            return self.edit(&shot, &Edit::Holding(HoldoutEdit::ChangeHoldout { holdout }));
        }
        if let Some(surface) = shot.document().surfacing.named(thing).map(|s| s.id) {
            let (catches, others): (Values, Values) =
                values.clone().into_iter().partition(|(name, _)| CATCH_FIELDS.iter().any(|f| f.name == name));
            if key.is_some() && !others.is_empty() {
                return Err(StepError::Keyed.into());
            }
            if !catches.is_empty() {
                self.set_catch(&shot, Some(surface), when, &catches)?;
            }
            return self.set_surface(thing, &others);
        }
        if thing == "floor" {
            return self.set_catch(&shot, None, when, values);
        }
        if thing == "surroundings" {
            let mut light = shot.document().light.clone();
            let around = light.surroundings.as_mut().ok_or(StepError::NoSurroundings)?;
            for (name, value) in values {
                if !surroundings::set(around, when, name, value).map_err(|why| why.of(name))? {
                    let all = surroundings::fields().map(|f| f.name).collect();
                    return Err(StepError::NoSurroundingsValue { name: name.clone(), all }.into());
                }
            }
            return self.edit(&shot, &Edit::Light(LightEdit::Light { light }));
        }
        if thing == "shutter" {
            return self.set_shutter(&shot, values);
        }
        if thing == "lens" {
            let mut lens = shot.document().lens.clone();
            for (name, value) in values {
                if !matching::set(&mut lens, when, name, value).map_err(|why| why.of(name))? {
                    let all = matching::LENS_FIELDS.iter().map(|f| f.name).collect();
                    return Err(StepError::NoLensValue { name: name.clone(), all }.into());
                }
            }
            return self.edit(&shot, &Edit::Finish(FinishEdit::Lens { lens }));
        }
        if thing == "finish" {
            let mut finish = shot.document().finish.clone();
            for (name, value) in values {
                if !finishing::set(&mut finish, when, name, value).map_err(|why| why.of(name))? {
                    let all = finishing::fields().map(|f| f.name).collect();
                    return Err(StepError::NoFinishValue { name: name.clone(), all }.into());
                }
            }
            return self.edit(&shot, &Edit::Finish(FinishEdit::Finish { finish }));
        }
        if thing != "light" {
            return Err(find_insert(&shot, thing).err().unwrap_or(EngineError::Fault));
        }
        let mut light = shot.document().light.clone();
        for (name, value) in values {
            if !light::set(&mut light, when, name, value).map_err(|why| why.of(name))? {
                return Err(StepError::NoLightValue { name: name.clone(), all: light::names().collect() }.into());
            }
        }
        self.edit(&shot, &Edit::Light(LightEdit::Light { light }))
    }
}

/// A surface by its name.
fn surface_named<'s>(shot: &'s OpenShot, name: &str) -> Result<&'s Surface, EngineError> {
    let surfacing = &shot.document().surfacing;
    let all = || surfacing.surfaces.iter().map(|s| s.name.clone()).collect();
    Ok(surfacing.named(name).ok_or_else(|| StepError::NoSurface { name: name.to_owned(), all: all() })?)
}

/// A mask by its name.
fn mask_named<'s>(shot: &'s OpenShot, name: &str) -> Result<&'s Mask, EngineError> {
    let masks = &shot.document().masking.masks.masks;
    let all = || masks.iter().map(|m| m.name.clone()).collect();
    let found = masks.iter().find(|m| m.name == name.trim());
    Ok(found.ok_or_else(|| StepError::NoMask { name: name.to_owned(), all: all() })?)
}

/// A name must be free.
fn free(shot: &OpenShot, name: &str) -> Result<(), EngineError> {
    if find_insert(shot, name).is_ok() { Err(StepError::Taken { name: name.to_owned() }.into()) } else { Ok(()) }
}

/// A thing by its name.
fn find_insert<'s>(shot: &'s OpenShot, name: &str) -> Result<&'s Insert, EngineError> {
    let inserts = &shot.document().placing.inserts;
    let named: Vec<&Insert> = inserts.iter().filter(|i| i.shown_name() == name).collect();
    match named[..] {
        [one] => Ok(one),
        [] => {
            let all = inserts.iter().map(Insert::shown_name).chain(["light".to_owned(), "finish".to_owned()]).collect();
            Err(StepError::Nothing { name: name.to_owned(), all }.into())
        }
        _ => Err(StepError::Several { name: name.to_owned(), count: named.len() }.into()),
    }
}

fn end(place: Place) -> End {
    End::Place { frame: place.frame, pixel: place.pixel }
}

/// The solved points inside a region.
fn inside(solution: &Solution, region: &Region) -> Result<Vec<TrackId>, EngineError> {
    if region.outline.len() < 3 {
        return Err(StepError::Region { corners: region.outline.len() }.into());
    }
    let inside = points_inside(solution, region.frame, &region.outline);
    if inside.len() < 3 {
        return Err(StepError::EmptyRegion { found: inside.len(), frame: region.frame }.into());
    }
    Ok(inside)
}
