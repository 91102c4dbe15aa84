//! Where the edge lies that a line was drawn along.
//!
//! The picture's change of brightness across the line is looked up on both sides of it; of all straight lines near by the
//! one is taken that it agrees on most along their whole length, in stretches, so that an edge may be dark against bright
//! here and bright against dark there. Then the steepest places along it, to a part of a pixel, give the line by robust
//! least squares (Canny, "A Computational Approach to Edge Detection", 1986, for the filter across; Holland and Welsch,
//! "Robust Regression Using Iteratively Reweighted Least-Squares", 1977).

use crate::geometry::Lens;
use crate::image::Plane;
use nalgebra::{Matrix2, Vector2};

/// How far to the side an edge is looked for, px of a picture 1280 wide.
const REACH_PX: f64 = 3.0;
/// Distance of two places that are looked up, across and along, px.
const STEP_PX: f64 = 0.5;
const ALONG_PX: f64 = 1.5;
/// Places along a line at most.
const MOST_ALONG: usize = 600;
/// Deviation of the filter across, px, and how far it reaches.
const SMOOTH_PX: f64 = 0.9;
const FILTER_STEPS: isize = 5;
/// Fewer tell nothing.
const LEAST_PLACES: usize = 8;
/// Places of a stretch.
const STRETCH: usize = 8;
/// An edge is a difference of so many levels of 255 at least, on average.
const LEAST_LEVELS: f64 = 3.0;
/// Of the change of brightness along an edge, so much has the sign of its stretch.
const AGREED: f64 = 0.8;
/// The steepest place belongs to the edge within so many px of it; so many places must.
const NEAR_PX: f64 = 0.75;
const NEAR_SHARE: f64 = 0.7;
/// What lies further to the side is less likely meant: half as much at this distance, px of a picture 1280 wide.
const HALF_AS_LIKELY_PX: f64 = 1.5;

/// The change of brightness across a drawn line, as far as the line lies in the picture.
struct Across {
    /// How far along each place lies, 0 to 1.
    along: Vec<f64>,
    /// Levels by place along, then to the side from the left.
    steepness: Vec<Vec<f64>>,
    /// Steps to each side.
    reach: isize,
}

impl Across {
    fn of(picture: &Plane, lens: &Lens, [from, to]: [Vector2<f64>; 2], reach: isize) -> Option<Self> {
        let (a, b) = (lens.unproject(from), lens.unproject(to));
        let count = ((to - from).norm() / ALONG_PX).ceil().clamp(2.0, MOST_ALONG as f64) as usize;
        let normal = normal(from, to)?;
        let filter: Vec<f64> = (-FILTER_STEPS..=FILTER_STEPS)
            .map(|k| {
                let x = k as f64 * STEP_PX / SMOOTH_PX;
                x * (-0.5 * x * x).exp()
            })
            .collect();
        // A step of one level counts as one.
        let whole: f64 = filter.iter().filter(|w| **w > 0.0).sum();
        let change = |window: &[f64]| window.iter().zip(&filter).map(|(v, w)| v * w).sum::<f64>() / whole;
        let sides = -(reach + FILTER_STEPS)..=reach + FILTER_STEPS;
        let (along, steepness) = (0..=count)
            .map(|i| i as f64 / count as f64)
            .filter_map(|t| {
                let middle = lens.project(a + (b - a) * t);
                let at = |k: isize| middle + normal * (k as f64 * STEP_PX);
                let inside = [*sides.start(), *sides.end()].map(at).iter().all(|p| picture.holds_window(p.x, p.y, 0.0));
                let look = |p: Vector2<f64>| f64::from(picture.bilinear(p.x as f32, p.y as f32));
                let profile: Vec<f64> = inside.then(|| sides.clone().map(|k| look(at(k))).collect())?;
                Some((t, profile.windows(filter.len()).map(change).collect()))
            })
            .unzip::<_, _, Vec<f64>, Vec<Vec<f64>>>();
        (along.len() >= LEAST_PLACES).then_some(Self { along, steepness, reach })
    }

    fn count(&self) -> usize {
        self.along.len()
    }

    /// Steepness at a place along, so many steps to the side.
    fn at(&self, i: usize, side: f64) -> f64 {
        self.steepness[i][(side.round() as isize + self.reach).clamp(0, 2 * self.reach) as usize]
    }

    /// Sums over the stretches of the line between two places to the side, steps.
    fn stretches(&self, sides: [isize; 2]) -> Vec<f64> {
        let mut sums = vec![0.0; self.count().div_ceil(STRETCH)];
        for i in 0..self.count() {
            sums[i / STRETCH] += self.at(i, self.between(sides, i));
        }
        sums
    }

    fn between(&self, [a, b]: [isize; 2], i: usize) -> f64 {
        a as f64 + (b - a) as f64 * self.along[i]
    }

    /// The line that is agreed on most: its ends, steps to the side.
    fn most_agreed(&self, half_as_likely: f64) -> [isize; 2] {
        let likely = |side: isize| 1.0 / (1.0 + (side as f64 / half_as_likely).powi(2));
        let sides = -self.reach..=self.reach;
        sides
            .clone()
            .flat_map(|a| sides.clone().map(move |b| [a, b]))
            .map(|s| {
                let agreed: f64 = self.stretches(s).iter().map(|v| v.abs()).sum();
                (agreed * (likely(s[0]) * likely(s[1])).sqrt(), s)
            })
            .max_by(|x, y| x.0.total_cmp(&y.0))
            .map_or([0, 0], |best| best.1)
    }

    /// Whether an edge runs there.
    fn is_edge(&self, sides: [isize; 2]) -> bool {
        let agreed: f64 = self.stretches(sides).iter().map(|v| v.abs()).sum();
        let all: f64 = (0..self.count()).map(|i| self.at(i, self.between(sides, i)).abs()).sum();
        agreed >= AGREED * all && agreed >= LEAST_LEVELS * self.count() as f64
    }

    /// The steepest places next to a line: along, px to the side.
    fn steepest(&self, sides: [isize; 2]) -> Vec<(f64, f64)> {
        let signs: Vec<f64> = self.stretches(sides).iter().map(|v| v.signum()).collect();
        let near = (NEAR_PX / STEP_PX).ceil() as isize + 1;
        (0..self.count())
            .filter_map(|i| {
                let value = |k: isize| signs[i / STRETCH] * self.at(i, k as f64);
                let middle = self.between(sides, i).round() as isize;
                let (low, high) = ((middle - near).max(1 - self.reach), (middle + near).min(self.reach - 1));
                let top = (low..=high).max_by(|a, b| value(*a).total_cmp(&value(*b)))?;
                let (before, here, after) = (value(top - 1), value(top), value(top + 1));
                let bend = before - 2.0 * here + after;
                if here <= 0.0 || bend >= 0.0 || here < before || here < after {
                    return None;
                }
                Some((self.along[i], (top as f64 + 0.5 * (before - after) / bend) * STEP_PX))
            })
            .collect()
    }
}

/// Where the edge lies that a line was drawn along: the ends of the line, px, each moved to the side alone. `None`
/// where no edge stands out near it.
pub fn edge_along(picture: &Plane, lens: &Lens, line: [Vector2<f64>; 2]) -> Option<[Vector2<f64>; 2]> {
    let scale = picture.width() as f64 / 1280.0;
    let reach = (REACH_PX * scale.max(0.5) / STEP_PX).round() as isize;
    let across = Across::of(picture, lens, line, reach)?;
    let sides = across.most_agreed(HALF_AS_LIKELY_PX * scale.max(0.5) / STEP_PX);
    if !across.is_edge(sides) {
        return None;
    }
    let begun = sides.map(|s| s as f64 * STEP_PX);
    let [at_from, at_to] = fitted(&across.steepest(sides), across.count(), begun)?;
    let normal = normal(line[0], line[1])?;
    Some([line[0] + normal * at_from, line[1] + normal * at_to])
}

fn normal(from: Vector2<f64>, to: Vector2<f64>) -> Option<Vector2<f64>> {
    let along = (to - from).try_normalize(1e-9)?;
    Some(Vector2::new(-along.y, along.x))
}

/// The line through places (along, to the side): how far to the side its ends lie. `None` where too few of `count` lie
/// on it.
fn fitted(places: &[(f64, f64)], count: usize, begun: [f64; 2]) -> Option<[f64; 2]> {
    let [mut a, mut b] = begun;
    for _ in 0..10 {
        let (mut matrix, mut right) = (Matrix2::zeros(), Vector2::zeros());
        for &(t, side) in places {
            let off = side - (a + (b - a) * t);
            let weight = 1.0 / (1.0 + (2.0 * off / NEAR_PX).powi(2));
            let row = Vector2::new(1.0 - t, t);
            matrix += weight * row * row.transpose();
            right += weight * side * row;
        }
        let ends = matrix.try_inverse()? * right;
        (a, b) = (ends.x, ends.y);
    }
    let near = places.iter().filter(|(t, side)| (side - (a + (b - a) * t)).abs() < NEAR_PX).count();
    (near as f64 >= NEAR_SHARE * count as f64).then_some([a, b])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::SplitMix64;

    const LENS: Lens = Lens { focal_px: 1000.0, centre_px: [639.5, 359.5], k1: 0.0, k2: 0.0 };

    /// A picture in two tones either side of the line x = at(y), soft by about a pixel, with noise.
    fn picture(at: impl Fn(f64) -> f64, tones: impl Fn(f64) -> (f64, f64), noise: f64) -> Plane {
        let mut random = SplitMix64::new(3);
        let noise: Vec<f64> = (0..1280 * 720).map(|_| noise * random.normal()).collect();
        Plane::from_fn(1280, 720, |x, y| {
            let (left, right) = tones(y as f64);
            let part = ((x as f64 - at(y as f64)) / 1.2 + 0.5).clamp(0.0, 1.0);
            (left + (right - left) * part + noise[y * 1280 + x]) as f32
        })
    }

    fn drawn(x: [f64; 2]) -> [Vector2<f64>; 2] {
        [Vector2::new(x[0], 150.0), Vector2::new(x[1], 520.0)]
    }

    #[test]
    fn a_line_drawn_off_lands_on_the_edge() {
        let at = |y: f64| 600.0 + 0.07 * (y - 150.0);
        // A house before a dark hill and a bright sky.
        let scene = picture(at, |y| (120.0, if y < 300.0 { 180.0 } else { 95.0 }), 3.0);
        for off in [[1.5, -2.0], [-2.5, 2.0], [0.4, 0.2], [2.4, 2.4]] {
            let [from, to] =
                edge_along(&scene, &LENS, drawn([at(150.0) + off[0], at(520.0) + off[1]])).expect("an edge");
            for p in [from, to] {
                assert!((p.x - at(p.y)).abs() < 0.1, "{off:?}: {} at {}", p.x - at(p.y), p.y);
            }
        }
    }

    #[test]
    fn an_edge_that_the_lens_bends_is_followed() {
        let lens = Lens { k1: -0.2, ..LENS };
        let true_line = [Vector2::new(-0.5, -0.25), Vector2::new(-0.48, 0.25)];
        let ends = true_line.map(|p| lens.project(p));
        let across = |p: Vector2<f64>| {
            let n = lens.unproject(p);
            n.x - (-0.49 + 0.02 / 0.5 * n.y)
        };
        let scene = Plane::from_fn(1280, 720, |x, y| {
            let off = across(Vector2::new(x as f64, y as f64)) * 900.0;
            (90.0 + 60.0 * (off / 1.2 + 0.5).clamp(0.0, 1.0)) as f32
        });
        let off = Vector2::new(1.4, 0.0);
        let found = edge_along(&scene, &lens, [ends[0] + off, ends[1] - off]).expect("an edge");
        for p in found {
            assert!((across(p) * 900.0).abs() < 0.12, "{}", across(p) * 900.0);
        }
    }

    #[test]
    fn a_line_drawn_past_the_border_goes_by_what_is_seen() {
        let scene = picture(|_| 640.0, |_| (60.0, 140.0), 2.0);
        let line = [Vector2::new(641.0, -20.0), Vector2::new(638.5, 400.0)];
        for end in edge_along(&scene, &LENS, line).expect("an edge") {
            assert!((end.x - 640.0).abs() < 0.1, "{end}");
        }
    }

    #[test]
    fn where_there_is_no_edge_the_line_stays() {
        let noise = picture(|_| -100.0, |_| (100.0, 100.0), 6.0);
        assert_eq!(edge_along(&noise, &LENS, drawn([600.0, 610.0])), None);
        let mut random = SplitMix64::new(8);
        let tones: Vec<f32> = (0..160 * 90).map(|_| 60.0 + random.below(120) as f32).collect();
        let speckled = Plane::from_fn(1280, 720, |x, y| tones[(y / 8) * 160 + x / 8]);
        assert_eq!(edge_along(&speckled, &LENS, drawn([601.0, 640.0])), None);
        let scene = picture(|_| 640.0, |_| (60.0, 140.0), 2.0);
        assert_eq!(edge_along(&scene, &LENS, drawn([660.0, 660.0])), None, "too far off");
        let outside = [Vector2::new(-5.0, 20.0), Vector2::new(-5.0, 300.0)];
        assert_eq!(edge_along(&scene, &LENS, outside), None);
    }
}
