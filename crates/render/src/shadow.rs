//! Shadows on the floor, kept as pictures of the floor: what stands still casts them once for all frames.

use crate::light::LampNow;
use crate::tree::Bvh;
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

/// The sun as it casts shadows.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Sun {
    /// Unit direction to its middle.
    pub toward: Vector3<f32>,
    /// Half of the angle under which it is seen, radians.
    pub radius: f32,
}

/// What is kept off a plane, in that plane's own frame.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Source<'a> {
    /// The sun.
    Sun(Sun),
    /// A lamp, where it is in that frame; its places are of the world.
    Lamp(&'a LampNow, Vector3<f32>),
    /// Light from everywhere, as far as what is nearer than this keeps it off, world units.
    Sky(f32),
}

/// Cells along the longer side, and rays of each under a sun of the usual size: rough and fine.
const ROUGH: (usize, usize) = (96, 4);
const FINE: (usize, usize) = (448, 16);
/// Half of the angle under which the usual sun is seen, radians, and how many times the rays there may be for a wider one.
const USUAL_RADIUS: f32 = 0.012;
const MOST_RAYS: f32 = 6.0;
/// Cells along a side of the blocks in which a floor is drawn.
const BLOCK: usize = 4;
/// How far shadows are followed, of the size of what casts them.
const FARTHEST: f32 = 6.0;
/// A ray starts this far over the floor, of a cell.
const OFF_FLOOR: f32 = 0.05;

/// How much of the sun is kept from each cell of the floor.
#[derive(Debug)]
pub(crate) struct FloorShadow {
    low: Vector2<f32>,
    /// World units.
    cell: f32,
    across: usize,
    down: usize,
    kept: Vec<f32>,
}

/// Things that were made for what casts shadows, by its key; the oldest are thrown out first.
type Kept<T> = Mutex<VecDeque<(u64, Arc<T>)>>;

/// What was made for what casts shadows: it is the same for as long as that stands still.
#[derive(Debug, Default)]
pub(crate) struct Casts {
    /// `None` where none falls on the floor.
    shadows: Kept<Option<FloorShadow>>,
    trees: Kept<Bvh>,
}

/// Shadows that are kept, and trees.
const KEPT_SHADOWS: usize = 64;
const KEPT_TREES: usize = 4;

impl Casts {
    /// The shadow of what has a key.
    pub(crate) fn shadow(&self, key: u64, make: impl FnOnce() -> Option<FloorShadow>) -> Arc<Option<FloorShadow>> {
        kept(&self.shadows, KEPT_SHADOWS, key, make)
    }

    /// The tree of what has a key.
    pub(crate) fn tree(&self, key: u64, make: impl FnOnce() -> Bvh) -> Arc<Bvh> {
        kept(&self.trees, KEPT_TREES, key, make)
    }
}

fn kept<T>(all: &Kept<T>, most: usize, key: u64, make: impl FnOnce() -> T) -> Arc<T> {
    let held = || all.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, there)) = held().iter().find(|(k, _)| *k == key) {
        return there.clone();
    }
    let made = Arc::new(make());
    let mut held = held();
    held.push_back((key, made.clone()));
    if held.len() > most {
        held.pop_front();
    }
    made
}

/// The part of a plane (x and z of its own frame) on which shadows of corners may fall; `None` where the source is too low
/// or all lies below.
pub(crate) fn reach(corners: &[Vector3<f32>], source: Source) -> Option<(Vector2<f32>, Vector2<f32>)> {
    let low_source = match source {
        Source::Sun(sun) => sun.toward.y < 0.03,
        Source::Lamp(_, at) => at.y <= 0.0,
        Source::Sky(_) => false,
    };
    if low_source {
        return None;
    }
    let top = corners.iter().fold(0.0f32, |m, p| m.max(p.y));
    // What lies below the floor casts nothing on it; what goes through it begins there.
    let over = corners.iter().filter(|_| top > 0.0).map(|p| Vector3::new(p.x, p.y.max(0.0), p.z));
    let empty = (Vector2::repeat(f32::INFINITY), Vector2::repeat(f32::NEG_INFINITY));
    let bounds = |all: &mut dyn Iterator<Item = Vector2<f32>>| {
        all.fold(empty, |(low, high): (Vector2<f32>, Vector2<f32>), p| (low.inf(&p), high.sup(&p)))
    };
    let (feet_low, feet_high) = bounds(&mut over.clone().map(|p| Vector2::new(p.x, p.z)));
    let size = (feet_high - feet_low).norm().max(top);
    let far = FARTHEST * size;
    let falls = |p: Vector3<f32>| {
        let foot = Vector2::new(p.x, p.z);
        match source {
            Source::Sun(Sun { toward, .. }) => foot - Vector2::new(toward.x, toward.z) / toward.y * p.y,
            Source::Lamp(_, at) => {
                let away = foot - Vector2::new(at.x, at.z);
                // What stands as high as the lamp throws its shadow without end.
                let times = if p.y < 0.95 * at.y { p.y / (at.y - p.y) } else { 20.0 };
                foot + away * times
            }
            Source::Sky(_) => foot,
        }
    };
    let (low, high) = bounds(&mut over.map(falls));
    if !(low.x.is_finite() && high.x.is_finite()) {
        return None;
    }
    let soft = Vector2::repeat(match source {
        Source::Sun(sun) => top * sun.radius / sun.toward.y.powi(2) + 0.02 * size,
        Source::Lamp(lamp, at) => lamp.reach() * (top / (at.y - top).max(0.1 * at.y)).min(10.0) + 0.02 * size,
        Source::Sky(within) => within,
    });
    let most = Vector2::repeat(far);
    Some(((low - soft).sup(&(feet_low - most)), (high + soft).inf(&(feet_high + most))))
        .filter(|(low, high)| low.x < high.x && low.y < high.y)
}

/// A rectangle of the floor: its low and its high corner.
pub(crate) type Patch = (Vector2<f32>, Vector2<f32>);

/// How far patches side by side reach into one another, world units, so that no gap is seen between them.
const OVERLAP: f32 = 1e-3;

/// Lines of the grid on which patches of several shadows are laid, along the longer side: few large patches are drawn
/// faster than many thin ones.
const GRID: f32 = 80.0;

/// Patches that cover at least what these do, on one grid.
pub(crate) fn on_one_grid(patches: &[Patch]) -> Vec<Patch> {
    let Some(first) = patches.first() else { return Vec::new() };
    let (low, high) = patches.iter().fold(*first, |(low, high), (a, b)| (low.inf(a), high.sup(b)));
    let step = (high - low).max() / GRID;
    let on = |p: &Vector2<f32>, round: fn(f32) -> f32| low + ((p - low) / step).map(round) * step;
    patches.iter().map(|(a, b)| (on(a, f32::floor), on(b, f32::ceil))).collect()
}

/// What patches cover, as patches that do not lie on one another, but for a rim of no account.
pub(crate) fn side_by_side(patches: &[Patch]) -> Vec<Patch> {
    let mut levels: Vec<f32> = patches.iter().flat_map(|(low, high)| [low.y, high.y]).collect();
    levels.sort_by(f32::total_cmp);
    levels.dedup();
    let mut all: Vec<Patch> = Vec::new();
    // Where those of the strip before begin in the list.
    let mut before = 0;
    for strip in levels.windows(2) {
        let across = |(low, high): &&Patch| low.y <= strip[0] && high.y >= strip[1];
        let mut spans: Vec<[f32; 2]> = patches.iter().filter(across).map(|(low, high)| [low.x, high.x]).collect();
        spans.sort_by(|a, b| a[0].total_cmp(&b[0]));
        spans.dedup_by(|next, last| {
            let meets = next[0] <= last[1];
            if meets {
                last[1] = last[1].max(next[1]);
            }
            meets
        });
        let same = |(low, high): &Patch, [from, to]: &[f32; 2]| low.x == *from && high.x == *to && high.y == strip[0];
        if all.len() - before == spans.len() && all[before..].iter().zip(&spans).all(|(patch, span)| same(patch, span))
        {
            all[before..].iter_mut().for_each(|(_, high)| high.y = strip[1]);
            continue;
        }
        before = all.len();
        all.extend(spans.iter().map(|[from, to]| (Vector2::new(*from, strip[0]), Vector2::new(*to, strip[1]))));
    }
    let rim = Vector2::repeat(OVERLAP);
    all.into_iter().map(|(low, high)| (low - rim, high + rim)).collect()
}

impl FloorShadow {
    /// `blocks` tells whether anything lies on a ray of the plane's own frame, nearer than so far; `place` is where a place
    /// of a lamp lies in that frame.
    pub(crate) fn new(
        blocks: impl Fn(Vector3<f32>, Vector3<f32>, f32) -> bool + Sync,
        place: impl Fn(usize, usize, f32, Vector3<f32>) -> Vector3<f32> + Sync,
        source: Source,
        (low, high): (Vector2<f32>, Vector2<f32>),
        fine: bool,
    ) -> Self {
        let (cells, rays) = if fine { FINE } else { ROUGH };
        let rays = match source {
            Source::Sun(sun) => (rays as f32 * (sun.radius / USUAL_RADIUS).clamp(1.0, MOST_RAYS)) as usize,
            Source::Lamp(lamp, _) if !lamp.is_wide() => rays,
            Source::Lamp(..) | Source::Sky(_) => 2 * rays,
        };
        let size = high - low;
        let cell = size.max() / cells as f32;
        let count = |v: f32| (v / cell).ceil().max(1.0) as usize + 1;
        let (across, down) = (count(size.x), count(size.y));
        let toward_sun = match source {
            Source::Sun(sun) => sun.toward,
            _ => Vector3::y(),
        };
        let side = if toward_sun.x.abs() < 0.7 { Vector3::x() } else { Vector3::z() };
        let u = toward_sun.cross(&side).normalize();
        let v = toward_sun.cross(&u);
        let mut kept = vec![0.0; across * down];
        kept.par_chunks_mut(across).enumerate().for_each(|(row, values)| {
            for (column, value) in values.iter_mut().enumerate() {
                let mut blocked = 0;
                for ray in 0..rays {
                    // Evenly over the cell and over the source, each cell with its own turn (Vogel's spiral).
                    let n = (ray as f32 + 0.5) / rays as f32;
                    let turn = 2.399_963_2 * ray as f32 + 1.7 * column as f32 + 2.9 * row as f32;
                    let jitter = Vector2::new((turn * 1.3).sin(), (turn * 0.7).cos()) * 0.5;
                    let x = low.x + (column as f32 + jitter.x) * cell;
                    let z = low.y + (row as f32 + jitter.y) * cell;
                    let from = Vector3::new(x, OFF_FLOOR * cell, z);
                    let leaning = |spread: f32| (u * turn.cos() + v * turn.sin()) * spread;
                    blocked += usize::from(match source {
                        Source::Sun(sun) => {
                            let toward = (sun.toward + leaning(sun.radius.tan() * n.sqrt())).normalize();
                            blocks(from, toward, f32::INFINITY)
                        }
                        Source::Lamp(..) => {
                            let own = (1.7 * column as f32 + 2.9 * row as f32).sin().abs();
                            let way = place(ray, rays, own, from) - from;
                            let far = way.norm().max(1e-6);
                            blocks(from, way / far, far)
                        }
                        Source::Sky(within) => {
                            // By the cosine (Malley); what is near keeps off more than what is far.
                            let toward = Vector3::y() * (1.0 - n).sqrt() + leaning(n.sqrt());
                            let most = within * ((ray * 7 % rays) as f32 + 0.5) / rays as f32;
                            blocks(from, toward, most)
                        }
                    });
                }
                *value = blocked as f32 / rays as f32;
            }
        });
        Self { low, cell, across, down, kept }
    }

    /// Where any of it lies: rectangles of the floor, low and high corner, side by side.
    pub(crate) fn places(&self) -> Vec<Patch> {
        let mut all = Vec::new();
        for row in (0..self.down).step_by(BLOCK) {
            let mut open: Option<(Vector2<f32>, Vector2<f32>)> = None;
            for column in (0..self.across).step_by(BLOCK) {
                // A cell more all round: finer shadows are softer at their rim.
                let rows = row.saturating_sub(1)..(row + BLOCK + 2).min(self.down);
                let columns = column.saturating_sub(1)..(column + BLOCK + 2).min(self.across);
                let dark = rows.into_iter().any(|y| columns.clone().any(|x| self.kept[y * self.across + x] > 0.0));
                let corner = |x: usize, y: usize| self.low + Vector2::new(x as f32, y as f32) * self.cell;
                let (low, high) = (corner(column, row), corner(column + BLOCK, row + BLOCK));
                match (&mut open, dark) {
                    (Some(so_far), true) => so_far.1 = high,
                    (None, true) => open = Some((low, high)),
                    (_, false) => all.extend(open.take()),
                }
            }
            all.extend(open);
        }
        all
    }

    /// At a place of the floor.
    pub(crate) fn at(&self, at: Vector2<f32>) -> f32 {
        let off = at - self.low;
        let end = [self.across, self.down].map(|n| n as f32 * self.cell);
        if off.x <= -self.cell || off.y <= -self.cell || off.x >= end[0] || off.y >= end[1] {
            return 0.0;
        }
        let p = off / self.cell;
        let (x0, y0) = (p.x.floor(), p.y.floor());
        let (fx, fy) = (p.x - x0, p.y - y0);
        let value = |x: f32, y: f32| {
            let inside = x >= 0.0 && y >= 0.0 && (x as usize) < self.across && (y as usize) < self.down;
            if inside { self.kept[y as usize * self.across + x as usize] } else { 0.0 }
        };
        let top = value(x0, y0) + fx * (value(x0 + 1.0, y0) - value(x0, y0));
        let bottom = value(x0, y0 + 1.0) + fx * (value(x0 + 1.0, y0 + 1.0) - value(x0, y0 + 1.0));
        top + fy * (bottom - top)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A wall 2 m high and 4 m wide at z = 0.
    fn wall() -> Vec<[Vector3<f32>; 3]> {
        let [a, b, c, d] = [[-2.0, 0.0], [2.0, 0.0], [2.0, 2.0], [-2.0, 2.0]].map(|[x, y]| Vector3::new(x, y, 0.0));
        vec![[a, b, c], [a, c, d]]
    }

    #[test]
    fn a_shadow_is_as_long_as_the_sun_makes_it_and_softer_farther_off() {
        let corners: Vec<_> = wall().into_iter().flatten().collect();
        let tree = Bvh::build(&wall());
        let blocks = |from, toward, most| tree.blocks(from, toward, most, |_, _, _| true);
        let none = |_, _, _, from| from;
        // From behind the wall at 45 degrees: the shadow falls toward +z, 2 m long.
        let sun = Sun { toward: Vector3::new(0.0, 1.0, -1.0f32).normalize(), radius: USUAL_RADIUS };
        let (low, high) = reach(&corners, Source::Sun(sun)).unwrap();
        assert!(high.y > 2.0 && high.y < 2.3 && low.y < 0.0 && low.y > -0.3, "{low} {high}");
        let shadow = FloorShadow::new(blocks, none, Source::Sun(sun), (low, high), true);
        let at = |x: f32, z: f32| shadow.at(Vector2::new(x, z));
        assert!(at(0.0, 1.0) > 0.99 && at(0.0, -0.1) < 0.01 && at(0.0, 2.15) < 0.05 && at(2.3, 1.0) < 0.05);
        let half = |x: f32| (0..300).map(|i| 1.7 + i as f32 * 0.002).find(|z| at(x, *z) < 0.5).unwrap();
        assert!((half(0.0) - 2.0).abs() < 0.02, "{}", half(0.0));
        // It is drawn where it lies, and hardly anywhere else.
        let area = |places: &[(Vector2<f32>, Vector2<f32>)]| -> f32 {
            places.iter().map(|(a, b)| (b.x - a.x) * (b.y - a.y)).sum()
        };
        let places = FloorShadow::new(blocks, none, Source::Sun(sun), (low, high), false).places();
        assert!((8.0..14.0).contains(&area(&places)), "{}", area(&places));
        let covered =
            |p: Vector2<f32>| places.iter().any(|(a, b)| a.x <= p.x && p.x <= b.x && a.y <= p.y && p.y <= b.y);
        assert!((0..40).all(|i| covered(Vector2::new(-1.9 + 0.095 * i as f32, 1.9))));
        // Its sides are sharp at the foot and soft at the end.
        let width = |z: f32| {
            let edge = |level: f32| (0..600).map(|i| 1.7 + i as f32 * 0.001).find(|x| at(*x, z) < level).unwrap();
            edge(0.15) - edge(0.85)
        };
        assert!(width(1.8) > 1.5 * width(0.15), "{} {}", width(1.8), width(0.15));
        // A sun four times as wide, and looked at from above the end: half-light as wide as the way times its angle.
        let wide = Sun { radius: 4.0 * USUAL_RADIUS, ..sun };
        let shadow =
            FloorShadow::new(blocks, none, Source::Sun(wide), reach(&corners, Source::Sun(wide)).unwrap(), true);
        let edge = |level: f32| {
            (0..2500).map(|i| 1.0 + i as f32 * 0.001).find(|z| shadow.at(Vector2::new(0.0, *z)) < level).unwrap()
        };
        // From the top, 2.83 m away, seen at 45 degrees; a disc keeps a tenth to nine tenths over 0.687 of its width.
        let soft = edge(0.1) - edge(0.9);
        let wanted = 0.687 * 2.0 * wide.radius * 2.0 * 2f32.sqrt() * 2f32.sqrt();
        assert!((soft / wanted - 1.0).abs() < 0.1, "{soft} instead of {wanted}");
    }

    proptest::proptest! {
        /// Every place that a patch covers is covered once, and no other.
        #[test]
        fn patches_side_by_side_cover_what_the_others_do(
            patches in proptest::collection::vec((0u8..20, 0u8..20, 1u8..9, 1u8..9), 0..9)
        ) {
            let patches: Vec<Patch> = patches
                .iter()
                .map(|(x, y, w, h)| [[*x, *y], [x + w, y + h]].map(|p| Vector2::new(f32::from(p[0]), f32::from(p[1]))))
                .map(|[low, high]| (low, high))
                .collect();
            let made = side_by_side(&patches);
            for i in 0..30 * 30 {
                let p = Vector2::new(0.5 + (i % 30) as f32, 0.5 + (i / 30) as f32);
                let inside = |(a, b): &&Patch| a.x < p.x && p.x < b.x && a.y < p.y && p.y < b.y;
                let count = |of: &[Patch]| of.iter().filter(inside).count();
                proptest::prop_assert_eq!(count(&made), count(&patches).min(1));
            }
        }
    }

    #[test]
    fn a_lamp_throws_a_larger_shadow_the_nearer_it_is_and_contact_darkens_close_by() {
        use fennik_core::geometry::Similarity;
        use fennik_core::scene::Lamp;
        // A board of 1 m a metre over the floor, lit from 2 m over it.
        let [a, b, c, d] = [[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]].map(|[x, z]| Vector3::new(x, 1.0, z));
        let board = vec![[a, b, c], [a, c, d]];
        let corners: Vec<_> = board.iter().flatten().copied().collect();
        let tree = Bvh::build(&board);
        let blocks = |from, toward, most| tree.blocks(from, toward, most, |_, _, _| true);
        let own = Similarity { translation: nalgebra::Vector3::new(0.0, 3.0, 0.0), ..Similarity::identity() };
        let half = |radius_m: f64| {
            let lamp = LampNow::new(&Lamp { radius_m, ..Lamp::default() }, &own);
            let source = Source::Lamp(&lamp, lamp.at);
            let place = |k, of, turn, from| lamp.place(k, of, turn, from);
            let shadow = FloorShadow::new(blocks, place, source, reach(&corners, source).unwrap(), true);
            let at = |x: f32| shadow.at(Vector2::new(x, 0.0));
            let edge = |level: f32| (0..1500).map(|i| i as f32 * 0.001).find(|x| at(*x) < level).unwrap();
            (edge(0.5), edge(0.1) - edge(0.9))
        };
        let ((hard, sharp), (soft_edge, soft)) = (half(0.0), half(0.1));
        assert!((hard - 0.75).abs() < 0.01 && (soft_edge - 0.75).abs() < 0.02, "{hard} {soft_edge}");
        // A disc of 0.2 m at twice the way of the board from the floor: half-light of 0.1 m, a tenth to nine tenths 0.687
        // of it.
        assert!(sharp < 0.02 && (soft / (0.687 * 0.1) - 1.0).abs() < 0.15, "{sharp} {soft}");
        let low: Vec<_> = board.iter().map(|t| t.map(|p| Vector3::new(p.x, 0.05, p.z))).collect();
        let near = Bvh::build(&low);
        let blocks = |from, toward, most| near.blocks(from, toward, most, |_, _, _| true);
        let corners: Vec<_> = low.iter().flatten().copied().collect();
        let sky = Source::Sky(0.4);
        let dark = FloorShadow::new(blocks, |_, _, _, p| p, sky, reach(&corners, sky).unwrap(), true);
        let at = |x: f32| dark.at(Vector2::new(x, 0.0));
        assert!(
            at(0.0) > 0.7 && at(0.55) < at(0.45) && at(0.7) < 0.1 && at(0.95) < 0.01,
            "{} {} {}",
            at(0.0),
            at(0.55),
            at(0.7)
        );
    }

    #[test]
    fn no_shadow_where_the_sun_is_down_or_all_lies_below() {
        let corners = [Vector3::new(0.0, 1.0, 0.0f32)];
        let sun = |toward| Source::Sun(Sun { toward, radius: USUAL_RADIUS });
        assert!(reach(&corners, sun(Vector3::new(1.0, 0.0, 0.0))).is_none());
        assert!(reach(&[Vector3::new(0.0, -1.0, 0.0)], sun(Vector3::y())).is_none());
        assert!(reach(&[], sun(Vector3::y())).is_none());
    }
}
