//! What is adjusted, and its residuals.

use crate::geometry::{Lens, Pose};
use crate::geometry::{Velocity, velocities};
use crate::solve::bundle::inverse_depth::{self as far, FarPoint};
use crate::solve::bundle::zoom_prior::{ZoomTerm, zoom_terms};
use nalgebra::{Matrix3, Vector2, Vector3};
use rayon::prelude::*;

/// Points are dealt out to this many sums, whatever the number of threads, so that the order of
/// additions never changes.
const PARTS: usize = 4;
/// Depth below which a point counts as behind the camera, world units.
pub const MIN_DEPTH: f64 = 1e-6;
/// How far the principal point usually lies from the middle of the picture, parts of its height.
const CENTRE_OFF: f64 = 0.03;
/// Weight of its distance from there, squared, against that of an observation with the usual noise, px^2.
pub const CENTRE_WEIGHT: f64 = (PRIOR_AGAINST_PX / CENTRE_OFF) * (PRIOR_AGAINST_PX / CENTRE_OFF);
/// Noise of an observation against which what is usual is weighed, px.
const PRIOR_AGAINST_PX: f64 = 0.1;

/// One point seen by one camera.
#[derive(Debug, Clone, Copy)]
pub struct Observation {
    /// Index into the poses.
    pub camera: u32,
    /// Where it was seen, px.
    pub pixel: Vector2<f64>,
}

/// Which of the unknowns move.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    /// Turn and shift of the cameras.
    Free,
    /// Turn only: the camera stands still at the origin and points are directions.
    Nodal,
}

/// Cameras, their lens, and points with their observations.
#[derive(Debug, Clone)]
pub struct Bundle {
    /// `cam_from_world`, in the order of time.
    pub poses: Vec<Pose>,
    /// When each camera is, in frames, rising.
    pub times: Vec<f64>,
    /// The lens that all of them share.
    pub lens: Lens,
    /// Logarithm of each camera's focal length over the shared one; empty for a lens that does not zoom.
    pub zoom: Vec<f64>,
    /// Part of the frame time between the first and the last row.
    pub readout: f64,
    /// Rows of the picture.
    pub rows: f64,
    /// The middle of the picture, px, near which the principal point is expected.
    pub middle_px: [f64; 2],
    /// World frame.
    pub points: Vec<Vector3<f64>>,
    /// For each point that is far off the anchor of its ray; short or empty where none is.
    pub anchors: Vec<Option<Vector3<f64>>>,
    /// For each point its observations, by rising camera.
    pub observations: Vec<Vec<Observation>>,
}

impl Bundle {
    /// Cameras without points.
    pub fn new(poses: Vec<Pose>, times: Vec<f64>, lens: Lens) -> Self {
        let rows = 2.0 * lens.centre_px[1] + 1.0;
        Self {
            poses,
            times,
            lens,
            zoom: Vec::new(),
            readout: 0.0,
            rows,
            middle_px: lens.centre_px,
            points: Vec::new(),
            anchors: Vec::new(),
            observations: Vec::new(),
        }
    }

    /// A point that is far off, as such.
    pub fn far(&self, point: usize) -> Option<FarPoint> {
        let anchor = (*self.anchors.get(point)?)?;
        Some(FarPoint { position: self.points[point], anchor })
    }

    /// Whether a depth is one at which a point can be seen: in front of the camera, or, of a far point, beyond
    /// infinity.
    pub fn is_seen(&self, point: usize, depth: f64) -> bool {
        depth > MIN_DEPTH || (depth < -MIN_DEPTH && self.far(point).is_some())
    }

    /// The inverse of the 3x3 block of a point, damped.
    pub fn damped_inverse(&self, point: usize, v: &Matrix3<f64>, damping: f64) -> Option<Matrix3<f64>> {
        self.far(point).map_or_else(|| damped_inverse(v, damping), |far| far::damped_inverse(v, far, damping))
    }

    /// The lens of one camera.
    pub fn lens_of(&self, camera: usize) -> Lens {
        match self.zoom.get(camera) {
            Some(z) => Lens { focal_px: self.lens.focal_px * z.exp(), ..self.lens },
            None => self.lens,
        }
    }

    /// Part of the readout, from -1/2 to 1/2, at which a row is exposed.
    pub fn row_part(&self, row: f64) -> f64 {
        row / (self.rows - 1.0).max(1.0) - 0.5
    }

    /// How fast every camera moves, from its neighbours; only asked for with a rolling shutter.
    pub fn velocities(&self, options_readout: bool) -> Vec<Velocity> {
        if self.readout == 0.0 && !options_readout { Vec::new() } else { velocities(&self.poses, &self.times) }
    }

    /// The pose at the time at which an observation's row is exposed.
    pub fn pose_at(&self, observation: &Observation, velocities: &[Velocity]) -> Pose {
        let pose = self.poses[observation.camera as usize];
        match velocities.get(observation.camera as usize) {
            Some(s) if self.readout != 0.0 => s.propagate(&pose, self.readout * self.row_part(observation.pixel.y)),
            _ => pose,
        }
    }

    /// Seen minus projected, px, with the velocities of [`Self::velocities`]; `None` behind the camera.
    pub fn residual_with(
        &self,
        point: usize,
        observation: &Observation,
        velocities: &[Velocity],
    ) -> Option<Vector2<f64>> {
        let c = self.pose_at(observation, velocities).to_camera(self.points[point]);
        let lens = self.lens_of(observation.camera as usize);
        self.is_seen(point, c.z).then(|| observation.pixel - lens.project(Vector2::new(c.x / c.z, c.y / c.z)))
    }

    /// All residuals (seen minus projected), px, point by point and observation by observation; `None` behind
    /// the camera.
    pub fn residuals(&self) -> Vec<Vec<Option<Vector2<f64>>>> {
        let velocities = self.velocities(false);
        let of_point = |(p, seen): (usize, &Vec<Observation>)| {
            seen.iter().map(|o| self.residual_with(p, o, &velocities)).collect()
        };
        self.observations.par_iter().enumerate().map(of_point).collect()
    }

    /// Robust cost with Cauchy's loss, px^2; a point behind a camera costs as an error of 100 px.
    pub fn cost(&self, loss_px: f64) -> f64 {
        let c2 = loss_px * loss_px;
        let behind = c2 * (1.0 + 1e4 / c2).ln();
        let velocities = self.velocities(false);
        let ranges = self.parts();
        let sums: Vec<f64> = ranges
            .into_par_iter()
            .map(|range| {
                range
                    .flat_map(|p| self.observations[p].iter().map(move |o| (p, o)))
                    .map(|(p, o)| {
                        self.residual_with(p, o, &velocities).map_or(behind, |r| c2 * (r.norm_squared() / c2).ln_1p())
                    })
                    .sum()
            })
            .collect();
        let off = self.centre_off();
        let centre = CENTRE_WEIGHT * (off[0] * off[0] + off[1] * off[1]);
        sums.iter().sum::<f64>() + centre + self.zoom_terms().iter().map(ZoomTerm::cost).sum::<f64>()
    }

    /// How far the principal point lies from the middle of the picture, parts of its height.
    pub fn centre_off(&self) -> [f64; 2] {
        std::array::from_fn(|k| (self.lens.centre_px[k] - self.middle_px[k]) / self.rows)
    }

    /// The prior on a zoom.
    pub fn zoom_terms(&self) -> Vec<ZoomTerm> {
        zoom_terms(&self.zoom, &self.times, PRIOR_AGAINST_PX)
    }

    /// Whether all of it is made of numbers, and of lenses that can be.
    pub fn is_finite(&self) -> bool {
        self.lens.focal_px.is_finite()
            && self.lens.focal_px > 1.0
            && self.readout.is_finite()
            && self.lens.centre_px.iter().all(|c| c.is_finite())
            && self.zoom.iter().all(|z| z.abs() < 5.0)
            && self.points.iter().all(|p| p.iter().all(|v| v.is_finite()))
            && self.poses.iter().all(|p| p.translation.iter().chain(p.rotation.matrix().iter()).all(|v| v.is_finite()))
    }

    /// Ranges of points with about the same number of observations each.
    pub fn parts(&self) -> Vec<std::ops::Range<usize>> {
        let work = |o: &Vec<Observation>| o.len() * (o.len() + 8);
        let total: usize = self.observations.iter().map(work).sum();
        let mut ranges = Vec::with_capacity(PARTS);
        let (mut from, mut sum) = (0, 0);
        for (i, o) in self.observations.iter().enumerate() {
            sum += work(o);
            if sum * PARTS >= total * (ranges.len() + 1) && ranges.len() + 1 < PARTS {
                ranges.push(from..i + 1);
                from = i + 1;
            }
        }
        ranges.push(from..self.observations.len());
        ranges
    }
}

fn damped_inverse(v: &Matrix3<f64>, damping: f64) -> Option<Matrix3<f64>> {
    let mut m = *v;
    for i in 0..3 {
        m[(i, i)] += (damping * v[(i, i)]).max(1e-12);
    }
    m.try_inverse()
}
