//! One camera from known points.

use crate::geometry::{Lens, Pose, hat, pose_from_three};
use crate::random::SplitMix64;
use nalgebra::{Matrix2x3, SMatrix, SVector, Vector2, Vector3};

/// Draws of three points.
const SAMPLES: usize = 160;
/// Gauss-Newton steps of the refinement.
const STEPS: usize = 12;

/// A pixel and the world point it shows.
pub type Sight = (Vector2<f64>, Vector3<f64>);

/// A pose from scratch: P3P in RANSAC (Fischler & Bolles 1981), then refined. Hands back the pose and
/// the number of points within `limit_px`.
pub fn from_scratch(sights: &[Sight], lens: &Lens, limit_px: f64, seed: u64) -> Option<(Pose, usize)> {
    let mut random = SplitMix64::new(seed);
    let rays: Vec<Vector3<f64>> = sights
        .iter()
        .map(|(pixel, _)| {
            let n = lens.unproject(*pixel);
            Vector3::new(n.x, n.y, 1.0)
        })
        .collect();
    let mut best: Option<(Pose, usize)> = None;
    for sample in 0..SAMPLES {
        let pick = random.distinct::<3>(sights.len())?;
        for pose in pose_from_three(&pick.map(|i| rays[i]), &pick.map(|i| sights[i].1)) {
            let within = count_within(&pose, sights, lens, limit_px);
            if best.is_none_or(|(_, most)| within > most) {
                best = Some((pose, within));
            }
        }
        // With nine in ten on one camera, further samples find the same again.
        if sample >= 20 && best.is_some_and(|(_, most)| most * 10 > sights.len() * 9) {
            break;
        }
    }
    let (pose, _) = best?;
    let pose = refine(pose, sights, lens, 0.5 * limit_px);
    Some((pose, count_within(&pose, sights, lens, limit_px)))
}

pub fn count_within(pose: &Pose, sights: &[Sight], lens: &Lens, limit_px: f64) -> usize {
    sights
        .iter()
        .filter(|(pixel, point)| reprojection_error(pose, lens, pixel, point).is_some_and(|m| m < limit_px))
        .count()
}

/// Distance in px between where a point is seen and where it should be; `None` behind the camera.
pub fn reprojection_error(pose: &Pose, lens: &Lens, pixel: &Vector2<f64>, point: &Vector3<f64>) -> Option<f64> {
    let c = pose.to_camera(*point);
    (c.z > 1e-6).then(|| (lens.project(Vector2::new(c.x / c.z, c.y / c.z)) - pixel).norm())
}

/// What a refinement may change besides the turn.
#[derive(Debug, Clone, Copy, Default)]
pub struct Loose {
    /// The translation.
    pub shift: bool,
    /// The focal length.
    pub focal: bool,
}

/// Least-squares pose with Cauchy weights from a start close by.
pub fn refine(start: Pose, sights: &[Sight], lens: &Lens, loss_px: f64) -> Pose {
    refine_loose(start, sights, lens, loss_px, Loose { shift: true, focal: false }).0
}

/// The same with a choice of unknowns; hands back the pose and the lens.
pub fn refine_loose(start: Pose, sights: &[Sight], lens: &Lens, loss_px: f64, loose: Loose) -> (Pose, Lens) {
    let cost = |pose: &Pose, lens: &Lens| -> f64 {
        sights
            .iter()
            .map(|(px, p)| (reprojection_error(pose, lens, px, p).unwrap_or(1e4) / loss_px).powi(2).ln_1p())
            .sum()
    };
    let (mut pose, mut lens) = (start, *lens);
    let mut value = cost(&pose, &lens);
    let mut damping = 1e-6;
    for _ in 0..STEPS {
        let mut normal = SMatrix::<f64, 7, 7>::zeros();
        let mut right = SVector::<f64, 7>::zeros();
        for (pixel, point) in sights {
            let turned = pose.rotation * point;
            let c = turned + pose.translation;
            if c.z <= 1e-6 {
                continue;
            }
            let n = Vector2::new(c.x / c.z, c.y / c.z);
            let (seen, slope) = lens.project_with_jacobian(n);
            let residual = pixel - seen;
            let weight = 1.0 / (1.0 + residual.norm_squared() / (loss_px * loss_px));
            let by_point = slope * Matrix2x3::new(1.0 / c.z, 0.0, -n.x / c.z, 0.0, 1.0 / c.z, -n.y / c.z);
            let mut j = SMatrix::<f64, 2, 7>::zeros();
            j.fixed_view_mut::<2, 3>(0, 0).copy_from(&(by_point * -hat(&turned)));
            if loose.shift {
                j.fixed_view_mut::<2, 3>(0, 3).copy_from(&by_point);
            }
            if loose.focal {
                j.set_column(6, &(seen - Vector2::from(lens.centre_px)));
            }
            normal += j.transpose() * j * weight;
            right += j.transpose() * residual * weight;
        }
        for i in 0..7 {
            normal[(i, i)] = if normal[(i, i)] > 0.0 { normal[(i, i)] * (1.0 + damping) + 1e-12 } else { 1.0 };
        }
        let Some(d) = normal.cholesky().map(|c| c.solve(&right)) else { return (pose, lens) };
        let moved = pose.retract(Vector3::new(d[0], d[1], d[2]), Vector3::new(d[3], d[4], d[5]));
        let zoomed = Lens { focal_px: lens.focal_px * d[6].clamp(-0.3, 0.3).exp(), ..lens };
        let new_value = cost(&moved, &zoomed);
        if new_value < value {
            let done = (value - new_value) < 1e-9 * value.max(1e-12);
            (pose, lens) = (moved, zoomed);
            value = new_value;
            damping = (damping * 0.1).max(1e-9);
            if done {
                break;
            }
        } else {
            damping = damping.max(1e-6) * 30.0;
        }
    }
    (pose, lens)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_camera_is_found_among_half_outliers() {
        let lens = Lens { k1: -0.03, ..Lens::centred(900.0, 1280, 720) };
        let pose = Pose::look_at(Vector3::new(1.0, 2.0, 8.0), Vector3::zeros(), Vector3::y()).unwrap();
        let mut random = SplitMix64::new(2);
        let mut unit = || random.below(1_000_000) as f64 / 500_000.0 - 1.0;
        let sights: Vec<Sight> = (0..80)
            .map(|i| {
                let p = Vector3::new(3.0 * unit(), 2.0 * unit(), 3.0 * unit());
                let c = pose.to_camera(p);
                let off = if i % 2 == 0 { Vector2::new(200.0 * unit(), 200.0 * unit()) } else { Vector2::zeros() };
                (lens.project(Vector2::new(c.x / c.z, c.y / c.z)) + off, p)
            })
            .collect();
        let (found, within) = from_scratch(&sights, &lens, 2.0, 7).unwrap();
        assert!(within >= 40);
        assert!((found.centre() - pose.centre()).norm() < 1e-2, "{:?}", found.centre());
        assert!(from_scratch(&sights[..2], &lens, 2.0, 7).is_none());
    }
}
