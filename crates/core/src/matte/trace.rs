//! A closed line with corners that somebody sets, and what lies between them where more is known of it.

use super::contour::{doubled_area, simplified};

/// A closed line, px: its corners, and of each of them the places on the way to the next one.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Trace {
    /// At least three.
    pub corners: Vec<[f64; 2]>,
    /// One list a corner, or none at all where nothing lies between any of them.
    pub along: Vec<Vec<[f64; 2]>>,
}

impl From<Vec<[f64; 2]>> for Trace {
    fn from(corners: Vec<[f64; 2]>) -> Self {
        Self { corners, along: Vec::new() }
    }
}

impl Trace {
    /// Round a line that is known closely, no two places of which are the same, with as many corners as are asked for,
    /// where they matter most. One of few places has corners that are the same.
    pub fn with_corners(mut places: Vec<[f64; 2]>, count: usize) -> Self {
        let mut corners = simplified(places.clone(), count);
        let Some(&first) = corners.first() else { return Self::default() };
        let start = places.iter().position(|p| *p == first).unwrap_or(0);
        places.rotate_left(start);
        let mut along: Vec<Vec<[f64; 2]>> = Vec::with_capacity(count);
        let mut next = 0;
        for place in places {
            if corners.get(next) == Some(&place) {
                next += 1;
                along.push(Vec::new());
            } else if let Some(behind) = along.last_mut() {
                behind.push(place);
            }
        }
        while corners.len() < count {
            corners.insert(0, first);
            along.insert(0, Vec::new());
        }
        if along.iter().all(Vec::is_empty) {
            along.clear();
        }
        Self { corners, along }
    }

    /// All places in their order, and to which corner each belongs: so far on the way to the next one.
    pub fn places(&self) -> (Vec<[f64; 2]>, Vec<f64>) {
        let of = |i: usize, corner: [f64; 2]| {
            let along = self.along.get(i).map_or(&[][..], Vec::as_slice);
            let part = move |k: usize| i as f64 + k as f64 / (along.len() + 1) as f64;
            std::iter::once(corner).chain(along.iter().copied()).enumerate().map(move |(k, p)| (p, part(k)))
        };
        self.corners.iter().enumerate().flat_map(|(i, corner)| of(i, *corner)).unzip()
    }

    /// The same line elsewhere: as many places as it has, in their order.
    ///
    /// # Panics
    /// Where there are fewer.
    #[must_use]
    pub fn at_places(&self, places: &[[f64; 2]]) -> Self {
        let mut rest = places;
        let mut take = |count: usize| {
            let (head, tail) = rest.split_at(count);
            rest = tail;
            head.to_vec()
        };
        if self.along.is_empty() {
            return take(self.corners.len()).into();
        }
        let (corners, along) = self.along.iter().map(|along| (take(1)[0], take(along.len()))).unzip();
        Self { corners, along }
    }

    /// Leaves out what lies inside of another line, px: goes in to it from its nearest place, round it, and back out by the
    /// way on which it came, which so bounds nothing (see [`super::Coverage::of_shape`]).
    pub fn leave_out(&mut self, mut hole: Vec<[f64; 2]>) {
        let (places, of) = self.places();
        if doubled_area(&hole) * doubled_area(&places) > 0.0 {
            hole.reverse();
        }
        let apart = |a: &[f64; 2], b: &[f64; 2]| (a[0] - b[0]).powi(2) + (a[1] - b[1]).powi(2);
        let pairs = (0..places.len()).flat_map(|p| (0..hole.len()).map(move |h| (p, h)));
        let nearest = pairs.min_by(|a, b| apart(&places[a.0], &hole[a.1]).total_cmp(&apart(&places[b.0], &hole[b.1])));
        let Some((from, to)) = nearest else { return };
        hole.rotate_left(to);
        let corner = of[from] as usize;
        let behind = from - of.partition_point(|o| *o < corner as f64);
        self.along.resize(self.corners.len(), Vec::new());
        let back = [hole[0], places[from]];
        self.along[corner].splice(behind..behind, hole.into_iter().chain(back));
    }

    /// Its corners turned until the one at `by` is the first.
    pub fn rotate_left(&mut self, by: usize) {
        self.corners.rotate_left(by);
        if !self.along.is_empty() {
            self.along.rotate_left(by);
        }
    }

    /// Whether both have the same number of places between the same corners.
    pub fn is_like(&self, other: &Self) -> bool {
        let counts = |trace: &Self| trace.along.iter().map(Vec::len).collect::<Vec<_>>();
        self.corners.len() == other.corners.len() && counts(self) == counts(other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn wavy(count: usize, waves: f64) -> Vec<[f64; 2]> {
        let place = |k: usize| {
            let turn = std::f64::consts::TAU * k as f64 / count as f64;
            let radius = 40.0 + 8.0 * (waves * turn).sin();
            [50.0 + radius * turn.cos(), 50.0 + radius * turn.sin()]
        };
        (0..count).map(place).collect()
    }

    proptest! {
        #[test]
        fn a_line_keeps_its_places_and_their_order(count in 3usize..80, corners in 3usize..40, waves in 0.0..9.0f64) {
            let line = wavy(count, waves);
            let trace = Trace::with_corners(line.clone(), corners);
            prop_assert_eq!(trace.corners.len(), corners);
            let (mut places, of) = trace.places();
            places.dedup();
            let start = line.iter().position(|p| *p == places[0]).unwrap();
            let turned: Vec<[f64; 2]> = (0..count).map(|k| line[(start + k) % count]).collect();
            prop_assert_eq!(places, turned);
            prop_assert!(of.windows(2).all(|w| w[0] < w[1]) && of[of.len() - 1] < corners as f64);
        }

        #[test]
        fn elsewhere_it_is_the_same(count in 3usize..80, corners in 3usize..40, by in -50.0..50.0f64) {
            let trace = Trace::with_corners(wavy(count, 5.0), corners);
            let moved: Vec<[f64; 2]> = trace.places().0.iter().map(|p| [p[0] + by, p[1]]).collect();
            let there = trace.at_places(&moved);
            prop_assert!(there.is_like(&trace));
            prop_assert_eq!(there.places().0, moved);
        }
    }

    #[test]
    fn what_lies_in_its_middle_can_be_left_out() {
        use super::super::{Coverage, SoftShape};
        let square = |low: f64, high: f64| vec![[low, low], [high, low], [high, high], [low, high]];
        let covered = |places: Vec<[f64; 2]>, feather: f64| {
            let feathers = vec![feather; places.len()];
            Coverage::of_shape(40, 40, &SoftShape { corners: places, feathers })
        };
        for feather in [0.0, 3.0] {
            let [outer, first, second] =
                [(3.0, 35.5), (8.25, 16.5), (20.0, 31.0)].map(|(low, high)| covered(square(low, high), feather).parts);
            let known: Vec<f32> =
                outer.iter().zip(first.iter().zip(&second)).map(|(o, (a, b))| o.min(1.0 - a).min(1.0 - b)).collect();
            for turned in [false, true] {
                let mut round = square(3.0, 35.5);
                if turned {
                    round.reverse();
                }
                let mut trace = Trace::with_corners(round, 4);
                trace.leave_out(square(8.25, 16.5));
                trace.leave_out(square(20.0, 31.0));
                let (places, of) = trace.places();
                assert_eq!((places.len(), trace.corners.len()), (16, 4));
                assert!(of.windows(2).all(|w| w[0] < w[1]));
                let left = covered(places.clone(), feather).parts;
                let off = left.iter().zip(&known).map(|(a, b)| (a - b).abs());
                assert!(off.fold(0.0, f32::max) < 1e-5, "feather {feather}");
                let inside = 32.5f64.powi(2) - 8.25f64.powi(2) - 11.0f64.powi(2);
                assert!((doubled_area(&places).abs() - 2.0 * inside).abs() < 1e-9);
            }
        }
        let mut none = Trace::from(square(1.0, 2.0));
        none.leave_out(Vec::new());
        assert_eq!(none, square(1.0, 2.0).into());
    }

    #[test]
    fn its_first_corner_can_be_another() {
        let mut trace = Trace::with_corners(wavy(40, 5.0), 10);
        let (mut places, _) = trace.places();
        trace.rotate_left(3);
        let skipped = places.iter().position(|p| *p == trace.corners[0]).unwrap();
        places.rotate_left(skipped);
        assert_eq!(trace.places().0, places);
        assert!(!trace.is_like(&Trace::from(trace.corners.clone())));
        let square = Trace::with_corners(vec![[0.0, 0.0], [9.0, 0.0], [9.0, 9.0], [0.0, 9.0]], 4);
        assert!(square.along.is_empty() && Trace::with_corners(Vec::new(), 4) == Trace::default());
    }
}
