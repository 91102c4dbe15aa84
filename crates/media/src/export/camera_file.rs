//! The camera file (see docs/formats.md) and the masks file.

use crate::clip::rate::Rate;
use fennik_core::camera::CameraPath;
use fennik_core::geometry::{Lens, Pose};
use fennik_core::matte::{MaskError, Masks};
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// The camera file as a whole.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CameraDocument {
    /// Always "fennik-camera".
    pub format: String,
    /// 1.
    pub version: u32,
    /// Picture width, px.
    pub width: u32,
    /// Picture height, px.
    pub height: u32,
    /// Frames per second as a fraction.
    pub frame_rate: [u32; 2],
    /// How the solve went.
    pub solve: SolveSummary,
    /// Solved frames only.
    pub frames: Vec<CameraFrame>,
    /// The points of the scene.
    pub points: Vec<CameraPoint>,
    /// The flat parts of the scene, in a file written from a shot.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub surfaces: Vec<CameraSurface>,
}

/// A flat part of the scene, in the world of the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CameraSurface {
    /// Its name.
    pub name: String,
    /// floor, wall, slope or other.
    pub kind: String,
    /// A point on it.
    pub point: [f64; 3],
    /// Its unit normal.
    pub normal: [f64; 3],
    /// Its corners, in their order round it.
    pub outline: Vec<[f64; 3]>,
}

/// How the solve went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SolveSummary {
    /// RMS reprojection error, px.
    pub rms_px: f64,
    /// free, nodal or planar.
    pub motion: String,
    /// Whether the focal length changes.
    pub zoom: bool,
    /// Part of the frame time between the first row and the last of a rolling shutter; a frame's camera is that of its
    /// middle row.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub readout: f64,
    /// Frames with a camera.
    pub frames_solved: u32,
    /// Frames of the trimmed clip.
    pub frames: u32,
}

/// One frame's camera.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CameraFrame {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// Frame in the file.
    pub source_frame: u32,
    /// Takes world points to x right, y down, z forward.
    pub world_to_camera: RigidMove,
    /// px.
    pub focal_length_px: f64,
    /// px.
    pub principal_point_px: [f64; 2],
    /// Radial term of r^2.
    pub k1: f64,
    /// Radial term of r^4.
    pub k2: f64,
    /// RMS reprojection error, px.
    pub rms_px: f64,
}

/// Rotation rows and translation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RigidMove {
    /// Rows.
    pub rotation: [[f64; 3]; 3],
    /// World units.
    pub translation: [f64; 3],
}

/// One point.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CameraPoint {
    /// Id of its track.
    pub id: u32,
    /// World.
    pub position: [f64; 3],
    /// RMS reprojection error, px.
    pub rms_px: f64,
    /// First frame on which it was used.
    pub first_frame: u32,
    /// Last frame on which it was used.
    pub last_frame: u32,
}

fn is_zero(v: &f64) -> bool {
    *v == 0.0
}

/// The document of a camera path, in its world.
pub fn camera_document(path: &CameraPath, rate: Rate, first_source_frame: u32) -> CameraDocument {
    let solution = path.solution();
    let frames = solution.frames.iter().zip(path.cameras()).map(|(f, camera)| {
        let pose = camera.pose();
        let m = pose.rotation.matrix();
        CameraFrame {
            frame: f.frame,
            source_frame: f.frame + first_source_frame,
            world_to_camera: RigidMove {
                rotation: std::array::from_fn(|r| std::array::from_fn(|c| m[(r, c)])),
                translation: pose.translation.into(),
            },
            focal_length_px: f.lens.focal_px,
            principal_point_px: f.lens.centre_px,
            k1: f.lens.k1,
            k2: f.lens.k2,
            rms_px: f.rms_px,
        }
    });
    let points = solution.points.iter().map(|p| CameraPoint {
        id: p.id.0,
        position: path.point(p.position).into(),
        rms_px: p.rms_px,
        first_frame: p.first_frame,
        last_frame: p.last_frame,
    });
    CameraDocument {
        format: "fennik-camera".to_owned(),
        version: 1,
        width: solution.width,
        height: solution.height,
        frame_rate: [rate.frames, rate.seconds],
        solve: SolveSummary {
            rms_px: solution.rms_px,
            motion: solution.motion.word().to_owned(),
            zoom: solution.zoom,
            readout: solution.readout,
            frames_solved: solution.frames.len() as u32,
            frames: solution.frames_total,
        },
        frames: frames.collect(),
        points: points.collect(),
        surfaces: Vec::new(),
    }
}

impl CameraFrame {
    /// Its pose and lens.
    pub fn camera(&self) -> (Pose, Lens) {
        let pose = &self.world_to_camera;
        let rotation = Rotation3::from_matrix_unchecked(Matrix3::from_fn(|r, c| pose.rotation[r][c]));
        let lens =
            Lens { focal_px: self.focal_length_px, centre_px: self.principal_point_px, k1: self.k1, k2: self.k2 };
        (Pose { rotation, translation: Vector3::from(pose.translation) }, lens)
    }
}

/// What can be wrong with a masks file.
#[derive(Debug, thiserror::Error)]
pub enum MasksFileError {
    /// Not the format.
    #[error("the masks file cannot be read: {0}. It must hold {{ \"masks\": [ ... ] }} as in docs/formats.md")]
    Format(#[from] serde_json::Error),
    /// The outlines make no sense.
    #[error("the masks file cannot be used: {0}")]
    Mask(#[from] MaskError),
}

/// Reads a masks file.
///
/// # Errors
/// [`MasksFileError`] with the place that is wrong.
pub fn read_masks(json: &[u8]) -> Result<Masks, MasksFileError> {
    let masks: Masks = serde_json::from_slice(json)?;
    masks.validate()?;
    Ok(masks)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn masks_are_read_in_the_words_of_the_format() {
        let text =
            br#"{ "masks": [ { "mode": "keep-out", "keys": [ { "frame": 0, "outline": [[0,0],[9,0],[9,9]] } ] } ] }"#;
        assert_eq!(read_masks(text).unwrap().masks.len(), 1);
        assert!(matches!(read_masks(b"{}"), Err(MasksFileError::Format(_))));
        let short = br#"{ "masks": [ { "mode": "keep-in", "keys": [ { "frame": 0, "outline": [[0,0],[9,0]] } ] } ] }"#;
        assert!(matches!(read_masks(short), Err(MasksFileError::Mask(_))));
    }
}
