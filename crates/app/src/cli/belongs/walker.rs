//! Holdouts of people who walk by, drawn on one frame in 25 and followed in between, against the mattes that are known.

use super::{Row, percentile};
use crate::cli::error::CliError;
use fennik_core::image::Plane;
use fennik_core::matte::contains;
use fennik_core::track::{Follower, between};
use fennik_demo::flight::{BASIN, BOATHOUSE, QUAY};
use fennik_demo::scene::Scene;
use fennik_demo::sensor::direction;
use fennik_demo::take::Take;
use fennik_media::{ClipInfo, FrameReader, PixelKind};
use rayon::prelude::*;
use std::collections::{BTreeMap, HashSet};
use std::path::Path;

/// Frames from one drawn outline to the next, and from one that is compared to the next.
const EVERY: usize = 25;
const COMPARED: usize = 5;
/// Corners with which a walker is drawn round.
const CORNERS: usize = 48;
/// How many pixels a walker covers who is looked at, of a picture 1280 wide.
const SIZE: std::ops::Range<usize> = 900..60_000;

type Pixels = HashSet<(i32, i32)>;
/// Everybody's pixels by who they are.
type Mattes = BTreeMap<u32, Pixels>;

/// Rows for people who glide, who stride over a quay, and who stride along a wall.
///
/// # Errors
/// [`CliError`] when a clip cannot be read.
pub(super) fn rows(scratch: &Path) -> Result<Vec<Row>, CliError> {
    let glide = of_clip(scratch, &QUAY, fennik_demo::QUAY_CLIP)?;
    let quay = of_clip(scratch, &BASIN, fennik_demo::BASIN_CLIP)?;
    let wall = of_clip(scratch, &BOATHOUSE, fennik_demo::BOATHOUSE_CLIP)?;
    Ok(vec![
        row("glide over the quay", glide),
        row("stride over the quay", quay),
        row("pass by one another along the boathouse", wall),
    ])
}

fn of_clip(scratch: &Path, take: &Take, bytes: &[u8]) -> Result<Vec<Vec<f64>>, CliError> {
    let path = scratch.join("walkers.mp4");
    std::fs::write(&path, bytes).map_err(|why| CliError::Unwritten { path: path.clone(), why })?;
    let clip = ClipInfo::open(&path, scratch)?;
    let scene = take.scene();
    let mut own = Vec::new();
    for first in (0..clip.frames.saturating_sub(EVERY as u32)).step_by(EVERY) {
        let mattes: Vec<Mattes> =
            (0..=EVERY).step_by(COMPARED).map(|n| mattes(take, scene.as_ref(), first + n as u32)).collect();
        let everywhere = |who: &u32| mattes.iter().map(|m| m.get(who)).collect::<Option<Vec<_>>>();
        let people: Vec<Vec<&Pixels>> = mattes[0].keys().filter_map(everywhere).collect();
        if people.is_empty() {
            continue;
        }
        let mut reader = FrameReader::open(&clip, Some((first, first + EVERY as u32 + 1)), PixelKind::Rgb)?;
        let mut planes = Vec::new();
        while let Some(bytes) = reader.next_frame()? {
            planes.push(luma(bytes, take));
        }
        own.extend(people.iter().map(|person| followed(&planes, person)));
    }
    Ok(own)
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
        format!("holdouts of people who {who}, drawn on one frame in {EVERY}: intersection over union"),
        "0.95".to_owned(),
        format!("{mean:.3} on the average, 95 of 100 frames over {:.3}, of {count}", percentile(&mut all, 0.05)),
    ]
}

/// Those who walk and are wholly in the picture, by the pixels whose middle they cover.
fn mattes(take: &Take, scene: &dyn Scene, frame: u32) -> Mattes {
    let (w, h) = (take.width as i32, take.height as i32);
    let lens = take.lens(f64::from(frame));
    let of_row = |y: i32| -> Vec<(u32, (i32, i32))> {
        // As the sensor reads it: row after row.
        let time = take.row_time(frame, f64::from(y));
        let pose = take.pose(time);
        let (eye, to_world) = (pose.centre(), pose.rotation.inverse());
        let there = |x: i32| {
            let ray = (to_world * direction(&lens, f64::from(x), f64::from(y))).normalize();
            Some((scene.walker(eye, ray, time)?, (x, y)))
        };
        (0..w).filter_map(there).collect()
    };
    let mut all = Mattes::new();
    for (who, at) in (0..h).into_par_iter().flat_map(of_row).collect::<Vec<_>>() {
        all.entry(who).or_default().insert(at);
    }
    let inside = |(x, y): &(i32, i32)| *x > 0 && *y > 0 && *x < w - 1 && *y < h - 1;
    all.retain(|_, part| SIZE.contains(&part.len()) && part.iter().all(inside));
    all
}

/// How well each that is compared between the first and the last agrees, which are drawn.
fn followed(frames: &[Plane], known: &[&Pixels]) -> Vec<f64> {
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
    within.map(|k| met.get(k * COMPARED).map_or(0.0, |outline| agreement(outline, known[k]))).collect()
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
