//! Frames that show nothing: a dip to black, a flash. Points wait over them where they are.

use crate::image::Pyramid;

/// Frames that show nothing after which the points before them are given up.
const LONGEST: u32 = 24;
/// Contrast under which a picture shows nothing, grey levels, and as a part of what is usual in the clip.
const LEAST_CONTRAST: f32 = 1.5;
const LEAST_PART: f32 = 0.1;
/// Part of the usual contrast that is kept from frame to frame where the picture has less.
const KEPT: f32 = 0.98;
/// The picture on which contrast is measured is at most this wide, px.
const WIDTH: usize = 100;

/// What a run knows of frames that show nothing.
#[derive(Debug, Default)]
pub(super) struct BlankInterval {
    usual: f32,
    frames: u32,
}

impl BlankInterval {
    /// Whether the next picture shows nothing.
    pub fn takes(&mut self, picture: &Pyramid) -> bool {
        let contrast = contrast(picture);
        let nothing = contrast < LEAST_CONTRAST.max(LEAST_PART * self.usual);
        self.frames = if nothing { self.frames + 1 } else { 0 };
        if !nothing {
            self.usual = contrast.max(KEPT * self.usual);
        }
        nothing
    }

    /// Whether it has lasted so long that the points before it are given up.
    pub fn is_too_long(&self) -> bool {
        self.frames > LONGEST
    }
}

/// Contrast of a coarse picture, in which noise is averaged out, grey levels.
fn contrast(pyramid: &Pyramid) -> f32 {
    pyramid.level(pyramid.level_within(WIDTH)).deviation()
}

#[cfg(test)]
mod tests {
    use super::super::synthetic::{frame, texture, tracked};
    use super::*;
    use crate::image::Plane;
    use crate::random::SplitMix64;

    const DRIFT: f64 = 2.5;

    fn moved(f: u32) -> Plane {
        frame(|x, y| (x + DRIFT * f64::from(f), y))
    }

    /// Black but for noise.
    fn black(f: u32) -> Plane {
        let mut random = SplitMix64::new(u64::from(f));
        let noise: Vec<f32> = (0..480 * 300).map(|_| 16.0 + 2.0 * random.normal() as f32).collect();
        Plane::new(480, 300, noise).unwrap()
    }

    #[test]
    fn points_are_followed_across_a_dip_to_black() {
        let blank = 12..22;
        let set = tracked(40, |f| if blank.contains(&f) { black(f) } else { moved(f) });
        assert!(set.cuts.is_empty(), "{:?}", set.cuts);
        let across: Vec<_> = set.tracks.iter().filter(|t| t.at(11).is_some() && t.at(22).is_some()).collect();
        assert!(across.len() >= 50, "{} tracks go across", across.len());
        for t in across {
            assert!(blank.clone().all(|f| t.at(f).is_none()), "nothing is seen on black");
            let (before, after) = (t.at(11).unwrap(), t.at(22).unwrap());
            assert!(
                (after[0] - before[0] + 11.0 * DRIFT).abs() < 0.2 && (after[1] - before[1]).abs() < 0.2,
                "{before:?} {after:?}"
            );
        }
        assert!(set.tracks.iter().all(|t| t.at(t.last_frame()).is_some()), "no track ends in a gap");
    }

    #[test]
    fn behind_a_long_dip_or_another_picture_points_begin_anew() {
        let long = tracked(60, |f| if (12..40).contains(&f) { black(f) } else { moved(f) });
        let other = tracked(40, |f| match f {
            0..12 => moved(f),
            12..18 => black(f),
            _ => Plane::from_fn(480, 300, |x, y| texture(9000.0 + y as f64, x as f64) as f32),
        });
        for set in [long, other] {
            let (before, after): (Vec<_>, Vec<_>) = set.tracks.iter().partition(|t| t.last_frame() < 12);
            assert!(before.len() > 30 && after.len() > 30, "{} and {}", before.len(), after.len());
            assert!(after.iter().all(|t| t.first_frame > 12), "none goes across");
        }
    }

    #[test]
    fn a_faint_picture_is_not_nothing() {
        let faint = |part: f32| move |x: usize, y: usize| 90.0 + part * (texture(x as f64, y as f64) as f32 - 90.0);
        let mut blank = BlankInterval::default();
        for part in [1.0, 0.6, 0.3] {
            assert!(!blank.takes(&Pyramid::new(&Plane::from_fn(480, 300, faint(part)), 8)), "{part}");
        }
        assert!(blank.takes(&Pyramid::new(&Plane::from_fn(480, 300, faint(0.02)), 8)));
        assert!(blank.takes(&Pyramid::new(&Plane::from_fn(1, 1, |_, _| 80.0), 8)), "one pixel shows nothing");
    }
}
