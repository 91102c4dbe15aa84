//! From tracks to cameras.
//!
//! The way, for a free move with an unknown focal length:
//!
//! 1. [`keyframes`] picks frames with enough motion between them.
//! 2. [`nodal`] fits a camera that only turns, with and without a zoom. If that explains the tracks, there is no
//!    parallax (Torr, "An Assessment of Information Criteria for Motion Model Selection", 1997), and every frame
//!    is turned onto the directions of the points; a free move is declined.
//! 3. [`start`] grows a small reconstruction from the best-conditioned pair for several focal
//!    lengths and keeps the one that explains the most; focal length and distortion are released as
//!    cameras are added.
//! 4. [`pipeline`] adds all keyframes, then every frame, and adjusts everything together ([`bundle`]:
//!    Triggs et al., "Bundle Adjustment: A Modern Synthesis", 1999), dropping strays and taking good
//!    tracks back, round by round.
//! 5. [`report`] says what can be trusted, or why there is no camera.
//!
//! Every random choice is seeded and every sum is in a fixed order: the same tracks give the same
//! camera, whatever the number of threads.

mod adjusting;
mod anneal;
mod astray;
mod basis;
pub mod bundle;
mod checks;
pub mod choice;
mod eliminate;
mod far;
mod firmness;
mod gather;
mod growing;
pub mod keyframes;
mod limits;
#[cfg(test)]
mod made_up;
pub mod nodal;
mod normal;
mod outcome;
mod pair;
pub mod pipeline;
mod placing;
mod profile;
mod release;
pub mod report;
mod resect;
mod rolling;
mod scatter;
pub mod settings;
pub mod start;
pub mod state;
mod step;
mod turning;
mod verdict;
mod zoom_prior;

pub use astray::{Astray, AstrayTrack};
pub use choice::TrackChoice;
pub use pipeline::{SolveStep, solve_camera, solve_on};
pub use report::{Asked, Grade, Motion, Reason, Solution, SolveFailure, SolvedFrame, SolvedPoint, Verdict};
pub use settings::{CentreChoice, LensChoice, MotionChoice, ReadoutChoice, SolveSettings};

use crate::geometry::Lens;
use crate::track::TrackSet;
use nalgebra::Vector2;

/// Tracks in the form that solving uses: for each track the frames and pixels, by rising frame.
#[derive(Debug, Clone)]
pub struct Problem {
    /// Picture width, px.
    pub width: u32,
    /// Picture height, px.
    pub height: u32,
    /// Number of frames.
    pub frames: usize,
    /// One list of (frame, pixel) per track.
    pub tracks: Vec<Vec<(u32, Vector2<f64>)>>,
    /// The id that each track has in its run; rising.
    pub ids: Vec<crate::track::TrackId>,
    /// Whether a person said that a track is to be used, whatever it does.
    pub trusted: Vec<bool>,
    /// Where the axis of the lens meets the picture at first, px.
    pub centre_px: [f64; 2],
}

impl Problem {
    /// The tracks of a run that are at least `min_length` frames long and not left out, as far as the masks allow.
    pub fn new(set: &TrackSet, min_length: usize, choice: &TrackChoice, centre: CentreChoice) -> Self {
        let middle = Lens::centred(1.0, set.width, set.height).centre_px;
        let mut problem = Self {
            width: set.width,
            height: set.height,
            frames: set.frames as usize,
            tracks: Vec::new(),
            ids: Vec::new(),
            trusted: Vec::new(),
            centre_px: if let CentreChoice::Given(at) = centre { at } else { middle },
        };
        let allowed = choice.allowed(set.frames);
        for track in set.tracks.iter().filter(|t| !choice.left_out.contains(&t.id)) {
            let seen = track.sightings().filter(|(f, p)| allowed(*f, *p));
            let seen: Vec<_> = seen.map(|(f, p)| (f, Vector2::new(f64::from(p[0]), f64::from(p[1])))).collect();
            if seen.len() >= min_length {
                problem.tracks.push(seen);
                problem.ids.push(track.id);
                problem.trusted.push(choice.trusted.contains(&track.id));
            }
        }
        problem
    }

    /// An undistorted lens whose axis is where it is at first.
    pub fn lens(&self, focal_px: f64) -> Lens {
        Lens { centre_px: self.centre_px, ..Lens::centred(focal_px, self.width, self.height) }
    }

    /// Size against a picture 1280 wide; thresholds in px grow with it.
    pub fn scale(&self) -> f64 {
        f64::from(self.width.max(self.height)) / 1280.0
    }

    /// Where track `track` is at `frame`, px.
    pub fn at(&self, track: usize, frame: u32) -> Option<Vector2<f64>> {
        let t = &self.tracks[track];
        let guess = frame.checked_sub(t.first()?.0)? as usize;
        // Without gaps the place is known; with them it lies before.
        match t.get(guess) {
            Some(o) if o.0 == frame => Some(o.1),
            _ => t[..guess.min(t.len())].binary_search_by_key(&frame, |o| o.0).ok().map(|i| t[i].1),
        }
    }
}
