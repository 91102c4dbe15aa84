//! Flat surfaces under a pixel.

use super::Datum;
use crate::camera::{Camera, CameraPath, Ray};
use crate::random::SplitMix64;
use crate::solve::{Motion, Solution};
use nalgebra::{Matrix3, Vector2, Vector3};
use serde::{Deserialize, Serialize};

/// Points that a local surface is fitted to, at least and at most.
const FEWEST: usize = 6;
const MOST: usize = 28;
/// Radius round the pixel in which points are looked for, of the picture's width.
const RADIUS: f64 = 0.085;
/// Distance from the plane, px, within which a point belongs to it.
const BELONGS_PX: f64 = 2.0;

/// Distance at which things are placed for a camera that only turns, world units. Any would look the same.
pub const FAR_M: f64 = 100.0;

/// What a surface is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SurfaceKind {
    /// The floor of the datum.
    Floor,
    /// Upright.
    Wall,
    /// Any other.
    Slope,
    /// No surface: a place far off, for a camera that only turns.
    Far,
}

/// A flat surface under a pixel, in the world of the datum.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Surface {
    /// Which kind.
    pub kind: SurfaceKind,
    /// Where the pixel's ray meets it.
    pub point: Vector3<f64>,
    /// Unit normal, towards the camera.
    pub normal: Vector3<f64>,
    /// Angle between the normal and the world's up, degrees.
    pub tilt_deg: f64,
    /// RMS distance of its points, px.
    pub fit_px: f64,
    /// Points used.
    pub points: usize,
}

/// The plane nearest to points in the least-squares sense: a point on it and its unit normal. `None`
/// for fewer than three points or points on a line.
pub fn fit_plane(points: &[Vector3<f64>]) -> Option<(Vector3<f64>, Vector3<f64>)> {
    if points.len() < 3 {
        return None;
    }
    let mean: Vector3<f64> = points.iter().sum::<Vector3<f64>>() / points.len() as f64;
    let spread = points.iter().fold(Matrix3::zeros(), |m, p| m + (p - mean) * (p - mean).transpose());
    let eigen = spread.try_symmetric_eigen(1e-14, 200)?;
    let mut order = [0, 1, 2];
    order.sort_by(|&a, &b| eigen.eigenvalues[a].total_cmp(&eigen.eigenvalues[b]));
    // On a line the two smaller spreads are both nothing beside the largest.
    if eigen.eigenvalues[order[1]] <= 1e-8 * eigen.eigenvalues[order[2]] {
        return None;
    }
    Some((mean, eigen.eigenvectors.column(order[0]).normalize()))
}

/// Distance in px by which a point's image moves when it is put onto a plane; `None` behind the camera.
pub(super) fn plane_error_px(
    camera: &Camera,
    point: Vector3<f64>,
    on: Vector3<f64>,
    normal: Vector3<f64>,
) -> Option<f64> {
    let foot = point - normal * normal.dot(&(point - on));
    Some((camera.project(point)? - camera.project(foot)?).norm())
}

/// Where a ray meets a plane in front of the camera.
fn intersect(ray: &Ray, on: Vector3<f64>, normal: Vector3<f64>) -> Option<Vector3<f64>> {
    let along = normal.dot(&ray.along);
    let distance = normal.dot(&(on - ray.from)) / along;
    (along.abs() > 1e-9 && distance > 1e-9 && distance.is_finite()).then(|| ray.from + ray.along * distance)
}

/// Why there is no surface at a pixel.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SurfaceError {
    /// Nothing is known of the frame.
    #[error("frame {frame} has no camera")]
    NoCamera {
        /// Of the trimmed clip.
        frame: u32,
    },
    /// Neither a floor nor points enough.
    #[error("{found} points near here; lay the floor first, or point where there are more")]
    TooFew {
        /// Points near the pixel.
        found: usize,
    },
    /// The floor is not seen there.
    #[error("above the horizon of the floor, and too few points here for a surface")]
    AboveHorizon,
    /// There is no floor to ask for.
    #[error("no floor is laid yet; lay it first")]
    NoFloor,
    /// The floor that was asked for is not seen there.
    #[error("pixel {x:.0}, {y:.0} of frame {frame} looks above the horizon of the floor")]
    PixelAboveHorizon {
        /// Pixel.
        x: f64,
        /// Pixel.
        y: f64,
        /// Of the trimmed clip.
        frame: u32,
    },
}

/// The surface that would be used at a pixel of a frame: the floor where the points round the pixel
/// lie on it (or where there is nothing else), else the plane through those points. A camera that only turns gets a
/// place on a far sphere.
///
/// # Errors
/// [`SurfaceError`] says what is missing.
pub fn surface_at(
    solution: &Solution,
    datum: &Datum,
    frame: u32,
    pixel: Vector2<f64>,
) -> Result<Surface, SurfaceError> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let none = || SurfaceError::NoCamera { frame };
    let (solved, camera) = (solution.at(frame).ok_or_else(none)?, path.at(frame).ok_or_else(none)?);
    let sight = camera.ray(pixel);
    let ray = sight.along;
    if solution.motion == Motion::Nodal {
        let normal = -ray;
        let tilt_deg = normal.y.clamp(-1.0, 1.0).acos().to_degrees();
        let point = sight.from + ray * FAR_M;
        return Ok(Surface {
            kind: SurfaceKind::Far,
            point,
            normal,
            tilt_deg,
            fit_px: solved.rms_px,
            points: solved.points as usize,
        });
    }
    let reach = RADIUS * f64::from(solution.width);
    let mut near: Vec<(f64, Vector3<f64>)> = solution
        .points
        .iter()
        .filter(|p| p.first_frame <= frame && frame <= p.last_frame)
        .filter_map(|p| {
            let world = path.point(p.position);
            let distance = (camera.project(world)? - pixel).norm();
            (distance < reach).then_some((distance, world))
        })
        .collect();
    near.sort_by(|a, b| a.0.total_cmp(&b.0));
    near.truncate(MOST);
    let scale = f64::from(solution.width) / 1280.0;
    let belongs =
        |p: &Vector3<f64>, on, normal| plane_error_px(&camera, *p, on, normal).filter(|m| *m < BELONGS_PX * scale);

    let floor = datum.floor.as_ref().and_then(|_| intersect(&sight, Vector3::zeros(), Vector3::y()));
    let make = |point, mut normal: Vector3<f64>, kind: Option<SurfaceKind>, residuals: &[f64]| {
        if normal.dot(&ray) > 0.0 {
            normal = -normal;
        }
        let tilt_deg = normal.y.clamp(-1.0, 1.0).acos().to_degrees();
        let upright = (tilt_deg - 90.0).abs() < 12.0;
        let fit_px = (residuals.iter().map(|m| m * m).sum::<f64>() / residuals.len().max(1) as f64).sqrt();
        let kind = kind.unwrap_or(if upright { SurfaceKind::Wall } else { SurfaceKind::Slope });
        Surface { kind, point, normal, tilt_deg, fit_px, points: residuals.len() }
    };
    if let Some(point) = floor {
        let on_floor: Vec<f64> = near.iter().filter_map(|(_, p)| belongs(p, Vector3::zeros(), Vector3::y())).collect();
        if near.len() < FEWEST || on_floor.len() * 10 >= near.len() * 6 {
            return Ok(make(point, Vector3::y(), Some(SurfaceKind::Floor), &on_floor));
        }
    }
    let points: Vec<Vector3<f64>> = near.iter().map(|n| n.1).collect();
    let local = robust_plane(&points, |p, on, normal| belongs(p, on, normal).is_some());
    if let Some((on, normal)) = local {
        let residuals: Vec<f64> = points.iter().filter_map(|p| belongs(p, on, normal)).collect();
        // A plane seen edge-on is no place to put anything.
        if let Some(point) =
            intersect(&sight, on, normal).filter(|_| normal.dot(&ray).abs() > 0.06 && residuals.len() >= FEWEST)
        {
            return Ok(make(point, normal, None, &residuals));
        }
    }
    match floor {
        Some(point) => Ok(make(point, Vector3::y(), Some(SurfaceKind::Floor), &[])),
        None if datum.floor.is_none() => Err(SurfaceError::TooFew { found: points.len() }),
        None => Err(SurfaceError::AboveHorizon),
    }
}

/// The floor of the datum at a pixel of a frame, whatever stands there.
///
/// # Errors
/// [`SurfaceError`], where no floor is laid or the pixel looks above its horizon.
pub fn floor_at(solution: &Solution, datum: &Datum, frame: u32, pixel: Vector2<f64>) -> Result<Surface, SurfaceError> {
    let path = CameraPath::new(solution, &datum.world_from_solve);
    let camera = path.at(frame).ok_or(SurfaceError::NoCamera { frame })?;
    let floor = datum.floor.as_ref().ok_or(SurfaceError::NoFloor)?;
    let point = intersect(&camera.ray(pixel), Vector3::zeros(), Vector3::y())
        .ok_or(SurfaceError::PixelAboveHorizon { x: pixel.x, y: pixel.y, frame })?;
    Ok(Surface {
        kind: SurfaceKind::Floor,
        point,
        normal: Vector3::y(),
        tilt_deg: 0.0,
        fit_px: floor.fit_px,
        points: floor.points.len(),
    })
}

/// The plane that most points belong to, refitted to those (RANSAC over triples).
fn robust_plane(
    points: &[Vector3<f64>],
    belongs: impl Fn(&Vector3<f64>, Vector3<f64>, Vector3<f64>) -> bool,
) -> Option<(Vector3<f64>, Vector3<f64>)> {
    if points.len() < FEWEST {
        return None;
    }
    let mut random = SplitMix64::new(17);
    let mut best: (usize, Vec<Vector3<f64>>) = (0, Vec::new());
    for _ in 0..60 {
        let pick = random.distinct::<3>(points.len())?;
        let Some((on, normal)) = fit_plane(&pick.map(|i| points[i])) else { continue };
        let members: Vec<_> = points.iter().filter(|p| belongs(p, on, normal)).copied().collect();
        if members.len() > best.0 {
            best = (members.len(), members);
        }
    }
    fit_plane(&best.1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plane_is_fitted_and_points_on_a_line_are_refused() {
        let points: Vec<_> = (0..12).map(|i| Vector3::new(f64::from(i % 4), 2.0, f64::from(i / 4))).collect();
        let (on, normal) = fit_plane(&points).unwrap();
        assert!((on.y - 2.0).abs() < 1e-12 && normal.y.abs() > 1.0 - 1e-9);
        let line: Vec<_> = (0..9).map(|i| Vector3::new(f64::from(i), 2.0 * f64::from(i), 0.0)).collect();
        assert!(fit_plane(&line).is_none() && fit_plane(&line[..2]).is_none());
    }
}
