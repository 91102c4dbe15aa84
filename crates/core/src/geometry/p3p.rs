//! A camera from three points (resection).

use super::{Pose, nearest_rotation};
use nalgebra::{Matrix3, Matrix4, Vector3};

/// How far squares of sides may be off, of the longest, before distances are polished, and steps of that: near a double
/// root each only halves what is left.
const EXACT: f64 = 1e-12;
const POLISHED: usize = 30;

/// All poses (up to four) from which the three world points are seen along the three rays.
///
/// `rays` are camera-frame directions of any length. Grunert's solution of 1841 in the form of
/// Haralick, Lee, Ottenberg & Nolle, "Review and Analysis of Solutions of the Three Point Perspective
/// Pose Estimation Problem", 1994, equation (9); the quartic's roots are the eigenvalues of its
/// companion matrix, polished by Newton's method.
pub fn pose_from_three(rays: &[Vector3<f64>; 3], world: &[Vector3<f64>; 3]) -> Vec<Pose> {
    let mut j = [Vector3::zeros(); 3];
    for (out, ray) in j.iter_mut().zip(rays) {
        match ray.try_normalize(1e-12) {
            Some(unit) => *out = unit,
            None => return Vec::new(),
        }
    }
    let (a2, b2, c2) = (
        (world[1] - world[2]).norm_squared(),
        (world[0] - world[2]).norm_squared(),
        (world[0] - world[1]).norm_squared(),
    );
    let (ca, cb, cc) = (j[1].dot(&j[2]), j[0].dot(&j[2]), j[0].dot(&j[1]));
    if !(a2 > 1e-18 && b2 > 1e-18 && c2 > 1e-18) {
        return Vec::new();
    }
    let (p, q, a_b, c_b) = ((a2 - c2) / b2, (a2 + c2) / b2, a2 / b2, c2 / b2);
    let coefficients = [
        (1.0 + p).powi(2) - 4.0 * a_b * cc * cc,
        4.0 * (-p * (1.0 + p) * cb + 2.0 * a_b * cc * cc * cb - (1.0 - q) * ca * cc),
        2.0 * (p * p - 1.0 + 2.0 * p * p * cb * cb + 2.0 * (1.0 - c_b) * ca * ca - 4.0 * q * ca * cb * cc
            + 2.0 * (1.0 - a_b) * cc * cc),
        4.0 * (p * (1.0 - p) * cb - (1.0 - q) * ca * cc + 2.0 * c_b * ca * ca * cb),
        (p - 1.0).powi(2) - 4.0 * c_b * ca * ca,
    ];
    let mut poses = Vec::new();
    for v in real_roots(&coefficients) {
        let divisor = 2.0 * (cc - v * ca);
        if v <= 0.0 || divisor.abs() < 1e-10 {
            continue;
        }
        let u = ((p - 1.0) * v * v - 2.0 * p * cb * v + 1.0 + p) / divisor;
        let s1 = (b2 / (1.0 + v * v - 2.0 * v * cb)).sqrt();
        if u <= 0.0 || !s1.is_finite() {
            continue;
        }
        let sides = ([(1, 2), (0, 2), (0, 1)], [a2, b2, c2], [ca, cb, cc]);
        let s = polished(Vector3::new(s1, u * s1, v * s1), sides);
        let camera = [j[0] * s[0], j[1] * s[1], j[2] * s[2]];
        poses.extend(rigid_from_three(world, &camera));
    }
    poses
}

/// Distances of three points from the eye, polished until the sides between them are as long as they should be: near a
/// double root of the quartic, and where the divisor of `u` is small, half of their digits are lost on the way. Of each
/// side: its ends, the square of its length, and the cosine of the angle under which it is seen.
fn polished(mut s: Vector3<f64>, (ends, squares, cosines): ([(usize, usize); 3], [f64; 3], [f64; 3])) -> Vector3<f64> {
    let longest = squares.into_iter().fold(0.0, f64::max);
    for _ in 0..POLISHED {
        let mut off = Vector3::zeros();
        let mut slopes = Matrix3::zeros();
        for (k, (i, j)) in ends.into_iter().enumerate() {
            off[k] = s[i] * s[i] + s[j] * s[j] - 2.0 * s[i] * s[j] * cosines[k] - squares[k];
            slopes[(k, i)] = 2.0 * (s[i] - s[j] * cosines[k]);
            slopes[(k, j)] = 2.0 * (s[j] - s[i] * cosines[k]);
        }
        if off.amax() <= EXACT * longest {
            break;
        }
        let Some(step) = slopes.lu().solve(&off).filter(|d| d.amax() < 0.1 * s.amax()) else { break };
        s -= step;
    }
    s
}

fn rigid_from_three(world: &[Vector3<f64>; 3], camera: &[Vector3<f64>; 3]) -> Option<Pose> {
    let mean_w = (world[0] + world[1] + world[2]) / 3.0;
    let mean_c = (camera[0] + camera[1] + camera[2]) / 3.0;
    let cross = (0..3).fold(Matrix3::zeros(), |m, i| m + (camera[i] - mean_c) * (world[i] - mean_w).transpose());
    let rotation = nearest_rotation(&cross)?;
    Some(Pose { rotation, translation: mean_c - rotation * mean_w })
}

/// Real roots of `c[0] + c[1] v + ... + c[4] v^4`.
fn real_roots(c: &[f64; 5]) -> Vec<f64> {
    if c[4].abs() < 1e-14 || c.iter().any(|v| !v.is_finite()) {
        return Vec::new();
    }
    let mut companion = Matrix4::zeros();
    for i in 0..4 {
        companion[(i, 3)] = -c[i] / c[4];
        if i > 0 {
            companion[(i, i - 1)] = 1.0;
        }
    }
    let Some(schur) = nalgebra::Schur::try_new(companion, 1e-14, 200) else { return Vec::new() };
    schur
        .complex_eigenvalues()
        .iter()
        // Double roots split into a close complex pair; Newton's method brings the real part home.
        .filter(|e| e.im.abs() < 1e-2 * e.norm().max(1.0))
        .map(|e| {
            let mut v = e.re;
            for _ in 0..3 {
                let value = c[0] + v * (c[1] + v * (c[2] + v * (c[3] + v * c[4])));
                let slope = c[1] + v * (2.0 * c[2] + v * (3.0 * c[3] + v * 4.0 * c[4]));
                if slope.abs() > 1e-12 {
                    v -= value / slope;
                }
            }
            v
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn point() -> impl Strategy<Value = Vector3<f64>> {
        (-3.0f64..3.0, -2.0f64..2.0, -3.0f64..3.0).prop_map(|(x, y, z)| Vector3::new(x, y, z))
    }

    proptest! {
        #[test]
        fn the_true_pose_is_among_the_answers(a in point(), b in point(), c in point(), ex in -4.0f64..4.0,
            ey in 0.5f64..4.0) {
            prop_assume!((b - a).cross(&(c - a)).norm() > 0.5);
            let pose = Pose::look_at(Vector3::new(ex, ey, 11.0), Vector3::zeros(), Vector3::y()).unwrap();
            let world = [a, b, c];
            let rays = world.map(|p| pose.to_camera(p));
            let answers = pose_from_three(&rays, &world);
            let nearest = answers
                .iter()
                .map(|p| (p.centre() - pose.centre()).norm() + (p.rotation.matrix() - pose.rotation.matrix()).norm())
                .fold(f64::INFINITY, f64::min);
            prop_assert!(nearest < 1e-3, "nearest of {} answers is off by {nearest}", answers.len());
        }
    }

    #[test]
    fn coinciding_points_have_no_pose() {
        let p = Vector3::new(1.0, 2.0, 3.0);
        assert!(pose_from_three(&[p, p, p], &[p, p, p]).is_empty());
    }
}
