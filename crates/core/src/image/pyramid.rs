//! A picture at several sizes, each half the one before.

use super::Plane;

/// Smallest side, in px, of a level that is worth having.
const MIN_SIDE: usize = 24;

/// Levels from full size down; a point at (x, y) of level 0 is at (x, y) / 2^n of level n.
#[derive(Debug, Clone)]
pub struct Pyramid {
    levels: Vec<Plane>,
}

impl Pyramid {
    /// Builds at most `levels` levels. Level 0 is smoothed with a small binomial, which takes
    /// noise and the bias of bilinear interpolation out of sub-pixel alignment.
    pub fn new(full: &Plane, levels: usize) -> Self {
        let mut all = vec![full.filtered(&[0.25, 0.5, 0.25])];
        while all.len() < levels {
            let last = &all[all.len() - 1];
            if last.width().min(last.height()) < 2 * MIN_SIDE {
                break;
            }
            all.push(last.halved());
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
    fn levels_halve() {
        let p = Pyramid::new(&Plane::from_fn(640, 361, |x, _| x as f32), 4);
        assert_eq!((p.level(1).width(), p.level(1).height()), (320, 181));
    }
}
