//! A plane of the scene.

use crate::camera::Ray;
use crate::geometry::{Similarity, ascending_eigen};
use nalgebra::{Matrix3, Vector3};
use serde::{Deserialize, Serialize};

/// Sine of the angle between a ray and a plane below which they do not meet.
const GRAZING: f64 = 1e-9;

/// An infinite plane, in whatever world it was made.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Plane {
    /// A point on it.
    pub point: Vector3<f64>,
    /// Its unit normal.
    pub normal: Vector3<f64>,
}

impl Plane {
    /// Signed distance of a point, on the normal's side above zero.
    pub fn distance(&self, p: Vector3<f64>) -> f64 {
        self.normal.dot(&(p - self.point))
    }

    /// The point of it nearest to `p`.
    pub fn foot(&self, p: Vector3<f64>) -> Vector3<f64> {
        p - self.normal * self.distance(p)
    }

    /// Where a ray meets it in front of where the ray begins.
    pub fn meet(&self, ray: &Ray) -> Option<Vector3<f64>> {
        let along = self.normal.dot(&ray.along);
        let distance = -self.distance(ray.from) / along;
        (along.abs() > GRAZING && distance > GRAZING && distance.is_finite()).then(|| ray.from + ray.along * distance)
    }

    /// The same plane with its normal on the side of `p`.
    #[must_use]
    pub fn facing(self, p: Vector3<f64>) -> Self {
        if self.distance(p) < 0.0 { Self { normal: -self.normal, ..self } } else { self }
    }

    /// The same plane with its normal on the side of another's.
    #[must_use]
    pub fn turned_like(self, other: &Self) -> Self {
        if self.normal.dot(&other.normal) < 0.0 { Self { normal: -self.normal, ..self } } else { self }
    }

    /// The plane in another world.
    #[must_use]
    pub fn moved(&self, by: &Similarity) -> Self {
        Self { point: by.point(self.point), normal: by.rotation * self.normal }
    }

    /// Two unit directions in it, across each other and right-handed with the normal: `a x b = normal`.
    pub fn across(&self) -> [Vector3<f64>; 2] {
        let n = self.normal;
        let beside = if n.x.abs() < 0.7 { Vector3::x() } else { Vector3::z() };
        let a = (beside - n * n.dot(&beside)).normalize();
        [a, n.cross(&a)]
    }

    /// Angle between two planes, 0 to 90 degrees.
    pub fn angle_deg(&self, other: &Self) -> f64 {
        // The cross product keeps its digits where the cosine of a small angle has none left.
        let (s, c) = (self.normal.cross(&other.normal).norm(), self.normal.dot(&other.normal).abs());
        s.atan2(c).to_degrees()
    }
}

/// The plane nearest to weighted points in the least-squares sense. `None` for fewer than three points, or points on a
/// line.
pub fn fit_weighted(points: impl Iterator<Item = (Vector3<f64>, f64)> + Clone) -> Option<Plane> {
    let (mut total, mut sum, mut count) = (0.0, Vector3::zeros(), 0usize);
    for (p, w) in points.clone() {
        total += w;
        sum += p * w;
        count += 1;
    }
    if count < 3 || !(total > 0.0) {
        return None;
    }
    let mean = sum / total;
    let spread = points.fold(Matrix3::zeros(), |m, (p, w)| m + (p - mean) * (p - mean).transpose() * (w / total));
    let [(_, normal), (middle, _), (most, _)] = ascending_eigen(spread)?;
    // On a line the two smaller spreads are both nothing beside the largest.
    if middle <= 1e-8 * most {
        return None;
    }
    Some(Plane { point: mean, normal: normal.normalize() })
}

/// The plane nearest to weighted points among those that stand upright: across `up`. `None` as for [`fit_weighted`].
pub fn fit_upright(points: impl Iterator<Item = (Vector3<f64>, f64)> + Clone, up: &Vector3<f64>) -> Option<Plane> {
    let (total, sum) = points.clone().fold((0.0, Vector3::zeros()), |(t, s), (p, w)| (t + w, s + p * w));
    if !(total > 0.0) {
        return None;
    }
    let mean = sum / total;
    let [a, b] = Plane { point: mean, normal: *up }.across();
    let mut spread = nalgebra::Matrix2::zeros();
    for (p, w) in points {
        let flat = nalgebra::Vector2::new((p - mean).dot(&a), (p - mean).dot(&b));
        spread += flat * flat.transpose() * (w / total);
    }
    let eigen = spread.try_symmetric_eigen(1e-14, 200)?;
    let least = usize::from(eigen.eigenvalues[1] < eigen.eigenvalues[0]);
    let way = eigen.eigenvectors.column(least);
    (eigen.eigenvalues[1 - least] > 0.0).then(|| Plane { point: mean, normal: (a * way[0] + b * way[1]).normalize() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use nalgebra::Rotation3;
    use proptest::prelude::*;

    fn vector() -> impl Strategy<Value = Vector3<f64>> {
        (-5f64..5.0, -5f64..5.0, -5f64..5.0).prop_map(|(x, y, z)| Vector3::new(x, y, z))
    }

    #[test]
    fn a_plane_is_fitted_and_points_on_a_line_are_refused() {
        let points = (0..12).map(|i| (Vector3::new(f64::from(i % 4), 2.0, f64::from(i / 4)), 1.0));
        let plane = fit_weighted(points).unwrap();
        assert!((plane.point.y - 2.0).abs() < 1e-12 && plane.normal.y.abs() > 1.0 - 1e-9);
        let line = (0..9).map(|i| (Vector3::new(f64::from(i), 2.0 * f64::from(i), 0.0), 1.0));
        assert!(fit_weighted(line.clone()).is_none() && fit_weighted(line.take(2)).is_none());
    }

    proptest! {
        #[test]
        fn feet_and_meeting_points_lie_on_it_in_any_world(
            on in vector(), n in vector(), p in vector(), from in vector(), along in vector(), w in vector(), s in 0.1f64..9.0,
        ) {
            prop_assume!(n.norm() > 0.1 && along.norm() > 0.1);
            let plane = Plane { point: on, normal: n.normalize() };
            let world = Similarity { scale: s, rotation: Rotation3::new(w), translation: p };
            let there = plane.moved(&world);
            prop_assert!(plane.distance(plane.foot(p)).abs() < 1e-9);
            prop_assert!((there.distance(world.point(p)) - s * plane.distance(p)).abs() < 1e-8);
            let ray = Ray { from, along: along.normalize() };
            if let Some(met) = plane.meet(&ray) {
                prop_assert!(plane.distance(met).abs() < 1e-6 * (1.0 + met.norm()));
                prop_assert!((met - from).dot(&ray.along) > 0.0);
            }
            let [a, b] = plane.across();
            prop_assert!((a.cross(&b) - plane.normal).norm() < 1e-9);
            prop_assert!(plane.facing(p).distance(p) >= 0.0);
        }
    }
}
