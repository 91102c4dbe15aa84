//! The demo project: three finished shots of one place, each also untouched.

use super::recipe::{self, Cook, Recipe, Step};
use super::{EngineError, analyse, import};
use fennik_core::matte::Masks;
use fennik_core::scene::{AnalysisId, Edit, SolvingEdit, TrackingEdit};
use fennik_core::solve::{Solution, SolveSettings, TrackChoice, solve_camera};
use fennik_core::track::TrackSettings;
use fennik_media::{ClipInfo, Source, probe};
use fennik_store::{AnalysisKind, NewAnalysis, ShotId, Store};
use std::ops::ControlFlow;
use std::path::Path;

/// A clip with what was made of it by `fennik demo --make-analyses`.
pub struct Reel {
    /// What its file is called.
    pub file: &'static str,
    /// What its shots are called.
    pub name: &'static str,
    /// The file.
    pub clip: &'static [u8],
    /// Its track run.
    pub tracks: &'static [u8],
    /// Its solve.
    pub solve: &'static [u8],
}

macro_rules! reel {
    ($name:literal, $clip:expr, $file:literal) => {
        $crate::engine::demo::Reel {
            file: concat!($file, ".mp4"),
            name: $name,
            clip: $clip,
            tracks: include_bytes!(concat!("../../../demo/assets/", $file, ".tracks.bin")),
            solve: include_bytes!(concat!("../../../demo/assets/", $file, ".solve.json")),
        }
    };
}
pub(super) use reel;

/// The clips, and the recipes that finish them.
const REELS: [(Reel, &[u8]); 3] = [
    (
        reel!("Varrick quay", fennik_demo::BASIN_CLIP, "basin-quay"),
        include_bytes!("../../../demo/assets/basin-quay.recipe.json"),
    ),
    (
        reel!("Boathouse walk", fennik_demo::BOATHOUSE_CLIP, "basin-boathouse"),
        include_bytes!("../../../demo/assets/basin-boathouse.recipe.json"),
    ),
    (
        reel!("Lookout pan", fennik_demo::LOOKOUT_CLIP, "basin-lookout"),
        include_bytes!("../../../demo/assets/basin-lookout.recipe.json"),
    ),
];

/// Whether a clip is one of a demo project, of this version or an earlier one.
pub fn is_of_demo(store: &Store) -> Result<bool, EngineError> {
    for file in REELS.iter().map(|(reel, _)| reel.file).chain([super::plain::REEL.file]) {
        if store.has_clip_named(file)? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Makes the demo project in an empty data folder.
///
/// # Errors
/// [`EngineError`] when ffmpeg is missing or the disk refuses.
pub fn ensure(store: &Store) -> Result<(), EngineError> {
    if !store.shots()?.is_empty() {
        return Ok(());
    }
    // What the recipes show lies beside them.
    let beside = store.new_asset_folder()?;
    for (reel, _) in &REELS {
        std::fs::write(beside.path().join(reel.file), reel.clip).map_err(|why| import::ImportError::NoRoom { why })?;
    }
    for (reel, recipe) in &REELS {
        let shot = reel.take_in(store)?;
        let recipe = recipe::read(recipe).map_err(|_| EngineError::Fault)?;
        // What takes long was done before.
        let made = |step: &Step| matches!(step, Step::TakeIn { .. } | Step::Track { .. } | Step::Solve { .. });
        let steps = recipe.steps.into_iter().filter(|step| !made(step)).collect();
        Cook::new(store, beside.path(), Some(shot))
            .cook(&Recipe { steps, ..recipe }, |_, _, _, _, _| true)
            .map_err(|failed| failed.why)?;
    }
    Ok(())
}

impl Reel {
    /// Takes the clip in as two shots, the second with its analyses, and gives that one.
    ///
    /// # Errors
    /// [`EngineError`] when ffmpeg is missing or the disk refuses.
    pub fn take_in(&self, store: &Store) -> Result<ShotId, EngineError> {
        let folder = store.new_clip_folder()?;
        std::fs::write(folder.path().join("clip.mp4"), self.clip).map_err(|why| import::ImportError::NoRoom { why })?;
        let mut info = probe(&Source::Video(folder.path().join("clip.mp4")))?;
        info.source = Source::Video("clip.mp4".into());
        let clip = store.add_clip_in(folder, self.file, &serde_json::to_string(&info)?, info.frames)?;
        import::add_shot(store, clip, &format!("{}, untouched", self.name), info.frames)?;
        let shot = import::add_shot(store, clip, &format!("{}, finished", self.name), info.frames)?;
        let solution: Solution = serde_json::from_slice(self.solve)?;
        let trim = store.shot(shot)?.head.document.trim;
        let keep = |kind, source, reading: &str, bytes| -> Result<AnalysisId, EngineError> {
            Ok(store.add_analysis(shot, &NewAnalysis { kind, settings: "{}", reading, source, trim, bytes })?)
        };
        let tracks = keep(AnalysisKind::Tracks, None, "", self.tracks)?;
        store.edit(shot, None, &Edit::Tracking(TrackingEdit::UseTracks { analysis: tracks }))?;
        let analysis = keep(AnalysisKind::Solve, Some(tracks), &analyse::reading(&solution), self.solve)?;
        let used = SolvingEdit::UseSolve { analysis, new_from_old: None, fit: None, outline: Vec::new() };
        store.edit(shot, None, &Edit::Solving(used))?;
        Ok(shot)
    }

    /// Tracks and solves the clip and writes both to a folder.
    fn analyse(&self, folder: &Path) -> Result<(), EngineError> {
        let failed = |why| import::ImportError::Unread { path: folder.to_owned(), why };
        let path = folder.join(self.file);
        if !path.exists() {
            std::fs::write(&path, self.clip).map_err(failed)?;
        }
        let clip = ClipInfo::open(&path, folder)?;
        let tracks = analyse::track(&clip, (0, clip.frames), &TrackSettings::default(), Masks::default(), |_, _| true)?;
        let solution =
            solve_camera(&tracks, &TrackChoice::default(), &SolveSettings::default(), |_| ControlFlow::Continue(()))?;
        std::fs::write(path.with_extension("tracks.bin"), tracks.to_bytes()).map_err(failed)?;
        Ok(std::fs::write(path.with_extension("solve.json"), serde_json::to_vec(&solution)?).map_err(failed)?)
    }
}

/// Tracks and solves all clips that ship, and writes what comes of it to a folder.
///
/// # Errors
/// [`EngineError`] when anything of it goes wrong.
pub fn make_analyses(folder: &Path) -> Result<(), EngineError> {
    std::iter::once(&super::plain::REEL).chain(REELS.iter().map(|(reel, _)| reel)).try_for_each(|r| r.analyse(folder))
}
