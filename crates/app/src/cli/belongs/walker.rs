//! Holdouts of people who walk by, drawn on one frame in 25 and followed in between, against the mattes that are known.

use super::{Row, percentile};
use crate::cli::error::CliError;
use fennik_core::image::Plane;
use fennik_core::matte::contains;
use fennik_core::track::{Follower, between};
use fennik_demo::flight::BOATHOUSE;
use fennik_demo::scene::Scene;
use fennik_demo::take::Take;
use fennik_media::{ClipInfo, FrameReader, PixelKind};
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;
use std::collections::HashSet;
use std::path::Path;

/// Frames from one drawn outline to the next, and from one that is compared to the next.
const EVERY: usize = 25;
const COMPARED: usize = 5;
/// Corners with which a walker is drawn round.
const CORNERS: usize = 48;
/// How large a walker is that is looked at, px.
const SIZE: std::ops::Range<usize> = 900..60_000;
/// How much of it may be gone or new on the next that is compared; where more is, something else came in between.
const STEADY: f64 = 0.3;

type Pixels = HashSet<(i32, i32)>;

/// A row for people who stride along a wall.
///
/// # Errors
/// [`CliError`] when a clip cannot be read.
pub(super) fn rows(scratch: &Path) -> Result<Vec<Row>, CliError> {
    let path = scratch.join("boathouse.mp4");
    std::fs::write(&path, fennik_demo::BOATHOUSE_CLIP)
        .map_err(|why| CliError::Unwritten { path: path.clone(), why })?;
    let clip = ClipInfo::open(&path, scratch)?;
    let scene = BOATHOUSE.scene();
    let mut own = Vec::new();
    for first in (0..clip.frames.saturating_sub(EVERY as u32)).step_by(EVERY) {
        let mut reader = FrameReader::open(&clip, Some((first, first + EVERY as u32 + 1)), PixelKind::Rgb)?;
        let mut planes = Vec::new();
        while let Some(bytes) = reader.next_frame()? {
            planes.push(luma(bytes, &BOATHOUSE));
        }
        own.extend(stretch(&BOATHOUSE, scene.as_ref(), first, &planes));
    }
    Ok(vec![row("who stride along the boathouse", own)])
}

fn luma(rgb: &[u8], take: &Take) -> Plane {
    let at = |p: &[u8]| 0.2126 * f32::from(p[0]) + 0.7152 * f32::from(p[1]) + 0.0722 * f32::from(p[2]);
    let samples: Vec<f32> = rgb.chunks_exact(3).map(at).collect();
    let w = take.width as usize;
    Plane::from_fn(w, take.height as usize, |x, y| samples[y * w + x])
}

fn row(who: &str, people: Vec<Vec<f64>>) -> Row {
    let count = people.len();
    let mut all: Vec<f64> = people.into_iter().flatten().collect();
    let mean = all.iter().sum::<f64>() / all.len().max(1) as f64;
    [
        format!("holdouts of people {who}, drawn on one frame in {EVERY}: intersection over union"),
        "0.95".to_owned(),
        format!("{mean:.3} on the average, 95 of 100 frames over {:.3}, of {count}", percentile(&mut all, 0.05)),
    ]
}

/// How well the outlines agree of each of those who are wholly in sight from one drawn outline to the next.
fn stretch(take: &Take, scene: &dyn Scene, first: u32, planes: &[Plane]) -> Vec<Vec<f64>> {
    if planes.len() <= EVERY {
        return Vec::new();
    }
    let compared: Vec<usize> = (0..=EVERY).step_by(COMPARED).collect();
    let mattes: Vec<Vec<Pixels>> = compared.iter().map(|n| walkers(take, scene, first + *n as u32)).collect();
    in_sight(&mattes).into_iter().map(|person| followed(planes, &person, &compared)).collect()
}

/// Things on the move that a frame shows, each by the pixels whose middle it covers.
fn walkers(take: &Take, scene: &dyn Scene, frame: u32) -> Vec<Pixels> {
    let (w, h) = (take.width as i32, take.height as i32);
    let lens = take.lens(f64::from(frame));
    let pose = take.pose(f64::from(frame));
    let (eye, to_world) = (pose.centre(), pose.rotation.inverse());
    let moves = |y: i32| -> Vec<(i32, i32)> {
        let there = |x: &i32| {
            let n = lens.unproject(Vector2::new(f64::from(*x), f64::from(y)));
            let ray = (to_world * Vector3::new(n.x, n.y, 1.0)).normalize();
            scene.meet(eye, ray, f64::from(frame)).is_some_and(|met| met.moves)
        };
        (0..w).filter(there).map(|x| (x, y)).collect()
    };
    let mut left: Pixels = (0..h).into_par_iter().flat_map(moves).collect();
    let mut all = Vec::new();
    while let Some(seed) = left.iter().next().copied() {
        let (mut part, mut open) = (Pixels::new(), vec![seed]);
        left.remove(&seed);
        while let Some((x, y)) = open.pop() {
            part.insert((x, y));
            let near = [(x + 1, y), (x - 1, y), (x, y + 1), (x, y - 1)];
            open.extend(near.into_iter().filter(|p| left.remove(p)));
        }
        let inside = |(x, y): &(i32, i32)| *x > 0 && *y > 0 && *x < w - 1 && *y < h - 1;
        if SIZE.contains(&part.len()) && part.iter().all(inside) {
            all.push(part);
        }
    }
    all.sort_by_key(|part| part.iter().min().copied());
    all
}

/// Those that are wholly in sight on every frame, from frame to frame.
fn in_sight(mattes: &[Vec<Pixels>]) -> Vec<Vec<&Pixels>> {
    let Some(first) = mattes.first() else { return Vec::new() };
    let go_on = |start| {
        mattes[1..].iter().try_fold(vec![start], |mut way: Vec<&Pixels>, next| {
            let now = way[way.len() - 1];
            let best = next.iter().max_by_key(|p| p.intersection(now).count())?;
            let change = (best.len() as f64 / now.len() as f64 - 1.0).abs();
            let meets = best.intersection(now).count() * 4 > now.len();
            (meets && change < STEADY).then(|| {
                way.push(best);
                way
            })
        })
    };
    first.iter().filter_map(go_on).collect()
}

/// How well each that is compared between the first and the last agrees, which are drawn.
fn followed(frames: &[Plane], known: &[&Pixels], compared: &[usize]) -> Vec<f64> {
    let run = |drawn: Vec<[f64; 2]>, order: &mut dyn Iterator<Item = &Plane>| -> Vec<Vec<[f64; 2]>> {
        let mut all = vec![drawn.clone()];
        let Some(Ok(mut follower)) = order.next().map(|first| Follower::new(first, drawn)) else { return all };
        for frame in order {
            let Ok(Some(next)) = follower.step(frame) else { break };
            all.push(next);
        }
        all
    };
    let ahead = run(contour(known[0]), &mut frames.iter());
    let behind = run(contour(known[known.len() - 1]), &mut frames.iter().rev());
    let met = between(ahead, behind, frames.len());
    let within = 1..known.len() - 1;
    within.map(|k| met.get(compared[k]).map_or(0.0, |outline| agreement(outline, known[k]))).collect()
}

/// Intersection over union.
fn agreement(outline: &[[f64; 2]], known: &Pixels) -> f64 {
    let range = |axis: usize| {
        let all = || outline.iter().map(move |c| c[axis]);
        (all().fold(f64::INFINITY, f64::min).floor() as i32, all().fold(f64::NEG_INFINITY, f64::max).ceil() as i32)
    };
    let ((left, right), (top, bottom)) = (range(0), range(1));
    let cells = (top..=bottom).flat_map(|y| (left..=right).map(move |x| (x, y)));
    let mine: Pixels = cells.filter(|(x, y)| contains(outline, f64::from(*x), f64::from(*y))).collect();
    let both = mine.intersection(known).count();
    both as f64 / (mine.len() + known.len() - both) as f64
}

/// The outline of what is covered, from its topmost place on, as corners that are evenly far from each other.
fn contour(pixels: &Pixels) -> Vec<[f64; 2]> {
    let Some(top) = pixels.iter().min_by_key(|(x, y)| (*y, *x)).copied() else { return Vec::new() };
    // Along the edges of pixels, with what is covered to the right.
    let covered = |x: i32, y: i32| pixels.contains(&(x, y));
    let (mut at, mut way) = (top, (1, 0));
    let mut path = Vec::new();
    loop {
        path.push([f64::from(at.0) - 0.5, f64::from(at.1) - 0.5]);
        at = (at.0 + way.0, at.1 + way.1);
        // The pixels ahead, to the left and to the right of the edge that would go straight on.
        let (left, right) = match way {
            (1, 0) => (covered(at.0, at.1 - 1), covered(at.0, at.1)),
            (0, 1) => (covered(at.0, at.1), covered(at.0 - 1, at.1)),
            (-1, 0) => (covered(at.0 - 1, at.1), covered(at.0 - 1, at.1 - 1)),
            _ => (covered(at.0 - 1, at.1 - 1), covered(at.0, at.1 - 1)),
        };
        way = match (left, right) {
            (true, _) => (way.1, -way.0),
            (false, true) => way,
            (false, false) => (-way.1, way.0),
        };
        if at == top && way == (1, 0) {
            break;
        }
    }
    (0..CORNERS).map(|k| path[k * path.len() / CORNERS]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_covered_is_drawn_round() {
        let disc: Pixels =
            (-30..=30).flat_map(|y| (-30..=30).map(move |x| (x, y))).filter(|(x, y)| x * x + y * y < 800).collect();
        let outline = contour(&disc);
        assert_eq!(outline.len(), CORNERS);
        assert!(agreement(&outline, &disc) > 0.96, "{}", agreement(&outline, &disc));
        let beside: Vec<_> = outline.iter().map(|c| [c[0] + 28.0, c[1]]).collect();
        assert!(agreement(&beside, &disc) < 0.5);
    }
}
