//! How far what lies on a plane slides against it over the clip.

use super::extent::Inside;
use super::plane::Plane;
use super::refine::{Known, refine};
use super::views::View;
use super::windows::Grid;
use nalgebra::Vector3;

/// Where windows lie.
const GRID: Grid = Grid { every: 2, finer: 1.0 };

/// What the pictures say of a plane that was laid.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Slide {
    /// How far its own texture moves against it between the frames that tell most, RMS, px of the full picture.
    pub rms_px: f64,
    /// The same for the worst twentieth.
    pub worst_px: f64,
    /// Windows that tell of it.
    pub windows: usize,
    /// How far the plane that the texture lies on leans against it, degrees.
    pub leans_deg: f64,
}

/// Looks how far the texture inside `outline` (on the plane) slides against a plane; `None` where the pictures hold
/// nothing of it.
pub fn slide(views: &[View], plane: &Plane, outline: &[Vector3<f64>]) -> Option<Slide> {
    let inside = Inside::new(plane, outline);
    let everywhere = outline.len() < 3;
    let found = refine(views, &[], plane, Known::Roughly, GRID, |p| everywhere || inside.holds(p))?;
    let mut errors: Vec<f64> = found
        .on_it
        .iter()
        .map(|&i| &found.readings[i])
        .map(|r| (plane.distance(r.place) * r.px_per_unit * views[r.view].full()).abs())
        .collect();
    errors.sort_by(f64::total_cmp);
    let n = errors.len();
    Some(Slide {
        rms_px: (errors.iter().map(|e| e * e).sum::<f64>() / n as f64).sqrt(),
        worst_px: errors[(n - 1) * 19 / 20],
        windows: n,
        leans_deg: found.plane.angle_deg(plane),
    })
}
