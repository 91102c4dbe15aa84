//! Copies of an insert: laid out in its own frame, so that moving the insert moves them all.

use super::{InsertError, within};
use crate::random::SplitMix64;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Most of one insert.
pub const MOST_COPIES: u32 = 1000;
/// Most corners of a path.
const MOST_CORNERS: usize = 500;

/// How copies lie. Offsets are metres along the insert's baseline, along the normal of its surface, and towards the
/// reader; they are not scaled with it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "layout")]
pub enum Layout {
    /// One after another.
    Row {
        /// From each to the next.
        step: [f64; 3],
    },
    /// Round a place that lies behind the insert.
    Ring {
        /// Metres from that place.
        radius_m: f64,
        /// How far round they reach, degrees.
        sweep_deg: f64,
    },
    /// In rows, each behind the one before.
    Grid {
        /// In a row.
        across: u32,
        /// Between neighbours in a row, and between rows.
        step: [f64; 2],
    },
    /// Evenly along straight ways from the insert through corners.
    Path {
        /// Offsets from the insert.
        corners: Vec<[f64; 3]>,
        /// Whether each looks along the way.
        along: bool,
    },
    /// Anywhere about the insert in its surface.
    Scatter {
        /// Half the width and half the depth in which they lie.
        reach: [f64; 2],
    },
}

/// What differs from copy to copy.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Variation {
    /// Turn about the normal, degrees.
    #[serde(default)]
    pub turn_deg: f64,
    /// Times the size.
    #[serde(default = "one")]
    pub scale: f64,
    /// Frames later.
    #[serde(default)]
    pub frames: f64,
}

fn one() -> f64 {
    1.0
}

impl Default for Variation {
    fn default() -> Self {
        Self { turn_deg: 0.0, scale: 1.0, frames: 0.0 }
    }
}

/// Several of one insert.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Copies {
    /// How many there are, the insert itself included.
    pub count: u32,
    /// How they lie.
    #[serde(flatten)]
    pub layout: Layout,
    /// From each to the next.
    #[serde(default)]
    pub each: Variation,
    /// How far each strays by chance, either way.
    #[serde(default)]
    pub stray: Variation,
    /// How far each strays from its place, metres.
    #[serde(default)]
    pub stray_m: [f64; 3],
    /// Which chance.
    #[serde(default)]
    pub seed: u32,
    /// Those that are left out, by number from 0.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub out: BTreeSet<u32>,
}

/// One of them, against the insert itself.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Copy {
    /// Its number.
    pub number: u32,
    /// Along the baseline, along the normal, towards the reader, metres.
    pub offset: Vector3<f64>,
    /// About the normal, degrees.
    pub turn_deg: f64,
    /// Times the size.
    pub scale: f64,
    /// Frames later.
    pub frames: f64,
}

impl Copies {
    /// So many in a row.
    pub fn row(count: u32, step: [f64; 3]) -> Self {
        Self::new(count, Layout::Row { step })
    }

    /// So many in a layout, all alike.
    pub fn new(count: u32, layout: Layout) -> Self {
        let (each, stray) = (Variation::default(), Variation::default());
        Self { count, layout, each, stray, stray_m: [0.0; 3], seed: 0, out: BTreeSet::new() }
    }

    /// All that are not left out.
    pub fn all(&self) -> Vec<Copy> {
        (0..self.count).filter(|n| !self.out.contains(n)).map(|n| self.one(n)).collect()
    }

    /// The one of a number, left out or not.
    pub fn one(&self, number: u32) -> Copy {
        let n = f64::from(number);
        // Each has its own chance, so that one more changes none of the others.
        let mut random = SplitMix64::new((u64::from(self.seed) << 32) ^ u64::from(number).wrapping_mul(0x9e37_79b9));
        let mut chance = || 2.0 * random.unit() - 1.0;
        let (mut offset, mut turn_deg) = self.place(number, &mut chance);
        // The insert itself stays where it was put.
        let strays = f64::from(u8::from(number > 0));
        for (at, by) in offset.iter_mut().zip(self.stray_m) {
            *at += strays * by * chance();
        }
        turn_deg += n * self.each.turn_deg + strays * self.stray.turn_deg * chance();
        let scale = self.each.scale.powf(n) * self.stray.scale.powf(strays * chance());
        let frames = n * self.each.frames + strays * self.stray.frames * chance();
        Copy { number, offset, turn_deg, scale: scale.clamp(1e-3, 1e3), frames }
    }

    fn place(&self, number: u32, chance: &mut impl FnMut() -> f64) -> (Vector3<f64>, f64) {
        let n = f64::from(number);
        match &self.layout {
            Layout::Row { step } => (Vector3::from(*step) * n, 0.0),
            Layout::Ring { radius_m, sweep_deg } => {
                // A whole ring closes; a part of one has a copy at both of its ends.
                let gaps = if sweep_deg.abs() >= 360.0 { self.count } else { self.count.saturating_sub(1) };
                let turn = sweep_deg.clamp(-360.0, 360.0) * n / f64::from(gaps.max(1));
                let (sin, cos) = turn.to_radians().sin_cos();
                (Vector3::new(sin, 0.0, cos - 1.0) * *radius_m, turn)
            }
            Layout::Grid { across, step } => {
                let across = (*across).max(1);
                let (column, row) = (f64::from(number % across), f64::from(number / across));
                (Vector3::new(column * step[0], 0.0, -row * step[1]), 0.0)
            }
            Layout::Path { corners, along } => {
                let part = n / f64::from(self.count.saturating_sub(1).max(1));
                let (at, way) = on_path(corners, part);
                let level = if *along { way.x.atan2(way.z).to_degrees() } else { 0.0 };
                (at, level)
            }
            Layout::Scatter { .. } if number == 0 => (Vector3::zeros(), 0.0),
            Layout::Scatter { reach } => (Vector3::new(reach[0] * chance(), 0.0, reach[1] * chance()), 0.0),
        }
    }

    /// Checks every number.
    ///
    /// # Errors
    /// The first [`InsertError`].
    pub fn validate(&self) -> Result<(), InsertError> {
        within("the number of copies", f64::from(self.count), 1.0, f64::from(MOST_COPIES))?;
        let lengths = |of: &[f64]| of.iter().try_for_each(|v| within("a copy's step", *v, -1e5, 1e5));
        match &self.layout {
            Layout::Row { step } => lengths(step)?,
            Layout::Ring { radius_m, sweep_deg } => {
                within("the ring's radius", *radius_m, 0.0, 1e5)?;
                within("the ring's sweep", *sweep_deg, -360.0, 360.0)?;
            }
            Layout::Grid { across, step } => {
                within("the copies in a row", f64::from(*across), 1.0, f64::from(MOST_COPIES))?;
                lengths(step)?;
            }
            Layout::Path { corners, .. } => {
                within("the corners of the path", corners.len() as f64, 0.0, MOST_CORNERS as f64)?;
                corners.iter().try_for_each(|c| lengths(c))?;
            }
            Layout::Scatter { reach } => lengths(reach)?,
        }
        for of in [self.each, self.stray] {
            within("the copies' turn", of.turn_deg, -360.0, 360.0)?;
            within("the copies' size", of.scale, 0.1, 10.0)?;
            within("the copies' delay", of.frames, -1e5, 1e5)?;
        }
        lengths(&self.stray_m)
    }
}

/// A place at a part of the way from the insert through corners, and the way there.
fn on_path(corners: &[[f64; 3]], part: f64) -> (Vector3<f64>, Vector3<f64>) {
    let ends: Vec<Vector3<f64>> =
        std::iter::once(Vector3::zeros()).chain(corners.iter().map(|c| Vector3::from(*c))).collect();
    let whole: f64 = ends.windows(2).map(|w| (w[1] - w[0]).norm()).sum();
    let mut left = part.clamp(0.0, 1.0) * whole;
    let mut way = Vector3::z();
    for pair in ends.windows(2) {
        let step = pair[1] - pair[0];
        let length = step.norm();
        if length > 0.0 {
            way = step / length;
            if left <= length {
                return (pair[0] + way * left, way);
            }
        }
        left -= length;
    }
    (ends.last().copied().unwrap_or_default(), way)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn offsets(copies: &Copies) -> Vec<[f64; 3]> {
        copies.all().iter().map(|c| c.offset.map(|v| (v * 1e9).round() / 1e9).into()).collect()
    }

    #[test]
    fn copies_lie_in_rows_rings_grids_and_on_paths() {
        let row =
            Copies { each: Variation { turn_deg: 10.0, scale: 0.5, frames: 3.0 }, ..Copies::row(3, [2.0, 0.0, 0.0]) };
        assert_eq!(offsets(&row), [[0.0; 3], [2.0, 0.0, 0.0], [4.0, 0.0, 0.0]]);
        let last = row.all()[2];
        assert_eq!((last.turn_deg, last.scale, last.frames), (20.0, 0.25, 6.0));
        let ring = Copies::new(4, Layout::Ring { radius_m: 1.0, sweep_deg: 360.0 });
        assert_eq!(offsets(&ring), [[0.0; 3], [1.0, 0.0, -1.0], [0.0, 0.0, -2.0], [-1.0, 0.0, -1.0]]);
        let part = Copies::new(3, Layout::Ring { radius_m: 1.0, sweep_deg: 180.0 });
        assert_eq!(part.all().iter().map(|c| c.turn_deg).collect::<Vec<_>>(), [0.0, 90.0, 180.0]);
        let grid = Copies::new(3, Layout::Grid { across: 2, step: [1.0, 3.0] });
        assert_eq!(offsets(&grid), [[0.0; 3], [1.0, 0.0, 0.0], [0.0, 0.0, -3.0]]);
        let corners = vec![[2.0, 0.0, 0.0], [2.0, 0.0, 2.0]];
        let path = Copies::new(3, Layout::Path { corners, along: true });
        assert_eq!(offsets(&path), [[0.0; 3], [2.0, 0.0, 0.0], [2.0, 0.0, 2.0]]);
        assert_eq!(path.all()[2].turn_deg, 0.0);
        assert_eq!(path.all()[1].turn_deg, 90.0);
        let none = Copies::new(2, Layout::Path { corners: Vec::new(), along: false });
        assert_eq!(offsets(&none), [[0.0; 3]; 2]);
    }

    proptest! {
        #[test]
        fn chance_stays_within_reach_and_one_more_changes_no_other(seed in any::<u32>(), count in 1u32..60) {
            let stray = Variation { turn_deg: 20.0, scale: 1.5, frames: 4.0 };
            let made = |count| Copies {
                seed, stray, stray_m: [0.1, 0.0, 0.2],
                ..Copies::new(count, Layout::Scatter { reach: [3.0, 5.0] })
            };
            let (some, more) = (made(count).all(), made(count + 1).all());
            prop_assert_eq!(&some[..], &more[..some.len()]);
            prop_assert_eq!(some[0].offset, Vector3::zeros());
            for c in &more {
                prop_assert!(c.offset.x.abs() <= 3.1 && c.offset.y == 0.0 && c.offset.z.abs() <= 5.2);
                prop_assert!(c.turn_deg.abs() <= 20.0 && c.scale <= 1.5 + 1e-9 && c.scale >= 1.0 / 1.5 - 1e-9);
            }
        }
    }

    #[test]
    fn those_left_out_keep_the_numbers_of_the_others() {
        let mut row = Copies::row(4, [1.0, 0.0, 0.0]);
        row.out = [1].into();
        assert_eq!(row.all().iter().map(|c| c.number).collect::<Vec<_>>(), [0, 2, 3]);
        assert!(Copies::row(0, [0.0; 3]).validate().is_err() && Copies::row(1001, [0.0; 3]).validate().is_err());
        let text = serde_json::to_string(&row).unwrap();
        assert!(text.contains(r#""layout":"row""#), "{text}");
        assert_eq!(serde_json::from_str::<Copies>(&text).unwrap(), row);
    }
}
