//! Points from rays.

use super::Pose;
use nalgebra::{Matrix3, Vector2, Vector3};

/// Steps of the refinement.
const STEPS: usize = 8;

/// The world point nearest to where all cameras see it.
///
/// `views` are `cam_from_world` poses with the normalised (undistorted) point that each sees. Starts
/// from the midpoint of all rays and refines the normalised reprojection by Gauss-Newton (Hartley &
/// Zisserman, "Multiple View Geometry", 2nd ed., section 12). `None` when the rays are parallel, or
/// the point comes to lie behind a camera.
pub fn triangulate(views: &[(Pose, Vector2<f64>)]) -> Option<Vector3<f64>> {
    if views.len() < 2 {
        return None;
    }
    let mut a = Matrix3::zeros();
    let mut b = Vector3::zeros();
    for (pose, n) in views {
        let ray = (pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0)).normalize();
        let across = Matrix3::identity() - ray * ray.transpose();
        a += across;
        b += across * pose.centre();
    }
    let mut point = a.try_inverse()? * b;
    for _ in 0..STEPS {
        let mut normal = Matrix3::zeros();
        let mut right = Vector3::zeros();
        for (pose, n) in views {
            let c = pose.to_camera(point);
            if c.z <= 1e-9 {
                return None;
            }
            let (x, y) = (c.x / c.z, c.y / c.z);
            let rows = pose.rotation.matrix();
            let jx = (rows.row(0) - rows.row(2) * x) / c.z;
            let jy = (rows.row(1) - rows.row(2) * y) / c.z;
            normal += jx.transpose() * jx + jy.transpose() * jy;
            right += jx.transpose() * (n.x - x) + jy.transpose() * (n.y - y);
        }
        let step = normal.cholesky()?.solve(&right);
        point += step;
        if step.norm() < 1e-10 * point.norm().max(1e-3) {
            break;
        }
    }
    (point.iter().all(|v| v.is_finite()) && views.iter().all(|(pose, _)| pose.to_camera(point).z > 1e-9))
        .then_some(point)
}

/// The largest angle, in radians, under which any two of the camera centres are seen from `point`.
/// (Against the first and the last centre only when there are many; those span a smooth path.)
pub fn parallax_rad(point: Vector3<f64>, centres: &[Vector3<f64>]) -> f64 {
    let rays: Vec<Vector3<f64>> = centres.iter().filter_map(|c| (point - c).try_normalize(1e-12)).collect();
    let mut least_cosine = 1.0f64;
    let anchors = [rays.first(), rays.get(rays.len() / 2), rays.last()];
    for anchor in anchors.into_iter().flatten() {
        for ray in &rays {
            least_cosine = least_cosine.min(anchor.dot(ray));
        }
    }
    least_cosine.clamp(-1.0, 1.0).acos()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_point_seen_by_three_cameras_is_found(x in -2.0f64..2.0, y in -1.0f64..1.0, z in -2.0f64..2.0) {
            let p = Vector3::new(x, y, z);
            let views: Vec<_> = [-2.0, 0.3, 2.5]
                .iter()
                .map(|&e| {
                    let pose = Pose::look_at(Vector3::new(e, 2.0, 9.0), Vector3::zeros(), Vector3::y()).unwrap();
                    let c = pose.to_camera(p);
                    (pose, Vector2::new(c.x / c.z, c.y / c.z))
                })
                .collect();
            prop_assert!((triangulate(&views).unwrap() - p).norm() < 1e-8);
        }
    }

    #[test]
    fn parallel_rays_and_a_single_view_have_no_point() {
        let pose = Pose::identity();
        let n = Vector2::new(0.1, 0.0);
        assert_eq!(triangulate(&[(pose, n)]), None);
        assert!(triangulate(&[(pose, n), (pose, n)]).is_none());
    }

    #[test]
    fn parallax_is_the_angle_between_rays() {
        let angle = parallax_rad(Vector3::new(0.0, 0.0, 10.0), &[Vector3::zeros(), Vector3::new(10.0, 0.0, 10.0)]);
        assert!((angle - std::f64::consts::FRAC_PI_2).abs() < 1e-9);
    }
}
