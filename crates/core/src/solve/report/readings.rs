//! What came out of an adjustment: cameras, points and readings, upright and in a handy size.

use crate::geometry::{Pose, Similarity};
use crate::random::SplitMix64;
use crate::solve::bundle::state::{Move, Observation};
use crate::solve::outlier::Outlier;
use crate::solve::problem::Problem;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::place_track;
use crate::solve::refine::inliers::{agreeing, parallax_deg, places_of};
use crate::solve::refine::rounds::{FAR_PARALLAX_DEG, Refinement};
use crate::solve::report::outliers::{self as outliers};
use crate::solve::report::verdict::FLAT;
use crate::solve::solution::{Grade, Motion, Solution, SolvedFrame, SolvedPoint, Verdict};
use crate::solve::stats::median;
use crate::solve::uncertainty::gauge_free::CameraUncertainty;
use crate::track::TrackId;
use nalgebra::{Matrix3, Rotation3, Vector3};
use rayon::prelude::*;
use std::collections::BTreeSet;

/// Points and planes that tell how flat a scene is.
const FLAT_POINTS: usize = 300;
const FLAT_DRAWS: usize = 200;

impl Refinement<'_> {
    /// How firmly a frame is known; one that took no part in the adjustment is as firm as its nearest neighbour that
    /// did.
    fn uncertainty_at(&self, frame: u32) -> Option<CameraUncertainty> {
        let before = self.frame_uncertainty.range(..=frame).next_back();
        let after = self.frame_uncertainty.range(frame..).next();
        match (before, after) {
            (Some((a, x)), Some((b, y))) => Some(if frame - a <= b - frame { *x } else { *y }),
            (Some((_, only)), None) | (None, Some((_, only))) => Some(*only),
            (None, None) => None,
        }
    }

    /// Why the tracks that are not used do not follow.
    fn outliers(&self, scene: &Scene, used: &BTreeSet<TrackId>) -> Vec<Outlier> {
        let unused: Vec<usize> =
            (0..self.problem.tracks.len()).filter(|&t| !used.contains(&self.problem.ids[t])).collect();
        unused.into_par_iter().map(|t| outliers::reason(self.problem, scene, t, self.limit_px)).collect()
    }

    /// How far nine in ten points lie from the plane that holds the most of them, as a part of their distance from the
    /// nearest camera (RANSAC over planes through three points).
    fn flatness(&self, points: &[Vector3<f64>]) -> Option<f64> {
        let step = points.len().div_ceil(FLAT_POINTS).max(1);
        let some: Vec<(Vector3<f64>, f64)> = points
            .iter()
            .step_by(step)
            .map(|p| (*p, self.bundle.poses.iter().map(|c| (c.centre() - p).norm()).fold(f64::INFINITY, f64::min)))
            .collect();
        let mut random = SplitMix64::new(0xF1A7);
        let mut best: Option<f64> = None;
        for _ in 0..FLAT_DRAWS {
            let [a, b, c] = random.distinct::<3>(some.len())?.map(|i| some[i].0);
            let Some(normal) = (b - a).cross(&(c - a)).try_normalize(1e-12) else { continue };
            let mut off: Vec<f64> =
                some.iter().map(|(p, distance)| normal.dot(&(p - a)).abs() / distance.max(1e-12)).collect();
            let most = off.len() * 9 / 10;
            let reach = *off.select_nth_unstable_by(most, f64::total_cmp).1;
            best = Some(best.map_or(reach, |b: f64| b.min(reach)));
        }
        best
    }

    /// Which tracks of another problem over the same frames agree with this camera.
    pub fn agree_with(&self, other: &Problem, scene: &Scene) -> Vec<TrackId> {
        let frames = scene.posed();
        let index = places_of(&frames, other.frames);
        let agrees = |t: usize| {
            let point = place_track(other, scene, t, self.limit_px, FAR_PARALLAX_DEG)?;
            agreeing(other, t, &index, |f, pixel| scene.reprojection_error(f, pixel, &point), self.limit_px)
                .map(|_| other.ids[t])
        };
        (0..other.tracks.len()).into_par_iter().filter_map(agrees).collect()
    }

    /// What came out, upright and in a handy size; still without a verdict.
    pub fn solution(&self, scene: &Scene) -> Solution {
        let centres: Vec<Vector3<f64>> = self.bundle.poses.iter().map(Pose::centre).collect();
        let near: Vec<bool> = (0..self.bundle.points.len()).map(|p| self.bundle.far(p).is_none()).collect();
        let with_depth: Vec<Vector3<f64>> =
            self.bundle.points.iter().zip(&near).filter(|(_, near)| **near).map(|(p, _)| *p).collect();
        let gauge = upright(&self.bundle.poses, &with_depth, scene.motion);
        let residuals = self.bundle.residuals();
        let mut of_frame = vec![(0.0f64, 0u32); self.frames.len()];
        let mut points = Vec::with_capacity(self.tracks.len());
        let (mut total, mut n) = (0.0, 0usize);
        let mut regions = [[(0.0f64, 0u32); 3]; 3];
        let (width, height) = (f64::from(self.problem.width), f64::from(self.problem.height));
        let third = |v: f64, size: f64| ((3.0 * v / size) as usize).min(2);
        for (p, seen) in self.bundle.observations.iter().enumerate() {
            let mut sum = 0.0;
            for (o, residual) in seen.iter().zip(&residuals[p]) {
                let square = residual.map_or(0.0, |r| r.norm_squared());
                sum += square;
                of_frame[o.camera as usize].0 += square;
                of_frame[o.camera as usize].1 += 1;
                let region = &mut regions[third(o.pixel.y, height)][third(o.pixel.x, width)];
                *region = (region.0 + square, region.1 + 1);
            }
            total += sum;
            n += seen.len();
            if !near[p] {
                continue;
            }
            let ends = |o: Option<&Observation>| o.map_or(0, |o| self.frames[o.camera as usize]);
            points.push(SolvedPoint {
                id: self.problem.ids[self.tracks[p]],
                position: gauge.point(self.bundle.points[p]),
                rms_px: (sum / seen.len().max(1) as f64).sqrt(),
                first_frame: ends(seen.first()),
                last_frame: ends(seen.last()),
                views: seen.len() as u32,
                spread: self
                    .point_covariance
                    .get(&self.tracks[p])
                    .map_or([0.0; 6], |c| packed(&gauge_spread(&gauge, c))),
                parallax_deg: if scene.motion == Move::Nodal {
                    0.0
                } else {
                    parallax_deg(&centres, self.bundle.points[p], seen)
                },
            });
        }
        let used: BTreeSet<TrackId> = points.iter().map(|p| p.id).collect();
        let frames = self
            .frames
            .iter()
            .zip(&self.bundle.poses)
            .zip(&of_frame)
            .map(|((&frame, pose), &(sum, count))| {
                let firm = self.uncertainty_at(frame);
                SolvedFrame {
                    frame,
                    pose: gauge.pose(pose),
                    lens: scene.lens_at(frame),
                    rms_px: (sum / f64::from(count.max(1))).sqrt(),
                    points: count,
                    spread: firm.map_or([0.0; 6], |f| packed(&gauge_spread(&gauge, &f.centre))),
                    turn_deviation_deg: firm.map_or(0.0, |f| f.turn_rad.to_degrees()),
                    slip_px: firm.map_or(0.0, |f| f.error_px),
                }
            })
            .collect();
        let angles: Vec<f64> = points.iter().map(|p| p.parallax_deg).collect();
        let flatness = if scene.motion == Move::Free { self.flatness(&with_depth) } else { None };
        Solution {
            width: self.problem.width,
            height: self.problem.height,
            frames_total: self.problem.frames as u32,
            motion: match (scene.motion, flatness) {
                (Move::Nodal, _) => Motion::Nodal,
                (Move::Free, Some(flatness)) if flatness < FLAT => Motion::Planar,
                (Move::Free, _) => Motion::Free,
            },
            zoom: scene.zooms(),
            readout: scene.readout,
            frames,
            outliers: self.outliers(scene, &used),
            agreeing_again: Vec::new(),
            rejected: self.problem.ids.iter().copied().filter(|id| !used.contains(id)).collect(),
            points,
            rms_px: (total / n.max(1) as f64).sqrt(),
            median_px: median(&self.reprojection_errors()).unwrap_or(0.0),
            regions_px: regions.map(|row| row.map(|(sum, n)| (n > 0).then(|| (sum / f64::from(n)).sqrt()))),
            parallax_deg: median(&angles).unwrap_or(0.0),
            focal_deviation_percent: 100.0 * self.focal_deviation,
            focal_by_tracks: self.focal_by_tracks,
            turning_px: None,
            flatness,
            following: self.following,
            asked: self.asked,
            verdict: Verdict { grade: Grade::Weak, reasons: Vec::new() },
        }
    }
}

/// A covariance in the world that a change of gauge leads to.
fn gauge_spread(gauge: &Similarity, spread: &Matrix3<f64>) -> Matrix3<f64> {
    let r = gauge.rotation.matrix();
    r * spread * r.transpose() * (gauge.scale * gauge.scale)
}

/// The upper half of a covariance: xx, xy, xz, yy, yz, zz.
fn packed(m: &Matrix3<f64>) -> [f64; 6] {
    [m[(0, 0)], m[(0, 1)], m[(0, 2)], m[(1, 1)], m[(1, 2)], m[(2, 2)]]
}

/// Puts the world upright: Y along the average camera's up, the first camera at the origin looking
/// along -Z, and the middle depth of the points from there at 10 units.
fn upright(poses: &[Pose], points: &[Vector3<f64>], motion: Move) -> Similarity {
    let Some(first) = poses.first() else { return Similarity::identity() };
    let up: Vector3<f64> = poses.iter().map(|p| p.rotation.inverse() * -Vector3::y()).sum();
    let forward = first.rotation.inverse() * Vector3::z();
    let frame = up.try_normalize(1e-9).and_then(|up| {
        let back = -(forward - up * forward.dot(&up)).try_normalize(1e-6)?;
        let right = up.cross(&back);
        Some(Matrix3::from_rows(&[right.transpose(), up.transpose(), back.transpose()]))
    });
    let rotation = frame.map_or(Rotation3::identity(), Rotation3::from_matrix_unchecked);
    if motion == Move::Nodal {
        return Similarity { rotation, ..Similarity::identity() };
    }
    let depths: Vec<f64> = points.iter().map(|p| first.to_camera(*p).z).filter(|z| *z > 0.0).collect();
    let scale = median(&depths).filter(|d| *d > 1e-9).map_or(1.0, |d| 10.0 / d);
    Similarity { scale, rotation, translation: -(rotation * first.centre()) * scale }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However the world of a solve lies, it comes out the same: upright, and in a handy size.
        #[test]
        fn the_world_comes_out_upright_wherever_it_lay(
            axis in prop::array::uniform3(-1.0f64..1.0), angle in -3.0f64..3.0,
                shift in prop::array::uniform3(-50.0f64..50.0), scale in 0.01f64..100.0,
        ) {
            let axis = Vector3::from(axis);
            prop_assume!(axis.norm() > 0.1);
            let poses: Vec<Pose> = (0..7)
                .filter_map(|i| Pose::look_at(Vector3::new(f64::from(i) * 0.3, 2.0, 9.0), Vector3::new(0.0, 1.0, 0.0),
                    Vector3::y()))
                .collect();
            let points: Vec<Vector3<f64>> = (0..30)
                .map(|i| Vector3::new(f64::from(i % 5) - 2.0, 0.2 * f64::from(i % 3), f64::from(i % 7) - 3.0))
                .collect();
            let laid = Similarity { scale, rotation: Rotation3::from_scaled_axis(axis.normalize() * angle),
                translation: Vector3::from(shift) };
            let (moved_poses, moved_points): (Vec<Pose>, Vec<Vector3<f64>>) =
                (poses.iter().map(|p| laid.pose(p)).collect(), points.iter().map(|p| laid.point(*p)).collect());
            let gauge = upright(&moved_poses, &moved_points, Move::Free);
            let first = gauge.pose(&moved_poses[0]);
            prop_assert!(first.centre().norm() < 1e-6, "the first camera is at the origin");
            let ahead = first.rotation.inverse() * Vector3::z();
            prop_assert!(ahead.x.abs() < 1e-6 && ahead.z < -0.9, "it looks along -Z: {ahead}");
            let mut depths: Vec<f64> = moved_points.iter().map(|p| first.to_camera(gauge.point(*p)).z).collect();
            depths.sort_by(f64::total_cmp);
            prop_assert!((depths[15] - 10.0).abs() < 0.7, "the middle depth is ten units: {}", depths[15]);
            let plain = upright(&poses, &points, Move::Free);
            for (p, q) in points.iter().zip(&moved_points) {
                prop_assert!((plain.point(*p) - gauge.point(*q)).norm() < 1e-6);
            }
        }

        #[test]
        fn a_spread_grows_and_turns_with_the_world(scale in 0.1f64..10.0, angle in -3.0f64..3.0) {
            let gauge = Similarity { scale, rotation: Rotation3::from_scaled_axis(Vector3::y() * angle),
                translation: Vector3::x() };
            let spread = gauge_spread(&gauge, &Matrix3::from_diagonal(&Vector3::new(4.0, 1.0, 0.25)));
            let along = gauge.rotation * Vector3::x();
            prop_assert!((along.dot(&(spread * along)) - 4.0 * scale * scale)
                .abs() < 1e-9 * scale * scale.max(1.0) * 100.0);
            prop_assert!((spread.trace() - 5.25 * scale * scale).abs() < 1e-9 * scale.max(1.0) * 1e3);
            let six = packed(&spread);
            prop_assert!((six[1] - spread[(1, 0)]).abs() < 1e-12 && (six[4] - spread[(2, 1)]).abs() < 1e-12);
        }
    }

    #[test]
    fn a_camera_that_turns_keeps_its_directions_and_no_camera_changes_nothing() {
        let poses: Vec<Pose> = (0..5)
            .map(|i| Pose::identity().retract(Vector3::new(0.1, 0.05 * f64::from(i), 0.0), Vector3::zeros()))
            .collect();
        let gauge = upright(&poses, &[Vector3::z()], Move::Nodal);
        assert!(gauge.scale == 1.0 && gauge.translation.norm() == 0.0);
        assert_eq!(upright(&[], &[], Move::Free).scale, 1.0);
    }
}
