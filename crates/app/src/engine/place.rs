//! Placing by a pixel: what a person does with the pointer, and a recipe with numbers.

use super::{EngineError, kinds};
use fennik_core::camera::CameraPath;
use fennik_core::scene::{Datum, Insert, InsertId, Placement, Stance, Surface, SurfaceError, SurfaceKind, surface_at};
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

/// The surface under a pixel, in the world of the datum.
///
/// # Errors
/// A message where there is none.
pub fn surface(solution: &Solution, datum: &Datum, at: Pixel) -> Result<Surface, EngineError> {
    Ok(surface_at(solution, datum, at.frame, Vector2::from(at.at))?)
}

/// A first insert of a kind at a pixel: a readable size for its distance, turned towards the camera.
///
/// # Errors
/// A message where nothing can be placed there.
pub fn insert_at(
    kind: &str,
    solution: &Solution,
    datum: &Datum,
    at: Pixel,
    stance: Stance,
) -> Result<Insert, EngineError> {
    let surface = surface(solution, datum, at)?;
    insert_on(kind, solution, datum, at.frame, &surface, stance)
}

/// The same on a surface that is known.
///
/// # Errors
/// A message where the frame has no camera, or there is no such kind.
pub fn insert_on(
    kind: &str,
    solution: &Solution,
    datum: &Datum,
    frame: u32,
    surface: &Surface,
    stance: Stance,
) -> Result<Insert, EngineError> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let camera = path.at(frame).ok_or(SurfaceError::NoCamera { frame })?;
    let pose = camera.pose();
    let content = kinds::first_of(kind)?((surface.point - pose.centre()).norm());
    let mut placement = Placement::on(surface.point.into(), surface.normal.into(), stance);
    if surface.kind == SurfaceKind::Far {
        // Far off there is nothing to stand on; it faces the camera.
        placement.stance = Stance::Lying;
    }
    if surface.kind == SurfaceKind::Floor {
        let toward = -(pose.rotation.inverse() * Vector3::z());
        placement.set_turn_lean_deg(0.0, [toward.x.atan2(toward.z).to_degrees(), 0.0]);
    }
    Ok(Insert { id: InsertId(0), name: String::new(), content, placement, hidden: false })
}
