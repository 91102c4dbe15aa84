//! Colours that are drawn towards a plate, against what the plate's own grade makes of them.

use super::{Chance, Row, percentile};
use fennik_core::colour::{Likeness, delta_e, lab_of, likeness, oklab_colour};

/// What is put over plates.
const GRADES: [Likeness; 4] = [
    Likeness { exposure: 0.7, warmth: 45.0, tint: 0.1, contrast: 1.1, saturation: 0.85 },
    Likeness { exposure: -0.6, warmth: -35.0, tint: -0.2, contrast: 1.25, saturation: 1.2 },
    Likeness { exposure: 0.3, warmth: 0.0, tint: 0.4, contrast: 0.8, saturation: 0.6 },
    Likeness { exposure: -0.9, warmth: 20.0, tint: 0.0, contrast: 0.9, saturation: 1.4 },
];

/// What is drawn towards a plate that was graded in a known way, against what the same grade makes of it: made-up plates of
/// the same paints as what stands before them; things of one paint before the graded demo clip; and patches of the clip
/// drawn to what is about them, which is of other things.
pub(super) fn rows(frames: &[&[[f32; 3]]], size: (usize, usize)) -> Vec<Row> {
    let told = |what: &str, asked: &str, mut off: Vec<f64>| {
        let (middle, most) = (percentile(&mut off, 0.5), percentile(&mut off, 0.95));
        [what.to_owned(), asked.to_owned(), format!("{middle:.2} in the median, 95 of 100 within {most:.2}")]
    };
    let (painted, one, patches) = (painted_plates(), things_of_one_paint(frames, size), patches(frames, size));
    vec![
        told("colour: made-up plates, graded in four ways, and things of the same paints: CIEDE2000", "2", painted),
        told("colour: things of one paint before the demo clip, graded in four ways: CIEDE2000 after", "", one.1),
        told("colour: the same before they are drawn to it", "", one.0),
        told("colour: patches of the demo clip drawn to what is about them: CIEDE2000", "", patches),
    ]
}

/// How far colours are that are drawn from those that they should be.
fn off(own: &[[f32; 3]], found: Likeness, truth: Likeness) -> Vec<f64> {
    let (found, truth) = (found.grade(), truth.grade());
    own.iter().step_by(7).map(|c| delta_e(lab_of(found.apply(*c)), lab_of(truth.apply(*c)))).collect()
}

fn graded(lot: &[[f32; 3]], like: Likeness) -> Vec<[f32; 3]> {
    let grade = like.grade();
    lot.iter().map(|c| grade.apply(*c)).collect()
}

/// Paints in light and shade, as they lie about a thing on four sides and on the thing itself.
fn painted_plates() -> Vec<f64> {
    let mut all = Vec::new();
    for (n, like) in GRADES.into_iter().enumerate() {
        for seed in 0..5 {
            let mut chance = Chance(100 * n as u32 + seed);
            let paints: Vec<_> = (0..24)
                .map(|_| {
                    let (bright, strong, hue) = (chance.unit(), chance.unit(), chance.unit());
                    oklab_colour(0.3 + 0.55 * bright as f32, 0.11 * (strong * strong) as f32, 360.0 * hue as f32)
                })
                .collect();
            let mut lot = |count: usize| -> Vec<[f32; 3]> {
                (0..count)
                    .map(|_| {
                        let paint = paints[((chance.unit() * 24.0) as usize).min(23)];
                        let lit = (0.6 + 0.5 * chance.unit()) as f32;
                        paint.map(|v| v * lit)
                    })
                    .collect()
            };
            let own = lot(3000);
            let about: [Vec<_>; 4] = std::array::from_fn(|_| graded(&lot(1500), like));
            if let Some(found) = likeness(&own, &about.each_ref().map(Vec::as_slice)) {
                all.extend(off(&own, found, like));
            }
        }
    }
    all
}

/// Colours about a place of a frame, from how far on: to its right, its left, under it and over it; and on it.
fn lots_at(
    frame: &[[f32; 3]],
    (width, height): (usize, usize),
    (cx, cy): (usize, usize),
) -> (Vec<[f32; 3]>, [Vec<[f32; 3]>; 4]) {
    let (mut own, mut about): (Vec<_>, [Vec<_>; 4]) = Default::default();
    for y in cy.saturating_sub(110)..(cy + 110).min(height) {
        for x in cx.saturating_sub(160)..(cx + 160).min(width) {
            let (dx, dy) = ((x as f64 - cx as f64) / 80.0, (y as f64 - cy as f64) / 55.0);
            let colour = frame[y * width + x];
            if dx.abs().max(dy.abs()) < 1.0 {
                own.push(colour);
            } else {
                let side = if dx.abs() > dy.abs() { usize::from(dx < 0.0) } else { 2 + usize::from(dy < 0.0) };
                about[side].push(colour);
            }
        }
    }
    (own, about)
}

/// Middles of what is looked at.
const PLACES: [(usize, usize); 5] = [(320, 420), (640, 420), (960, 420), (480, 580), (800, 580)];

/// How far things of one paint are off that stand before a graded plate, before and after they are drawn to it.
fn things_of_one_paint(frames: &[&[[f32; 3]]], size: (usize, usize)) -> (Vec<f64>, Vec<f64>) {
    let (mut before, mut after) = (Vec::new(), Vec::new());
    for like in GRADES {
        for (at, frame) in PLACES.into_iter().flat_map(|at| frames.iter().map(move |frame| (at, frame))) {
            let about = lots_at(frame, size, at).1.map(|side| graded(&side, like));
            for paint in [[0.80, 0.74, 0.60], [0.42, 0.05, 0.04], [0.04, 0.04, 0.05], [0.10, 0.22, 0.40]] {
                let own: Vec<_> =
                    (0..700).map(|k| paint.map(|v: f32| v * (0.7 + 0.4 * (k * 37 % 100) as f32 / 100.0))).collect();
                let Some(found) = likeness(&own, &about.each_ref().map(Vec::as_slice)) else { continue };
                before.extend(off(&own, Likeness::PLAIN, like));
                after.extend(off(&own, found, like));
            }
        }
    }
    (before, after)
}

fn patches(frames: &[&[[f32; 3]]], size: (usize, usize)) -> Vec<f64> {
    let mut all = Vec::new();
    for like in GRADES {
        for (at, frame) in PLACES.into_iter().flat_map(|at| frames.iter().map(move |frame| (at, frame))) {
            let (own, about) = lots_at(frame, size, at);
            let about = about.map(|side| graded(&side, like));
            if let Some(found) = likeness(&own, &about.each_ref().map(Vec::as_slice)) {
                all.extend(off(&own, found, like));
            }
        }
    }
    all
}
