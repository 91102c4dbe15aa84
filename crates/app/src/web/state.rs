//! What every handler may use.

use super::picture;
use crate::engine::assets::{AssetFiles, ShotAssets};
use crate::engine::compose::Composer;
use crate::engine::laying::Ground;
use crate::engine::readings::{DatumReadings, readings};
use crate::engine::{EngineError, OpenShot, analyse, read_tracks, survey};
use crate::jobs::Jobs;
use fennik_core::image::{PictureSettings, Plane};
use fennik_core::scene::{AnalysisId, Insert, ShotDocument};
use fennik_core::solve::Solution;
use fennik_core::survey::{Survey, View};
use fennik_core::track::TrackSet;
use fennik_render::{Assets, ShapeCache};
use fennik_store::{ClipId, ShotId, Store};
use std::collections::HashMap;
use std::sync::atomic::AtomicUsize;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// A frame as the tracker sees it, and what it was made of.
struct Seen {
    of: (ClipId, u32, PictureSettings),
    plane: Arc<Plane>,
}

/// What a page shows: the stamp of each of its parts.
pub type Shown = HashMap<String, String>;

/// Draws the parts of a shot's page that look otherwise than it shows them.
pub type Draw = fn(&AppState, ShotId, &Shown) -> Result<String, EngineError>;

/// What every handler may use.
pub struct AppState {
    pub(super) draw: Draw,
    pub(super) store: Arc<Store>,
    pub(super) jobs: Arc<Jobs>,
    solution: Mutex<Option<(AnalysisId, Arc<Solution>)>>,
    tracks: Mutex<Option<(AnalysisId, Arc<TrackSet>)>>,
    survey: Mutex<Option<(AnalysisId, Arc<Survey>)>>,
    /// The pictures of the solve in use, under all that they are made of.
    views: Mutex<Option<(String, Arc<Vec<View>>)>>,
    readings: Mutex<Option<(String, Arc<DatumReadings>)>>,
    scene: Mutex<Option<(String, Arc<Composer>)>>,
    pub(super) shapes: ShapeCache,
    /// What inserts show, as far as it was shown.
    pub(super) files: Arc<AssetFiles>,
    pub(super) pictures: picture::Cache,
    pub(super) plates: crate::engine::picture::Plates,
    seen: Mutex<Option<Seen>>,
    /// Those who decode a frame for a look take turns; whoever asks for what is there already does not wait for them.
    looking: Mutex<()>,
    pub(super) listeners: Arc<AtomicUsize>,
}

/// A lock of something that a panic leaves whole.
fn held<T>(slot: &Mutex<T>) -> MutexGuard<'_, T> {
    slot.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What stands under a key, made once for as long as it is the same; none is kept of what could not be made.
fn once<K: PartialEq, V: Clone>(
    slot: &Mutex<Option<(K, V)>>,
    key: K,
    make: impl FnOnce() -> Result<V, EngineError>,
) -> Result<V, EngineError> {
    if let Some((_, value)) = held(slot).as_ref().filter(|(kept, _)| *kept == key) {
        return Ok(value.clone());
    }
    let value = make()?;
    *held(slot) = Some((key, value.clone()));
    Ok(value)
}

impl AppState {
    pub(super) fn new(store: Arc<Store>, jobs: Arc<Jobs>, draw: Draw) -> Self {
        Self {
            draw,
            store,
            jobs,
            solution: Mutex::new(None),
            tracks: Mutex::new(None),
            survey: Mutex::new(None),
            views: Mutex::new(None),
            readings: Mutex::new(None),
            scene: Mutex::new(None),
            shapes: ShapeCache::default(),
            files: Arc::default(),
            pictures: picture::Cache::default(),
            plates: crate::engine::picture::Plates::default(),
            seen: Mutex::new(None),
            looking: Mutex::new(()),
            listeners: Arc::default(),
        }
    }

    pub(super) fn open(&self, id: ShotId) -> Result<OpenShot, EngineError> {
        OpenShot::load(&self.store, id)
    }

    /// The solve in use, read once.
    pub(super) fn solution(&self, shot: &OpenShot) -> Result<Arc<Solution>, EngineError> {
        let read = || Ok(Arc::new(shot.solution(&self.store)?));
        match shot.document().solving.solve {
            Some(id) => once(&self.solution, id, read),
            None => read(),
        }
    }

    /// The track run in use, read once; `None` where there is none.
    pub(super) fn tracks(&self, shot: &OpenShot) -> Result<Option<Arc<TrackSet>>, EngineError> {
        let Some(id) = shot.document().tracking.run else { return Ok(None) };
        once(&self.tracks, id, || Ok(Arc::new(read_tracks(&self.store, id)?))).map(Some)
    }

    /// What was found of the scene in the solve in use, read or looked for once.
    pub(super) fn survey(&self, shot: &OpenShot) -> Result<Arc<Survey>, EngineError> {
        let solution = self.solution(shot)?;
        let find = || Ok(Arc::new(survey::of_shot(&self.store, shot, &solution)?));
        match shot.document().solving.solve {
            Some(id) => once(&self.survey, id, find),
            None => find(),
        }
    }

    /// Pictures of the solve in use, with their cameras.
    pub(super) fn views(&self, shot: &OpenShot, solution: &Solution) -> Arc<Vec<View>> {
        let document = shot.document();
        let masks = serde_json::to_string(&document.masking.masks).unwrap_or_default();
        let key = format!("{:?} {:?} {masks}", document.solving.solve, document.trim);
        let make = || Ok(Arc::new(survey::views_of(shot, solution)));
        once(&self.views, key, make).unwrap_or_default()
    }

    /// How good the datum in use is, looked at once.
    pub(super) fn datum_readings(
        &self,
        shot: &OpenShot,
        solution: &Solution,
    ) -> Result<Arc<DatumReadings>, EngineError> {
        let document = shot.document();
        let datum = serde_json::to_string(&document.datum)?;
        let key = format!("{:?} {datum}", document.solving.solve);
        once(&self.readings, key, || Ok(Arc::new(readings(&document.datum, solution, &self.views(shot, solution)))))
    }

    /// The shot as it is laid.
    pub(super) fn laid<T>(
        &self,
        shot: &OpenShot,
        work: impl FnOnce(&Ground) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        let solution = self.solution(shot)?;
        let (views, survey) = (|| self.views(shot, &solution), || self.survey(shot));
        let picture = |frame| self.seen(shot, frame, &PictureSettings::default());
        work(&Ground { shot, solution: &solution, views: &views, picture: &picture, survey: &survey })
    }

    /// A frame of the trimmed clip as the tracker sees it; the last one is kept, so that values may move over it.
    pub(super) fn seen(
        &self,
        shot: &OpenShot,
        frame: u32,
        picture: &PictureSettings,
    ) -> Result<Arc<Plane>, EngineError> {
        let (first, end) = shot.range();
        let (clip, at) = (shot.state.shot.clip, (first + frame).min(end.saturating_sub(1)));
        let of = (clip, at, *picture);
        let there = || held(&self.seen).as_ref().filter(|s| s.of == of).map(|s| s.plane.clone());
        if let Some(plane) = there() {
            return Ok(plane);
        }
        let _turn = held(&self.looking);
        // Whoever had the turn before may have looked at the same.
        if let Some(plane) = there() {
            return Ok(plane);
        }
        let plane = Arc::new(analyse::seen_frame(&shot.clip, at, picture)?);
        *held(&self.seen) = Some(Seen { of, plane: plane.clone() });
        Ok(plane)
    }

    /// What inserts of a shot show.
    pub(super) fn assets(&self, shot: &OpenShot, inserts: &[Insert]) -> Result<Arc<dyn Assets>, EngineError> {
        ShotAssets::of(&self.store, &self.files, inserts, Some(shot))
    }

    /// What makes the frames of a document of a shot.
    pub(super) fn composer_of(&self, shot: &OpenShot, document: ShotDocument) -> Result<Composer, EngineError> {
        let solution = document.solving.solve.map(|_| self.solution(shot)).transpose()?;
        Composer::new(&self.store, (&self.files, &self.shapes), shot, document, solution)
    }

    /// What makes the frames of the head, built once for as long as nothing of it changes. `key` is that of the picture.
    pub(super) fn composer(&self, shot: &OpenShot, key: &str) -> Result<Arc<Composer>, EngineError> {
        let mut slot = held(&self.scene);
        if let Some((_, scene)) = slot.as_ref().filter(|(kept, _)| kept == key) {
            return Ok(scene.clone());
        }
        let scene = Arc::new(self.composer_of(shot, shot.document().clone())?);
        *slot = Some((key.to_owned(), scene.clone()));
        Ok(scene)
    }
}
