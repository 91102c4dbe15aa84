//! The plain clip that everything is measured and tried on, and a shot of it with one title.

use super::demo::{Reel, reel};
use super::{EngineError, ShotError};
use fennik_core::scene::{
    Datum, DatumEdit, Edit, Follow, Insert, InsertKind, LightEdit, LightNow, Placement, PlacingEdit, Stance, Title,
};
use fennik_core::solve::Solution;
use fennik_store::Store;
use nalgebra::Vector3;

/// The clip.
pub const REEL: Reel = reel!("Varrick quay", fennik_demo::QUAY_CLIP, "varrick-quay");

/// Makes a project of it in an empty data folder: untouched, and with a title that stands on the floor.
///
/// # Errors
/// [`EngineError`] when ffmpeg is missing or the disk refuses.
pub fn ensure(store: &Store) -> Result<(), EngineError> {
    if !store.shots()?.is_empty() {
        return Ok(());
    }
    let shot = REEL.take_in(store)?;
    let (datum, insert) = staging(&serde_json::from_slice(REEL.solve)?)?;
    let light = LightNow {
        bearing_deg: 37.0,
        height_deg: 46.0,
        sun: 0.85,
        ambient: 0.4,
        floor_shadow: 1.0,
        ..LightNow::default()
    }
    .into();
    for edit in [
        Edit::Datum(DatumEdit::Datum { datum, follow: Follow::Picture }),
        Edit::Light(LightEdit::Light { light }),
        Edit::Placing(PlacingEdit::AddInsert { insert }),
    ] {
        store.edit(shot, None, &edit)?;
    }
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
