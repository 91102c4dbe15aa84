//! Inserts that hang on others.

use super::{Insert, InsertId};
use crate::geometry::Similarity;

/// Longest line of parents.
const DEEPEST: usize = 32;

fn parent<'a>(inserts: &'a [Insert], insert: &Insert) -> Option<&'a Insert> {
    let id = insert.parent?;
    inserts.iter().find(|i| i.id == id)
}

/// What an insert hangs on, the nearest first; a circle, which no document holds, is not followed round for ever.
pub fn parents_of<'a>(inserts: &'a [Insert], insert: &Insert) -> impl Iterator<Item = &'a Insert> {
    std::iter::successors(parent(inserts, insert), |i| parent(inserts, i)).take(DEEPEST)
}

/// To the world of the datum from the frame in which an insert's placement is written, at a time, frames.
pub fn world_of(inserts: &[Insert], insert: &Insert, frame: f64) -> Similarity {
    parents_of(inserts, insert).fold(Similarity::identity(), |so_far, p| so_far.then(&p.placement.own(frame)))
}

/// Whether it is to be drawn: neither it nor what it hangs on is hidden, and where some are seen alone it, or what it
/// hangs on, is one of them.
pub fn is_shown<'a>(inserts: &'a [Insert], insert: &'a Insert) -> bool {
    let line: Vec<&Insert> = std::iter::once(insert).chain(parents_of(inserts, insert)).collect();
    let alone = inserts.iter().any(|i| i.solo);
    line.iter().all(|i| !i.hidden) && (!alone || line.iter().any(|i| i.solo))
}

/// Whether an insert is another, or hangs on it, over however many.
pub fn kin_of(inserts: &[Insert], insert: &Insert, other: InsertId) -> bool {
    insert.id == other || parents_of(inserts, insert).any(|p| p.id == other)
}
