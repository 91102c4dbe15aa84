//! What pages and recipes know of lens and film, and of drawing what is placed towards the plate.

use super::compose::Composer;
use super::kinds::{
    Field, Input, Measure, ToldKey, ValueError, Values, When, amount, colour, set_anew, tell, written_light,
};
use super::run::Step;
use super::{EngineError, OpenShot, grading};
use fennik_core::colour::{Likeness, likeness};
use fennik_core::image::{GrainSamples, edge_blur_px};
use fennik_core::scene::anim::Track;
use fennik_core::scene::{DRAW, Drawn, Insert, LENS_RULES, LENS_WIDTH_PX, LensLook, PlateMeasure};
use fennik_media::{ChosenFrames, PixelKind};
use fennik_render::colour as light;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Lens and film.
pub const LENS_FIELDS: [Field; 15] = [
    Field::number("sharpness", "plate's blur, 0 to 1", Measure::Plain, 0.1),
    Field::number("grain", "plate's grain", Measure::Plain, 0.1),
    Field::number("shutter-phase", "shutter opens, deg", Measure::Angle, 10.0),
    Field::number("defocus", "defocus, px", Measure::Plain, 0.5),
    Field::number("focus", "sharp at, m", Measure::Length, 1.0),
    Field::number("aperture", "aperture", Measure::Plain, 1.0),
    Field::number("blades", "blades", Measure::Plain, 1.0),
    Field::number("blade-turn", "turned, deg", Measure::Angle, 5.0),
    Field::number("haze-at", "half lost at, m", Measure::Length, 50.0),
    Field { name: "haze-colour", label: "haze", input: Input::Colour },
    Field::number("bloom", "bloom", Measure::Plain, 0.1),
    Field::number("bloom-from", "from light", Measure::Plain, 0.1),
    Field::number("bloom-size", "spreads, px", Measure::Plain, 2.0),
    Field::number("lens-vignette", "darker corners", Measure::Plain, 0.05),
    Field::number("fringe", "colour fringe, px", Measure::Plain, 0.2),
];

/// How much of what was measured of an insert counts.
pub const DRAW_FIELDS: [Field; 8] = [
    Field::number("draw", "towards the plate", Measure::Plain, 0.1),
    Field::number("draw-exposure", "exposure", Measure::Plain, 0.1),
    Field::number("draw-white", "white", Measure::Plain, 0.1),
    Field::number("draw-contrast", "contrast", Measure::Plain, 0.1),
    Field::number("draw-saturation", "saturation", Measure::Plain, 0.1),
    Field::number("draw-dark", "dark tones", Measure::Plain, 0.1),
    Field::number("draw-middle", "middle tones", Measure::Plain, 0.1),
    Field::number("draw-bright", "bright tones", Measure::Plain, 0.1),
];

/// Frames that are looked at over the shot, evenly; and of a plate that is measured.
const LOOKED_AT: u32 = 9;
const MEASURED: u32 = 5;
/// Width at which colours are compared, px.
const COMPARED_PX: u32 = 480;
/// How far about an insert the plate is looked at, of the size of the insert on the picture, and least, px.
const ABOUT: (f64, f64) = (0.5, 12.0);
/// What covers a pixel by so much is the insert's.
const COVERED: f32 = 0.9;

/// What cannot be measured.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum MatchError {
    /// An insert that is seen nowhere.
    #[error("{name} is seen too little on the frames that were looked at; make it larger, or put it into the picture")]
    Unseen {
        /// What it is called.
        name: String,
    },
    /// A plate without flat parts and edges.
    #[error("neither grain nor edges stand out of this plate; set its blur by hand")]
    NoMeasure,
}

/// The values of lens and film at a time, frames.
pub fn values(lens: &LensLook, frame: f64) -> Values {
    let mut all = grading::values(&lens.numbers, &LENS_RULES, frame);
    all.insert("haze-colour".to_owned(), json!(written_light(lens.haze_colour.at(frame))));
    all
}

/// Sets one; `false` where there is none of that name.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set(lens: &mut LensLook, when: When, name: &str, value: &Value) -> Result<bool, ValueError> {
    if name == "haze-colour" {
        when.put(&mut lens.haze_colour, colour(value)?.map(f64::from));
        return Ok(true);
    }
    let Some(rule) = LensLook::rule(name) else { return Ok(false) };
    let measure = match name {
        "focus" | "haze-at" => Measure::Length,
        "blade-turn" | "shutter-phase" => Measure::Angle,
        _ => Measure::Plain,
    };
    let value = amount(value, measure)?;
    lens.numbers.with(rule, |of| when.put(of, value));
    Ok(true)
}

/// Sets those values at a time, frames, that were typed as others than are there.
///
/// # Errors
/// The first value that cannot be used, by its name.
pub fn set_typed(lens: &mut LensLook, frame: f64, typed: &BTreeMap<String, String>) -> Result<(), ValueError> {
    let now = values(lens, frame);
    set_anew(LENS_FIELDS.iter(), &now, typed, |name, value| set(lens, When::At(frame), name, value))
}

/// The numbers that have keys, by name, with the times of these.
pub fn keyed(lens: &LensLook) -> Vec<(String, Vec<f64>)> {
    let mut numbers = lens.numbers.clone();
    let mut all: Vec<_> = numbers.tracks().map(|(name, track)| (name.to_owned(), track.key_frames())).collect();
    let haze: Vec<f64> = lens.haze_colour.key_frames().collect();
    if !haze.is_empty() {
        all.push(("haze-colour".to_owned(), haze));
    }
    all
}

/// Does something to one of its values over time, by its name; `false` where there is none.
pub fn with_track(lens: &mut LensLook, name: &str, act: impl FnOnce(&mut dyn Track)) -> bool {
    if name == "haze-colour" {
        act(&mut lens.haze_colour);
        return true;
    }
    let Some(rule) = LensLook::rule(name) else { return false };
    lens.numbers.with(rule, |of| act(of));
    true
}

/// As steps of a recipe say it; what was measured is measured anew.
pub fn told(lens: &LensLook) -> (Values, Vec<ToldKey>) {
    let (mut still, mut keys) = grading::told(&lens.numbers);
    if lens.haze_colour != LensLook::default().haze_colour {
        tell("haze-colour", &lens.haze_colour, |c| json!(written_light(*c)), &mut still, &mut keys);
    }
    (still, keys)
}

/// How much of what was measured of an insert counts, at a time, frames.
pub fn draw_values(insert: &Insert, frame: f64) -> Values {
    insert.drawn.as_ref().map_or_else(Values::new, |d| grading::values(&d.strengths, &DRAW, frame))
}

/// Sets one of them; `false` where there is none of that name, or nothing was measured.
///
/// # Errors
/// [`ValueError`] says what is wrong with the value.
pub fn set_draw(insert: &mut Insert, when: When, name: &str, value: &Value) -> Result<bool, ValueError> {
    let (Some(drawn), rule) = (&mut insert.drawn, Drawn::rule(name)) else { return Ok(false) };
    grading::set(&mut drawn.strengths, rule, when, value)
}

/// Frames that lie evenly over so many of a clip, at most `count`.
fn spread_over(total: u32, count: u32) -> impl ExactSizeIterator<Item = u32> {
    let count = count.min(total);
    (0..count).map(move |k| (2 * k + 1) * total / (2 * count))
}

/// Tells of the next of so many frames that are looked at.
fn told_next(step: Step, (done, total): (usize, usize)) -> Result<(), EngineError> {
    if step(done as u32, total as u32, "looking at the plate") { Ok(()) } else { Err(EngineError::Stopped) }
}

/// Measures grain and sharpness of the plate of a shot.
///
/// # Errors
/// [`EngineError`] when frames cannot be read, nothing stands out, or `step` said no.
pub fn measure_plate(shot: &OpenShot, step: Step) -> Result<PlateMeasure, EngineError> {
    let width = shot.clip.width as usize;
    let (first, end) = shot.range();
    let (mut samples, mut blurs) = (GrainSamples::default(), Vec::new());
    let chosen: Vec<u32> = spread_over((end - first).saturating_sub(1).max(1), MEASURED).map(|f| first + f).collect();
    let total = chosen.len();
    let pairs = chosen.iter().flat_map(|f| *f..(f + 2).min(end));
    let mut frames = ChosenFrames::new(&shot.clip, pairs, PixelKind::Rgb);
    let mut done = 0;
    let mut before: Option<Vec<[f32; 3]>> = None;
    loop {
        if done < total {
            told_next(step, (done, total))?;
        }
        let Some((frame, rgb)) = frames.next_frame()? else { break };
        let now = light::light_of(rgb);
        if let Some(one) = before.take() {
            samples.look_at_pair(&one, &now, width);
        }
        if chosen.contains(&frame) {
            done += 1;
            blurs.extend(edge_blur_px(&now, width));
            before = Some(now);
        }
    }
    if let Some(one) = before {
        samples.look_at(&one, width);
    }
    let grain = samples.grain(width);
    blurs.sort_by(f64::total_cmp);
    let blur_px = blurs.get(blurs.len() / 2).map(|b| b * LENS_WIDTH_PX / width as f64);
    if grain.is_none() && blur_px.is_none() {
        return Err(MatchError::NoMeasure.into());
    }
    Ok(PlateMeasure { grain, blur_px })
}

/// Colours that are seen of an insert, and of the plate to its right, to its left, under it and over it.
#[derive(Debug, Default)]
struct Lots {
    own: Vec<[f32; 3]>,
    about: [Vec<[f32; 3]>; 4],
}

impl Lots {
    fn likeness(&self) -> Option<Likeness> {
        likeness(&self.own, &self.about.each_ref().map(Vec::as_slice))
    }

    fn take(&mut self, other: Self) {
        self.own.extend(other.own);
        self.about.iter_mut().zip(other.about).for_each(|(all, more)| all.extend(more));
    }
}

/// Measures what makes an insert look like the plate about it: over the whole shot, or following the plate with keys.
///
/// # Errors
/// [`EngineError`] when frames cannot be read, it is seen too little, or `step` said no.
pub fn measure_insert(
    composer: &Composer,
    shot: &OpenShot,
    insert: &Insert,
    follows: bool,
    step: Step,
) -> Result<Drawn, EngineError> {
    let mut lots: Vec<(f64, Lots)> = Vec::new();
    let scene = composer.alone(insert)?;
    let (first, end) = shot.range();
    let clip = if COMPARED_PX < shot.clip.width { shot.clip.shrunk(COMPARED_PX) } else { shot.clip.clone() };
    let size = (clip.width, clip.height);
    let chosen: Vec<u32> = spread_over(end - first, LOOKED_AT).collect();
    let mut frames = ChosenFrames::new(&clip, chosen.iter().map(|frame| first + frame), PixelKind::Rgb);
    for (done, frame) in chosen.iter().copied().enumerate() {
        told_next(step, (done, chosen.len()))?;
        let Some((_, rgb)) = frames.next_frame()? else { break };
        let Some(alone) = composer.over_nothing(&scene, frame, size)? else { continue };
        let lot = looked_at(&alone, &light::light_of(rgb), size);
        if !lot.own.is_empty() {
            lots.push((f64::from(frame), lot));
        }
    }
    let unseen = || MatchError::Unseen { name: insert.shown_name() };
    let strengths = insert.drawn.as_ref().map(|d| d.strengths.clone()).unwrap_or_default();
    if follows && lots.len() > 2 {
        let each: Vec<_> = lots.iter().filter_map(|(frame, lot)| Some((*frame, lot.likeness()?))).collect();
        let steady = smoothed(&each);
        if steady.is_empty() {
            return Err(unseen().into());
        }
        return Ok(Drawn { strengths, ..Drawn::measured(&steady) });
    }
    let mut all = Lots::default();
    lots.into_iter().for_each(|(_, lot)| all.take(lot));
    let found = all.likeness().ok_or_else(unseen)?;
    Ok(Drawn { strengths, ..Drawn::measured(&[(0.0, found)]) })
}

/// Each with its neighbours, so that it does not jump from one frame to the next.
fn smoothed(all: &[(f64, Likeness)]) -> Vec<(f64, Likeness)> {
    let weighed = |i: usize, of: fn(&Likeness) -> f64| {
        let near = [(i.saturating_sub(1), 1.0), (i, 2.0), ((i + 1).min(all.len() - 1), 1.0)];
        near.iter().map(|(j, w)| w * of(&all[*j].1)).sum::<f64>() / 4.0
    };
    let one = |i: usize| {
        let like = Likeness {
            exposure: weighed(i, |l| l.exposure),
            warmth: weighed(i, |l| l.warmth),
            tint: weighed(i, |l| l.tint),
            contrast: weighed(i, |l| l.contrast),
            saturation: weighed(i, |l| l.saturation),
        };
        (all[i].0, like)
    };
    (0..all.len()).map(one).collect()
}

/// The colours of an insert that was drawn alone, light times how much of it is there and that; and those of the plate
/// about it.
fn looked_at(alone: &[[f32; 4]], plate: &[[f32; 3]], (width, height): (u32, u32)) -> Lots {
    let (w, h) = (width as usize, height as usize);
    let there = |i: usize| alone[i][3] > COVERED;
    let covered: Vec<usize> = (0..w * h).filter(|i| there(*i)).collect();
    let Some(first) = covered.first() else { return Lots::default() };
    let start = (first % w, first % w, first / w, first / w);
    let (left, right, top, bottom) = covered.iter().fold(start, |(l, r, t, b), i| {
        let (x, y) = (i % w, i / w);
        (l.min(x), r.max(x), t.min(y), b.max(y))
    });
    let reach = (ABOUT.0 * ((right - left).max(bottom - top) as f64)).max(ABOUT.1) as usize;
    let rows = top.saturating_sub(reach)..(bottom + reach + 1).min(h);
    let columns = left.saturating_sub(reach)..(right + reach + 1).min(w);
    let own = covered.iter().map(|i| {
        let [r, g, b, a] = alone[*i];
        [r / a, g / a, b / a]
    });
    let mut lots = Lots { own: own.collect(), ..Lots::default() };
    let middle = ((left + right) as f64 / 2.0, (top + bottom) as f64 / 2.0);
    let half = (((right - left) as f64 / 2.0).max(1.0), ((bottom - top) as f64 / 2.0).max(1.0));
    for i in rows.flat_map(|y| columns.clone().map(move |x| y * w + x)).filter(|i| alone[*i][3] <= 0.0) {
        let (dx, dy) = (((i % w) as f64 - middle.0) / half.0, ((i / w) as f64 - middle.1) / half.1);
        let side = if dx.abs() > dy.abs() { usize::from(dx < 0.0) } else { 2 + usize::from(dy < 0.0) };
        lots.about[side].push(plate[i]);
    }
    lots
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lens_and_film_are_made_anew_from_their_values_and_none_is_left_out() {
        let mut made = LensLook::default();
        for (k, rule) in LENS_RULES.iter().enumerate() {
            made.numbers.set_at(rule, 0.0, rule.usual + 0.01 * (k + 1) as f64);
        }
        made.haze_colour = [10.0, 20.0, 30.0].into();
        let mut other = LensLook::default();
        for (name, value) in values(&made, 0.0) {
            assert!(set(&mut other, When::At(0.0), &name, &value).unwrap(), "{name}");
        }
        assert_eq!(other, made);
        let mut named: Vec<_> = LENS_FIELDS.iter().map(|f| f.name).collect();
        named.sort_unstable();
        assert_eq!(named, values(&made, 0.0).keys().collect::<Vec<_>>());
        assert_eq!(DRAW_FIELDS.map(|f| f.name), DRAW.map(|r| r.name));
    }

    #[test]
    fn the_plate_is_looked_at_about_what_is_placed_and_nowhere_else() {
        let (w, h) = (100u32, 60u32);
        let inside = |i: usize| (40..60).contains(&(i % 100)) && (20..40).contains(&(i / 100));
        let alone: Vec<_> = (0..6000).map(|i| if inside(i) { [0.2, 0.1, 0.05, 1.0] } else { [0.0; 4] }).collect();
        let plate: Vec<_> = (0..6000).map(|i| [i as f32, 0.0, 0.0]).collect();
        let Lots { own, about } = looked_at(&alone, &plate, (w, h));
        assert_eq!((own.len(), own[0]), (400, [0.2, 0.1, 0.05]));
        assert_eq!(about.iter().map(Vec::len).sum::<usize>(), 44 * 44 - 400, "twelve px all round");
        assert!(about.iter().flatten().all(|p| !inside(p[0] as usize)));
        let x = |side: usize| about[side].iter().map(|p| p[0] as usize % 100);
        assert!(x(0).all(|x| x >= 60) && x(1).all(|x| x < 40), "right and left");
        let y = |side: usize| about[side].iter().map(|p| p[0] as usize / 100);
        assert!(y(2).all(|y| y >= 40) && y(3).all(|y| y < 20), "under and over");
    }
}
