//! Holdouts of people who walk by, drawn on one frame in 25 and followed in between, against the mattes that are known.

use super::{Row, percentile};
use crate::cli::error::CliError;
use crate::engine::follow::{Route, follow};
use fennik_core::matte::{Coverage, SoftShape, agreement, contour, largest, simplified};
use fennik_demo::flight::{BASIN, BOATHOUSE, QUAY};
use fennik_demo::scene::Scene;
use fennik_demo::sensor::direction;
use fennik_demo::take::Take;
use fennik_media::ClipInfo;
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
        for person in people {
            own.push(followed(&clip, first, &person)?);
        }
    }
    Ok(own)
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
fn followed(clip: &ClipInfo, first: u32, known: &[&Pixels]) -> Result<Vec<f64>, CliError> {
    let (drawn, last) = (outline(known[0]), outline(known[known.len() - 1]));
    let route =
        Route { from: (first, &drawn), span: (first, first + EVERY as u32), known: [None, Some(&last)], smooth: &[] };
    let met = follow(clip, 0, &route, |_, _| true)?.outlines;
    let within = 1..known.len() - 1;
    Ok(within.map(|k| met.get(k * COMPARED).map_or(0.0, |outline| agrees(outline, known[k]))).collect())
}

/// A box round pixels, with room about them: left, top, width and height.
type Window = (i32, i32, usize, usize);

fn covered(pixels: &Pixels, (left, top, width, height): Window) -> Coverage {
    let mut made = Coverage::empty(width, height);
    let places = pixels.iter().map(|(x, y)| (x - left, y - top));
    let within = places.filter(|(x, y)| *x >= 0 && *y >= 0 && *x < width as i32 && *y < height as i32);
    within.for_each(|(x, y)| made.parts[y as usize * width + x as usize] = 1.0);
    made
}

fn window(places: impl Iterator<Item = (i32, i32)> + Clone) -> Window {
    let end = |v: i32, w: Option<i32>| w.unwrap_or(v);
    let (left, top) = (end(0, places.clone().map(|p| p.0).min()) - 2, end(0, places.clone().map(|p| p.1).min()) - 2);
    let (right, under) = (end(0, places.clone().map(|p| p.0).max()) + 3, end(0, places.map(|p| p.1).max()) + 3);
    (left, top, (right - left) as usize, (under - top) as usize)
}

/// Intersection over union.
fn agrees(outline: &[[f64; 2]], known: &Pixels) -> f64 {
    let corners = outline.iter().map(|c| (c[0] as i32, c[1] as i32));
    let window = window(corners.chain(known.iter().copied()));
    let corners = outline.iter().map(|c| [c[0] - f64::from(window.0), c[1] - f64::from(window.1)]).collect();
    let mine = Coverage::of_shape(window.2, window.3, &SoftShape { corners, feathers: Vec::new() });
    agreement(&mine, &covered(known, window))
}

/// Round somebody, with corners where they matter, as a person would set them.
fn outline(pixels: &Pixels) -> Vec<[f64; 2]> {
    let window = window(pixels.iter().copied());
    let round = largest(&covered(pixels, window)).map(|part| simplified(contour(&part), CORNERS)).unwrap_or_default();
    round.into_iter().map(|c| [c[0] + f64::from(window.0), c[1] + f64::from(window.1)]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_covered_is_drawn_round() {
        let disc: Pixels =
            (-30..=30).flat_map(|y| (-30..=30).map(move |x| (x, y))).filter(|(x, y)| x * x + y * y < 800).collect();
        let round = outline(&disc);
        assert_eq!(round.len(), CORNERS);
        assert!(agrees(&round, &disc) > 0.96, "{}", agrees(&round, &disc));
        let beside: Vec<_> = round.iter().map(|c| [c[0] + 28.0, c[1]]).collect();
        assert!(agrees(&beside, &disc) < 0.5);
    }
}
