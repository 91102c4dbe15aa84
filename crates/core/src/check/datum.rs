//! How far a datum and its surfaces are off, where the true scene is known: ground at y = 0, Y up.

use crate::geometry::{Pose, Similarity, nearest_rotation};
use crate::survey::{Plane, fit_weighted};
use nalgebra::{Matrix3, Vector3};

/// How far the points of a true surface may lie from its plane for it to be flat, m.
const FLAT_M: f64 = 0.02;

/// Points of one true surface, metres.
#[derive(Debug, Clone)]
pub struct TrueSurface {
    /// Its name.
    pub name: String,
    /// At least three.
    pub points: Vec<Vector3<f64>>,
}

/// How far off one true surface was found.
#[derive(Debug, Clone, PartialEq)]
pub struct SurfaceScore {
    /// Its name.
    pub name: String,
    /// Truth points on it.
    pub points: usize,
    /// Angle between its normal and that of the surface that explains its points best, degrees.
    pub angle_deg: f64,
    /// RMS distance of its points from that, m.
    pub rms_m: f64,
}

/// How far off a datum is.
#[derive(Debug, Clone, PartialEq)]
pub struct DatumScore {
    /// Angle between the datum's up and the true one, degrees.
    pub tilt_deg: f64,
    /// Median distance of the datum's floor from the true ground under the cameras, of the median height of the
    /// cameras.
    pub height_share: f64,
    /// Metres for each unit of the datum.
    pub scale: f64,
    /// Flat true surfaces other than the ground.
    pub surfaces: Vec<SurfaceScore>,
}

/// The similarity that lays an estimate's cameras over the true ones: by their turns and centres.
pub(super) fn alignment(pairs: &[(Pose, Pose)]) -> Option<Similarity> {
    let n = pairs.len() as f64;
    let turns = pairs
        .iter()
        .fold(Matrix3::zeros(), |m, (found, truth)| m + truth.rotation.matrix().transpose() * found.rotation.matrix());
    let rotation = nearest_rotation(&turns)?;
    let mean = |of: &dyn Fn(&(Pose, Pose)) -> Vector3<f64>| pairs.iter().map(of).sum::<Vector3<f64>>() / n;
    let (found, truth) = (mean(&|p| p.0.centre()), mean(&|p| p.1.centre()));
    let (mut along, mut length) = (0.0, 0.0);
    for (a, b) in pairs {
        let away = rotation * (a.centre() - found);
        along += away.dot(&(b.centre() - truth));
        length += away.norm_squared();
    }
    let scale = along / length;
    (scale.is_finite() && scale > 0.0).then(|| Similarity {
        scale,
        rotation,
        translation: truth - rotation * found * scale,
    })
}

/// Scores a datum whose world has Y up and its floor at y = 0. `pairs` holds the found and the true pose of each frame
/// that both know; `surfaces` are planes in the datum's world, `known` the true ones. `None` where the cameras cannot be
/// laid over each other.
pub fn datum_score(pairs: &[(Pose, Pose)], surfaces: &[Plane], known: &[TrueSurface]) -> Option<DatumScore> {
    let world = alignment(pairs)?;
    let floor = Plane { point: Vector3::zeros(), normal: Vector3::y() }.moved(&world);
    let median = |mut values: Vec<f64>| {
        values.sort_by(f64::total_cmp);
        values.get(values.len() / 2).copied()
    };
    let eyes: Vec<Vector3<f64>> = pairs.iter().map(|p| p.1.centre()).collect();
    // The datum's floor under each true camera: the height at which the plumb line meets it.
    let under = |e: &Vector3<f64>| (e.y + (floor.point - e).dot(&floor.normal) / floor.normal.y).abs();
    let height = median(eyes.iter().map(|e| e.y).collect())?;
    let off = median(eyes.iter().map(under).collect())?;
    let given: Vec<Plane> = surfaces.iter().map(|s| s.moved(&world)).collect();
    let score = |s: &TrueSurface| {
        let plane = fit_weighted(s.points.iter().map(|p| (*p, 1.0)))?;
        let rms =
            |q: &Plane| (s.points.iter().map(|p| q.distance(*p).powi(2)).sum::<f64>() / s.points.len() as f64).sqrt();
        if rms(&plane) > FLAT_M {
            return None;
        }
        let best = given.iter().min_by(|a, b| rms(a).total_cmp(&rms(b)));
        Some(SurfaceScore {
            name: s.name.clone(),
            points: s.points.len(),
            angle_deg: best.map_or(90.0, |b| b.angle_deg(&plane)),
            rms_m: best.map_or(f64::INFINITY, rms),
        })
    };
    Some(DatumScore {
        tilt_deg: floor.normal.y.clamp(-1.0, 1.0).acos().to_degrees(),
        height_share: off / height.abs().max(1e-9),
        scale: world.scale,
        surfaces: known.iter().filter_map(score).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use nalgebra::Rotation3;

    fn poses() -> Vec<Pose> {
        let pose = |i: i32| {
            let x = f64::from(i) * 0.4;
            Pose::look_at(Vector3::new(x, 2.0 + 0.1 * x, 8.0), Vector3::new(0.0, 1.0, 0.0), Vector3::y()).unwrap()
        };
        (0..12).map(pose).collect()
    }

    #[test]
    fn a_true_datum_has_no_error_and_a_tilted_one_has_its_tilt() {
        let wall = TrueSurface {
            name: "wall".into(),
            points: (0..12).map(|i| Vector3::new(f64::from(i % 4), f64::from(i / 4), -3.0)).collect(),
        };
        let round = TrueSurface {
            name: "round".into(),
            points: (0..12).map(|i| Vector3::new(f64::from(i).sin(), f64::from(i).cos(), f64::from(i % 3))).collect(),
        };
        let score = |by: Similarity| {
            let pairs: Vec<(Pose, Pose)> = poses().iter().map(|p| (by.pose(p), *p)).collect();
            let found = Plane { point: Vector3::new(0.0, 0.0, -3.0), normal: Vector3::z() }.moved(&by);
            datum_score(&pairs, &[found], &[wall.clone(), round.clone()]).unwrap()
        };
        let right = score(Similarity { scale: 0.5, ..Similarity::identity() });
        assert!(right.tilt_deg < 1e-5 && right.height_share < 1e-9 && (right.scale - 2.0).abs() < 1e-9, "{right:?}");
        assert!(right.surfaces.len() == 1 && right.surfaces[0].angle_deg < 1e-6 && right.surfaces[0].rms_m < 1e-9);
        let tilted = score(Similarity {
            rotation: Rotation3::from_axis_angle(&Vector3::x_axis(), 0.01),
            ..Similarity::identity()
        });
        assert!((tilted.tilt_deg - 0.01f64.to_degrees()).abs() < 1e-6);
        let raised = score(Similarity { translation: Vector3::new(0.0, 0.1, 0.0), ..Similarity::identity() });
        assert!((raised.height_share * poses()[6].centre().y - 0.1).abs() < 2e-3, "{raised:?}");
    }
}
