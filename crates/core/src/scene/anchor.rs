//! Where something is anchored: a foot on a surface, and how it is turned there.

use super::anim::{Animated, Rotation};
use super::insert::{InsertError, within};
use crate::geometry::Similarity;
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// Cosine of the tilt below which a surface is a wall rather than a floor.
const FLOOR_TILT: f64 = 0.8;

/// A place in the world of the datum, held by a surface.
///
/// Its frame has x along the surface, y along its normal, and z towards the reader: on a floor +Z of the world, on a
/// wall downwards, so that turns are counted from there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Anchor {
    /// The foot, metres.
    pub foot: Animated<[f64; 3]>,
    /// Unit normal of the surface.
    pub normal: [f64; 3],
    /// Turn in the surface's frame.
    #[serde(default)]
    pub turn: Animated<Rotation>,
    /// Distance off the surface along the normal, metres.
    #[serde(default)]
    pub lift_m: Animated<f64>,
}

impl Anchor {
    /// On a surface, not turned.
    pub fn on(foot: [f64; 3], normal: [f64; 3]) -> Self {
        Self { foot: foot.into(), normal, turn: Animated::default(), lift_m: Animated::default() }
    }

    fn unit_normal(&self) -> Vector3<f64> {
        Vector3::from(self.normal).try_normalize(1e-9).unwrap_or_else(Vector3::y)
    }

    /// World from the surface's frame.
    pub fn surface(&self) -> Rotation3<f64> {
        let n = self.unit_normal();
        // On a floor the heading is counted from +Z; on a wall from the upright.
        let reference = if n.y.abs() > FLOOR_TILT { Vector3::z() } else { -Vector3::y() };
        let toward = (reference - n * reference.dot(&n)).normalize();
        Rotation3::from_matrix_unchecked(Matrix3::from_columns(&[n.cross(&toward), n, toward]))
    }

    /// World from what is anchored, at a time, frames.
    pub fn rotation(&self, frame: f64) -> Rotation3<f64> {
        self.surface() * self.turn.at(frame).matrix()
    }

    /// The foot, lifted, at a time, frames.
    pub fn origin(&self, frame: f64) -> Vector3<f64> {
        Vector3::from(self.foot.at(frame)) + self.unit_normal() * self.lift_m.at(frame)
    }

    /// Times at which it is somewhere that was chosen, frames; at least one.
    pub fn chosen_frames(&self) -> Vec<f64> {
        let mut frames: Vec<f64> = self.foot.key_frames().chain(self.lift_m.key_frames()).collect();
        frames.sort_by(f64::total_cmp);
        frames.dedup();
        if frames.is_empty() { vec![0.0] } else { frames }
    }

    /// Moves it with the world, so that it stays where it is in the picture.
    pub fn move_with(&mut self, by: &Similarity) {
        let before = self.surface();
        self.foot.map(|foot| by.point(Vector3::from(*foot)).into());
        self.lift_m.map(|lift| lift * by.scale);
        self.normal = (by.rotation * Vector3::from(self.normal)).into();
        // Turns are counted from the world's axes; what these do not turn with goes into them.
        let missing = self.surface().inverse() * by.rotation * before;
        self.turn.map(|turn| Rotation::from(missing * turn.matrix()));
    }

    /// Moves its keys in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.foot.shift(by);
        self.turn.shift(by);
        self.lift_m.shift(by);
    }

    /// Whether it moves over time.
    pub fn moves(&self) -> bool {
        self.foot.changes() || self.turn.changes() || self.lift_m.changes()
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        self.foot.validate(|foot| foot.iter().try_for_each(|v| within("a coordinate", *v, -1e6, 1e6)))?;
        let length = Vector3::from(self.normal).norm();
        if !((length - 1.0).abs() < 1e-3) {
            return Err(InsertError::NoDirection);
        }
        self.lift_m.validate(|v| within("the lift", *v, -1e5, 1e5))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Similarity;
    use crate::scene::anim::{Curve, Key};
    use proptest::prelude::*;

    #[test]
    fn turns_are_counted_from_z_on_a_floor_and_from_below_on_a_wall() {
        let turned = |normal, deg: f64| Anchor {
            turn: Rotation::from_turn_lean_roll([deg, 0.0, 0.0]).into(),
            ..Anchor::on([0.0; 3], normal)
        };
        let toward = |a: Anchor| a.rotation(0.0) * Vector3::z();
        assert!((toward(turned([0.0, 1.0, 0.0], 0.0)) - Vector3::z()).norm() < 1e-12);
        assert!((toward(turned([0.0, 1.0, 0.0], 90.0)) - Vector3::x()).norm() < 1e-12);
        assert!((toward(turned([0.0, 0.0, 1.0], 0.0)) + Vector3::y()).norm() < 1e-12);
    }

    proptest! {
        #[test]
        fn what_moves_over_time_stays_in_the_picture_when_the_world_moves(
            nx in -1f64..1.0, ny in -1f64..1.0, nz in -1f64..1.0,
            wx in -170f64..170.0, wy in -170f64..170.0, scale in 0.1f64..9.0, frame in -5f64..25.0,
        ) {
            let normal = Vector3::new(nx, ny, nz);
            prop_assume!(normal.norm() > 0.1);
            let turned = |deg| Rotation::from_turn_lean_roll([deg, 10.0, 5.0]);
            let foot = Curve::new(vec![Key::smooth(0.0, [1.0, 2.0, 3.0]), Key::smooth(12.0, [4.0, 1.0, -3.0]),
                Key::smooth(20.0, [0.0; 3])]);
            let turn = Curve::new(vec![Key::smooth(-3.0, turned(0.0)), Key::smooth(11.0, turned(100.0))]);
            let before = Anchor {
                foot: Animated::Curve(foot.unwrap()),
                turn: Animated::Curve(turn.unwrap()),
                lift_m: 0.4.into(),
                ..Anchor::on([0.0; 3], normal.normalize().into())
            };
            let world = Similarity {
                scale,
                rotation: Rotation3::from_euler_angles(wx.to_radians(), wy.to_radians(), 0.3),
                translation: Vector3::new(3.0, -1.0, 0.5),
            };
            let mut after = before.clone();
            after.move_with(&world);
            // A smooth path bends by its coordinates, so it is held to its keys.
            for at in [0.0, 12.0, 20.0] {
                prop_assert!((after.origin(at) - world.point(before.origin(at))).norm() < 1e-9);
            }
            let (now, then) = (after.rotation(frame), world.rotation * before.rotation(frame));
            prop_assert!((now.matrix() - then.matrix()).norm() < 1e-7, "{}", (now.matrix() - then.matrix()).norm());
        }
    }
}
