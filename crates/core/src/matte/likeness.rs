//! How alike pixels are, each compared together with those round it.

use super::coverage::Window;
use rayon::prelude::*;

/// How colours are compared: the standard deviation of what is alike, of 255, how much more colour tells than brightness,
/// and how much less a pixel's neighbours tell than itself, by the square of their distance.
const ALIKE: f32 = 10.0;
const COLOUR: f32 = 2.0;
const ROUND: f32 = 0.25;

/// Brightness and two differences of colours (opponent colours: Ohta, Kanade & Sakai 1980), of 255.
pub type Colour = [f32; 3];
/// A pixel with the eight round it, in which distances are taken.
pub type Feature = [f32; 27];

/// Pixels of a window of a picture, row by row.
pub struct Seen {
    pub window: Window,
    /// Of each by itself.
    pub colours: Vec<Colour>,
    /// Of each with those round it; beyond the window its edge goes on.
    pub features: Vec<Feature>,
}

impl Seen {
    /// Of red, green and blue, 0 to 255.
    pub fn of(window: Window, rgb: &[u8]) -> Self {
        let (width, height) = (window.width as i32, window.height as i32);
        let opponent = |p: &[u8]| {
            let [r, g, b] = [f32::from(p[0]), f32::from(p[1]), f32::from(p[2])];
            let colour = COLOUR.sqrt();
            [(r + g + b) / 3f32.sqrt(), colour * (r - b) / 2f32.sqrt(), colour * (r - 2.0 * g + b) / 6f32.sqrt()]
        };
        let colours: Vec<Colour> = rgb.chunks_exact(3).map(opponent).collect();
        let round: [(i32, i32); 9] = std::array::from_fn(|i| (i as i32 % 3 - 1, i as i32 / 3 - 1));
        let weight = round.map(|(dx, dy)| 1.0 / (1.0 + ROUND * (dx * dx + dy * dy) as f32));
        let whole: f32 = weight.iter().sum();
        let features = (0..width * height)
            .into_par_iter()
            .map(|k| {
                let mut feature = [0.0; 27];
                for (i, (dx, dy)) in round.into_iter().enumerate() {
                    let (x, y) = ((k % width + dx).clamp(0, width - 1), (k / width + dy).clamp(0, height - 1));
                    let part = (weight[i] / whole).sqrt();
                    let colour = colours[(y * width + x) as usize].map(|c| part * c);
                    feature[3 * i..3 * i + 3].copy_from_slice(&colour);
                }
                feature
            })
            .collect();
        Self { window, colours, features }
    }

    /// Which of its pixels lies there, px of the picture.
    pub fn at(&self, x: i32, y: i32) -> Option<usize> {
        let Window { left, top, width, height } = self.window;
        let (i, j) = (usize::try_from(x - left).ok()?, usize::try_from(y - top).ok()?);
        (i < width && j < height).then_some(j * width + i)
    }
}

/// How unlike two pixels are, in halves of squared deviations.
pub fn apart(a: &Feature, b: &Feature) -> f32 {
    a.iter().zip(b).map(|(p, q)| (p - q).powi(2)).sum::<f32>() / (2.0 * ALIKE * ALIKE)
}

/// Places round one, the nearest first, and what they cost for being so far away, 1 at most: every pixel near by, and
/// ever fewer on rings farther out.
pub fn spots(near: f64) -> Vec<(i32, i32, f32)> {
    let mut all = std::collections::BTreeSet::new();
    let close = 4.0f64.min(near).ceil() as i32;
    all.extend((-close..=close).flat_map(|y| (-close..=close).map(move |x| (x, y))));
    let mut radius = f64::from(close) + 1.0;
    while radius <= near {
        let apart = (radius / 4.0).max(1.5);
        let count = (std::f64::consts::TAU * radius / apart).ceil();
        all.extend((0..count as u32).map(|i| {
            let (sin, cos) = (std::f64::consts::TAU * f64::from(i) / count).sin_cos();
            ((radius * cos).round() as i32, (radius * sin).round() as i32)
        }));
        radius += apart;
    }
    let cost = |(x, y): (i32, i32)| (x, y, (f64::from(x * x + y * y) / (near * near).max(1.0)) as f32);
    let mut all: Vec<(i32, i32, f32)> = all.into_iter().map(cost).filter(|s| s.2 <= 1.0).collect();
    all.sort_by(|a, b| a.2.total_cmp(&b.2));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pixels_are_alike_that_have_their_colour_and_that_of_their_neighbours() {
        let window = Window { left: 10, top: 20, width: 8, height: 6 };
        let rgb: Vec<u8> = (0..48).flat_map(|k| if k % 8 < 4 { [90, 90, 90] } else { [90, 110, 90] }).collect();
        let seen = Seen::of(window, &rgb);
        let feature = |x: i32, y: i32| &seen.features[seen.at(x, y).unwrap()];
        assert!(apart(feature(10, 20), feature(12, 25)) < 1e-9, "the edge of the window goes on");
        let [beside, across] = [(13, 22), (15, 22)].map(|(x, y)| apart(feature(11, 22), feature(x, y)));
        assert!(0.0 < beside && beside < 0.5 * across, "{beside}, {across}");
        assert_eq!((seen.at(9, 20), seen.at(18, 20), seen.at(10, 26)), (None, None, None));
        let spot = Seen::of(window, &(0..48).flat_map(|k| [if k == 20 { 200 } else { 90 }; 3]).collect::<Vec<_>>());
        let like = |dx: i32, dy: i32| {
            let at = |x, y| &spot.features[spot.at(x, y).unwrap()];
            apart(at(14 + dx, 22 + dy), at(11, 22)) < 1e-9
        };
        let all = || (-2..=2).flat_map(|dy| (-2..=2).map(move |dx| (dx, dy)));
        assert!(all().all(|(dx, dy)| like(dx, dy) == (dx.abs() > 1 || dy.abs() > 1)), "all eight round one count");
    }

    #[test]
    fn places_round_one_begin_with_it_and_reach_as_far_as_asked() {
        let all = spots(30.0);
        assert_eq!(all[0], (0, 0, 0.0));
        assert!(all.windows(2).all(|w| w[0].2 <= w[1].2) && all.iter().all(|s| s.2 <= 1.0));
        let far = all.iter().map(|(x, y, _)| f64::from(x * x + y * y).sqrt()).fold(0.0, f64::max);
        assert!((24.0..=30.0).contains(&far), "{far}");
        assert!((-4..=4).all(|x| all.iter().any(|s| (s.0, s.1) == (x, 4))), "every one near by");
        assert!(all.len() < 900, "fewer farther out: {}", all.len());
    }
}
