//! Placing by a pixel: what a person does with the pointer, and a recipe with numbers.

use super::{EngineError, kinds};
use fennik_core::camera::CameraPath;
use fennik_core::scene::{Insert, InsertId, Placement, ShotDocument, Spot, SpotError, SpotKind, Stance, spot_at};
use fennik_core::solve::Solution;
use nalgebra::{Vector2, Vector3};

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

/// A first insert of a kind at a pixel: a readable size for its distance, turned towards the camera.
///
/// # Errors
/// A message where nothing can be placed there.
pub fn insert_at(
    kind: &str,
    solution: &Solution,
    document: &ShotDocument,
    at: Pixel,
    stance: Stance,
) -> Result<Insert, EngineError> {
    let spot = spot(solution, document, at)?;
    insert_on(kind, solution, document, at.frame, &spot, stance)
}

/// The same at a place that is known.
///
/// # Errors
/// A message where the frame has no camera, or there is no such kind.
pub fn insert_on(
    kind: &str,
    solution: &Solution,
    document: &ShotDocument,
    frame: u32,
    spot: &Spot,
    stance: Stance,
) -> Result<Insert, EngineError> {
    let path = CameraPath::new(solution, &document.datum.world_from_solve);
    let camera = path.at(frame).ok_or(SpotError::NoCamera { frame })?;
    let pose = camera.pose();
    let content = kinds::first_of(kind)?((spot.point - pose.centre()).norm());
    let mut placement = Placement::on(spot.point.into(), spot.normal.into(), stance);
    if spot.kind == SpotKind::Far {
        // Far off there is nothing to stand on; it faces the camera.
        placement.stance = Stance::Lying;
    }
    if spot.kind == SpotKind::Floor {
        let toward = -(pose.rotation.inverse() * Vector3::z());
        placement.set_turn_lean_deg(0.0, [toward.x.atan2(toward.z).to_degrees(), 0.0]);
    }
    Ok(Insert { id: InsertId(0), name: String::new(), content, placement, hidden: false })
}
