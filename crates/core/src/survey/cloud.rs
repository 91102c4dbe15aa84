//! The points of the whole clip, each with how firmly it is known.

use crate::camera::CameraPath;
use crate::geometry::Similarity;
use crate::solve::{Solution, SolvedPoint, covariance};
use crate::track::TrackId;
use nalgebra::{Matrix3, Vector3};

/// How far ground and walls stray from a plane, as a part of the distance to the camera.
const FLATNESS: f64 = 0.0015;
/// Deviation of a sighting that is taken where a solve did not note how firmly its points are known, px.
const SIGHTING_PX: f64 = 0.3;
/// Focal length of an ordinary lens, of the picture's width.
const ORDINARY: f64 = 0.75;
/// Points that are looked at; of more, every second or third.
const MOST: usize = 2500;

/// One point.
#[derive(Debug, Clone)]
pub struct CloudPoint {
    /// The track that it comes from.
    pub id: TrackId,
    /// World of the solve.
    pub position: Vector3<f64>,
    /// Covariance of its position, world units^2.
    pub covariance: Matrix3<f64>,
    /// Distance from the camera in the middle of its life, or for a long lens that from which an ordinary one would
    /// show it as large: what counts as near or flat goes by what is seen.
    pub depth: f64,
    /// RMS reprojection error, px.
    pub error_px: f64,
}

impl CloudPoint {
    fn of(p: &SolvedPoint, path: &CameraPath) -> Option<Self> {
        let frames = &path.solution().frames;
        let middle = u32::midpoint(p.first_frame, p.last_frame);
        let i = frames.partition_point(|f| f.frame < middle).min(frames.len().checked_sub(1)?);
        let camera = path.at(frames[i].frame)?;
        let sight = p.position - camera.centre();
        let distance = sight.norm();
        let focal_px = camera.lens.focal_px;
        let depth = distance * (ORDINARY * f64::from(path.solution().width) / focal_px).min(1.0);
        let mut covariance = covariance(p.spread);
        if covariance.trace() <= 0.0 {
            // Across the sight by the sighting, along it by that over the angle between the rays.
            let across = SIGHTING_PX * distance / focal_px;
            let along = across / (0.5 * p.parallax_deg.to_radians()).sin().max(1e-3);
            let ray = sight / distance.max(1e-12);
            let line = ray * ray.transpose();
            covariance = (Matrix3::identity() - line) * (across * across) + line * (along * along);
        }
        (depth > 0.0 && covariance.iter().all(|v| v.is_finite())).then_some(Self {
            id: p.id,
            position: p.position,
            covariance,
            depth,
            error_px: p.rms_px,
        })
    }

    /// Deviation of its distance from a plane of this normal, world units; what is flat only roughly counts as well.
    pub fn deviation(&self, normal: &Vector3<f64>) -> f64 {
        (normal.dot(&(self.covariance * normal)).max(0.0) + (FLATNESS * self.depth).powi(2)).sqrt()
    }
}

/// All points that can tell of planes; of very many, some.
pub fn cloud(solution: &Solution) -> Vec<CloudPoint> {
    let all = cloud_of(solution, |_| true);
    let step = all.len().div_ceil(MOST).max(1);
    all.into_iter().step_by(step).collect()
}

/// Those of some tracks.
pub fn cloud_of(solution: &Solution, of: impl Fn(TrackId) -> bool) -> Vec<CloudPoint> {
    let path = CameraPath::new(solution, &Similarity::identity());
    solution.points.iter().filter(|p| of(p.id)).filter_map(|p| CloudPoint::of(p, &path)).collect()
}
