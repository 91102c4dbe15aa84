//! A plane through points that a person chose.

use super::cloud::{CloudPoint, cloud_of};
use super::extent::{Inside, hull};
use super::find::{FoundPlane, PlaneKind, of_points, of_refined};
use super::plane::{Plane, fit_weighted};
use super::refine::{Known, grid_for, refine};
use super::views::View;
use crate::random::SplitMix64;
use crate::solve::{Motion, Solution};
use crate::track::TrackId;
use nalgebra::Vector3;

/// Draws of three points in the search for the plane of most.
const DRAWS: usize = 300;
/// Deviations from the plane of the others beyond which a point is left out.
const BELONGS: f64 = 3.0;
/// Beyond this a normal is not known, degrees.
const MOST_LOOSE_DEG: f64 = 8.0;
/// How far the outline of the points is grown before the picture is asked, of the distance to the camera.
const GROWN: f64 = 0.02;
/// Part of the windows that must lie on the plane for the picture to have its say.
const SHARE: f64 = 0.25;
/// Points from which some may be left out.
const FEWEST_TO_CHOOSE: usize = 5;

/// Why no plane can be laid through the points.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum PlaneError {
    /// There are no depths.
    #[error(
        "the camera turns on the spot, which gives directions and no depths: no plane can be laid through points. Give \
            the camera's height over the ground instead, or place things far away"
    )]
    Nodal,
    /// A plane needs three points.
    #[error("a plane needs at least 3 solved points; {found} are selected{}", more(*frame))]
    TooFew {
        /// How many there are.
        found: usize,
        /// A frame on which more are seen.
        frame: Option<u32>,
    },
    /// A plane through a line can lean any way.
    #[error("the selected points lie on a line, about which a plane could lean any way; add one beside it")]
    OnALine,
    /// So near each other that the plane could lean.
    #[error(
        "the selected points tell the tilt to {deviation_deg:.0} deg only: they lie too close together or are known too \
            loosely. Add points farther apart{}", more(*frame)
    )]
    Loose {
        /// How far it may lean, degrees.
        deviation_deg: f64,
        /// A frame on which more are seen.
        frame: Option<u32>,
    },
}

fn more(frame: Option<u32>) -> String {
    frame.map_or_else(String::new, |f| format!("; on frame {f} most points are seen"))
}

/// A plane through chosen points.
#[derive(Debug, Clone)]
pub struct ByPoints {
    /// The plane; its points are those that lie on it.
    pub found: FoundPlane,
    /// Chosen points that lie off it and were left out.
    pub left_out: Vec<TrackId>,
}

/// The plane through most of the given points, each weighed by how firmly it is known, then adjusted to the pictures
/// inside their outline. `views` may be empty. `up` says which way an outline is drawn.
///
/// # Errors
/// [`PlaneError`] says what is missing.
pub fn plane_through(
    solution: &Solution,
    views: &[View],
    ids: &[TrackId],
    kind: PlaneKind,
    up: Option<&Vector3<f64>>,
) -> Result<ByPoints, PlaneError> {
    if solution.motion == Motion::Nodal {
        return Err(PlaneError::Nodal);
    }
    let mut ids = ids.to_vec();
    ids.sort_unstable();
    ids.dedup();
    let chosen = cloud_of(solution, |id| ids.binary_search(&id).is_ok());
    let busiest = solution.frames.iter().max_by_key(|f| f.points).map(|f| f.frame);
    if chosen.len() < 3 {
        return Err(PlaneError::TooFew { found: chosen.len(), frame: busiest });
    }
    let start = most(&chosen).ok_or(PlaneError::OnALine)?;
    let (mut plane, mut on_it) = (start, chosen.iter().collect::<Vec<_>>());
    for _ in 0..4 {
        if chosen.len() >= FEWEST_TO_CHOOSE {
            on_it = chosen.iter().filter(|p| lies_on(p, &plane)).collect();
        }
        let weighed = on_it.iter().map(|p| (p.position, p.deviation(&plane.normal).powi(-2)));
        plane = fit_weighted(weighed).ok_or(PlaneError::OnALine)?;
    }
    let eyes = solution.centres();
    let eye = eyes.iter().sum::<Vector3<f64>>() / eyes.len().max(1) as f64;
    let plane = plane.facing(eye);
    let by_points = of_points(plane, kind, &on_it, up);
    let depth = on_it.iter().map(|p| p.depth).sum::<f64>() / on_it.len() as f64;
    let places: Vec<Vector3<f64>> = on_it.iter().map(|p| plane.foot(p.position)).collect();
    let inside = Inside::new(&plane, &hull(&plane, &places, GROWN * depth, up));
    let grid = grid_for(views, &plane, |p| inside.holds(p));
    let refined = refine(views, &on_it, &plane, Known::Roughly, grid, |p| inside.holds(p))
        .filter(|r| r.on_it.len() as f64 >= SHARE * r.readings.len() as f64);
    let mut found = match refined {
        Some(r) => of_refined(views, &r, kind, up, eye),
        None => by_points,
    };
    if found.normal_deviation_deg > MOST_LOOSE_DEG {
        return Err(PlaneError::Loose { deviation_deg: found.normal_deviation_deg.min(90.0), frame: busiest });
    }
    found.points = on_it.iter().map(|p| p.id).collect();
    found.points.sort_unstable();
    let left_out = ids.into_iter().filter(|id| found.points.binary_search(id).is_err()).collect();
    Ok(ByPoints { found, left_out })
}

fn lies_on(p: &CloudPoint, plane: &Plane) -> bool {
    plane.distance(p.position).abs() < BELONGS * p.deviation(&plane.normal)
}

/// The plane that most points lie on.
fn most(points: &[CloudPoint]) -> Option<Plane> {
    let all = || fit_weighted(points.iter().map(|p| (p.position, 1.0)));
    if points.len() < FEWEST_TO_CHOOSE {
        return all();
    }
    let score = |plane: &Plane| -> f64 {
        let near = |p: &CloudPoint| {
            let x = plane.distance(p.position) / (BELONGS * p.deviation(&plane.normal));
            (1.0 - x * x).max(0.0)
        };
        points.iter().map(near).sum()
    };
    let mut random = SplitMix64::new(31);
    let mut best = all().map(|p| (score(&p), p));
    for _ in 0..DRAWS {
        let pick = random.distinct::<3>(points.len())?;
        let Some(plane) = fit_weighted(pick.into_iter().map(|i| (points[i].position, 1.0))) else { continue };
        let found = score(&plane);
        if best.is_none_or(|b| found > b.0) {
            best = Some((found, plane));
        }
    }
    best.map(|b| b.1)
}
