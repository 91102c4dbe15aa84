//! A rectangle whose corners were pulled onto places of the picture.

use crate::camera::Camera;
use nalgebra::{DMatrix, DVector, Matrix3, Rotation3, SMatrix, Vector2, Vector3};

/// Rounds of refinement at most.
const ROUNDS: usize = 40;
/// Weight of the depth that it had, px for a change by e, where one frame alone tells nothing of it.
const KEEP_DEPTH_PX: f64 = 1e-3;
/// Damping at the start, of the curvature.
const DAMPING: f64 = 1e-3;
/// Step for slopes.
const STEP: f64 = 1e-6;

/// Corners pulled on one frame, counter-clockwise from the lower left as the front is read.
#[derive(Debug, Clone)]
pub struct PulledCorners {
    /// The camera of that frame, in the world of the datum.
    pub camera: Camera,
    /// Full-resolution px.
    pub at: [Vector2<f64>; 4],
}

/// The rectangle that fits best.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rectangle {
    /// World of the datum.
    pub middle: Vector3<f64>,
    /// World from its own frame: x to the right, y up, z towards the reader.
    pub rotation: Rotation3<f64>,
    /// Width and height, world units.
    pub size: [f64; 2],
    /// RMS distance of its corners from where they were pulled, px.
    pub misses_px: f64,
}

/// Why there is no such rectangle.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PullError {
    /// Nothing was pulled.
    #[error("no corners were pulled; pull all four")]
    Nothing,
    /// Four places between which no card can be seen from the front.
    #[error("no card looks like that: the corners cross, or lie on one line; pull them round it in order")]
    NoCard,
}

impl Rectangle {
    /// Its corners, counter-clockwise from the lower left.
    pub fn corners(&self) -> [Vector3<f64>; 4] {
        let [w, h] = self.size.map(|s| 0.5 * s);
        [[-w, -h], [w, -h], [w, h], [-w, h]].map(|[x, y]| self.middle + self.rotation * Vector3::new(x, y, 0.0))
    }

    fn moved(&self, by: &SMatrix<f64, 8, 1>) -> Self {
        Self {
            middle: self.middle + by.fixed_rows::<3>(0),
            rotation: self.rotation * Rotation3::new(Vector3::new(by[3], by[4], by[5])),
            size: [self.size[0] * by[6].exp(), self.size[1] * by[7].exp()],
            misses_px: self.misses_px,
        }
    }
}

/// The rectangle whose corners are seen where they were pulled. On one frame its depth cannot be told: it keeps
/// `distance`, in world units from the camera; corners on a second frame mend it. Least squares over position, tilt and
/// both sides (Levenberg and Marquardt), from the parallelogram that the rays of the first frame leave.
///
/// # Errors
/// [`PullError`].
pub fn pulled(frames: &[PulledCorners], distance: f64) -> Result<Rectangle, PullError> {
    let first = frames.first().ok_or(PullError::Nothing)?;
    let mut best = start(first, distance).ok_or(PullError::NoCard)?;
    let mut cost = residuals(frames, &best, distance).ok_or(PullError::NoCard)?;
    let mut damping = DAMPING;
    for _ in 0..ROUNDS {
        let Some((slopes, now)) = linear(frames, &best, distance).zip(Some(cost.clone())) else { break };
        let normal = slopes.transpose() * &slopes;
        let gradient = slopes.transpose() * &now;
        let mut damped = normal.clone();
        (0..8).for_each(|k| damped[(k, k)] += damping * normal[(k, k)].max(1e-12));
        let Some(step) = damped.lu().solve(&(-gradient)) else { break };
        let step = SMatrix::<f64, 8, 1>::from_iterator(step.iter().copied());
        let next = best.moved(&step);
        match residuals(frames, &next, distance).filter(|r| r.norm_squared() < cost.norm_squared()) {
            Some(better) => {
                let done = cost.norm_squared() - better.norm_squared() < 1e-12 * cost.norm_squared();
                (best, cost, damping) = (next, better, (damping * 0.1).max(1e-12));
                if done {
                    break;
                }
            }
            None if damping > 1e9 => break,
            None => damping *= 10.0,
        }
    }
    let pixels = cost.rows(0, 8 * frames.len());
    best.misses_px = (pixels.norm_squared() / (4 * frames.len()) as f64).sqrt();
    Ok(best)
}

/// The parallelogram on the rays through four places, squared up.
fn start(first: &PulledCorners, distance: f64) -> Option<Rectangle> {
    let ways = first.at.map(|p| first.camera.ray(p).along);
    // Of a parallelogram, a - b + c - d = 0.
    let m = Matrix3::from_columns(&[ways[1], -ways[2], ways[3]]);
    let found = m.try_inverse()? * ways[0];
    let depths = [1.0, found.x, found.y, found.z];
    if depths.iter().any(|d| !(*d > 1e-6)) {
        return None;
    }
    let from = first.camera.centre();
    let middle: Vector3<f64> = (0..4).map(|k| ways[k] * depths[k]).sum::<Vector3<f64>>() * 0.25;
    let times = distance / middle.norm();
    let corners: [Vector3<f64>; 4] = std::array::from_fn(|k| from + ways[k] * (depths[k] * times));
    let across = (corners[1] - corners[0] + corners[2] - corners[3]) * 0.5;
    let up = (corners[3] - corners[0] + corners[2] - corners[1]) * 0.5;
    let ahead = across.cross(&up).try_normalize(1e-12)?;
    let middle = corners.iter().sum::<Vector3<f64>>() * 0.25;
    if ahead.dot(&(middle - from)) > 0.0 {
        return None;
    }
    let right = across.try_normalize(1e-12)?;
    let rotation = Rotation3::from_matrix_unchecked(Matrix3::from_columns(&[right, ahead.cross(&right), ahead]));
    Some(Rectangle { middle, rotation, size: [across.norm(), up.norm()], misses_px: 0.0 })
}

/// Distances of corners, px, and of the depth from the one that it had.
fn residuals(frames: &[PulledCorners], card: &Rectangle, distance: f64) -> Option<DVector<f64>> {
    let mut all = Vec::with_capacity(8 * frames.len() + 1);
    for frame in frames {
        for (corner, at) in card.corners().iter().zip(frame.at) {
            let seen = frame.camera.project(*corner)? - at;
            all.extend([seen.x, seen.y]);
        }
    }
    let away = (card.middle - frames.first()?.camera.centre()).norm();
    let weight = if frames.len() > 1 { 0.0 } else { KEEP_DEPTH_PX };
    all.push(weight * (away / distance).ln());
    Some(DVector::from_vec(all))
}

fn linear(frames: &[PulledCorners], card: &Rectangle, distance: f64) -> Option<DMatrix<f64>> {
    let mut slopes = DMatrix::zeros(8 * frames.len() + 1, 8);
    for k in 0..8 {
        let mut by = SMatrix::<f64, 8, 1>::zeros();
        by[k] = STEP;
        let more = residuals(frames, &card.moved(&by), distance)?;
        by[k] = -STEP;
        let less = residuals(frames, &card.moved(&by), distance)?;
        slopes.set_column(k, &((more - less) / (2.0 * STEP)));
    }
    Some(slopes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use proptest::prelude::*;

    fn camera(eye: [f64; 3]) -> Camera {
        let pose = Pose::look_at(Vector3::from(eye), Vector3::new(0.0, 1.0, 0.0), Vector3::y()).unwrap();
        Camera::new(pose, Lens { focal_px: 1000.0, centre_px: [639.5, 359.5], k1: 0.0, k2: 0.0 }, 720)
    }

    fn card(turn: f64, tilt: f64) -> Rectangle {
        let rotation = Rotation3::from_euler_angles(tilt, turn, 0.1);
        Rectangle { middle: Vector3::new(0.4, 1.2, 0.3), rotation, size: [2.4, 0.9], misses_px: 0.0 }
    }

    fn seen(camera: &Camera, card: &Rectangle, jitter: f64) -> PulledCorners {
        let mut k = 0.0f64;
        let at = card.corners().map(|c| {
            k += 1.0;
            camera.project(c).unwrap() + Vector2::new((7.3 * k).sin(), (3.1 * k).cos()) * jitter
        });
        PulledCorners { camera: *camera, at }
    }

    proptest! {
        #[test]
        fn a_card_is_found_from_its_corners(turn in -0.9f64..0.9, tilt in -0.7f64..0.7) {
            let (truth, first) = (card(turn, tilt), camera([3.0, 2.0, 9.0]));
            let distance = (truth.middle - first.centre()).norm();
            let found = pulled(&[seen(&first, &truth, 0.0)], distance).unwrap();
            for (a, b) in found.corners().iter().zip(truth.corners()) {
                prop_assert!((a - b).norm() < 1e-3, "{} {}", a, b);
            }
            prop_assert!(found.misses_px < 1e-3);
        }
    }

    #[test]
    fn a_second_frame_mends_the_depth() {
        let (truth, first, second) = (card(0.3, 0.1), camera([3.0, 2.0, 9.0]), camera([-4.0, 2.5, 8.0]));
        let wrong = 1.4 * (truth.middle - first.centre()).norm();
        let one = pulled(&[seen(&first, &truth, 0.0)], wrong).unwrap();
        assert!((one.size[0] - 1.4 * 2.4).abs() < 0.02 && one.misses_px < 0.01, "{one:?}");
        let both = pulled(&[seen(&first, &truth, 0.0), seen(&second, &truth, 0.0)], wrong).unwrap();
        assert!((both.size[0] - 2.4).abs() < 1e-4 && (both.middle - truth.middle).norm() < 1e-4, "{both:?}");
        let rough = pulled(&[seen(&first, &truth, 2.0), seen(&second, &truth, 2.0)], wrong).unwrap();
        assert!(rough.misses_px > 0.3 && rough.misses_px < 2.5, "{}", rough.misses_px);
    }

    #[test]
    fn corners_that_cross_make_no_card() {
        let (truth, first) = (card(0.3, 0.1), camera([3.0, 2.0, 9.0]));
        let mut crossed = seen(&first, &truth, 0.0);
        crossed.at.swap(0, 1);
        assert_eq!(pulled(&[crossed], 9.0), Err(PullError::NoCard));
        assert_eq!(pulled(&[], 9.0), Err(PullError::Nothing));
    }
}
