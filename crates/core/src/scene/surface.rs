//! Surfaces: flat parts of the scene with names that stay.

use crate::geometry::Similarity;
use crate::survey::{ByPoints, FoundPlane, Inside, Plane, PlaneKind};
use crate::track::TrackId;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// Corners of an outline at most.
const MOST_CORNERS: usize = 64;
/// Longest name, characters.
const MAX_NAME: usize = 80;
/// How far corners may lie off the plane, of the outline's size.
const OFF_PLANE: f64 = 1e-3;
/// Surfaces that are one although found twice: within this angle, degrees, and this part of their size.
const SAME: (f64, f64) = (3.0, 0.1);

/// Names a surface within its shot; never used twice. The floor is none of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SurfaceId(pub u32);

/// How well a surface is known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SurfaceReading {
    /// RMS distance of what lies on it, px.
    pub fit_px: f64,
    /// The same, metres.
    pub fit_m: f64,
    /// Solved points on it.
    pub points: usize,
    /// Those that were chosen for it, but lie off it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<TrackId>,
    /// Windows of the pictures on it.
    pub windows: usize,
    /// Deviation of its normal, degrees.
    pub normal_deviation_deg: f64,
    /// Deviation of its place along the normal, metres.
    pub place_deviation_m: f64,
}

/// A flat part of the scene, in the world of the datum.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Surface {
    /// Its id in the document.
    pub id: SurfaceId,
    /// What people call it.
    pub name: String,
    /// What it is.
    pub kind: PlaneKind,
    /// A point on it.
    pub point: [f64; 3],
    /// Its unit normal, towards the cameras as they were when it was laid.
    pub normal: [f64; 3],
    /// Its corners, in their order round it.
    pub outline: Vec<[f64; 3]>,
    /// How well it is known; nothing where it was moved by hand.
    pub reading: Option<SurfaceReading>,
}

/// Why a surface cannot be.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SurfaceEditError {
    /// No such surface.
    #[error("there is no surface {id} any more; reload the page", id = id.0)]
    None {
        /// Which.
        id: SurfaceId,
    },
    /// Numbers that are none.
    #[error("a surface needs finite numbers and a normal of length 1")]
    NotSound,
    /// Too few or too many corners.
    #[error("an outline has 3 to {MOST_CORNERS} corners; this has {found}")]
    Corners {
        /// How many.
        found: usize,
    },
    /// Corners that lie off it.
    #[error("a corner lies off the plane of the surface")]
    OffPlane,
    /// A name that cannot be shown, or is taken.
    #[error("a surface's name is one line of 1 to {MAX_NAME} characters that no other surface has, and not \"floor\"")]
    Name,
    /// Two planes without an edge.
    #[error("the two surfaces are parallel or nearly so: there is no edge to turn about")]
    Parallel,
}

impl Surface {
    /// A plane that was found, in the world of a datum.
    pub fn of_found(name: String, found: &FoundPlane, world: &Similarity) -> Self {
        let plane = found.plane.moved(world);
        Self {
            id: SurfaceId(0),
            name,
            kind: found.kind,
            point: plane.point.into(),
            normal: plane.normal.into(),
            outline: found.outline.iter().map(|c| world.point(*c).into()).collect(),
            reading: Some(SurfaceReading {
                fit_px: found.fit_px,
                fit_m: found.fit * world.scale,
                points: found.points.len(),
                left_out: Vec::new(),
                windows: found.windows,
                normal_deviation_deg: found.normal_deviation_deg,
                place_deviation_m: found.place_deviation * world.scale,
            }),
        }
    }

    /// A plane through chosen points, in the world of a datum; it keeps which of them lie off it.
    pub fn through(name: String, kind: PlaneKind, through: &ByPoints, world: &Similarity) -> Self {
        let mut surface = Self { kind, ..Self::of_found(name, &through.found, world) };
        if let Some(reading) = &mut surface.reading {
            reading.left_out.clone_from(&through.left_out);
        }
        surface
    }

    /// Its plane.
    pub fn plane(&self) -> Plane {
        Plane { point: Vector3::from(self.point), normal: Vector3::from(self.normal) }
    }

    /// Angle between its normal and the world's up, degrees.
    pub fn tilt_deg(&self) -> f64 {
        self.normal[1].clamp(-1.0, 1.0).acos().to_degrees()
    }

    /// Its corners.
    pub fn corners(&self) -> Vec<Vector3<f64>> {
        self.outline.iter().map(|c| Vector3::from(*c)).collect()
    }

    /// The middle of its corners.
    pub fn middle(&self) -> Vector3<f64> {
        self.corners().iter().sum::<Vector3<f64>>() / self.outline.len().max(1) as f64
    }

    fn size(&self) -> f64 {
        let middle = self.middle();
        self.corners().iter().map(|c| (c - middle).norm()).fold(0.0, f64::max)
    }

    /// Moves it with the world.
    pub fn move_with(&mut self, by: &Similarity) {
        let plane = self.plane().moved(by);
        (self.point, self.normal) = (plane.point.into(), plane.normal.into());
        self.outline.iter_mut().for_each(|c| *c = by.point(Vector3::from(*c)).into());
        if let Some(reading) = &mut self.reading {
            reading.fit_m *= by.scale;
            reading.place_deviation_m *= by.scale;
        }
    }

    /// Moved along its normal, metres.
    #[must_use]
    pub fn pushed(&self, by_m: f64) -> Self {
        let shift = Vector3::from(self.normal) * by_m;
        self.carried(|p| p + shift, Vector3::from(self.normal))
    }

    /// Turned about the edge that it shares with another plane so that it stands at `angle_deg` to it.
    ///
    /// # Errors
    /// [`SurfaceEditError::Parallel`] where they share none.
    pub fn hinged(&self, to: &Plane, angle_deg: f64) -> Result<Self, SurfaceEditError> {
        let (n, m) = (Vector3::from(self.normal), to.normal);
        let edge = n.cross(&m).try_normalize(0.05).ok_or(SurfaceEditError::Parallel)?;
        // A point of both planes: from a point of this one, in it, across the edge.
        let across = edge.cross(&n);
        let from = self.middle();
        let on_edge = from - across * (to.distance(from) / to.normal.dot(&across));
        // Of the ways to that angle the one nearest to how it is.
        let now = n.angle(&m);
        let wanted = [angle_deg, 180.0 - angle_deg].map(f64::to_radians);
        let wanted = if (wanted[0] - now).abs() <= (wanted[1] - now).abs() { wanted[0] } else { wanted[1] };
        let turn = nalgebra::Rotation3::from_axis_angle(&nalgebra::Unit::new_unchecked(edge), now - wanted);
        Ok(self.carried(|p| on_edge + turn * (p - on_edge), turn * n))
    }

    /// Turned about its own middle, the least way, so that it stands at right angles to another plane.
    ///
    /// # Errors
    /// [`SurfaceEditError::Parallel`] where it lies along it.
    pub fn squared(&self, to: &Plane) -> Result<Self, SurfaceEditError> {
        let n = Vector3::from(self.normal);
        let square = (n - to.normal * to.normal.dot(&n)).try_normalize(0.05).ok_or(SurfaceEditError::Parallel)?;
        let turn = nalgebra::Rotation3::rotation_between(&n, &square).ok_or(SurfaceEditError::Parallel)?;
        let middle = self.middle();
        Ok(self.carried(|p| middle + turn * (p - middle), square))
    }

    fn carried(&self, place: impl Fn(Vector3<f64>) -> Vector3<f64>, normal: Vector3<f64>) -> Self {
        let moved = |p: &[f64; 3]| -> [f64; 3] { place(Vector3::from(*p)).into() };
        Self {
            point: moved(&self.point),
            normal: normal.into(),
            outline: self.outline.iter().map(moved).collect(),
            reading: None,
            ..self.clone()
        }
    }

    /// Whether another is this one found again.
    pub fn is_again(&self, other: &Self) -> bool {
        let (a, b) = (self.plane(), other.plane());
        let reach = SAME.1 * self.size().max(other.size());
        let near = a.distance(other.middle()).abs() < reach && b.distance(self.middle()).abs() < reach;
        let overlap = (self.middle() - other.middle()).norm() < self.size().max(other.size());
        a.angle_deg(&b) < SAME.0 && near && overlap
    }

    /// Whether a place of its plane lies inside its outline.
    pub fn holds(&self, place: Vector3<f64>) -> bool {
        Inside::new(&self.plane(), &self.corners()).holds(place)
    }

    /// Checks every number and the name.
    ///
    /// # Errors
    /// The first [`SurfaceEditError`].
    pub fn validate(&self) -> Result<(), SurfaceEditError> {
        let numbers = self.outline.iter().chain([&self.point, &self.normal]).flatten();
        if !numbers.clone().all(|v| v.is_finite() && v.abs() < 1e7)
            || (Vector3::from(self.normal).norm() - 1.0).abs() > 1e-6
        {
            return Err(SurfaceEditError::NotSound);
        }
        if !(3..=MOST_CORNERS).contains(&self.outline.len()) {
            return Err(SurfaceEditError::Corners { found: self.outline.len() });
        }
        let (plane, size) = (self.plane(), self.size());
        if self.corners().iter().any(|c| plane.distance(*c).abs() > OFF_PLANE * size.max(1e-9)) {
            return Err(SurfaceEditError::OffPlane);
        }
        let name = self.name.trim();
        let shown = (1..=MAX_NAME).contains(&name.chars().count()) && !self.name.chars().any(char::is_control);
        if !shown || name.eq_ignore_ascii_case("floor") {
            return Err(SurfaceEditError::Name);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nalgebra::Rotation3;
    use proptest::prelude::*;

    fn wall(normal: Vector3<f64>) -> Surface {
        let n = normal.normalize();
        let plane = Plane { point: Vector3::new(1.0, 2.0, -4.0), normal: n };
        let [a, b] = plane.across();
        let corner = |x: f64, y: f64| -> [f64; 3] { (plane.point + a * x + b * y).into() };
        Surface {
            id: SurfaceId(1),
            name: "wall A".into(),
            kind: PlaneKind::Wall,
            point: plane.point.into(),
            normal: n.into(),
            outline: vec![corner(-1.0, -1.0), corner(1.0, -1.0), corner(1.0, 1.0), corner(-1.0, 1.0)],
            reading: None,
        }
    }

    const FLOOR: Plane = Plane { point: Vector3::new(0.0, 0.0, 0.0), normal: Vector3::new(0.0, 1.0, 0.0) };

    proptest! {
        #[test]
        fn squaring_and_hinging_reach_the_angle_and_keep_the_shape(
            x in -1f64..1.0, y in -0.4f64..0.4, z in 0.5f64..1.5, angle in 20f64..90.0,
        ) {
            let leaning = wall(Vector3::new(x, y, z));
            let square = leaning.squared(&FLOOR).unwrap();
            prop_assert!((square.tilt_deg() - 90.0).abs() < 1e-9 && (square.middle() - leaning.middle()).norm() < 1e-9);
            prop_assert!(square.validate().is_ok() && (square.size() - leaning.size()).abs() < 1e-9);
            let other = Plane { point: Vector3::new(4.0, 0.0, 0.0), normal: Vector3::new(1.0, 0.1, -0.2).normalize() };
            let hinged = leaning.hinged(&other, angle).unwrap();
            let got = Vector3::from(hinged.normal).angle(&other.normal).to_degrees();
            prop_assert!((got - angle).abs() < 1e-6 || (got - 180.0 + angle).abs() < 1e-6, "{got} for {angle}");
            prop_assert!(hinged.validate().is_ok());
            // What lies on the edge stays there.
            let edge = Vector3::from(leaning.normal).cross(&other.normal).normalize();
            let across = edge.cross(&Vector3::from(leaning.normal));
            let on = leaning.middle() - across * (other.distance(leaning.middle()) / other.normal.dot(&across));
            prop_assert!(hinged.plane().distance(on).abs() < 1e-6);
        }

        #[test]
        fn it_moves_with_the_world(w in -3f64..3.0, s in 0.1f64..9.0) {
            let mut there = wall(Vector3::new(0.2, 0.1, 1.0));
            let before = there.clone();
            let world = Similarity { scale: s, rotation: Rotation3::from_euler_angles(w, 0.3, -w), translation: Vector3::x() };
            there.move_with(&world);
            prop_assert!(there.validate().is_ok());
            prop_assert!((there.middle() - world.point(before.middle())).norm() < 1e-9);
            prop_assert!(there.holds(world.point(before.middle())));
        }
    }

    #[test]
    fn what_cannot_be_a_surface_is_refused() {
        let good = wall(Vector3::z());
        assert!(good.validate().is_ok() && good.pushed(0.5).validate().is_ok());
        let bad = |change: fn(&mut Surface)| {
            let mut s = wall(Vector3::z());
            change(&mut s);
            s.validate().unwrap_err()
        };
        assert_eq!(bad(|s| s.normal = [0.0, 0.0, 2.0]), SurfaceEditError::NotSound);
        assert_eq!(bad(|s| s.point[0] = f64::NAN), SurfaceEditError::NotSound);
        assert_eq!(bad(|s| s.outline.truncate(2)), SurfaceEditError::Corners { found: 2 });
        assert_eq!(bad(|s| s.outline[0][2] += 0.5), SurfaceEditError::OffPlane);
        assert_eq!(bad(|s| s.name = "Floor".into()), SurfaceEditError::Name);
        assert_eq!(bad(|s| s.name = " ".into()), SurfaceEditError::Name);
        assert!(good.hinged(&good.plane(), 90.0).is_err());
        assert!(good.is_again(&good.pushed(0.05)) && !good.is_again(&good.pushed(1.0)));
    }
}
