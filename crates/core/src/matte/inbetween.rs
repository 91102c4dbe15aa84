//! What something looks like between two frames on which it was drawn round, told by its colours (the trade's word for
//! drawing it by hand is rotoscoping).
//!
//! Nothing is carried from frame to frame, so that legs may swing: each frame is told by the two that were drawn. A pixel
//! is compared with the pixels inside and outside of both outlines near where it would be if the shape had gone from one
//! to the other, and with the ground that should be behind it there; whichever fits better, and where edges of the picture
//! run, decides together ([`super::minimal_cut::minimal_cut`]).

use super::contour::{agreement, centroid, contour, doubled_area, holes, largest, thinned};
use super::coverage::{Coverage, Window, bounds};
use super::likeness::{Colour, Feature, Seen, apart, spots};
use super::minimal_cut::minimal_cut;
use super::trace::Trace;
use nalgebra::{Affine2, Matrix3, Point2};
use rayon::prelude::*;

/// How far the ground may lie beside where it should be, px, and what it costs to be like any other ground near by instead.
const BESIDE_PX: i32 = 4;
const OTHER_GROUND: f32 = 1.0;
/// What a pixel says at most.
const MOST: f32 = 6.0;
/// How far pixels are looked for, of the size of the shape, and how far beyond the drawn shapes it may reach.
const NEAR: f64 = 0.2;
const REACH: f64 = 0.2;
/// What the drawn shapes say of a pixel at most, and how far from their edge they say so, of their size: before the shape
/// was seen, and after, where it turned out to be no other than was drawn.
const DRAWN: (f32, f64) = (0.9, 0.15);
const SAME: (f32, f64) = (10.0, 0.03);
/// How well what is seen agrees with what was drawn where the shape is another, and where it is the same.
const OTHER_TO_SAME: (f64, f64) = (0.89, 0.93);
/// Shifts by which what stays the same is laid onto a frame: the first, of its size, and the last, px.
const FIRST_HOP: f64 = 0.08;
const LAST_HOP_PX: f64 = 0.2;
/// What an edge between pixels costs at most for each px of a shape's size, and the least and the most of that: colours
/// speak for an area and edges for its border, which grows less.
const SMOOTH_EACH_PX: f32 = 0.01;
const SMOOTH: (f32, f32) = (1.0, 2.0);
/// How much the area may be off before a frame counts as not told.
const AREA: std::ops::Range<f64> = 0.5..2.0;
/// Corners of a line round pixels whose triangles with their neighbours have less than this area say nothing, px^2.
const STAIRS: f64 = 0.8;
/// What is told to lie outside in the middle of a shape is left out where it has so much of its area, and so many pixels:
/// of smaller ones as many are wrong as right.
const HOLE: (f64, usize) = (0.01, 24);
/// Pixels across which a shape is looked at; larger ones are made smaller.
const LARGEST_PX: f64 = 360.0;
/// Bytes that are held of all frames.
const HELD_BYTES: f64 = 256e6;

/// Part of a frame, as it was and smaller: red, green and blue of 255, row by row.
pub struct Part {
    window: Window,
    rgb: Vec<u8>,
}

/// How a shape moved from one drawn outline to another.
pub struct Inbetween {
    /// As they were drawn.
    ends: [Trace; 2],
    first: Drawn,
    last: Drawn,
    places: Vec<Place>,
    /// Columns of the whole picture, and its size as it is looked at: so many pixels each way to one.
    columns: usize,
    picture: (usize, usize),
    smaller: usize,
    size: f64,
}

struct Drawn {
    shape: Vec<[f64; 2]>,
    corners: Vec<[f64; 2]>,
    middle: [f64; 2],
    area: f64,
}

impl Drawn {
    /// Places of its own where the shape is.
    fn put(&self, own: &[[f64; 2]], place: &Place) -> Vec<[f64; 2]> {
        let grown = (place.area / self.area).sqrt();
        own.iter().map(|p| std::array::from_fn(|k| place.middle[k] + grown * (p[k] - self.middle[k]))).collect()
    }
}

/// Where a shape is on a frame: how far between both, its middle and its area; and where the ground behind it is on the
/// first and on the last frame.
#[derive(Clone, Copy)]
struct Place {
    t: f64,
    middle: [f64; 2],
    area: f64,
    ground: [Affine2<f64>; 2],
}

/// What was told of a frame: the shape, and how much better every pixel of its window fits outside.
struct Cut {
    window: Window,
    part: Coverage,
    fits: Vec<f32>,
}

/// A frame on which the shape was drawn: its colours, and which of them are inside.
struct Reference<'a> {
    drawn: &'a Drawn,
    seen: Seen,
    inside: Vec<bool>,
}

impl Inbetween {
    /// Two outlines as they were drawn and the shapes that they make, px of a picture of a size, and where the ground
    /// behind goes: each function, an affine one, says where a place of one frame is on the next. Outlines in between have
    /// as many corners, and more of their lines is known where they were told.
    pub fn new(
        ends: [&Trace; 2],
        [first, last]: [&[[f64; 2]]; 2],
        motions: &[impl Fn([f64; 2]) -> [f64; 2]],
        picture: (usize, usize),
    ) -> Self {
        let span = |o: &[[f64; 2]]| {
            let [low, high] = bounds(o);
            (high[0] - low[0]).max(high[1] - low[1])
        };
        let across = span(first).max(span(last));
        let frames = motions.len() + 1;
        let held = 3.0 * (across * (1.0 + 2.0 * (REACH + NEAR))).powi(2) * frames as f64 / HELD_BYTES;
        let smaller = (across / LARGEST_PX).max(held.sqrt()).ceil().max(1.0);
        let less = |p: [f64; 2]| p.map(|v| (v + 0.5) / smaller - 0.5);
        let full = |p: [f64; 2]| p.map(|v| (v + 0.5) * smaller - 0.5);
        let drawn = |shape: &[[f64; 2]], corners: &[[f64; 2]]| {
            let [shape, corners] = [shape, corners].map(|o| o.iter().map(|p| less(*p)).collect::<Vec<_>>());
            let (middle, area) = centroid(&shape);
            Drawn { shape, corners, middle, area: area.max(1.0) }
        };
        let (from, to) = (centroid(first).0, centroid(last).0);
        let mut ahead = vec![from];
        for go in motions {
            ahead.push(go(ahead[ahead.len() - 1]));
        }
        // Beside the ground it goes evenly: what the ground does not tell of the way is spread over the frames.
        let off: [f64; 2] = std::array::from_fn(|k| to[k] - ahead[frames - 1][k]);
        let (first, last) = (drawn(first, &ends[0].corners), drawn(last, &ends[1].corners));
        let grounds = grounds(motions, |go, p| less(go(full(p))));
        let place = |(n, at): (usize, &[f64; 2])| {
            let t = n as f64 / (frames - 1).max(1) as f64;
            let middle = less(std::array::from_fn(|k| at[k] + t * off[k]));
            Place { t, middle, area: first.area + t * (last.area - first.area), ground: grounds[n] }
        };
        let places = ahead.iter().enumerate().map(place).collect();
        let size = across / smaller;
        let smaller = smaller as usize;
        let less = (picture.0 / smaller, picture.1 / smaller);
        let ends = ends.map(Trace::clone);
        Self { ends, first, last, places, columns: picture.0, picture: less, smaller, size }
    }

    /// What is needed of a frame, counted from the first outline, of a whole picture: red, green and blue, row by row.
    pub fn part(&self, frame: usize, rgb: &[u8]) -> Part {
        let window = self.window(&self.places[frame], REACH + NEAR);
        let s = self.smaller;
        let mut small = Vec::with_capacity(3 * window.width * window.height);
        for [x, y] in (0..window.width * window.height).map(|k| window.place(k).map(|v| v as usize * s)) {
            for c in 0..3 {
                let at = |i: usize, j: usize| usize::from(rgb[3 * ((y + j) * self.columns + x + i) + c]);
                let sum: usize = (0..s).flat_map(|j| (0..s).map(move |i| (i, j))).map(|(i, j)| at(i, j)).sum();
                small.push(((sum + s * s / 2) / (s * s)) as u8);
            }
        }
        Part { window, rgb: small }
    }

    /// The outline on every frame, the drawn ones as they were. `go_on` is asked twice about every
    /// one of them, and may stop it: `None` then, and where parts are missing.
    pub fn outlines(&self, parts: &[Part], mut go_on: impl FnMut() -> bool) -> Option<Vec<Trace>> {
        let frames = self.places.len();
        if parts.len() != frames {
            return None;
        }
        let references = [(&self.first, 0), (&self.last, frames - 1)].map(|(drawn, n)| reference(drawn, &parts[n]));
        let spots = spots(NEAR * self.size);
        let mut found = Vec::new();
        let mut like = Vec::new();
        for n in 1..frames.saturating_sub(1) {
            if !go_on() {
                return None;
            }
            let place = self.places[n];
            let cut = self.cut(&place, &seen(&parts[n]), &references, &spots, DRAWN);
            let told = cut.and_then(|Cut { window, part, fits }| {
                let (middle, area) = centroid(&round(&window, &part));
                AREA.contains(&(area / place.area)).then(|| {
                    let now = Place { middle, area, ..place };
                    like.push(agreement(&part, &self.drawn(&now, &window, 0.0)));
                    (now, window, fits)
                })
            });
            found.push(told);
        }
        like.sort_by(f64::total_cmp);
        let alike = like.get(like.len() / 2).copied().unwrap_or(0.0);
        let same = ((alike - OTHER_TO_SAME.0) / (OTHER_TO_SAME.1 - OTHER_TO_SAME.0)).clamp(0.0, 1.0) as f32;
        let [first, last] = self.ends.clone();
        let mut outlines = vec![first];
        for (n, found) in (1..).zip(found) {
            if !go_on() {
                return None;
            }
            let place = match found {
                None => self.places[n],
                // Of what is the same all along, whoever passes close by does not shift the middle.
                Some((own, window, fits)) if same > 0.5 => {
                    self.laid(&Place { middle: own.middle, ..self.places[n] }, &window, &fits)
                }
                Some((own, ..)) => own,
            };
            let cut = self.cut(&place, &seen(&parts[n]), &references, &spots, (same * SAME.0, SAME.1));
            let told = cut.and_then(|Cut { window, part, .. }| {
                let round = round(&window, &part);
                let area = centroid(&round).1;
                AREA.contains(&(area / self.places[n].area)).then(|| {
                    let mut trace = self.in_order(&place, round);
                    for hole in holes(&part, HOLE.1.max((HOLE.0 * area) as usize)) {
                        trace.leave_out(thinned(of_picture(&window, hole), STAIRS));
                    }
                    trace
                })
            });
            outlines.push(self.full(told.unwrap_or_else(|| self.mixed(&self.places[n]).into())));
        }
        if frames > 1 {
            outlines.push(last);
        }
        Some(outlines)
    }

    /// Back to px of the picture.
    fn full(&self, trace: Trace) -> Trace {
        let s = self.smaller as f64;
        let full = |places: Vec<[f64; 2]>| places.into_iter().map(|p| p.map(|v| (v + 0.5) * s - 0.5)).collect();
        Trace { corners: full(trace.corners), along: trace.along.into_iter().map(full).collect() }
    }

    /// Both drawn shapes where the shape is.
    fn placed(&self, place: &Place) -> [Vec<[f64; 2]>; 2] {
        [&self.first, &self.last].map(|drawn| drawn.put(&drawn.shape, place))
    }

    /// Between both, corner by corner.
    fn mixed(&self, place: &Place) -> Vec<[f64; 2]> {
        let [a, b] = [&self.first, &self.last].map(|drawn| drawn.put(&drawn.corners, place));
        if a.len() != b.len() {
            return if place.t < 0.5 { a } else { b };
        }
        a.iter().zip(&b).map(|(p, q)| std::array::from_fn(|k| p[k] + place.t * (q[k] - p[k]))).collect()
    }

    /// Round both drawn shapes where the shape is, with so much of the size about them.
    fn window(&self, place: &Place, room: f64) -> Window {
        let [a, b] = self.placed(place);
        Window::about(bounds(a.iter().chain(&b)), room * self.size).within(self.picture)
    }

    /// What the drawn shapes cover of a window; their edges fade over so much of the size.
    fn drawn(&self, place: &Place, window: &Window, fade: f64) -> Coverage {
        let fade = 2.0 * fade * self.size;
        let [mut first, last] = self.placed(place).map(|outline| Coverage::of_outline(&outline, window, fade));
        for (a, b) in first.parts.iter_mut().zip(&last.parts) {
            *a += place.t as f32 * (b - *a);
        }
        first
    }

    /// Which pixels of a frame belong to the shape. The drawn shapes say `strength` at most, `fade` of the size from
    /// their edge.
    fn cut(
        &self,
        place: &Place,
        seen: &Seen,
        references: &[Reference; 2],
        spots: &[(i32, i32, f32)],
        (strength, fade): (f32, f64),
    ) -> Option<Cut> {
        let window = self.window(place, REACH);
        let drawn = self.drawn(place, &window, fade);
        let there = |k: usize| {
            let [x, y] = window.place(k);
            seen.at(x, y)
        };
        let count = window.width * window.height;
        let fits: Vec<f32> = (0..count)
            .into_par_iter()
            .map(|k| {
                let Some(own) = there(k) else { return MOST };
                fits(&seen.features[own], window.place(k).map(f64::from), place, references, spots)
            })
            .collect();
        let own: Vec<f32> =
            fits.iter().zip(&drawn.parts).map(|(fits, part)| fits + strength * (1.0 - 2.0 * part)).collect();
        let colours: Vec<Colour> = (0..count).map(|k| there(k).map_or([0.0; 3], |own| seen.colours[own])).collect();
        let parts = minimal_cut(&own, &colours, window.width, self.smooth());
        let whole = largest(&Coverage { width: window.width, height: window.height, parts })?;
        Some(Cut { window, part: whole, fits })
    }

    /// What an edge between pixels costs at most.
    fn smooth(&self) -> f32 {
        (SMOOTH_EACH_PX * self.size as f32).clamp(SMOOTH.0, SMOOTH.1)
    }

    /// Where near a place the drawn shapes cover what fits inside best, by shifts that become ever smaller.
    fn laid(&self, place: &Place, window: &Window, fits: &[f32]) -> Place {
        let cost = |at: &Place| self.drawn(at, window, 0.0).parts.iter().zip(fits).map(|(p, f)| p * f).sum::<f32>();
        let mut best = (cost(place), *place);
        let mut hop = FIRST_HOP * self.size;
        while hop > LAST_HOP_PX {
            let [x, y] = best.1.middle;
            for (dx, dy) in (-1..=1).flat_map(|dy| (-1..=1).map(move |dx| (f64::from(dx), f64::from(dy)))) {
                let at = Place { middle: [x + hop * dx, y + hop * dy], ..*place };
                let cost = cost(&at);
                if cost < best.0 {
                    best = (cost, at);
                }
            }
            if best.1.middle == [x, y] {
                hop *= 0.5;
            }
        }
        best.1
    }

    /// With as many corners as were drawn, in the order in which they were.
    fn in_order(&self, place: &Place, round: Vec<[f64; 2]>) -> Trace {
        let mut round = thinned(round, STAIRS);
        let like = self.mixed(place);
        if doubled_area(&like) * doubled_area(&round) < 0.0 {
            round.reverse();
        }
        let mut trace = Trace::with_corners(round, self.first.corners.len());
        let n = trace.corners.len();
        if like.len() == n {
            let apart = |i: usize, by: usize| {
                let there = trace.corners[(i + by) % n];
                (there[0] - like[i][0]).powi(2) + (there[1] - like[i][1]).powi(2)
            };
            let off = |by: usize| (0..n).map(|i| apart(i, by)).sum::<f64>();
            let by = (0..n).min_by(|a, b| off(*a).total_cmp(&off(*b))).unwrap_or(0);
            trace.rotate_left(by);
        }
        trace
    }
}

/// How much better a pixel fits outside than inside.
fn fits(feature: &Feature, at: [f64; 2], place: &Place, references: &[Reference; 2], spots: &[(i32, i32, f32)]) -> f32 {
    let ground = behind(feature, at, place, references);
    let (mut inside, mut outside) = (MOST, ground.min(MOST) - OTHER_GROUND);
    for reference in references {
        let grown = (place.area / reference.drawn.area).sqrt();
        let to: [i32; 2] =
            std::array::from_fn(|k| (reference.drawn.middle[k] + (at[k] - place.middle[k]) / grown).round() as i32);
        let seen = &reference.seen;
        for (dx, dy, off) in spots {
            if *off >= inside && *off >= outside {
                break;
            }
            let Some(k) = seen.at(to[0] + dx, to[1] + dy) else { continue };
            let best = if reference.inside[k] { &mut inside } else { &mut outside };
            if *off < *best {
                *best = best.min(apart(feature, &seen.features[k]) + off);
            }
        }
    }
    inside - (outside + OTHER_GROUND).min(MOST)
}

/// How unlike a pixel is to the ground that should be behind it, where that is seen on a frame on which the shape was drawn.
fn behind(feature: &Feature, at: [f64; 2], place: &Place, references: &[Reference; 2]) -> f32 {
    let mut best = f32::INFINITY;
    for (ground, reference) in place.ground.iter().zip(references) {
        let to = ground.transform_point(&Point2::from(at));
        let (x, y) = (to.x.round() as i32, to.y.round() as i32);
        for (dx, dy) in (-BESIDE_PX..=BESIDE_PX).flat_map(|dy| (-BESIDE_PX..=BESIDE_PX).map(move |dx| (dx, dy))) {
            let seen = reference.seen.at(x + dx, y + dy).filter(|k| !reference.inside[*k]);
            best = seen.map_or(best, |k| best.min(apart(feature, &reference.seen.features[k])));
        }
    }
    best
}

/// Where the ground of every frame is on the first and on the last; each motion says where it is on the next.
fn grounds<M>(motions: &[M], moved: impl Fn(&M, [f64; 2]) -> [f64; 2]) -> Vec<[Affine2<f64>; 2]> {
    const FAR: f64 = 1000.0;
    let mut from_first = vec![Affine2::identity()];
    for motion in motions {
        let [o, x, y] = [[0.0, 0.0], [FAR, 0.0], [0.0, FAR]].map(|p| moved(motion, p));
        let row = |k: usize| [(x[k] - o[k]) / FAR, (y[k] - o[k]) / FAR, o[k]];
        let ([a, b, c], [d, e, f]) = (row(0), row(1));
        let step = Affine2::from_matrix_unchecked(Matrix3::new(a, b, c, d, e, f, 0.0, 0.0, 1.0));
        from_first.push(step * from_first[from_first.len() - 1]);
    }
    let last = from_first[from_first.len() - 1];
    let both = |there: &Affine2<f64>| {
        let to_first = there.try_inverse().unwrap_or_else(Affine2::identity);
        [to_first, last * to_first]
    };
    from_first.iter().map(both).collect()
}

fn reference<'a>(drawn: &'a Drawn, part: &Part) -> Reference<'a> {
    let seen = seen(part);
    let inside = Coverage::of_outline(&drawn.shape, &seen.window, 0.0).parts.iter().map(|p| *p > 0.5).collect();
    Reference { drawn, seen, inside }
}

fn seen(part: &Part) -> Seen {
    Seen::of(part.window, &part.rgb)
}

/// The outline of what is covered of a window, px of its picture.
fn round(window: &Window, part: &Coverage) -> Vec<[f64; 2]> {
    of_picture(window, contour(part))
}

fn of_picture(window: &Window, line: Vec<[f64; 2]>) -> Vec<[f64; 2]> {
    line.into_iter().map(|p| window.of_picture(p)).collect()
}

#[cfg(test)]
mod tests {
    use super::super::contour::{agree, simplified};
    use super::*;

    const SIZE: (usize, usize) = (240, 160);
    const FRAMES: usize = 13;

    /// Somebody on frame `n`: a body that sways, and legs that swing, so that the first and the last frame do not tell of
    /// those between.
    fn outline(n: usize, sway: f64) -> Vec<[f64; 2]> {
        let t = n as f64;
        let (x, y) = (80.0 + 4.0 * t + sway * (1.1 * t).sin(), 70.0 + sway * (0.8 * t).cos());
        let swing = 12.0 * (std::f64::consts::PI * t / (FRAMES - 1) as f64).sin();
        let legs = [[10.0, 20.0], [8.0 + swing, 55.0], [2.0 + swing, 55.0], [0.0, 24.0]];
        let other = [[-2.0 - swing, 55.0], [-8.0 - swing, 55.0], [-10.0, 20.0]];
        let top = [[-11.0, -20.0], [-5.0, -24.0], [-5.0, -34.0], [5.0, -34.0], [5.0, -24.0], [11.0, -20.0]];
        legs.into_iter().chain(other).chain(top).map(|p| [x + p[0], y + p[1]]).collect()
    }

    fn grain(x: f64, y: f64) -> f64 {
        14.0 * ((0.9 * x).sin() * (0.7 * y).cos()) + 8.0 * ((0.31 * x + 0.53 * y).sin())
    }

    /// What a camera sees of it that drifts over a ground.
    fn picture(n: usize, outline: &[[f64; 2]]) -> Vec<u8> {
        let body = Coverage::of_outline(outline, &Window { left: 0, top: 0, width: SIZE.0, height: SIZE.1 }, 0.0);
        let middle = centroid(outline).0;
        (0..SIZE.0 * SIZE.1)
            .flat_map(|k| {
                let (x, y) = ((k % SIZE.0) as f64, (k / SIZE.0) as f64);
                let ground = grain(x + 2.0 * n as f64, y);
                let cloth = grain(1.3 * (x - middle[0]), 1.7 * (y - middle[1]));
                let part = f64::from(body.parts[k]);
                let mix = |g: f64, c: f64| (g + ground + part * (c + cloth - g - ground)) as u8;
                [mix(150.0, 60.0), mix(140.0, 70.0), mix(120.0, 110.0)]
            })
            .collect()
    }

    /// Over that ground.
    fn drawn(ends: [&Trace; 2]) -> Inbetween {
        let drift = vec![|at: [f64; 2]| [at[0] - 2.0, at[1]]; FRAMES - 1];
        let [first, last] = ends.map(|trace| trace.places().0);
        Inbetween::new(ends, [&first, &last], &drift, SIZE)
    }

    fn told(sway: f64, ends: [&Trace; 2]) -> Vec<Trace> {
        told_of(|n| outline(n, sway), ends)
    }

    fn told_of(shape: impl Fn(usize) -> Vec<[f64; 2]>, ends: [&Trace; 2]) -> Vec<Trace> {
        let inbetween = drawn(ends);
        let parts: Vec<Part> = (0..FRAMES).map(|n| inbetween.part(n, &picture(n, &shape(n)))).collect();
        inbetween.outlines(&parts, || true).unwrap()
    }

    #[test]
    fn who_strides_is_told_on_every_frame_from_two() {
        let [first, last] = [0, FRAMES - 1].map(|n| outline(n, 3.0));
        let all = told(3.0, [&first.clone().into(), &last.clone().into()]);
        assert_eq!(all.len(), FRAMES);
        assert_eq!((&all[0].corners, &all[FRAMES - 1].corners), (&first, &last), "what was drawn stays");
        for (n, there) in all.iter().enumerate() {
            let known = outline(n, 3.0);
            let straight: Vec<[f64; 2]> = first
                .iter()
                .zip(&last)
                .map(|(a, b)| std::array::from_fn(|k| a[k] + n as f64 / (FRAMES - 1) as f64 * (b[k] - a[k])))
                .collect();
            let agreed = agree(&there.places().0, &known, SIZE);
            assert!(agreed > 0.93, "{agreed} on frame {n}");
            assert!(
                n != FRAMES / 2 || agree(&straight, &known, SIZE) < 0.75,
                "without the picture it would not be known"
            );
            assert_eq!(there.corners.len(), first.len());
            assert!(doubled_area(&there.corners) * doubled_area(&first) > 0.0);
        }
    }

    #[test]
    fn what_is_told_is_finer_than_the_corners_with_which_it_was_drawn() {
        let ends = [0, FRAMES - 1].map(|n| simplified(outline(n, 0.0), 9).into());
        let all = told(0.0, ends.each_ref());
        for n in [3, 6, 9] {
            let (known, Trace { corners, along }) = (outline(n, 0.0), &all[n]);
            assert_eq!((corners.len(), along.len()), (9, 9));
            let [coarse, fine] = [corners, &all[n].places().0].map(|line| agree(line, &known, SIZE));
            assert!(fine > 0.88 && fine > coarse + 0.04, "{fine}, by the corners alone {coarse}, on frame {n}");
        }
        assert!(all[0].along.is_empty() && all[FRAMES - 1].along.is_empty(), "what was drawn stays");
        let ends = [0, FRAMES - 1].map(|n| Trace::with_corners(outline(n, 0.0), 9));
        let all = told(0.0, ends.each_ref());
        assert_eq!([&all[0], &all[FRAMES - 1]], ends.each_ref(), "also between its corners");
    }

    #[test]
    fn the_ground_between_legs_whose_feet_touch_is_left_out() {
        // Apart on the frames that are drawn, together on those between.
        let stands = |n: usize| {
            let x = 80.0 + 4.0 * n as f64;
            let there = |places: &[[f64; 2]]| places.iter().map(|p| [x + p[0], 70.0 + p[1]]).collect::<Vec<_>>();
            let gap = [[5.0, 55.0], [9.0, 38.0], [0.0, 22.0], [-9.0, 38.0], [-5.0, 55.0]];
            let apart = n.is_multiple_of(FRAMES - 1);
            let (own, other) =
                ([[10.0, 18.0], [18.0, 38.0], [12.0, 55.0]], [[-12.0, 55.0], [-18.0, 38.0], [-10.0, 18.0]]);
            let top = [[-11.0, -20.0], [-5.0, -34.0], [5.0, -34.0], [11.0, -20.0]];
            let between: &[[f64; 2]] = if apart { &gap } else { &[] };
            let mut trace = Trace::from(there(&[&own, between, &other, &top].concat()));
            if !apart {
                trace.leave_out(there(&[[0.0, 22.0], [9.0, 38.0], [0.0, 50.0], [-9.0, 38.0]]));
            }
            trace.places().0
        };
        let ends = [0, FRAMES - 1].map(|n| stands(n).into());
        let all = told_of(stands, ends.each_ref());
        for n in 1..FRAMES - 1 {
            let agreed = agree(&all[n].places().0, &stands(n), SIZE);
            assert!(agreed > 0.93, "{agreed} on frame {n}");
            let x = 80.0 + 4.0 * n as f64;
            let covers = |dx: f64, y: f64| super::super::contains(&all[n].places().0, x + dx, 70.0 + y);
            assert!(!covers(0.0, 38.0) && covers(13.0, 38.0) && covers(-13.0, 38.0), "frame {n}");
            assert!(agree(&all[n].corners, &stands(n), SIZE) < agreed - 0.02, "by its corners it has none");
        }
    }

    #[test]
    fn whoever_passes_by_in_the_same_clothes_is_left_out_of_what_stays_the_same() {
        let oval = |x: f64| -> Vec<[f64; 2]> {
            (0..24)
                .map(|k| {
                    let (sin, cos) = (std::f64::consts::TAU * f64::from(k) / 24.0).sin_cos();
                    [x + 16.0 * cos, 80.0 + 34.0 * sin]
                })
                .collect()
        };
        let own = |n: usize| oval(80.0 + 4.0 * n as f64);
        // Behind it, against its way: beside it on some frames.
        let other = |n: usize| oval(210.0 - 16.0 * n as f64);
        let seen = |n: usize| {
            let mut rgb = picture(n, &own(n));
            let behind = picture(n, &other(n));
            let window = Window { left: 0, top: 0, width: SIZE.0, height: SIZE.1 };
            let [before, past] = [own(n), other(n)].map(|o| Coverage::of_outline(&o, &window, 0.0));
            for k in (0..SIZE.0 * SIZE.1).filter(|k| past.parts[*k] > 0.5 && before.parts[*k] < 0.5) {
                rgb[3 * k..3 * k + 3].copy_from_slice(&behind[3 * k..3 * k + 3]);
            }
            rgb
        };
        let inbetween = drawn([&own(0).into(), &own(FRAMES - 1).into()]);
        let parts: Vec<Part> = (0..FRAMES).map(|n| inbetween.part(n, &seen(n))).collect();
        for (n, there) in inbetween.outlines(&parts, || true).unwrap().iter().enumerate() {
            let agreed = agree(&there.places().0, &own(n), SIZE);
            assert!(agreed > 0.92, "{agreed} on frame {n}");
        }
    }

    #[test]
    fn what_stands_beside_in_the_same_colours_is_told_by_the_ground_that_should_be_there() {
        // Beside the legs of the first frame, and left behind there.
        let seen = |n: usize| {
            let o = outline(n, 0.0);
            let mut rgb = picture(n, &o);
            let body = Coverage::of_outline(&o, &Window { left: 0, top: 0, width: SIZE.0, height: SIZE.1 }, 0.0);
            for k in (0..SIZE.0 * SIZE.1).filter(|k| body.parts[*k] < 0.5) {
                let (x, y) = ((k % SIZE.0 + 2 * n) as f64, (k / SIZE.0) as f64);
                if (30.0..62.0).contains(&x) && (90.0..130.0).contains(&y) {
                    let cloth = grain(1.3 * (x - 80.0), 1.7 * (y - 85.0));
                    rgb[3 * k..3 * k + 3].copy_from_slice(&[60.0, 70.0, 110.0].map(|c: f64| (c + cloth) as u8));
                }
            }
            rgb
        };
        let inbetween = drawn([&outline(0, 0.0).into(), &outline(FRAMES - 1, 0.0).into()]);
        let parts: Vec<Part> = (0..FRAMES).map(|n| inbetween.part(n, &seen(n))).collect();
        let all = inbetween.outlines(&parts, || true).unwrap();
        for n in 4..9 {
            let agreed = agree(&all[n].places().0, &outline(n, 0.0), SIZE);
            assert!(agreed > 0.93, "{agreed} on frame {n}");
        }
    }

    #[test]
    fn an_edge_costs_more_round_larger_shapes_as_they_are_looked_at() {
        let smooth = |across: f64| {
            let square: Vec<[f64; 2]> =
                [[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]].map(|p| p.map(|v| 40.0 + across * v)).to_vec();
            let ends = [0, 1].map(|_| Trace::from(square.clone()));
            Inbetween::new(ends.each_ref(), [&square, &square], &[|at: [f64; 2]| at; 4], (1280, 720)).smooth()
        };
        let all = [60.0, 150.0, 240.0, 400.0].map(smooth);
        assert!(all.iter().zip([1.0, 1.5, 2.0, 2.0]).all(|(a, b)| (a - b).abs() < 1e-5), "{all:?}");
    }

    #[test]
    fn corners_stay_in_the_order_in_which_they_were_drawn() {
        let turned = |n: usize| {
            let mut o = outline(n, 0.0);
            o.reverse();
            o.rotate_left(4);
            o
        };
        let (first, last) = (turned(0), turned(FRAMES - 1));
        for (n, Trace { corners: there, .. }) in told(0.0, [&first.clone().into(), &last.into()]).iter().enumerate() {
            let known = turned(n);
            assert!(doubled_area(there) * doubled_area(&first) > 0.0);
            let off = |by: usize| -> f64 {
                (0..there.len())
                    .map(|i| {
                        (there[(i + by) % there.len()][0] - known[i][0])
                            .hypot(there[(i + by) % there.len()][1] - known[i][1])
                    })
                    .sum()
            };
            let best = (0..there.len()).min_by(|a, b| off(*a).total_cmp(&off(*b))).unwrap();
            assert!(off(0) < off(best) + 1e-9 || [1, there.len() - 1].contains(&best), "turned by {best} on frame {n}");
        }
    }

    #[test]
    fn where_it_is_hidden_both_outlines_are_mixed() {
        let [first, last] = [0, FRAMES - 1].map(|n| outline(n, 0.0));
        let inbetween = drawn([&first.clone().into(), &last.clone().into()]);
        let nobody = vec![[0.0; 2]; 3];
        let there = |n: usize| n == 0 || n == FRAMES - 1;
        let parts: Vec<Part> = (0..FRAMES)
            .map(|n| {
                inbetween.part(n, &picture(n, if there(n) { if n == 0 { &first } else { &last } } else { &nobody }))
            })
            .collect();
        let all = inbetween.outlines(&parts, || true).unwrap();
        let middle = centroid(&all[FRAMES / 2].corners).0;
        assert!((middle[0] - 104.0).hypot(middle[1] - centroid(&first).0[1]) < 3.0, "{middle:?}");
        assert_eq!(inbetween.outlines(&parts[1..], || true), None);
        let mut left = 5;
        let stopped = inbetween.outlines(&parts, || {
            left -= 1;
            left > 0
        });
        assert_eq!(stopped, None);
    }

    #[test]
    fn large_shapes_and_pictures_of_any_size_are_looked_at_smaller() {
        let (w, h) = (1601, 903);
        let grown = |n: usize| -> Vec<[f64; 2]> {
            let x = 600.0 + 10.0 * n as f64;
            vec![[x, 60.0], [x + 500.0, 60.0], [x + 500.0, 840.0], [x, 840.0]]
        };
        let rgb = |n: usize| -> Vec<u8> {
            let o = grown(n);
            let is_in =
                |k: usize| o[0][0] < (k % w) as f64 && ((k % w) as f64) < o[1][0] && (60..840).contains(&(k / w));
            (0..w * h).flat_map(|k| if is_in(k) { [200, 60, 50] } else { [90, 120, 90] }).collect()
        };
        let still = vec![|at: [f64; 2]| at; 4];
        let (first, last) = (grown(0), grown(4));
        let ends = [&first, &last].map(|line| Trace::from(line.clone()));
        let inbetween = Inbetween::new(ends.each_ref(), [&first, &last], &still, (w, h));
        let parts: Vec<Part> = (0..5).map(|n| inbetween.part(n, &rgb(n))).collect();
        assert!(parts.iter().all(|p| p.rgb.len() < w * h), "{}", parts[0].rgb.len());
        let all = inbetween.outlines(&parts, || true).unwrap();
        assert!(agree(&all[2].places().0, &grown(2), (w, h)) > 0.99, "{:?}", all[2]);
    }
}
