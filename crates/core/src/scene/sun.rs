//! The sun, from a shadow that is seen on the floor.

use crate::camera::Ray;
use crate::survey::Plane;
use nalgebra::{Vector2, Vector3};

/// A shadow shorter than this part of its distance from the camera tells no direction.
const SHORTEST: f64 = 1e-3;

/// Where the sun stands, as far as a shadow tells.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SunSeen {
    /// Compass bearing about Y, degrees; 0 is +Z, 90 is +X.
    pub bearing_deg: f64,
    /// Height over the floor, degrees; only where the top of the thing was seen.
    pub height_deg: Option<f64>,
}

/// Why a shadow does not tell where the sun stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SunError {
    /// A place that is not on the floor.
    #[error("the {0} is not seen on the floor: draw from the foot of a thing to the tip of its shadow")]
    NotOnFloor(&'static str),
    /// No direction.
    #[error("the shadow is too short to tell a direction; draw along a longer one")]
    TooShort,
    /// The top lies no higher than the foot.
    #[error("the top lies no higher than the foot; draw it where the thing ends over its foot")]
    TopTooLow,
}

/// How high over the floor a ray passes over a place of it, by where it comes nearest to the upright there; `None` where
/// that lies behind the camera, or the ray runs straight up or down.
fn height_over(ray: &Ray, foot: &Vector3<f64>) -> Option<f64> {
    let level = Vector2::new(ray.along.x, ray.along.z);
    let to_foot = Vector2::new(foot.x - ray.from.x, foot.z - ray.from.z);
    let far = to_foot.dot(&level) / level.norm_squared();
    (far.is_finite() && far > 0.0).then(|| ray.from.y + far * ray.along.y)
}

/// The sun by lines of sight, in the world of the datum, to the foot of an upright thing, to the tip of its shadow on
/// the floor, and to its top, if that is seen. They may be of several frames.
///
/// # Errors
/// [`SunError`] says what to draw instead.
pub fn sun_by_shadow(foot: &Ray, tip: &Ray, top: Option<&Ray>) -> Result<SunSeen, SunError> {
    let eye = foot.from;
    let floor = Plane { point: Vector3::zeros(), normal: Vector3::y() };
    let foot = floor.meet(foot).ok_or(SunError::NotOnFloor("foot"))?;
    let tip = floor.meet(tip).ok_or(SunError::NotOnFloor("tip of the shadow"))?;
    let toward = foot - tip;
    let length = toward.norm();
    if length < SHORTEST * (foot - eye).norm() {
        return Err(SunError::TooShort);
    }
    let height = |ray| height_over(ray, &foot).filter(|h| *h > 0.0).ok_or(SunError::TopTooLow);
    let height_deg = top.map(height).transpose()?.map(|h| h.atan2(length).to_degrees());
    Ok(SunSeen { bearing_deg: toward.x.atan2(toward.z).to_degrees(), height_deg })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sight(from: Vector3<f64>, to: Vector3<f64>) -> Ray {
        Ray { from, along: (to - from).normalize() }
    }

    fn apart_deg(a: f64, b: f64) -> f64 {
        ((a - b + 540.0).rem_euclid(360.0) - 180.0).abs()
    }

    proptest! {
        /// A pole casts its shadow away from the sun, wherever it is seen from.
        #[test]
        fn a_pole_and_its_shadow_tell_the_sun(
            bearing in -180.0f64..180.0, height in 5.0f64..80.0, pole in 0.5f64..6.0,
            x in -5.0f64..5.0, z in -20.0f64..-4.0, eyes in proptest::array::uniform3(1.0f64..9.0),
        ) {
            let (b, h) = (bearing.to_radians(), height.to_radians());
            let foot = Vector3::new(x, 0.0, z);
            let tip = foot - Vector3::new(b.sin(), 0.0, b.cos()) * (pole / h.tan());
            let eye = |k: usize| Vector3::new(0.3 * k as f64, eyes[k], 9.0);
            prop_assume!((tip - foot).norm() > 0.05 && tip.z < 8.0);
            let [foot_seen, tip_seen] = [sight(eye(0), foot), sight(eye(1), tip)];
            let top = sight(eye(2), foot + Vector3::y() * pole);
            let found = sun_by_shadow(&foot_seen, &tip_seen, Some(&top)).unwrap();
            prop_assert!(apart_deg(found.bearing_deg, bearing) < 1e-6, "{} {}", found.bearing_deg, bearing);
            prop_assert!((found.height_deg.unwrap() - height).abs() < 1e-6);
            let less = sun_by_shadow(&foot_seen, &tip_seen, None).unwrap();
            prop_assert_eq!(less, SunSeen { height_deg: None, ..found });
        }
    }

    #[test]
    fn what_tells_nothing_says_what_to_draw() {
        let eye = Vector3::new(0.0, 2.0, 9.0);
        let at = |x: f64, y: f64| sight(eye, Vector3::new(x, y, 0.0));
        assert_eq!(sun_by_shadow(&at(0.0, 4.0), &at(1.0, 0.0), None), Err(SunError::NotOnFloor("foot")));
        assert_eq!(sun_by_shadow(&at(0.0, 0.0), &at(1.0, 4.0), None), Err(SunError::NotOnFloor("tip of the shadow")));
        assert_eq!(sun_by_shadow(&at(0.0, 0.0), &at(0.001, 0.0), None), Err(SunError::TooShort));
        let below = sun_by_shadow(&at(0.0, 0.0), &at(1.0, 0.0), Some(&at(0.0, -0.5)));
        assert_eq!(below, Err(SunError::TopTooLow));
    }
}
