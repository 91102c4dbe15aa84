//! Placing by a pixel: what a person does with the pointer, and a recipe with numbers.

use super::assets::TakenAsset;
use super::{EngineError, kinds};
use fennik_core::camera::CameraPath;
use fennik_core::scene::{
    Blend, Facing, Insert, InsertKind, Keyed, Placement, ShotDocument, Spot, SpotError, SpotKind, Stance, spot_at,
    spot_far,
};
use fennik_core::solve::Solution;
use nalgebra::{Vector2, Vector3};

/// The upright part of a normal below which a surface is a wall.
const STEEP: f64 = 0.5;

/// A place on the picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pixel {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// Full-resolution px.
    pub at: [f64; 2],
}

/// What lies under a pixel, in the world of the datum.
///
/// # Errors
/// A message where there is nothing.
pub fn spot(solution: &Solution, document: &ShotDocument, at: Pixel) -> Result<Spot, EngineError> {
    let surfaces = &document.surfacing.surfaces;
    Ok(spot_at(solution, &document.datum, surfaces, at.frame, Vector2::from(at.at))?)
}

/// Where a kind would go that is placed at a pixel: what is far away needs no surface.
///
/// # Errors
/// A message where there is nothing.
pub fn spot_for(kind: &str, solution: &Solution, document: &ShotDocument, at: Pixel) -> Result<Spot, EngineError> {
    if kind == kinds::BACKDROP {
        return Ok(spot_far(solution, &document.datum, at.frame, Vector2::from(at.at))?);
    }
    spot(solution, document, at)
}

/// A first insert of a kind at a pixel: a readable size for its distance, turned towards the camera.
///
/// # Errors
/// A message where nothing can be placed there.
pub fn insert_at(
    kind: &str,
    shows: Option<&TakenAsset>,
    solution: &Solution,
    document: &ShotDocument,
    at: Pixel,
    stance: Option<Stance>,
) -> Result<Insert, EngineError> {
    let spot = spot_for(kind, solution, document, at)?;
    insert_on((kind, shows), solution, document, at.frame, &spot, stance)
}

/// The same at a place that is known.
///
/// # Errors
/// A message where the frame has no camera, or there is no such kind.
pub fn insert_on(
    (kind, shows): (&str, Option<&TakenAsset>),
    solution: &Solution,
    document: &ShotDocument,
    frame: u32,
    spot: &Spot,
    stance: Option<Stance>,
) -> Result<Insert, EngineError> {
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let camera = path.at(frame).ok_or(SpotError::NoCamera { frame })?;
    let pose = camera.pose();
    let away = spot.point - pose.centre();
    let toward = away.try_normalize(1e-9).unwrap_or_else(|| -Vector3::z());
    let content = kinds::first_of(&kinds::Wish { kind, shows, distance_m: away.norm(), toward, frame })?;
    // On a wall a picture lies flat and a thing stands upright; on the ground both stand.
    let stance = stance.unwrap_or(if spot.normal.y.abs() < STEEP && content.is_flat() {
        Stance::Lying
    } else {
        Stance::Standing
    });
    let mut placement = Placement::on(spot.point.into(), spot.normal.into(), stance);
    if spot.kind == SpotKind::Far {
        // Far off there is nothing to stand on; it faces the camera.
        placement.stance = Stance::Lying;
    }
    if spot.kind == SpotKind::Floor {
        let toward = -(pose.rotation.inverse() * Vector3::z());
        placement.set_turn_lean_deg(0.0, [toward.x.atan2(toward.z).to_degrees(), 0.0]);
    }
    if matches!(content, InsertKind::Effect(_)) {
        placement.facing = Facing::Upright;
    }
    // Black is let go by its key, so that light is added to what lies behind.
    let adds = matches!(&content, InsertKind::Effect(e) if e.key.by == Keyed::Black);
    let blend = if adds { Blend::Screen } else { Blend::Normal };
    Ok(Insert { blend, ..Insert::new(content, placement) })
}
