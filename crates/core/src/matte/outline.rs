//! A closed shape that changes over time.

use super::trace::Trace;
use serde::{Deserialize, Serialize};

/// The outline at one frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct OutlineKey {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// Corners, px.
    pub outline: Vec<[f64; 2]>,
    /// Where more is known of it than its corners: of each of them, the places on the way to the next one, px, between which
    /// it goes straight. One list a corner, or none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub along: Vec<Vec<[f64; 2]>>,
}

impl OutlineKey {
    /// With nothing known but its corners.
    pub fn new(frame: u32, corners: Vec<[f64; 2]>) -> Self {
        Self { frame, outline: corners, along: Vec::new() }
    }

    /// A line as the outline of a frame.
    pub fn of(frame: u32, trace: Trace) -> Self {
        Self { frame, outline: trace.corners, along: trace.along }
    }

    /// Its line.
    pub fn trace(&self) -> Trace {
        Trace { corners: self.outline.clone(), along: self.along.clone() }
    }
}

/// Pieces into which the curve between two corners is cut.
const CURVE_PIECES: usize = 10;

/// A closed shape: its corners go straight on between its keys and are held outside them. A key of which more is known than
/// its corners says what the shape is where it alone counts; whether they are smooth does not matter there.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Outline {
    /// At least one key, by rising frame, all with the same number of corners.
    pub keys: Vec<OutlineKey>,
    /// Whether each corner is smooth; those beyond the list are not.
    #[serde(default)]
    pub smooth: Vec<bool>,
    /// Frames whose keys somebody set by hand: what follows the picture goes from one to the next and leaves them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by_hand: Vec<u32>,
}

/// What can be wrong with an outline.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum OutlineError {
    /// An outline without a key says nothing.
    #[error("has no keys; give it at least one outline")]
    NoKeys,
    /// Keys cannot be interpolated between outlines of different corners.
    #[error(
        "has {found} corners at frame {frame}, but {expected} at its first key; all keys need the same number, at \
            least 3"
    )]
    Corners {
        /// Frame of the key.
        frame: u32,
        /// Corners found.
        found: usize,
        /// Corners of the first key.
        expected: usize,
    },
    /// What lies between corners is told corner by corner.
    #[error(
        "tells at frame {frame} what lies between {found} corners, but has {expected}; give one list a corner, or none"
    )]
    Along {
        /// Frame of the key.
        frame: u32,
        /// Lists found.
        found: usize,
        /// Corners.
        expected: usize,
    },
    /// Keys must stand in the order of their frames.
    #[error("has its keys out of order at frame {frame}; sort them by frame, one key a frame")]
    Order {
        /// Frame of the key.
        frame: u32,
    },
    /// A corner is no number.
    #[error("has a corner at frame {frame} that is not a finite number")]
    NotFinite {
        /// Frame of the key.
        frame: u32,
    },
}

impl Outline {
    /// An outline with straight corners.
    pub fn new(keys: Vec<OutlineKey>) -> Self {
        Self { keys, smooth: Vec::new(), by_hand: Vec::new() }
    }

    /// Checks all keys.
    ///
    /// # Errors
    /// The first [`OutlineError`].
    pub fn validate(&self) -> Result<(), OutlineError> {
        let expected = self.keys.first().ok_or(OutlineError::NoKeys)?.outline.len();
        for (i, key) in self.keys.iter().enumerate() {
            let (frame, found) = (key.frame, key.outline.len());
            if found != expected || found < 3 {
                return Err(OutlineError::Corners { frame, found, expected });
            }
            if !key.along.is_empty() && key.along.len() != expected {
                return Err(OutlineError::Along { frame, found: key.along.len(), expected });
            }
            if i > 0 && self.keys[i - 1].frame >= frame {
                return Err(OutlineError::Order { frame });
            }
            if key.outline.iter().chain(key.along.iter().flatten()).flatten().any(|c| !c.is_finite()) {
                return Err(OutlineError::NotFinite { frame });
            }
        }
        Ok(())
    }

    /// Its corners at `frame`, px.
    pub fn at(&self, frame: u32) -> Vec<[f64; 2]> {
        let after = self.keys.partition_point(|k| k.frame <= frame);
        match (after.checked_sub(1).and_then(|i| self.keys.get(i)), self.keys.get(after)) {
            (Some(a), Some(b)) => {
                let t = f64::from(frame - a.frame) / f64::from(b.frame - a.frame);
                a.outline
                    .iter()
                    .zip(&b.outline)
                    .map(|(p, q)| [p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1])])
                    .collect()
            }
            (Some(only), None) | (None, Some(only)) => only.outline.clone(),
            (None, None) => Vec::new(),
        }
    }

    /// The key that alone says what it is at `frame`: the one that is there, the first before it, the last behind it.
    fn key_at(&self, frame: u32) -> Option<&OutlineKey> {
        match self.keys.binary_search_by_key(&frame, |k| k.frame) {
            Ok(i) => self.keys.get(i),
            Err(0) => self.keys.first(),
            Err(i) if i == self.keys.len() => self.keys.last(),
            Err(_) => None,
        }
    }

    /// Its corners at `frame` with what is known between them, px.
    pub fn trace_at(&self, frame: u32) -> Trace {
        self.key_at(frame).map_or_else(|| self.at(frame).into(), OutlineKey::trace)
    }

    /// Its shape at `frame` as a polygon, px: smooth corners are rounded by the curve through them whose tangent is
    /// that of their neighbours (Catmull & Rom 1974).
    pub fn shape_at(&self, frame: u32) -> Vec<[f64; 2]> {
        self.corners_at(frame).0
    }

    /// The same, and to which corner each place belongs: so far on the way to the next one.
    pub fn corners_at(&self, frame: u32) -> (Vec<[f64; 2]>, Vec<f64>) {
        let trace = self.trace_at(frame);
        if !trace.along.is_empty() {
            return trace.places();
        }
        let corners = trace.corners;
        let n = corners.len();
        let is_smooth = |i: usize| self.smooth.get(i).copied().unwrap_or(false);
        if !(0..n).any(is_smooth) {
            return (corners, (0..n).map(|i| i as f64).collect());
        }
        let mut shape = Vec::with_capacity(n * CURVE_PIECES);
        let mut of = Vec::with_capacity(n * CURVE_PIECES);
        for i in 0..n {
            let (a, b) = (corners[i], corners[(i + 1) % n]);
            let (before, behind) = (corners[(i + n - 1) % n], corners[(i + 2) % n]);
            // Control points a third along the tangent; a straight corner looks at the next one.
            let control = |at: [f64; 2], from: [f64; 2], to: [f64; 2], by: f64| {
                [at[0] + by * (to[0] - from[0]), at[1] + by * (to[1] - from[1])]
            };
            let c = if is_smooth(i) { control(a, before, b, 1.0 / 6.0) } else { control(a, a, b, 1.0 / 3.0) };
            let d = if is_smooth((i + 1) % n) { control(b, behind, a, 1.0 / 6.0) } else { control(b, b, a, 1.0 / 3.0) };
            let pieces = if is_smooth(i) || is_smooth((i + 1) % n) { CURVE_PIECES } else { 1 };
            of.extend((0..pieces).map(|k| i as f64 + k as f64 / pieces as f64));
            shape.extend((0..pieces).map(|k| {
                let t = k as f64 / pieces as f64;
                let u = 1.0 - t;
                let w = [u * u * u, 3.0 * u * u * t, 3.0 * u * t * t, t * t * t];
                std::array::from_fn(|x| w[0] * a[x] + w[1] * c[x] + w[2] * d[x] + w[3] * b[x])
            }));
        }
        (shape, of)
    }

    /// Moves it by frames. What falls before frame 0 goes; the shape on frame 0 stays what it was.
    pub fn shift(&mut self, by: i64) {
        let frame = |f: u32| u32::try_from(i64::from(f) + by).ok();
        let at_start = u32::try_from(-by).ok().map(|f| self.trace_at(f));
        let kept: Vec<OutlineKey> =
            self.keys.iter().filter_map(|k| Some(OutlineKey { frame: frame(k.frame)?, ..k.clone() })).collect();
        let cut = kept.len() < self.keys.len();
        self.keys = kept;
        self.by_hand = self.by_hand.iter().filter_map(|f| frame(*f)).collect();
        if let Some(trace) = at_start.filter(|_| cut && self.keys.first().is_none_or(|k| k.frame > 0)) {
            self.set_key(OutlineKey::of(0, trace));
        }
    }

    /// Sets the outline at a frame: a key that is there is replaced, else one is added.
    pub fn set_key(&mut self, key: OutlineKey) {
        match self.keys.binary_search_by_key(&key.frame, |k| k.frame) {
            Ok(i) => self.keys[i] = key,
            Err(i) => self.keys.insert(i, key),
        }
    }

    /// The nearest keys before and after a frame that were set by hand.
    pub fn set_about(&self, frame: u32) -> (Option<&OutlineKey>, Option<&OutlineKey>) {
        let set = |k: &&OutlineKey| self.by_hand.contains(&k.frame);
        (
            self.keys.iter().rev().filter(set).find(|k| k.frame < frame),
            self.keys.iter().filter(set).find(|k| k.frame > frame),
        )
    }

    /// Takes over outlines of frames that follow one another, from `from` on, with no more keys than keep every outline
    /// within `tolerance_px`, and one wherever more is known than corners. Keys that lie among those frames are replaced; where
    /// one was set by hand there is one again.
    pub fn take_run(&mut self, from: u32, outlines: &[Trace], tolerance_px: f64) {
        let Some(last) = outlines.len().checked_sub(1) else { return };
        let among = from..=from + last as u32;
        let set = |k: &&OutlineKey| among.contains(&k.frame) && self.by_hand.contains(&k.frame);
        let mut chosen = std::collections::BTreeSet::from([0, last]);
        chosen.extend(self.keys.iter().filter(set).map(|k| (k.frame - from) as usize));
        chosen.extend((0..=last).filter(|i| !outlines[*i].along.is_empty()));
        self.keys.retain(|k| !among.contains(&k.frame));
        let mut spans: Vec<(usize, usize)> = chosen.iter().copied().zip(chosen.iter().copied().skip(1)).collect();
        // Douglas & Peucker 1973, over time.
        while let Some((a, b)) = spans.pop() {
            let error = |i: usize| {
                let t = (i - a) as f64 / (b - a) as f64;
                let [from, to, there] = [a, b, i].map(|n| &outlines[n].corners);
                let corner = |k: usize, x: usize| from[k][x] + t * (to[k][x] - from[k][x]) - there[k][x];
                (0..there.len()).map(|k| corner(k, 0).hypot(corner(k, 1))).fold(0.0, f64::max)
            };
            let worst = (a + 1..b).map(|i| (error(i), i)).max_by(|p, q| p.0.total_cmp(&q.0));
            if let Some((_, i)) = worst.filter(|w| w.0 > tolerance_px) {
                chosen.insert(i);
                spans.extend([(a, i), (i, b)]);
            }
        }
        for i in chosen {
            self.set_key(OutlineKey::of(from + i as u32, outlines[i].clone()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn square(frame: u32, x: f64, side: f64) -> OutlineKey {
        OutlineKey::new(frame, vec![[x, 10.0], [x + side, 10.0], [x + side, 10.0 + side], [x, 10.0 + side]])
    }

    #[test]
    fn an_outline_moves_between_its_keys_and_is_held_outside() {
        let outline = Outline::new(vec![square(10, 0.0, 20.0), square(20, 40.0, 20.0)]);
        assert_eq!(outline.at(0)[0], [0.0, 10.0]);
        assert_eq!(outline.at(15)[0], [20.0, 10.0]);
        assert_eq!(outline.at(99)[0], [40.0, 10.0]);
    }

    #[test]
    fn keys_that_were_set_by_hand_are_found_and_move_with_the_outline() {
        let mut outline = Outline::new((0..5).map(|k| square(10 * k, 0.0, 20.0)).collect());
        assert_eq!(outline.set_about(20), (None, None), "of others nothing is known");
        outline.by_hand = vec![10, 40, 99];
        let frames = |o: &Outline, f| (o.set_about(f).0.map(|k| k.frame), o.set_about(f).1.map(|k| k.frame));
        assert_eq!(frames(&outline, 20), (Some(10), Some(40)));
        assert_eq!(frames(&outline, 40), (Some(10), None), "99 has no key");
        outline.shift(-15);
        assert_eq!(outline.by_hand, [25, 84]);
    }

    #[test]
    fn smooth_corners_round_the_shape_and_straight_ones_stay() {
        let mut outline = Outline::new(vec![square(0, 0.0, 100.0)]);
        let area = |m: &Outline| {
            let s = m.shape_at(0);
            (0..s.len()).map(|i| s[i][0] * s[(i + 1) % s.len()][1] - s[(i + 1) % s.len()][0] * s[i][1]).sum::<f64>()
                / 2.0
        };
        assert!((area(&outline) - 1e4).abs() < 1e-9);
        outline.smooth = vec![true; 4];
        assert!(area(&outline) > 1.2e4, "the curve bulges through the corners: {}", area(&outline));
        outline.smooth = vec![true];
        assert!(outline.shape_at(0).contains(&[100.0, 110.0]), "a straight corner is still a corner");
    }

    #[test]
    fn a_run_of_outlines_becomes_few_keys_that_keep_it() {
        let at =
            |f: u32| square(f, if f < 30 { 2.0 * f64::from(f) } else { 60.0 + 5.0 * f64::from(f - 30) }, 20.0).outline;
        let outlines: Vec<Trace> = (10..50).map(|f| at(f).into()).collect();
        let mut outline = Outline::new(vec![square(3, -5.0, 20.0), square(20, 900.0, 20.0)]);
        outline.take_run(10, &outlines, 0.5);
        assert_eq!(outline.keys.iter().map(|k| k.frame).collect::<Vec<_>>(), [3, 10, 30, 49]);
        for f in 10..50 {
            assert!((outline.at(f)[0][0] - at(f)[0][0]).abs() <= 0.5);
        }
        outline.set_key(square(30, 0.0, 20.0));
        assert_eq!(outline.keys.len(), 4);
        // What was set by hand stays a frame that was.
        outline.by_hand = vec![20, 30, 99];
        outline.take_run(10, &outlines, 0.5);
        assert_eq!(outline.keys.iter().map(|k| k.frame).collect::<Vec<_>>(), [3, 10, 30, 49], "20 has no key");
        outline.set_key(OutlineKey::new(20, at(20)));
        outline.take_run(10, &outlines, 0.5);
        assert_eq!(outline.keys.iter().map(|k| k.frame).collect::<Vec<_>>(), [3, 10, 20, 30, 49]);
        outline.take_run(20, &outlines[10..11], 0.5);
        assert_eq!(outline.keys.len(), 5);
    }

    #[test]
    fn what_is_known_between_corners_is_the_shape_where_its_key_alone_counts() {
        let mut traced = square(20, 0.0, 20.0);
        traced.along = vec![vec![[10.0, 4.0]], vec![], vec![[12.0, 30.0], [8.0, 33.0]], vec![]];
        let mut outline =
            Outline { smooth: vec![true; 4], ..Outline::new(vec![square(10, 40.0, 20.0), traced.clone()]) };
        assert_eq!(outline.validate(), Ok(()));
        let round = [[0.0, 10.0], [10.0, 4.0], [20.0, 10.0], [20.0, 30.0], [12.0, 30.0], [8.0, 33.0], [0.0, 30.0]];
        for frame in [20, 99] {
            let (shape, of) = outline.corners_at(frame);
            assert_eq!(shape, round);
            assert_eq!(of[..5], [0.0, 0.5, 1.0, 2.0, 2.0 + 1.0 / 3.0]);
        }
        assert!(outline.shape_at(10).len() > 4, "smooth where nothing is known in between");
        assert_eq!(outline.trace_at(15), Trace::from(outline.at(15)));
        outline.shift(-30);
        assert_eq!((outline.keys.len(), outline.shape_at(0)), (1, round.to_vec()), "held at the start");
        outline.take_run(
            0,
            &[square(0, 0.0, 20.0).trace(), traced.trace(), traced.trace(), square(3, 0.0, 20.0).trace()],
            9.0,
        );
        assert_eq!(outline.keys.iter().map(|k| k.along.len()).collect::<Vec<_>>(), [0, 4, 4, 0], "each is kept");
        outline.keys[1].along.pop();
        assert_eq!(outline.validate(), Err(OutlineError::Along { frame: 1, found: 3, expected: 4 }));
        outline.keys[1].along.push(vec![[f64::NAN, 0.0]]);
        assert_eq!(outline.validate(), Err(OutlineError::NotFinite { frame: 1 }));
    }
}
