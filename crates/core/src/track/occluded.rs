//! Points that went out of sight behind something, and are found again when it has passed.

use super::active_track::ActiveTrack;
use super::align::{COARSE_STEP_PX, FINE_STEP_PX, Template, Warp, Window};
use super::motion::AffineMotion;
use crate::image::Pyramid;
use std::sync::Arc;

/// Frames after which a point is given up.
const LONGEST: u32 = 24;
/// Frames between two looks for it.
const LOOK_EVERY: u32 = 4;
/// Positions that a track must have for it to be looked for.
const ESTABLISHED: usize = 8;
/// Levels on which its surroundings are looked for, coarse to fine.
const LEVELS: [usize; 2] = [2, 1];
/// Least agreement of the surroundings on each of them.
const SURROUNDINGS: f64 = 0.75;
/// Least agreement with the first view. A point that comes back has no way to be checked backwards, so more is asked.
const AGREEMENT: f64 = 0.88;
/// How far the last alignment may move it, px.
const REACH_PX: f64 = 3.5;
/// Margin within which it can be in the picture at all, px.
const MARGIN_PX: f64 = 12.0;

/// What surrounds a point, by level of the pyramid, coarse to fine.
pub(super) type Surroundings = Vec<(usize, Template<4>)>;

/// What surrounded a point that was lost on the way from `previous`; `None` for one that is not worth looking for.
pub(super) fn surroundings(
    active: &ActiveTrack,
    previous: &Pyramid,
    coarse: &Arc<Window>,
    buffer: &mut Vec<f32>,
) -> Option<Surroundings> {
    let cut = |level: usize| {
        let scale = f64::from(1u32 << level);
        Some((
            level,
            Template::cut(previous.level(level), active.warp.x / scale, active.warp.y / scale, coarse, buffer)?,
        ))
    };
    let worth = active.positions.len() >= ESTABLISHED && LEVELS.iter().all(|&level| level < previous.len());
    if worth { LEVELS.into_iter().map(cut).collect() } else { None }
}

/// A point out of sight: its track so far, what surrounded it, and where it should be by the motion of the picture.
pub(super) struct OccludedTrack {
    pub active: ActiveTrack,
    surroundings: Surroundings,
    expected: [f64; 2],
    frames: u32,
}

impl OccludedTrack {
    /// Remembers a point that was just lost.
    pub fn new(active: ActiveTrack, surroundings: Surroundings) -> Self {
        Self { expected: [active.warp.x, active.warp.y], active, surroundings, frames: 0 }
    }

    /// Moves the place where it should be with the picture; `false` once it is given up.
    pub fn wait(&mut self, motion: &AffineMotion, width: usize, height: usize) -> bool {
        let (dx, dy) = motion.at(self.expected[0], self.expected[1]);
        self.expected = [self.expected[0] + dx, self.expected[1] + dy];
        self.frames += 1;
        let inside = |v: f64, size: usize| (MARGIN_PX..size as f64 - MARGIN_PX).contains(&v);
        self.frames <= LONGEST && inside(self.expected[0], width) && inside(self.expected[1], height)
    }

    /// Waits one frame that shows nothing.
    pub fn pass_over(&mut self) {
        self.frames += 1;
    }

    /// Whether it is looked for on this frame.
    pub fn is_due(&self) -> bool {
        self.frames.is_multiple_of(LOOK_EVERY)
    }

    /// Looks for it; hands back where it lies.
    pub fn find(&self, current: &Pyramid, buffer: &mut Vec<f32>) -> Option<Warp> {
        let mut at = self.expected;
        for (level, template) in &self.surroundings {
            let scale = f64::from(1u32 << level);
            let start = Warp::shift(at[0] / scale, at[1] / scale);
            let found = template.find(current.level(*level), start, 8.0, COARSE_STEP_PX, buffer)?;
            if template.correlation(buffer) < SURROUNDINGS {
                return None;
            }
            at = [found.x * scale, found.y * scale];
        }
        let start = Warp { x: at[0], y: at[1], ..self.active.warp };
        let found = self.active.template.find(current.level(0), start, REACH_PX, FINE_STEP_PX, buffer)?;
        let same =
            found.anisotropy() < 1.6 && (0.5..2.0).contains(&(found.determinant() / self.active.warp.determinant()));
        (self.active.template.correlation(buffer) >= AGREEMENT && same).then_some(found)
    }

    /// The track again, with a gap for the frames on which it was out of sight.
    pub fn reacquire(mut self, warp: Warp) -> ActiveTrack {
        let gap = self.frames as usize - 1;
        self.active.positions.extend(std::iter::repeat_n([f32::NAN; 2], gap));
        self.active.positions.push([warp.x as f32, warp.y as f32]);
        self.active.warp = warp;
        self.active
    }
}
