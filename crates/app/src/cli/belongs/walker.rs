//! Holdouts of people who walk by, drawn on one frame in 25 and followed in between, against the mattes that are known.

use super::{Row, percentile};
use crate::cli::error::CliError;
use crate::engine::follow::{Route, follow};
use fennik_core::matte::{Coverage, Trace, Window, agreement, bounds, contour, largest, simplified};
use fennik_demo::flight::{BASIN, BOATHOUSE, QUAY};
use fennik_demo::passing::PASSING;
use fennik_demo::scene::Scene;
use fennik_demo::sensor::direction;
use fennik_demo::take::Take;
use fennik_media::ClipInfo;
use rayon::prelude::*;
use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::path::Path;

/// Frames from one drawn outline to the next, and from one that is compared to the next.
const EVERY: usize = 25;
const COMPARED: usize = 5;
/// Corners with which a walker is drawn round.
const CORNERS: usize = 48;
/// How many pixels a walker covers who is looked at, of a picture 1280 wide.
const SIZE: Range<usize> = 900..60_000;
/// And who is close.
const CLOSE: Range<usize> = 6_000..60_000;

type Pixels = HashSet<(i32, i32)>;
/// Everybody's pixels by who they are.
type Mattes = BTreeMap<u32, Pixels>;

/// Rows for people who stride by close, who glide, who stride over a quay, and who stride along a wall.
///
/// # Errors
/// [`CliError`] when a clip cannot be read.
pub(super) fn rows(scratch: &Path) -> Result<Vec<Row>, CliError> {
    let glide = of_clip(scratch, &QUAY, fennik_demo::QUAY_CLIP, SIZE)?;
    let quay = of_clip(scratch, &BASIN, fennik_demo::BASIN_CLIP, SIZE)?;
    let wall = of_clip(scratch, &BOATHOUSE, fennik_demo::BOATHOUSE_CLIP, SIZE)?;
    let mut near = Vec::new();
    for (take, film) in &PASSING {
        near.extend(of_clip(scratch, take, film, CLOSE)?);
    }
    Ok(vec![
        row("stride by close to the camera", near),
        row("glide over the quay", glide),
        row("stride over the quay", quay),
        row("pass by one another along the boathouse", wall),
    ])
}

fn of_clip(scratch: &Path, take: &Take, bytes: &[u8], size: Range<usize>) -> Result<Vec<Vec<f64>>, CliError> {
    let path = scratch.join("walkers.mp4");
    std::fs::write(&path, bytes).map_err(|why| CliError::Unwritten { path: path.clone(), why })?;
    let clip = ClipInfo::open(&path, scratch)?;
    let scene = take.scene();
    let mut own = Vec::new();
    for first in (0..clip.frames.saturating_sub(EVERY as u32)).step_by(EVERY) {
        let mattes: Vec<Mattes> =
            (0..=EVERY).step_by(COMPARED).map(|n| mattes(take, scene.as_ref(), first + n as u32, &size)).collect();
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
fn mattes(take: &Take, scene: &dyn Scene, frame: u32, size: &Range<usize>) -> Mattes {
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
    all.retain(|_, part| size.contains(&part.len()) && part.iter().all(inside));
    all
}

/// How well each that is compared between the first and the last agrees, which are drawn.
fn followed(clip: &ClipInfo, first: u32, known: &[&Pixels]) -> Result<Vec<f64>, CliError> {
    let [drawn, last] = [known[0], known[known.len() - 1]].map(|pixels| Trace::from(outline(pixels)));
    let route =
        Route { from: (first, &drawn), span: (first, first + EVERY as u32), known: [None, Some(&last)], smooth: &[] };
    let met = follow(clip, 0, &route, |_, _| true)?.outlines;
    let within = 1..known.len() - 1;
    Ok(within.map(|k| met.get(k * COMPARED).map_or(0.0, |trace| agrees(&trace.places().0, known[k]))).collect())
}

fn covered(pixels: &Pixels, window: &Window) -> Coverage {
    let mut made = Coverage::empty(window.width, window.height);
    for (x, y) in pixels {
        made.parts[(y - window.top) as usize * window.width + (x - window.left) as usize] = 1.0;
    }
    made
}

fn places(pixels: &Pixels) -> Vec<[f64; 2]> {
    pixels.iter().map(|(x, y)| [f64::from(*x), f64::from(*y)]).collect()
}

/// Intersection over union.
fn agrees(outline: &[[f64; 2]], known: &Pixels) -> f64 {
    let window = Window::about(bounds(outline.iter().chain(&places(known))), 0.0);
    agreement(&Coverage::of_outline(outline, &window, 0.0), &covered(known, &window))
}

/// Round somebody, with corners where they matter, as a person would set them.
fn outline(pixels: &Pixels) -> Vec<[f64; 2]> {
    let window = Window::about(bounds(&places(pixels)), 0.0);
    let round = largest(&covered(pixels, &window)).map(|part| simplified(contour(&part), CORNERS)).unwrap_or_default();
    round.into_iter().map(|c| window.of_picture(c)).collect()
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
