//! Where an insert is, and how large.

use super::{InsertError, within};
use crate::geometry::Similarity;
use crate::scene::Anchor;
use crate::scene::anim::{Animated, Rotation};
use nalgebra::{Matrix3, Rotation3, Vector3};
use serde::{Deserialize, Serialize};

/// Whether a flat thing stands on its surface or lies on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stance {
    /// Upright along the normal.
    Standing,
    /// In the surface.
    Lying,
}

impl Stance {
    /// The surface's frame from the insert's own.
    fn basis(self) -> Rotation3<f64> {
        Rotation3::from_matrix_unchecked(match self {
            Self::Standing => Matrix3::identity(),
            // Letters run up away from the reader, facing along the normal.
            Self::Lying => Matrix3::new(1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, -1.0, 0.0),
        })
    }
}

/// Whether an insert turns to the camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Facing {
    /// It stays as it is turned.
    #[default]
    Stays,
    /// It turns about its upright.
    Upright,
    /// It turns and leans.
    Wholly,
}

fn stays(facing: &Facing) -> bool {
    *facing == Facing::Stays
}

/// Where an insert is, in the world of the datum or in the frame of its parent. Its own frame begins at its foot: the
/// middle of the bottom edge when it stands, of the text when it lies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placement {
    /// Where its foot is, and how it is turned there.
    pub anchor: Anchor,
    /// Times the size it was made at.
    pub scale: Animated<f64>,
    /// Standing or lying.
    pub stance: Stance,
    /// Whether it turns to the camera.
    #[serde(default, skip_serializing_if = "stays")]
    pub facing: Facing,
    /// The place of its own frame, metres as it was made, that stands on its foot: it turns and grows about that.
    #[serde(default, skip_serializing_if = "at_foot")]
    pub pivot: [f64; 3],
}

fn at_foot(pivot: &[f64; 3]) -> bool {
    *pivot == [0.0; 3]
}

impl Placement {
    /// On a surface, as large as it was made.
    pub fn on(foot: [f64; 3], normal: [f64; 3], stance: Stance) -> Self {
        Self { anchor: Anchor::on(foot, normal), scale: 1.0.into(), stance, facing: Facing::default(), pivot: [0.0; 3] }
    }

    /// World from the insert's own frame at a time, frames: x along the baseline, y up the letters, z towards the
    /// reader.
    pub fn rotation(&self, frame: f64) -> Rotation3<f64> {
        self.anchor.rotation(frame) * self.stance.basis()
    }

    /// The same as it turns to a camera whose centre is `eye`, world.
    pub fn rotation_toward(&self, frame: f64, eye: Vector3<f64>) -> Rotation3<f64> {
        let still = self.rotation(frame);
        let away = eye - self.origin(frame);
        let toward = |up: Vector3<f64>, ahead: Vector3<f64>| {
            let side = up.cross(&ahead).try_normalize(1e-9)?;
            let ahead = side.cross(&up);
            Some(Rotation3::from_matrix_unchecked(Matrix3::from_columns(&[side, up, ahead])))
        };
        let up = still * Vector3::y();
        match self.facing {
            Facing::Stays => None,
            Facing::Upright => toward(up, away),
            Facing::Wholly => away.try_normalize(1e-9).and_then(|ahead| {
                let side = up.cross(&ahead).try_normalize(1e-9)?;
                toward(ahead.cross(&side), ahead)
            }),
        }
        .unwrap_or(still)
    }

    /// The foot, lifted, at a time, frames.
    pub fn origin(&self, frame: f64) -> Vector3<f64> {
        self.anchor.origin(frame)
    }

    /// From its own frame, metres as it was made, to that in which it is placed, at a time, frames.
    pub fn own(&self, frame: f64) -> Similarity {
        self.similarity(frame, self.rotation(frame))
    }

    /// The same as it turns to a camera whose centre is `eye`.
    pub fn own_toward(&self, frame: f64, eye: Vector3<f64>) -> Similarity {
        self.similarity(frame, self.rotation_toward(frame, eye))
    }

    fn similarity(&self, frame: f64, rotation: Rotation3<f64>) -> Similarity {
        let scale = self.scale.at(frame);
        let translation = self.origin(frame) - rotation * Vector3::from(self.pivot) * scale;
        Similarity { scale, rotation, translation }
    }

    /// Takes another place of its own frame as the one that it turns and grows about; at every key of its foot, or at a
    /// time, frames, where it has none, it stays where it is.
    pub fn set_pivot(&mut self, frame: f64, pivot: [f64; 3]) {
        let by = Vector3::from(pivot) - Vector3::from(self.pivot);
        let still = self.anchor.foot.key_frames().next().is_none();
        let at: Vec<f64> = if still { vec![frame] } else { self.anchor.foot.key_frames().collect() };
        let feet: Vec<(f64, [f64; 3])> = at
            .into_iter()
            .map(|t| {
                let shift = self.rotation(t) * by * self.scale.at(t);
                (t, (Vector3::from(self.anchor.foot.at(t)) + shift).into())
            })
            .collect();
        feet.into_iter().for_each(|(t, foot)| self.anchor.foot.set_at(t, foot));
        self.pivot = pivot;
    }

    /// Its turn about the normal and its lean about its own baseline (positive away from the viewer) at a time,
    /// degrees.
    pub fn turn_lean_deg(&self, frame: f64) -> [f64; 2] {
        let [turn, lean, _] = self.anchor.turn.at(frame).turn_lean_roll();
        [turn, lean]
    }

    /// Turns and leans it, degrees: at a time, frames, where its turn changes, else for good.
    pub fn set_turn_lean_deg(&mut self, frame: f64, [turn, lean]: [f64; 2]) {
        let [.., roll] = self.anchor.turn.at(frame).turn_lean_roll();
        self.anchor.turn.set_at(frame, Rotation::from_turn_lean_roll([turn, lean, roll]));
    }

    /// Turns it so that its own frame lies as `rotation` says, world from its own; at a time, frames, where its turn changes,
    /// else for good.
    pub fn turn_to(&mut self, frame: f64, rotation: &Rotation3<f64>) {
        let turn = self.anchor.surface().inverse() * rotation * self.stance.basis().inverse();
        self.anchor.turn.set_at(frame, Rotation::from(turn));
    }

    /// Moves it with the world, so that it stays where it is in the picture.
    pub fn move_with(&mut self, by: &Similarity) {
        self.anchor.move_with(by);
        self.scale.map(|scale| scale * by.scale);
    }

    /// Moves its keys in time by frames.
    pub fn shift(&mut self, by: f64) {
        self.anchor.shift(by);
        self.scale.shift(by);
    }

    /// Whether it moves or grows over time, by itself.
    pub fn moves(&self) -> bool {
        self.anchor.moves() || self.scale.changes()
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        self.anchor.validate()?;
        self.pivot.iter().try_for_each(|v| within("the pivot", *v, -1e5, 1e5))?;
        self.scale.validate(|v| within("the scale", *v, 1e-4, 1e4))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn placement(normal: [f64; 3], turn_deg: f64, stance: Stance) -> Placement {
        let mut placement = Placement::on([0.0; 3], normal, stance);
        placement.set_turn_lean_deg(0.0, [turn_deg, 0.0]);
        placement
    }

    proptest! {
        #[test]
        fn placements_are_proper_rotations(
            x in -1f64..1.0, y in -1f64..1.0, z in -1f64..1.0,
            turn in -400f64..400.0, lean in -90f64..90.0, lying in any::<bool>(),
        ) {
            let n = Vector3::new(x, y, z);
            prop_assume!(n.norm() > 0.1);
            let stance = if lying { Stance::Lying } else { Stance::Standing };
            let mut p = placement(n.normalize().into(), 0.0, stance);
            p.set_turn_lean_deg(0.0, [turn, lean]);
            let m = *p.rotation(0.0).matrix();
            prop_assert!((m.transpose() * m - Matrix3::identity()).norm() < 1e-9);
            prop_assert!((m.determinant() - 1.0).abs() < 1e-9);
        }
    }

    proptest! {
        #[test]
        fn another_pivot_moves_nothing_and_stays_where_it_is_put_when_it_turns(
            x in -3f64..3.0, y in -3f64..3.0, z in -3f64..3.0, turn in -170f64..170.0, scale in 0.2f64..5.0,
        ) {
            let mut p = placement([0.0, 0.6, 0.8], turn, Stance::Lying);
            p.scale = scale.into();
            let (before, corner) = (p.own(0.0), Vector3::new(0.4, 1.2, -0.3));
            p.set_pivot(0.0, [x, y, z]);
            prop_assert!((p.own(0.0).point(corner) - before.point(corner)).norm() < 1e-9);
            let pivot = Vector3::new(x, y, z);
            let at = p.own(0.0).point(pivot);
            p.set_turn_lean_deg(0.0, [turn + 50.0, 20.0]);
            p.scale = (2.0 * scale).into();
            prop_assert!((p.own(0.0).point(pivot) - at).norm() < 1e-9);
        }
    }

    #[test]
    fn letters_stand_upright_on_a_floor_and_level_on_a_wall() {
        let up = placement([0.0, 1.0, 0.0], 0.0, Stance::Standing).rotation(0.0) * Vector3::y();
        assert!((up - Vector3::y()).norm() < 1e-12);
        let facing = placement([0.0, 1.0, 0.0], 90.0, Stance::Standing).rotation(0.0) * Vector3::z();
        assert!((facing - Vector3::x()).norm() < 1e-12);
        let on_wall = placement([0.0, 0.0, 1.0], 0.0, Stance::Lying).rotation(0.0);
        assert!((on_wall * Vector3::y() - Vector3::y()).norm() < 1e-12);
        assert!((on_wall * Vector3::z() - Vector3::z()).norm() < 1e-12);
        let lying = placement([0.0, 1.0, 0.0], 0.0, Stance::Lying).rotation(0.0);
        assert!((lying * Vector3::y() + Vector3::z()).norm() < 1e-12, "letters run away from the reader");
    }

    #[test]
    fn what_leans_lies_back_whether_it_stands_or_lies() {
        let mut p = placement([0.0, 1.0, 0.0], 0.0, Stance::Standing);
        p.set_turn_lean_deg(0.0, [0.0, 90.0]);
        assert!((p.rotation(0.0) * Vector3::y() + Vector3::z()).norm() < 1e-9);
        p.stance = Stance::Lying;
        assert!((p.rotation(0.0) * Vector3::z() - Vector3::z()).norm() > 1.0 && p.turn_lean_deg(0.0)[1] > 89.999);
    }
}
