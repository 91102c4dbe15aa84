//! One frame on: where points are expected, and where they are found.

use super::active_track::ActiveTrack;
use super::align::{COARSE_STEP_PX, FINE_STEP_PX, Template, Warp, Window};
use super::motion::{AffineMotion, global_shift};
use super::settings::TrackSettings;
use crate::image::Pyramid;
use crate::matte::MasksAtFrame;
use rayon::prelude::*;
use std::sync::Arc;

/// Levels of the pyramid that alignment uses, full size included.
const LEVELS: usize = 4;
/// Half side of the window on the coarse levels and of the backward check, px of the level.
const COARSE_HALF: usize = 7;
/// The coarsest picture, for the global shift, is at most this wide, px.
const GLOBAL_WIDTH: usize = 100;
/// How far the first-view alignment may end from the coarse prediction, px.
const FINE_REACH_PX: f64 = 3.5;
/// A point that lay within this of where it was expected, px, as most do, is looked for there on the finest level at
/// once.
const NEAR_PX: f64 = 1.2;
/// Levels above the finest that carry a point while the picture goes on as before, and how far, in px of the coarsest
/// picture, the global shift may then lie from what was expected.
const STEADY_LEVELS: usize = 2;
const STEADY_PX: f64 = 1.5;
/// Scale of the first view beyond which the present view becomes the reference.
const RENEW_SCALE: f64 = 1.45;
/// Largest ratio of stretches under which a view still counts as the same patch.
const MAX_ANISOTROPY: f64 = 2.2;

/// The two windows of a run.
pub(super) struct Windows {
    pub coarse: Arc<Window>,
    pub fine: Arc<Window>,
}

impl Windows {
    /// Those for a comparison with the first view over `half` px to each side.
    pub fn new(half: usize) -> Self {
        Self { coarse: Window::new(COARSE_HALF), fine: Window::new(half) }
    }
}

/// What one thread works with, made once for all points.
pub(super) struct Scratch {
    buffer: Vec<f32>,
    coarse: Template<4>,
}

impl Scratch {
    pub fn new(windows: &Windows) -> Self {
        Self { buffer: Vec::new(), coarse: Template::blank(&windows.coarse) }
    }
}

/// Where points are expected on the next frame.
pub(super) struct Prediction {
    /// What they have in common.
    pub motion: AffineMotion,
    /// How far half of them, and nine in ten, lie from where that and their own motion take them, px.
    pub usual_px: f64,
    pub surprise_px: f64,
    /// Whether so many could not be propagated that it may be wrong for a part of the picture.
    pub doubtful: bool,
}

/// A linear motion over the frame: a global shift of the coarsest pictures, then a robust fit to
/// a spread of points propagated down the pyramid from there. `before` is the motion of the frame before.
pub(super) fn predict(
    active: &[ActiveTrack],
    before: &AffineMotion,
    (previous, current): (&Pyramid, &Pyramid),
    windows: &Windows,
) -> Prediction {
    let top = previous.level_within(GLOBAL_WIDTH);
    let (dx, dy) = global_shift(previous.level(top), current.level(top));
    let scale = f64::from(1u32 << top);
    let shift = AffineMotion::shift(f64::from(dx) * scale, f64::from(dy) * scale);
    let stride = (active.len() / 120).max(1);
    let carried = |start: &AffineMotion, level: usize| -> Vec<_> {
        active
            .par_iter()
            .step_by(stride)
            .map_init(
                || Scratch::new(windows),
                |scratch, active| {
                    let at = [active.warp.x, active.warp.y];
                    let to = descend((previous, current), at, start.at(at[0], at[1]), (level, 1), scratch)?;
                    Some(((at, [to[0] - at[0], to[1] - at[1]]), active.own_motion))
                },
            )
            .flatten()
            .collect()
    };
    let coarsest = LEVELS.min(top.max(1));
    let few = |pairs: &[_]| pairs.len() * 4 < active.len().div_ceil(stride) * 3;
    let [mx, my] = [previous.level(0).width(), previous.level(0).height()].map(|side| 0.5 * side as f64);
    let (bx, by) = before.at(mx, my);
    let (sx, sy) = shift.at(mx, my);
    let steady = (bx - sx).hypot(by - sy) < STEADY_PX * scale;
    let mut pairs = if steady { carried(before, STEADY_LEVELS.min(coarsest)) } else { Vec::new() };
    if few(&pairs) {
        pairs = carried(&shift, coarsest);
    }
    if pairs.len() * 2 < active.len() / stride {
        // What fills the frame may have led it astray: the picture more likely moves as it did before.
        let again = carried(before, coarsest);
        if again.len() > pairs.len() {
            pairs = again;
        }
    }
    let doubtful = few(&pairs);
    let (pairs, own): (Vec<_>, Vec<_>) = pairs.into_iter().unzip();
    let motion = AffineMotion::fit(&pairs).unwrap_or(shift);
    let mut surprises: Vec<f64> = pairs
        .iter()
        .zip(own)
        .map(|((at, to), own)| {
            let (dx, dy) = motion.at(at[0], at[1]);
            (to[0] - dx - own.0).hypot(to[1] - dy - own.1)
        })
        .collect();
    surprises.sort_by(f64::total_cmp);
    // Too few to tell: expect anything.
    let of = |tenths: usize| if surprises.len() < 8 { f64::INFINITY } else { surprises[surprises.len() * tenths / 10] };
    Prediction { motion, usual_px: of(5), surprise_px: of(9), doubtful }
}

/// Carries one window from the first pyramid to the second, down the levels from the first to the
/// second of `levels` (coarse to fine), by shift alone.
fn descend(
    (source, target): (&Pyramid, &Pyramid),
    at: [f64; 2],
    predicted: (f64, f64),
    (from, to): (usize, usize),
    scratch: &mut Scratch,
) -> Option<[f64; 2]> {
    let mut guess = [at[0] + predicted.0, at[1] + predicted.1];
    let top = from.min(source.len() - 1);
    let mut reached = false;
    for level in (to.min(top)..=top).rev() {
        let scale = f64::from(1u32 << level);
        // Near the border the coarse windows do not fit; the finer ones still may.
        let Scratch { buffer, coarse } = &mut *scratch;
        if !coarse.cut_again(source.level(level), at[0] / scale, at[1] / scale, buffer) {
            continue;
        }
        let start = Warp::shift(guess[0] / scale, guess[1] / scale);
        if let Some(found) = coarse.find(target.level(level), start, 1.2 * COARSE_HALF as f64, COARSE_STEP_PX, buffer) {
            guess = [found.x * scale, found.y * scale];
            reached = level == to.min(top);
        }
    }
    reached.then_some(guess)
}

/// One point, one frame on: predict, align with the first view, check backwards. Where points have lain as expected it
/// is looked for there at once; what is not found is looked for from farther, and where it would be by its own last
/// step.
pub(super) fn follow(
    active: &ActiveTrack,
    previous: &Pyramid,
    current: &Pyramid,
    expected: &Prediction,
    masks: &MasksAtFrame,
    settings: &TrackSettings,
    scratch: &mut Scratch,
) -> Option<(Warp, bool)> {
    let at = [active.warp.x, active.warp.y];
    let common = expected.motion.at(at[0], at[1]);
    let with_own = (common.0 + active.own_motion.0, common.1 + active.own_motion.1);
    let look = |predicted: (f64, f64), level: usize, scratch: &mut Scratch| {
        let near = match level {
            0 => [at[0] + predicted.0, at[1] + predicted.1],
            _ => descend((previous, current), at, predicted, (level, 1), scratch)?,
        };
        let start = Warp { x: near[0], y: near[1], ..active.warp };
        let warp = active.template.find(current.level(0), start, FINE_REACH_PX, FINE_STEP_PX, &mut scratch.buffer)?;
        let same = active.template.correlation(&scratch.buffer) >= settings.min_agreement
            && warp.determinant() > 0.05
            && warp.anisotropy() <= MAX_ANISOTROPY;
        if !same || !masks.allows(warp.x, warp.y, f64::from(settings.window_half_px)) {
            return None;
        }
        let surprise = (warp.x - at[0] - predicted.0).hypot(warp.y - at[1] - predicted.1);
        let (way, levels) = ((-predicted.0, -predicted.1), (level_for(surprise, 0), 0));
        let back = descend((current, previous), [warp.x, warp.y], way, levels, scratch)?;
        let error = (back[0] - at[0]).hypot(back[1] - at[1]);
        (error <= backward_limit(predicted)).then_some(warp)
    };
    let near = level_for(expected.surprise_px, 1);
    let far = level_for(expected.motion.spread(), 1).max(near + 1);
    // Where the rest of the picture went elsewhere, a point may still go on as it did.
    let before = active.last_step();
    let differs = expected.doubtful && (before.0 - with_own.0).hypot(before.1 - with_own.1) > COARSE_HALF as f64;
    let at_once = active.surprise_px.max(expected.usual_px) < NEAR_PX;
    let mut warp = if at_once { look(with_own, 0, scratch) } else { None };
    if warp.is_none() {
        warp = look(with_own, near, scratch);
    }
    if warp.is_none() && far < LEVELS {
        warp = look(common, far, scratch);
    }
    if warp.is_none() && differs {
        warp = look(before, near.min(LEVELS - 2), scratch);
    }
    let warp = warp?;
    let scale = warp.determinant().sqrt();
    Some((warp, !(1.0 / RENEW_SCALE..RENEW_SCALE).contains(&scale)))
}

/// The level, `least` or coarser, on which to begin looking for what may lie `off_px` from where it is expected: its
/// window must reach that far with room to spare.
fn level_for(off_px: f64, least: usize) -> usize {
    (least..LEVELS - 1)
        .find(|&level| 2.0 * off_px < COARSE_HALF as f64 * f64::from(1u32 << level))
        .unwrap_or(LEVELS - 1)
}

/// How far the way back may miss, px: more where the picture moves fast and smears.
fn backward_limit(predicted: (f64, f64)) -> f64 {
    0.8 + 0.02 * predicted.0.hypot(predicted.1)
}

#[cfg(test)]
mod tests {
    use super::super::synthetic::{frame, texture, tracked};
    use super::*;
    use crate::image::Plane;
    use crate::matte::Masks;
    use crate::track::{TrackSet, TrackSettings, Tracker};

    /// Tracks of frames that show the texture moved by `shift(frame)`.
    fn run(frames: u32, shift: impl Fn(u32) -> (f64, f64)) -> TrackSet {
        tracked(frames, |f| {
            let (dx, dy) = shift(f);
            frame(|x, y| (x - dx, y - dy))
        })
    }

    /// The largest distance of any view from where its point went, px.
    fn worst(set: &TrackSet, shift: impl Fn(u32) -> (f64, f64)) -> f64 {
        let residuals = set.tracks.iter().flat_map(|t| {
            let (a, from) = t.sightings().next().unwrap();
            let (ax, ay) = shift(a);
            t.sightings()
                .map(|(f, at)| {
                    let (dx, dy) = shift(f);
                    (f64::from(at[0] - from[0]) - dx + ax).hypot(f64::from(at[1] - from[1]) - dy + ay)
                })
                .collect::<Vec<_>>()
        });
        residuals.fold(0.0, f64::max)
    }

    #[test]
    fn points_that_are_looked_for_at_once_follow_a_jump_out_of_calm() {
        // Steady for long enough that nothing but the finest level is asked, then a jump, then steady again.
        let shift = |f: u32| {
            (1.3 * f64::from(f) + if f >= 9 { 31.0 } else { 0.0 }, 0.4 * f64::from(f) - if f >= 9 { 17.0 } else { 0.0 })
        };
        let set = run(16, shift);
        let across =
            set.tracks.iter().filter(|t| t.at(8).is_some_and(|p| (60.0..400.0).contains(&p[0]) && p[1] > 60.0));
        let (held, all) = across.fold((0, 0), |(held, all), t| (held + u32::from(t.at(10).is_some()), all + 1));
        assert!(all > 60 && held * 20 >= all * 19, "{held} of {all} are held");
        assert!(worst(&set, shift) < 0.12, "{}", worst(&set, shift));
        assert!(set.cuts.is_empty());
    }

    #[test]
    fn a_part_that_sets_off_on_its_own_is_followed_too() {
        // From frame 8 on a window of the picture goes its own way, 9 px a frame: no neighbour foretells it.
        let own = |f: u32| 9.0 * f64::from(f.saturating_sub(7));
        let mut tracker = Tracker::new(TrackSettings::default(), Masks::default()).unwrap();
        for f in 0..14u32 {
            let picture = Plane::from_fn(480, 300, |x, y| {
                let (x, y) = (x as f64, y as f64);
                let inside = (90.0 + own(f)..230.0 + own(f)).contains(&x) && (80.0..220.0).contains(&y);
                (if inside { texture(x - own(f) + 3000.0, y) } else { texture(x, y) }) as f32
            });
            tracker.push(&picture).unwrap();
        }
        let set = tracker.finish();
        let inside = |p: [f64; 2]| (105.0..215.0).contains(&p[0]) && (95.0..205.0).contains(&p[1]);
        let (mut held, mut all) = (0, 0);
        for t in set.tracks.iter().filter(|t| t.at(6).is_some_and(inside)) {
            all += 1;
            let from = t.at(6).unwrap();
            held += u32::from(t.at(13).is_some_and(|p| (p[0] - from[0] - own(13)).hypot(p[1] - from[1]) < 0.2));
        }
        assert!(all >= 12 && held * 10 >= all * 8, "{held} of {all} are followed");
    }

    #[test]
    fn the_level_to_begin_on_reaches_far_enough() {
        assert_eq!(level_for(0.1, 0), 0);
        assert_eq!(level_for(0.1, 1), 1);
        for off in [2.0, 5.0, 11.0, 20.0] {
            let level = level_for(off, 0);
            assert!(2.0 * off < COARSE_HALF as f64 * f64::from(1u32 << level), "{off} px on level {level}");
        }
        assert_eq!(level_for(f64::INFINITY, 0), LEVELS - 1);
        assert!(backward_limit((60.0, 0.0)) > backward_limit((1.0, 0.0)));
    }
}
