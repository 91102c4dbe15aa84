//! Two views of a plane.

use super::Pose;
use nalgebra::{Matrix3, Rotation3, SMatrix, SVector, Vector2, Vector3};

/// Relative difference of the outer singular values under which the camera did not travel.
const STILL: f64 = 1e-9;

/// The homography (normalised coordinates, 3x3, up to scale) that takes the first of each pair onto the second, by the
/// direct linear transformation (Hartley & Zisserman, "Multiple View Geometry", 2nd ed., section 4.1). `None` under
/// four pairs, or where they do not determine it.
pub fn homography(pairs: &[(Vector2<f64>, Vector2<f64>)]) -> Option<Matrix3<f64>> {
    if pairs.len() < 4 {
        return None;
    }
    let mut normal = SMatrix::<f64, 9, 9>::zeros();
    for (p, q) in pairs {
        let across = SVector::<f64, 9>::from([p.x, p.y, 1.0, 0.0, 0.0, 0.0, -q.x * p.x, -q.x * p.y, -q.x]);
        let down = SVector::<f64, 9>::from([0.0, 0.0, 0.0, p.x, p.y, 1.0, -q.y * p.x, -q.y * p.y, -q.y]);
        normal += across * across.transpose() + down * down.transpose();
    }
    let eigen = normal.try_symmetric_eigen(1e-15, 500)?;
    let mut order: Vec<usize> = (0..9).collect();
    order.sort_by(|&a, &b| eigen.eigenvalues[a].total_cmp(&eigen.eigenvalues[b]));
    // A second direction in which nothing changes: three of the points lie on a line.
    if !(eigen.eigenvalues[order[1]] > 1e-12 * eigen.eigenvalues[order[8]]) {
        return None;
    }
    let h = eigen.eigenvectors.column(order[0]);
    let matrix = Matrix3::from_row_slice(h.as_slice());
    matrix.iter().all(|v| v.is_finite()).then_some(matrix)
}

/// Squared distance (normalised coordinates) of `q` from where the homography takes `p`.
pub fn transfer_squared(h: &Matrix3<f64>, p: &Vector2<f64>, q: &Vector2<f64>) -> f64 {
    let at = h * Vector3::new(p.x, p.y, 1.0);
    if at.z.abs() < 1e-12 { f64::INFINITY } else { (Vector2::new(at.x / at.z, at.y / at.z) - q).norm_squared() }
}

/// The motions (second camera from first) that a homography of a plane allows: two, of which the one is as good as the
/// other until a third view is asked; the shift is in units of the plane's distance. `pairs` tell on which side of the
/// camera the plane lies (Ma, Soatto, Kosecka & Sastry, "An Invitation to 3-D Vision", 2004, section 5.3). Empty where
/// the camera only turned.
pub fn decompose_homography(h: &Matrix3<f64>, pairs: &[(Vector2<f64>, Vector2<f64>)]) -> Vec<Pose> {
    let Some(svd) = h.try_svd(false, true, 1e-15, 200) else { return Vec::new() };
    let Some(v_t) = svd.v_t else { return Vec::new() };
    let mut order = [0, 1, 2];
    order.sort_by(|&a, &b| svd.singular_values[b].total_cmp(&svd.singular_values[a]));
    let [s1, s2, s3] = order.map(|k| svd.singular_values[k]);
    if !(s2 > 0.0) || !((s1 - s3) / s2 > STILL) {
        return Vec::new();
    }
    // Scaled so that the middle singular value is one, and so that points stay in front.
    let upright = |(p, q): &(Vector2<f64>, Vector2<f64>)| {
        Vector3::new(q.x, q.y, 1.0).dot(&(h * Vector3::new(p.x, p.y, 1.0))) > 0.0
    };
    let sign = if pairs.iter().filter(|p| upright(p)).count() * 2 >= pairs.len() { 1.0 } else { -1.0 };
    let h = h * (sign / s2);
    let (long, short) = ((s1 / s2).powi(2), (s3 / s2).powi(2));
    let [v1, v2, v3] = order.map(|k| v_t.row(k).transpose());
    let (a, b) = ((1.0 - short).max(0.0).sqrt(), (long - 1.0).max(0.0).sqrt());
    let width = (long - short).sqrt();
    let mut poses = Vec::new();
    for u in [(v1 * a + v3 * b) / width, (v1 * a - v3 * b) / width] {
        let from = Matrix3::from_columns(&[v2, u, v2.cross(&u)]);
        let to = Matrix3::from_columns(&[h * v2, h * u, (h * v2).cross(&(h * u))]);
        let rotation = to * from.transpose();
        let normal = v2.cross(&u);
        let shift = (h - rotation) * normal;
        let before = pairs.iter().filter(|(p, _)| normal.dot(&Vector3::new(p.x, p.y, 1.0)) > 0.0).count();
        // The normal of the other sign has the other shift; a plane is seen on one side of the camera only.
        let translation = if before * 2 >= pairs.len() { shift } else { -shift };
        if rotation.iter().chain(translation.iter()).all(|v| v.is_finite()) {
            poses.push(Pose { rotation: Rotation3::from_matrix_unchecked(rotation), translation });
        }
    }
    poses
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Points of a plane, in both cameras.
    fn seen(pose: &Pose, normal: Vector3<f64>, distance: f64) -> Vec<(Vector2<f64>, Vector2<f64>)> {
        let mut pairs = Vec::new();
        for i in 0..6 {
            for j in 0..5 {
                let ray = Vector3::new(-0.5 + 0.2 * f64::from(i), -0.3 + 0.15 * f64::from(j), 1.0);
                let x = ray * (distance / normal.dot(&ray));
                let c = pose.to_camera(x);
                pairs.push((Vector2::new(ray.x, ray.y), Vector2::new(c.x / c.z, c.y / c.z)));
            }
        }
        pairs
    }

    proptest! {
        #[test]
        fn one_of_the_two_motions_is_the_right_one(
            turn in prop::array::uniform3(-0.2f64..0.2),
            way in prop::array::uniform3(-1.0f64..1.0),
            tilt in prop::array::uniform2(-0.5f64..0.5),
            distance in 4.0f64..20.0,
        ) {
            prop_assume!(Vector3::from(way).norm() > 0.2);
            let pose = Pose { rotation: Rotation3::from_scaled_axis(Vector3::from(turn)),
                translation: Vector3::from(way) };
            let normal = Vector3::new(tilt[0], tilt[1], 1.0).normalize();
            let pairs = seen(&pose, normal, distance);
            let h = homography(&pairs).unwrap();
            prop_assert!(pairs.iter().all(|(p, q)| transfer_squared(&h, p, q) < 1e-16));
            let poses = decompose_homography(&h, &pairs);
            let residual = |found: &Pose| {
                (found.rotation.matrix() - pose.rotation.matrix()).norm()
                    + (found.translation * distance - pose.translation).norm()
            };
            let best = poses.iter().map(residual).fold(f64::INFINITY, f64::min);
            prop_assert!(best < 1e-5, "{best}: {poses:?}");
        }
    }

    #[test]
    fn a_camera_that_only_turns_and_points_on_a_line_give_no_motion() {
        let turned =
            Pose { rotation: Rotation3::from_scaled_axis(Vector3::new(0.0, 0.1, 0.0)), translation: Vector3::zeros() };
        let pairs = seen(&turned, Vector3::z(), 5.0);
        let h = homography(&pairs).unwrap();
        assert!(decompose_homography(&h, &pairs).iter().all(|p| p.translation.norm() < 1e-6));
        let line: Vec<_> = (0..9)
            .map(|i| (Vector2::new(0.1 * f64::from(i), 0.0), Vector2::new(0.1 * f64::from(i) + 0.1, 0.0)))
            .collect();
        assert_eq!(homography(&line), None);
        assert_eq!(homography(&pairs[..3]), None);
    }
}
