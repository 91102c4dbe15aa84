//! A picture at several sizes, each half the one before.

use super::Plane;

/// Smallest side, in px, of a level that is worth having.
const MIN_SIDE: usize = 24;

/// Levels from full size down; a point at (x, y) of level 0 is at (x, y) / 2^n of level n.
#[derive(Debug, Clone, PartialEq)]
pub struct Pyramid {
    levels: Vec<Plane>,
}

impl Pyramid {
    /// Builds at most `levels` levels. Level 0 is smoothed with a small binomial, which takes
    /// noise and the bias of bilinear interpolation out of sub-pixel alignment.
    pub fn new(full: &Plane, levels: usize) -> Self {
        Self { levels: Vec::new() }.rebuilt(full, levels)
    }

    /// The same for another picture, in the memory of this one: fresh pages for every frame would cost as much as
    /// filling them.
    pub fn rebuilt(self, full: &Plane, levels: usize) -> Self {
        let mut old = self.levels.into_iter();
        let mut base = old.next().unwrap_or_default();
        full.filter_into(&[0.25, 0.5, 0.25], &mut base);
        let mut all = vec![base];
        while all.len() < levels {
            let last = &all[all.len() - 1];
            if last.width().min(last.height()) < 2 * MIN_SIDE {
                break;
            }
            let mut half = old.next().unwrap_or_default();
            last.halve_into(&mut half);
            all.push(half);
        }
        Self { levels: all }
    }

    /// The number of levels, at least 1.
    pub fn len(&self) -> usize {
        self.levels.len()
    }

    /// Never true; a pyramid has at least its full-size level.
    pub fn is_empty(&self) -> bool {
        self.levels.is_empty()
    }

    /// The first level that is at most so many px wide, or the smallest there is.
    pub fn level_within(&self, width: usize) -> usize {
        self.levels.iter().position(|level| level.width() <= width).unwrap_or(self.levels.len() - 1)
    }

    /// Level `n`, or the smallest there is.
    pub fn level(&self, n: usize) -> &Plane {
        &self.levels[n.min(self.levels.len() - 1)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tiny_picture_has_one_level() {
        assert_eq!(Pyramid::new(&Plane::from_fn(1, 40, |_, _| 0.0), 4).len(), 1);
    }

    #[test]
    fn one_that_is_rebuilt_is_as_good_as_new() {
        let picture = |w: usize, h: usize| Plane::from_fn(w, h, |x, y| ((x * 31 + y * 17) % 97) as f32);
        for (w, h) in [(320, 200), (160, 90), (700, 400), (1, 1)] {
            let (old, full) = (Pyramid::new(&picture(640, 360), 4), picture(w, h));
            assert_eq!(old.rebuilt(&full, 4), Pyramid::new(&full, 4), "{w}x{h}");
        }
    }

    #[test]
    fn levels_halve() {
        let p = Pyramid::new(&Plane::from_fn(640, 361, |x, _| x as f32), 4);
        assert_eq!((p.level(1).width(), p.level(1).height()), (320, 181));
        assert_eq!([640, 639, 160, 10].map(|width| p.level_within(width)), [0, 1, 2, p.len() - 1]);
    }
}
