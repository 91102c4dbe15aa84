//! The demo project: one finished shot, and the same clip untouched.

use super::{EngineError, ShotError, analyse, import};
use fennik_core::matte::Masks;
use fennik_core::scene::{
    AnalysisId, Datum, DatumEdit, Edit, Follow, Insert, InsertKind, LightEdit, LightNow, Placement, PlacingEdit,
    SolvingEdit, Stance, Title, TrackingEdit,
};
use fennik_core::solve::{Solution, SolveSettings, TrackChoice, solve_camera};
use fennik_core::track::TrackSettings;
use fennik_media::{ClipInfo, Source, probe};
use fennik_store::{AnalysisKind, NewAnalysis, Store};
use nalgebra::Vector3;
use std::ops::ControlFlow;
use std::path::Path;

/// The track run and the solve of the demo clip, made by `fennik demo --make-analyses`.
pub const TRACKS: &[u8] = include_bytes!("../../../demo/assets/varrick-quay.tracks.bin");
/// See [`TRACKS`].
pub const SOLVE: &[u8] = include_bytes!("../../../demo/assets/varrick-quay.solve.json");

/// What the demo clip is called.
pub const CLIP_NAME: &str = "varrick-quay.mp4";

/// Makes the demo project in an empty data folder.
///
/// # Errors
/// [`EngineError`] when ffmpeg is missing or the disk refuses.
pub fn ensure(store: &Store) -> Result<(), EngineError> {
    if !store.shots()?.is_empty() {
        return Ok(());
    }
    let folder = store.new_clip_folder()?;
    std::fs::write(folder.path().join("clip.mp4"), fennik_demo::QUAY_CLIP)
        .map_err(|why| import::ImportError::NoRoom { why })?;
    let mut info = probe(&Source::Video(folder.path().join("clip.mp4")))?;
    info.source = Source::Video("clip.mp4".into());
    let json = serde_json::to_string(&info)?;
    let clip = store.add_clip_in(folder, CLIP_NAME, &json, info.frames)?;
    import::add_shot(store, clip, "Varrick quay, untouched", info.frames)?;
    let shot = import::add_shot(store, clip, "Varrick quay, finished", info.frames)?;
    let solution: Solution = serde_json::from_slice(SOLVE)?;
    let trim = store.shot(shot)?.head.document.trim;
    let keep = |kind, source, reading: &str, bytes| -> Result<AnalysisId, EngineError> {
        Ok(store.add_analysis(shot, &NewAnalysis { kind, settings: "{}", reading, source, trim, bytes })?)
    };
    let tracks = keep(AnalysisKind::Tracks, None, "", TRACKS)?;
    store.edit(shot, None, &Edit::Tracking(TrackingEdit::UseTracks { analysis: tracks }))?;
    let solve = keep(AnalysisKind::Solve, Some(tracks), &analyse::reading(&solution), SOLVE)?;
    store.edit(
        shot,
        None,
        &Edit::Solving(SolvingEdit::UseSolve { analysis: solve, new_from_old: None, fit: None, outline: Vec::new() }),
    )?;
    let (datum, insert) = staging(&solution)?;
    store.edit(shot, None, &Edit::Datum(DatumEdit::Datum { datum, follow: Follow::Picture }))?;
    store.edit(
        shot,
        None,
        &Edit::Light(LightEdit::Light {
            light: LightNow { bearing_deg: 37.0, height_deg: 46.0, sun: 0.85, ambient: 0.4, floor_shadow: 1.0 }.into(),
        }),
    )?;
    store.edit(shot, None, &Edit::Placing(PlacingEdit::AddInsert { insert }))?;
    Ok(())
}

/// The floor that Fennik finds by itself, in metres by the drone's known height, and a title on it.
///
/// # Errors
/// [`EngineError`] when no floor stands out.
pub fn staging(solution: &Solution) -> Result<(Datum, Insert), EngineError> {
    let found = fennik_core::survey::survey(solution, &[]);
    let fit = found.floors.first().ok_or(ShotError::NoFloor { why: super::laying::why_no_floor(&found) })?;
    let mut datum = Datum::default().with_floor(solution, fit, None);
    let first = solution.frames.first().ok_or(ShotError::NoCamera)?;
    // The flight log of the made-up drone says 8.4 m at take-off.
    let height = datum.world_from_solve.point(first.pose.centre()).y;
    datum = datum.with_distance(
        first.pose.centre(),
        first.pose.centre() - fit.plane.normal * (height / datum.world_from_solve.scale),
        8.4,
    )?;
    // The title stands on the gravel where the middle of the picture meets it half-way through.
    let middle = &solution.frames[solution.frames.len() / 2];
    let pose = datum.world_from_solve.pose(&middle.pose);
    let aim = pose.rotation.inverse() * Vector3::new(-0.05, 0.16, 1.0);
    let foot = pose.centre() - aim * (pose.centre().y / aim.y);
    let back = pose.centre() - foot;
    let title = Title {
        lettering: fennik_core::scene::Lettering::default(),
        text: "VARRICK".into(),
        font: "League Spartan Bold".into(),
        height_m: 1.1,
        depth_m: 0.32,
        bevel_m: 0.03,
        colour: [233, 196, 84],
    };
    let mut placement = Placement::on([foot.x, 0.0, foot.z], [0.0, 1.0, 0.0], Stance::Standing);
    placement.set_turn_lean_deg(0.0, [back.x.atan2(back.z).to_degrees(), 0.0]);
    Ok((datum, Insert { name: "Varrick".into(), ..Insert::new(InsertKind::Title(title), placement) }))
}

/// Tracks and solves the demo clip and writes both to a folder.
///
/// # Errors
/// [`EngineError`] when anything of it goes wrong.
pub fn make_analyses(folder: &Path) -> Result<(), EngineError> {
    let failed = |why| import::ImportError::Unread { path: folder.to_owned(), why };
    let path = folder.join("varrick-quay.mp4");
    std::fs::write(&path, fennik_demo::QUAY_CLIP).map_err(failed)?;
    let clip = ClipInfo::open(&path, folder)?;
    let tracks = analyse::track(&clip, (0, clip.frames), &TrackSettings::default(), Masks::default(), |_, _| true)?;
    let solution =
        solve_camera(&tracks, &TrackChoice::default(), &SolveSettings::default(), |_| ControlFlow::Continue(()))?;
    std::fs::write(folder.join("varrick-quay.tracks.bin"), tracks.to_bytes()).map_err(failed)?;
    Ok(std::fs::write(folder.join("varrick-quay.solve.json"), serde_json::to_vec(&solution)?).map_err(failed)?)
}
