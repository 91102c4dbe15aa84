//! Lock error: how far something pinned in the solved scene slips against the plate.

use super::at_share;
use crate::geometry::{Lens, Pose, triangulate};
use nalgebra::{Vector2, Vector3};

/// Frames in which a point must be seen to count.
const MIN_FRAMES: usize = 10;

/// A point whose true pixels are known: frame and pixel.
pub type TruePoint = Vec<(u32, Vector2<f64>)>;

/// Slip over a set of points, px.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LockError {
    /// RMS over all points and frames.
    pub rms_px: f64,
    /// Median over the points of each one's RMS.
    pub median_px: f64,
    /// 95th percentile over the points of each one's RMS.
    pub p95_px: f64,
    /// Points that counted.
    pub points: usize,
}

/// Places every true point once, as well as the solved cameras allow, and measures how far its image
/// then is from the true pixels. `camera` gives the solved pose and lens of a frame. `None` when no
/// point can be placed.
pub fn lock_error(points: &[TruePoint], camera: impl Fn(u32) -> Option<(Pose, Lens)>) -> Option<LockError> {
    lock_error_of(points, camera, triangulate)
}

/// The same for a camera that turns on the spot: points are placed as directions.
pub fn turning_lock_error(points: &[TruePoint], camera: impl Fn(u32) -> Option<(Pose, Lens)>) -> Option<LockError> {
    lock_error_of(points, camera, |views| {
        let sum: Vector3<f64> =
            views.iter().map(|(pose, n)| pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0).normalize()).sum();
        sum.try_normalize(1e-9)
    })
}

fn lock_error_of(
    points: &[TruePoint],
    camera: impl Fn(u32) -> Option<(Pose, Lens)>,
    place: impl Fn(&[(Pose, Vector2<f64>)]) -> Option<Vector3<f64>>,
) -> Option<LockError> {
    let mut total = (0.0, 0usize);
    let mut of_points = Vec::new();
    for seen in points {
        let views: Vec<(Pose, Lens, Vector2<f64>)> =
            seen.iter().filter_map(|(f, px)| camera(*f).map(|(pose, lens)| (pose, lens, *px))).collect();
        if views.len() < MIN_FRAMES {
            continue;
        }
        let normalised: Vec<_> = views.iter().map(|(pose, lens, px)| (*pose, lens.unproject(*px))).collect();
        let Some(at) = place(&normalised) else { continue };
        let sum: f64 = views.iter().map(|(pose, lens, px)| (image(pose, lens, at) - px).norm_squared()).sum();
        total = (total.0 + sum, total.1 + views.len());
        of_points.push((sum / views.len() as f64).sqrt());
    }
    of_points.sort_by(f64::total_cmp);
    Some(LockError {
        rms_px: (total.0 / total.1.max(1) as f64).sqrt(),
        median_px: at_share(&of_points, 0.5)?,
        p95_px: at_share(&of_points, 0.95)?,
        points: of_points.len(),
    })
}

fn image(pose: &Pose, lens: &Lens, world: Vector3<f64>) -> Vector2<f64> {
    let c = pose.to_camera(world);
    lens.project(Vector2::new(c.x / c.z, c.y / c.z))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_true_camera_has_no_slip_and_a_wrong_focal_length_has() {
        let lens = Lens::centred(900.0, 1280, 720);
        let pose = |f: u32| {
            let t = f64::from(f) / 20.0;
            Pose::look_at(Vector3::new(4.0 * t - 2.0, 2.0, 8.0), Vector3::new(0.0, 0.0, -t), Vector3::y()).unwrap()
        };
        let points: Vec<TruePoint> = (0..30)
            .map(|i| {
                let p = Vector3::new(f64::from(i % 6) - 2.5, f64::from(i / 6) * 0.5, f64::from(i % 5) - 2.0);
                (0..20).map(|f| (f, image(&pose(f), &lens, p))).collect()
            })
            .collect();
        let exact = lock_error(&points, |f| Some((pose(f), lens))).unwrap();
        assert!(exact.rms_px < 1e-6 && exact.points == 30, "{exact:?}");
        let wrong = lock_error(&points, |f| Some((pose(f), Lens { focal_px: 950.0, ..lens }))).unwrap();
        assert!(wrong.rms_px > 0.2, "{wrong:?}");
        assert_eq!(lock_error(&points, |_| None), None);
        // The same points by a camera that only turns: directions suffice, and a wrong focal length slips.
        let turned = |f: u32| Pose { translation: Vector3::zeros(), ..pose(f) };
        let far: Vec<TruePoint> = (0..30)
            .map(|i| {
                let p = Vector3::new(f64::from(i % 6) - 2.5, -2.0 - f64::from(i / 6) * 0.3, -9.0);
                (0..20).map(|f| (f, image(&turned(f), &lens, p))).collect()
            })
            .collect();
        assert!(turning_lock_error(&far, |f| Some((turned(f), lens))).unwrap().rms_px < 1e-6);
        assert!(
            turning_lock_error(&far, |f| Some((turned(f), Lens { focal_px: 950.0, ..lens }))).unwrap().rms_px > 0.2
        );
    }
}
