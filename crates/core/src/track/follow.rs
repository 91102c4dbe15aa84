//! A mask that follows what it was drawn round.

use super::area::Area;
use super::motion::{AffineMotion, median};
use super::settings::{TrackError, TrackSettings};
use super::tracker::Tracker;
use crate::image::Plane;
use crate::matte::{Mask, MaskMode, Masks, OutlineKey};
use std::collections::BTreeMap;

/// The points that carry an outline: how many a frame full of them would have, and how far apart they are, px of a
/// picture 1280 wide.
const DENSITY: f64 = 4700.0;
const SPACING_PX: f64 = 9.8;
/// How much larger than the outline the area is in which points are looked for, so that what moves stays in it.
const ROOM: f64 = 1.3;
/// Points below which an outline is only shifted, and below which it is lost.
const ENOUGH: usize = 10;
const LOST: usize = 3;
/// Part of the points of an anchor that must still be seen.
const HELD: f64 = 0.5;

/// Carries an outline from frame to frame, forwards or backwards, by the points inside it, and where these are too few by
/// all that is inside.
///
/// Points are counted from an anchor, a frame on which many of them were found together, so that errors do not add up
/// with every frame.
pub struct Follower {
    tracker: Tracker,
    outline: Vec<[f64; 2]>,
    /// The picture that `outline` is of, and its inside since there are too few points.
    picture: Plane,
    area: Option<Area>,
    /// What was inside at first, and how well pictures since then agreed with it at least.
    first: Option<Area>,
    likeness: f64,
    /// The outline on the anchor, and where its points were.
    anchor: (Vec<[f64; 2]>, BTreeMap<u32, [f64; 2]>),
}

impl Follower {
    /// Begins at a picture with an outline, px.
    ///
    /// # Errors
    /// [`TrackError`] when the picture cannot be tracked.
    pub fn new(picture: &Plane, outline: Vec<[f64; 2]>) -> Result<Self, TrackError> {
        let settings = within_an_area(DENSITY, SPACING_PX);
        let mut tracker = Tracker::new(settings, inside(&outline, 1.0))?;
        tracker.push(picture)?;
        let anchor = (outline.clone(), tracker.places());
        let first = Area::new(picture, &outline);
        let likeness = if first.is_some() { 1.0 } else { 0.0 };
        Ok(Self { tracker, outline, picture: picture.clone(), area: None, first, likeness, anchor })
    }

    /// How well what is inside agreed with what it was at first (normalised correlation), on the picture where it did
    /// least: what changes its shape agrees less than what is only shifted, turned and grown.
    pub fn least_likeness(&self) -> f64 {
        self.likeness
    }

    /// The outline on the next picture; `None` where nothing inside it can be followed any more.
    ///
    /// # Errors
    /// [`TrackError::Size`] for a picture of another size.
    pub fn step(&mut self, picture: &Plane) -> Result<Option<Vec<[f64; 2]>>, TrackError> {
        let next = self.next(picture)?;
        if let (Some(first), Some(there)) = (&self.first, &next) {
            self.likeness = self.likeness.min(first.likeness(picture, there));
        }
        Ok(next)
    }

    fn next(&mut self, picture: &Plane) -> Result<Option<Vec<[f64; 2]>>, TrackError> {
        if self.area.is_none() {
            if let Some(next) = self.by_points(picture)? {
                self.picture = picture.clone();
                return Ok(Some(next));
            }
            self.area = Area::new(&self.picture, &self.outline);
        }
        Ok(self.area.as_mut().and_then(|area| area.step(picture)))
    }

    fn by_points(&mut self, picture: &Plane) -> Result<Option<Vec<[f64; 2]>>, TrackError> {
        self.tracker.look_inside(inside(&self.outline, ROOM));
        self.tracker.push(picture)?;
        let now = self.tracker.places();
        let pairs = displacements(&self.anchor.1, &now);
        let Some(motion) = motion_of(&pairs) else { return Ok(None) };
        self.outline = self.anchor.0.iter().map(|c| motion.moved(*c)).collect();
        self.tracker.drop_outside(&inside(&self.outline, 1.0));
        if (pairs.len() as f64) < HELD * self.anchor.1.len() as f64 || pairs.len() < 2 * ENOUGH {
            let fresh = self.tracker.places();
            if fresh.len() > pairs.len() {
                self.anchor = (self.outline.clone(), fresh);
            }
        }
        Ok(Some(self.outline.clone()))
    }
}

/// Outlines of frames that follow one another, between two that are known: those that were carried forwards from the first,
/// and those that were carried backwards from the last, in the order in which they were found. Each counts as much as it
/// is near to where it comes from; where one was lost the other is alone. With fewer than `frames` where both were lost.
pub fn between(ahead: Vec<Vec<[f64; 2]>>, behind: Vec<Vec<[f64; 2]>>, frames: usize) -> Vec<Vec<[f64; 2]>> {
    let back = |i: usize| behind.get(frames - 1 - i);
    (0..frames)
        .map_while(|i| match (ahead.get(i), back(i)) {
            (Some(a), Some(b)) if a.len() == b.len() => {
                let t = i as f64 / (frames - 1).max(1) as f64;
                let mixed = |(p, q): (&[f64; 2], &[f64; 2])| [p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1])];
                Some(a.iter().zip(b).map(mixed).collect())
            }
            (Some(only), _) | (None, Some(only)) => Some(only.clone()),
            (None, None) => None,
        })
        .collect()
}

/// How points are looked for and followed where only a part of the picture counts: weaker corners will do.
pub(super) fn within_an_area(density: f64, spacing_px: f64) -> TrackSettings {
    TrackSettings {
        density,
        spacing_px,
        threshold: 0.01,
        window_half_px: 7,
        min_agreement: 0.6,
        ..TrackSettings::default()
    }
}

/// Points that are on both pictures, by their ids: where they were, and by how much they moved.
pub(super) fn displacements(from: &BTreeMap<u32, [f64; 2]>, to: &BTreeMap<u32, [f64; 2]>) -> Vec<([f64; 2], [f64; 2])> {
    from.iter().filter_map(|(id, p)| to.get(id).map(|q| (*p, [q[0] - p[0], q[1] - p[1]]))).collect()
}

/// A shift, turn and growth that most of the pairs agree on.
fn motion_of(pairs: &[([f64; 2], [f64; 2])]) -> Option<AffineMotion> {
    if pairs.len() < LOST {
        return None;
    }
    let middle = |axis: usize| {
        let mut v: Vec<f64> = pairs.iter().map(|p| p.1[axis]).collect();
        median(&mut v)
    };
    let fitted = if pairs.len() >= ENOUGH { AffineMotion::fit_similarity(pairs) } else { None };
    Some(fitted.unwrap_or_else(|| AffineMotion::shift(middle(0), middle(1))))
}

/// Inside of an outline that is grown about its middle.
fn inside(outline: &[[f64; 2]], grown: f64) -> Masks {
    let n = outline.len().max(1) as f64;
    let middle = [outline.iter().map(|c| c[0]).sum::<f64>() / n, outline.iter().map(|c| c[1]).sum::<f64>() / n];
    let corner = |c: &[f64; 2]| [middle[0] + grown * (c[0] - middle[0]), middle[1] + grown * (c[1] - middle[1])];
    let key = OutlineKey::new(0, outline.iter().map(corner).collect());
    Masks { masks: vec![Mask::new(MaskMode::KeepIn, vec![key])] }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A patterned disc that moves, turns and grows over a patterned ground that moves the other way.
    fn picture(frame: u32) -> (Plane, [f64; 2], f64, f64) {
        let t = f64::from(frame);
        let (cx, cy, turn, size) = (110.0 + 3.0 * t, 120.0 + 20.0 * (0.1 * t).sin(), 0.01 * t, 1.0 + 0.008 * t);
        let wave = |x: f64, y: f64, k: f64| {
            40.0 * ((x * 0.31 * k).sin() * (y * 0.27 * k).cos() + ((x + 2.0 * y) * 0.13 * k).sin())
        };
        let plane = Plane::from_fn(400, 260, |x, y| {
            let (dx, dy) = (x as f64 - cx, y as f64 - cy);
            let (u, v) = ((dx * turn.cos() + dy * turn.sin()) / size, (dy * turn.cos() - dx * turn.sin()) / size);
            let on = u.hypot(v) < 46.0;
            (128.0 + if on { wave(u + 300.0, v, 1.0) } else { wave(x as f64 + 2.0 * t, y as f64, 0.8) }) as f32
        });
        (plane, [cx, cy], turn, size)
    }

    fn outline(centre: [f64; 2], turn: f64, size: f64) -> Vec<[f64; 2]> {
        (0..6)
            .map(|i| {
                let a = f64::from(i) * std::f64::consts::TAU / 6.0 + turn;
                [centre[0] + 40.0 * size * a.cos(), centre[1] + 40.0 * size * a.sin()]
            })
            .collect()
    }

    #[test]
    fn an_outline_goes_with_what_it_was_drawn_round_both_ways() {
        for order in [(0..40).collect::<Vec<u32>>(), (0..40).rev().collect()] {
            let (first, centre, turn, size) = picture(order[0]);
            let mut follower = Follower::new(&first, outline(centre, turn, size)).unwrap();
            for &frame in &order[1..] {
                let (plane, centre, turn, size) = picture(frame);
                let found = follower.step(&plane).unwrap().expect("it is in sight");
                for (p, q) in found.iter().zip(outline(centre, turn, size)) {
                    let error = (p[0] - q[0]).hypot(p[1] - q[1]);
                    assert!(error < 1.5, "frame {frame}: a corner is {error} px off");
                }
            }
        }
    }

    #[test]
    fn what_only_moves_stays_like_itself_and_what_changes_does_not() {
        let (first, centre, turn, size) = picture(0);
        let least = |changes: bool| {
            let mut follower = Follower::new(&first, outline(centre, turn, size)).unwrap();
            for frame in 1..16 {
                let (plane, [x, y], ..) = picture(frame);
                // For a while its lower half is another.
                let other = |i: usize, j: usize| {
                    changes && (6..10).contains(&frame) && (i as f64 - x).abs() < 40.0 && j as f64 > y
                };
                let plane =
                    Plane::from_fn(400, 260, |i, j| if other(i, j) { 255.0 - plane.at(i, j) } else { plane.at(i, j) });
                follower.step(&plane).unwrap().expect("it is in sight");
            }
            follower.least_likeness()
        };
        let (same, changed) = (least(false), least(true));
        assert!(same > 0.8 && changed < 0.5, "{same} and {changed}");
        let flat = Plane::from_fn(200, 120, |_, _| 90.0);
        assert_eq!(Follower::new(&flat, outline([100.0, 60.0], 0.0, 1.0)).unwrap().least_likeness(), 0.0);
    }

    #[test]
    fn between_two_that_are_known_both_runs_count_where_they_come_from() {
        let at = |x: f64| vec![[x, 0.0], [x + 1.0, 0.0], [x, 1.0]];
        let ahead: Vec<_> = (0..5).map(|i| at(f64::from(i))).collect();
        let behind: Vec<_> = (0..5).map(|i| at(14.0 - f64::from(i))).collect();
        let met = between(ahead.clone(), behind.clone(), 5);
        assert_eq!(met.iter().map(|o| o[0][0]).collect::<Vec<_>>(), [0.0, 3.5, 7.0, 10.5, 14.0]);
        let lost = between(ahead[..2].to_vec(), behind[..2].to_vec(), 5);
        assert_eq!(lost.len(), 2, "in between nothing is known: {lost:?}");
        assert_eq!(between(ahead[..2].to_vec(), behind, 5)[2], at(12.0));
    }

    #[test]
    fn a_mast_without_a_corner_is_followed_as_a_whole() {
        // A plain mast before a plain sky that leans and comes nearer, with a soft edge.
        let there = |n: u32| {
            let t = f64::from(n);
            let (foot, lean, half) = ([100.0 + 2.6 * t, 180.0 - 0.4 * t], 0.04 + 0.004 * t, 5.0 + 0.06 * t);
            (foot, lean, half)
        };
        let picture = |n: u32| {
            let (foot, lean, half) = there(n);
            Plane::from_fn(300, 200, |x, y| {
                let across = (x as f64 - foot[0] - lean * (foot[1] - y as f64)).abs();
                let part = (half + 0.7 - across).clamp(0.0, 1.4) / 1.4;
                (160.0 - 90.0 * part) as f32
            })
        };
        let outline = |n: u32| -> Vec<[f64; 2]> {
            let (foot, lean, half) = there(n);
            let at = |y: f64, side: f64| [foot[0] + lean * (foot[1] - y) + side * half, y];
            vec![at(30.0, -1.0), at(30.0, 1.0), at(170.0, 1.0), at(170.0, -1.0)]
        };
        let mut follower = Follower::new(&picture(0), outline(0)).unwrap();
        for n in 1..20 {
            let found = follower.step(&picture(n)).unwrap().expect("it is still there");
            // Along itself nothing tells.
            let off = found.iter().map(|c| {
                let (foot, lean, half) = there(n);
                ((c[0] - foot[0] - lean * (foot[1] - c[1])).abs() - half).abs()
            });
            let worst = off.fold(0.0, f64::max);
            assert!(worst < 0.8, "{worst} px on frame {n}");
        }
        let covered = Plane::from_fn(300, 200, |x, y| ((x * 7 + y * 13) % 50) as f32 + 60.0);
        assert_eq!(follower.step(&covered).unwrap(), None, "something else is there");
    }

    #[test]
    fn where_there_is_nothing_to_follow_it_says_so() {
        let flat = Plane::from_fn(200, 120, |_, _| 90.0);
        let mut follower = Follower::new(&flat, outline([100.0, 60.0], 0.0, 1.0)).unwrap();
        assert_eq!(follower.step(&flat).unwrap(), None);
    }
}
