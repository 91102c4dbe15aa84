//! Cameras, and what can be computed from a few points: two-view geometry, resection, triangulation.
//!
//! Frames of reference are those of the crate's root: `cam_from_world` takes a world point to x right,
//! y down, z forward; pixels have (0, 0) at the centre of the top-left pixel. "Normalised" points are
//! undistorted and divided by the focal length: (x/z, y/z) of the camera frame.

mod align3;
mod five_point;
mod homography;
mod lens;
mod p3p;
mod pose;
mod rolling;
mod symmetric;
mod triangulate;

pub use align3::{Similarity, fit_similarity, is_rotation};
pub use five_point::{decompose_essential, essential_from_five, sampson_squared};
pub use homography::{decompose_homography, homography, transfer_squared};
pub use lens::Lens;
pub use p3p::pose_from_three;
pub use pose::{Pose, hat, log_so3, nearest_rotation};
pub use rolling::{Velocity, velocities};
pub use symmetric::ascending_eigen;
pub use triangulate::{parallax_rad, triangulate};
