//! The true cameras of the film, and true points with the frames in which they are seen.

use crate::flight::RATE;
use crate::scene::Scene;
use crate::sensor::direction;
use crate::take::Take;
use fennik_core::camera::Camera;
use fennik_core::geometry::{Lens, Pose};
use nalgebra::{Matrix3, Rotation3, Vector2, Vector3};
use serde::{Deserialize, Serialize};

/// Points that are followed.
const POINTS: usize = 220;
/// Distance from the picture's edge within which a point does not count, px.
const MARGIN_PX: f64 = 8.0;

/// Normalised radius of the picture's corner, with some to spare.
const MAX_RADIUS: f64 = 1.0;

/// The truth of a clip.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Truth {
    /// Name of the clip.
    pub name: String,
    /// Picture width, px.
    pub width: u32,
    /// Picture height, px.
    pub height: u32,
    /// Frames a second.
    pub fps: f64,
    /// Kind of move.
    pub motion: String,
    /// Part of the frame time between the first and the last row, where it is not zero.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling_shutter_readout: Option<f64>,
    /// Part of the picture that things on the move cover, over all frames.
    #[serde(default)]
    pub moving_share: f64,
    /// One camera a frame.
    pub frames: Vec<TrueCamera>,
    /// Points on things that stand still.
    pub points: Vec<TruePoint>,
}

/// A true camera.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct TrueCamera {
    /// Frame.
    pub frame: u32,
    /// Rows; world to camera.
    pub rotation: [[f64; 3]; 3],
    /// Camera frame, metres.
    pub translation: [f64; 3],
    /// px.
    pub focal_length_px: f64,
    /// px.
    pub principal_point_px: [f64; 2],
    /// Radial term of r^2.
    pub k1: f64,
    /// Radial term of r^4.
    pub k2: f64,
}

/// A true point.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct TruePoint {
    /// World, metres.
    pub position: [f64; 3],
    /// Frames in which nothing is before it.
    pub visible: Vec<u32>,
    /// The flat surface that it lies on, where that is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub surface: Option<String>,
}

impl TrueCamera {
    /// Its pose.
    pub fn pose(&self) -> Pose {
        let m = Matrix3::from_fn(|r, c| self.rotation[r][c]);
        Pose { rotation: Rotation3::from_matrix_unchecked(m), translation: Vector3::from(self.translation) }
    }

    /// Its lens.
    pub fn lens(&self) -> Lens {
        Lens { focal_px: self.focal_length_px, centre_px: self.principal_point_px, k1: self.k1, k2: self.k2 }
    }
}

impl Truth {
    /// The true pixels of every point over the frames in which it is seen.
    pub fn sightings(&self) -> Vec<fennik_core::check::TruePoint> {
        let image = |frame: u32, p: &TruePoint| {
            let camera = &self.frames[frame as usize];
            let c = camera.pose().to_camera(Vector3::from(p.position));
            camera.lens().project(Vector2::new(c.x / c.z, c.y / c.z))
        };
        self.points.iter().map(|p| p.visible.iter().map(|&f| (f, image(f, p))).collect()).collect()
    }

    /// The camera of a frame.
    pub fn camera(&self, frame: u32) -> Option<Camera> {
        self.frames.get(frame as usize).map(|c| Camera::new(c.pose(), c.lens(), self.height))
    }
}

impl Truth {
    /// The surfaces that the points name, each with its points.
    pub fn surfaces(&self) -> Vec<fennik_core::check::TrueSurface> {
        let mut all = std::collections::BTreeMap::<&str, Vec<Vector3<f64>>>::new();
        for p in &self.points {
            if let Some(name) = &p.surface {
                all.entry(name).or_default().push(Vector3::from(p.position));
            }
        }
        all.into_iter()
            .filter(|(_, points)| points.len() >= 3)
            .map(|(name, points)| fennik_core::check::TrueSurface { name: name.to_owned(), points })
            .collect()
    }
}

/// Computes the truth of a take. With a rolling shutter, a frame's camera is that of its middle row.
pub fn compute(scene: &dyn Scene, take: &Take) -> Truth {
    let frames: Vec<TrueCamera> = (0..take.frames)
        .map(|frame| {
            let (pose, lens) = (take.pose(f64::from(frame)), take.lens(f64::from(frame)));
            let m = pose.rotation.matrix();
            TrueCamera {
                frame,
                rotation: std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)])),
                translation: pose.translation.into(),
                focal_length_px: lens.focal_px,
                principal_point_px: lens.centre_px,
                k1: lens.k1,
                k2: lens.k2,
            }
        })
        .collect();
    let mut points = Vec::new();
    let mut i = 0u32;
    let (wide, high) = (f64::from(take.width - 1), f64::from(take.height - 1));
    while points.len() < POINTS && i < 4000 {
        // A low-discrepancy walk over frames and pixels (Roberts' additive recurrence).
        i += 1;
        let part = |g: f64| (f64::from(i) * g).fract();
        let frame = (part(0.819_172_513) * f64::from(take.frames - 1)).round();
        let pixel = Vector2::new(part(0.671_043_607) * wide, part(0.549_700_477) * high);
        let pose = take.pose(frame);
        let n = take.lens(frame).unproject(pixel);
        let ray = (pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0)).normalize();
        let Some(met) = scene.meet(pose.centre(), ray, frame).filter(|m| m.still && m.distance < 80.0) else {
            continue;
        };
        let position = pose.centre() + ray * met.distance;
        let visible: Vec<u32> = (0..take.frames).filter(|&f| sees(scene, take, position, f)).collect();
        if visible.len() >= 20 {
            points.push(TruePoint { position: position.into(), visible, surface: met.surface });
        }
    }
    Truth {
        name: take.name.to_owned(),
        width: take.width,
        height: take.height,
        fps: f64::from(RATE),
        motion: take.motion.to_owned(),
        moving_share: moving_share(scene, take),
        rolling_shutter_readout: (take.readout > 0.0).then_some(take.readout),
        frames,
        points,
    }
}

/// Frames and pixels between those that are asked what moves there.
const SHARE_STEP: (usize, usize) = (5, 20);

fn moving_share(scene: &dyn Scene, take: &Take) -> f64 {
    let (mut asked, mut moving) = (0usize, 0usize);
    for frame in (0..take.frames).step_by(SHARE_STEP.0).map(f64::from) {
        let (pose, lens) = (take.pose(frame), take.lens(frame));
        for y in (0..take.height).step_by(SHARE_STEP.1) {
            for x in (0..take.width).step_by(SHARE_STEP.1) {
                let ray = (pose.rotation.inverse() * direction(&lens, f64::from(x), f64::from(y))).normalize();
                asked += 1;
                moving += usize::from(scene.meet(pose.centre(), ray, frame).is_some_and(|m| m.moves));
            }
        }
    }
    moving as f64 / asked as f64
}

fn sees(scene: &dyn Scene, take: &Take, point: Vector3<f64>, frame: u32) -> bool {
    let pose = take.pose(f64::from(frame));
    let c = pose.to_camera(point);
    if c.z < 0.1 {
        return false;
    }
    let n = Vector2::new(c.x / c.z, c.y / c.z);
    let px = take.lens(f64::from(frame)).project(n);
    // Far off the axis the lens model folds back into the picture; nothing is seen there.
    let within = |v: f64, size: u32| (MARGIN_PX..f64::from(size - 1) - MARGIN_PX).contains(&v);
    let inside = n.norm() < MAX_RADIUS && within(px.x, take.width) && within(px.y, take.height);
    let away = point - pose.centre();
    let distance = away.norm();
    inside && scene.meet(pose.centre(), away / distance, f64::from(frame)).is_some_and(|m| m.distance > distance - 5e-3)
}
