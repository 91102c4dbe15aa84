//! What a solve hands on, and how far it can be trusted.

use crate::geometry::{Lens, Pose};
use crate::track::TrackId;
use nalgebra::Vector3;
use serde::{Deserialize, Serialize};

/// One frame with a camera.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SolvedFrame {
    /// Frame of the trimmed clip.
    pub frame: u32,
    /// `cam_from_world`.
    pub pose: Pose,
    /// Its lens.
    pub lens: Lens,
    /// RMS reprojection error of the points used on this frame, px.
    pub rms_px: f64,
    /// Points used on this frame.
    pub points: u32,
}

/// One point of the scene.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SolvedPoint {
    /// The track it comes from.
    pub id: TrackId,
    /// World frame of the solve.
    pub position: Vector3<f64>,
    /// RMS reprojection error, px.
    pub rms_px: f64,
    /// First frame on which it was used.
    pub first_frame: u32,
    /// Last frame on which it was used.
    pub last_frame: u32,
    /// Widest angle between two of its rays, degrees.
    pub parallax_deg: f64,
}

/// How far a solve can be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    /// Safe to build on.
    Good,
    /// Usable with care.
    Fair,
    /// Expect slip.
    Weak,
}

impl Grade {
    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Fair => "fair",
            Self::Weak => "weak",
        }
    }
}

/// One reason behind a verdict.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Reason {
    /// How far it pulls the verdict down.
    pub grade: Grade,
    /// What was found, with its figure, and what to try.
    pub text: String,
    /// The frames that it speaks of, first and last, if it speaks of some only.
    pub frames: Option<(u32, u32)>,
}

/// A word with its reasons.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Verdict {
    /// The worst of the reasons.
    pub grade: Grade,
    /// At least one.
    pub reasons: Vec<Reason>,
}

/// How the camera moves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Motion {
    /// It travels.
    #[default]
    Free,
    /// It turns on the spot; points are unit directions.
    Nodal,
}

impl Motion {
    /// The word of the camera file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Free => "free",
            Self::Nodal => "nodal",
        }
    }
}

/// A solved camera.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Solution {
    /// Picture width, px.
    pub width: u32,
    /// Picture height, px.
    pub height: u32,
    /// Frames of the clip.
    pub frames_total: u32,
    /// How the camera moves.
    #[serde(default)]
    pub motion: Motion,
    /// Whether every frame has a focal length of its own.
    #[serde(default)]
    pub zoom: bool,
    /// Part of the frame time between the first and the last row of the sensor; a frame's pose is that of its middle.
    #[serde(default)]
    pub readout: f64,
    /// Solved frames, by rising frame.
    pub frames: Vec<SolvedFrame>,
    /// Points of the scene, by rising track id.
    pub points: Vec<SolvedPoint>,
    /// Tracks that did not follow the camera.
    pub rejected: Vec<TrackId>,
    /// RMS over all observations used, px.
    pub rms_px: f64,
    /// Median over all observations used, px.
    pub median_px: f64,
    /// RMS in nine parts of the frame, px: three rows of three, from the top left; `None` where nothing was seen.
    #[serde(default)]
    pub regions_px: [[Option<f64>; 3]; 3],
    /// Median over the points of their widest angle between rays, degrees.
    pub parallax_deg: f64,
    /// Standard deviation of the focal length, percent; 0 where it was given.
    pub focal_deviation_percent: f64,
    /// How far it can be trusted.
    pub verdict: Verdict,
}

impl Solution {
    /// The two neighbouring solved frames that the fewest points hold together, and how many those are.
    pub fn weakest_link(&self) -> Option<(u32, u32, usize)> {
        // Points that begin to count at a frame and those that end before it.
        let mut change = vec![0i64; self.frames_total as usize + 2];
        for p in &self.points {
            change[(p.first_frame + 1).min(self.frames_total) as usize] += 1;
            change[(p.last_frame + 1).min(self.frames_total + 1) as usize] -= 1;
        }
        let mut across = 0;
        let held: Vec<i64> = change
            .iter()
            .map(|c| {
                across += c;
                across
            })
            .collect();
        let links = self.frames.windows(2).map(|w| {
            let fewest = (w[0].frame + 1..=w[1].frame).map(|f| held[f as usize]).min().unwrap_or(0);
            (w[0].frame, w[1].frame, usize::try_from(fewest).unwrap_or(0))
        });
        links.min_by_key(|l| l.2)
    }

    /// The camera of a frame, if it was solved.
    pub fn at(&self, frame: u32) -> Option<&SolvedFrame> {
        self.frames.binary_search_by_key(&frame, |f| f.frame).ok().map(|i| &self.frames[i])
    }
}

/// Why there is no camera. Each text tells what was found and what to try.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SolveFailure {
    /// Too few frames.
    #[error("the clip has {found} frames; a camera needs at least {needed} with motion between them. Choose a longer part of the clip")]
    TooFewFrames {
        /// Frames there are.
        found: usize,
        /// Frames needed.
        needed: usize,
    },
    /// Too few points.
    #[error(
        "only {found} points could be followed over the clip (on frame {frame} there are {there}); at least {needed} are needed. The picture may be black, blurred or without texture: try a lower threshold, a smaller spacing, or another part of the clip"
    )]
    TooFewTracks {
        /// Tracks of useful length.
        found: usize,
        /// Frame with the fewest points.
        frame: u32,
        /// Points on that frame.
        there: u32,
        /// Tracks needed.
        needed: usize,
    },
    /// The picture changes altogether.
    #[error("the picture changes altogether between frames {before} and {after}: a hard cut. Trim the clip to one side of it", before = frame - 1, after = frame)]
    HardCut {
        /// First frame after the cut.
        frame: u32,
    },
    /// Nothing moves.
    #[error(
        "the picture hardly moves ({motion_px:.2} px at most): the camera stood still. There is nothing to solve; a still shot needs no camera track"
    )]
    Still {
        /// Largest median motion of the points from any frame to any other, px.
        motion_px: f64,
    },
    /// The camera only turned.
    #[error(
        "the camera turned on the spot: turning alone explains the points to {nodal_px:.2} px (median), so there is no parallax and depth cannot be known. A free move cannot be solved from this clip; choose a part in which the camera travels"
    )]
    PureRotation {
        /// Median miss of the turning camera, px.
        nodal_px: f64,
    },
    /// No geometry was found.
    #[error(
        "no camera explains the points: {why}. Things that move on their own, blur or too few points are the usual causes; keep moving things out of the analysis or choose another part of the clip"
    )]
    NoStart {
        /// What was missing.
        why: String,
    },
    /// A camera was found, but it cannot be trusted.
    #[error("no trustworthy camera: {why}. {advice}")]
    NotTrustworthy {
        /// What was found, with its figure.
        why: String,
        /// What to try.
        advice: String,
    },
    /// The caller asked to stop.
    #[error("the solve was stopped")]
    Stopped,
}

/// The middle value; `None` of nothing.
pub(super) fn median(values: &[f64]) -> Option<f64> {
    let mut sorted = values.to_vec();
    let middle = sorted.len() / 2;
    (!sorted.is_empty()).then(|| *sorted.select_nth_unstable_by(middle, f64::total_cmp).1)
}

/// Error limits in px of a picture 1280 wide.
const GOOD_PX: f64 = 0.5;
const FAIR_PX: f64 = 1.0;
/// Points used on a frame.
const GOOD_POINTS: u32 = 40;
const FAIR_POINTS: u32 = 20;
/// Points that hold two neighbouring frames together.
const GOOD_LINKS: usize = 30;
const FAIR_LINKS: usize = 15;
/// Median widest angle between rays, degrees.
const GOOD_PARALLAX_DEG: f64 = 2.0;
const FAIR_PARALLAX_DEG: f64 = 0.8;
/// Deviation of the focal length, percent.
const GOOD_FOCAL_PERCENT: f64 = 1.0;
const FAIR_FOCAL_PERCENT: f64 = 4.0;
/// How far the error of one frame may stand above the average.
const BAD_FRAME: f64 = 3.0;

/// Weighs a solution's readings; `scale` is the picture's width over 1280.
pub(super) fn verdict(solution: &Solution, scale: f64) -> Verdict {
    let mut reasons = Vec::new();
    let grade = |value: f64, good: f64, fair: f64| {
        if value <= good {
            Grade::Good
        } else if value <= fair {
            Grade::Fair
        } else {
            Grade::Weak
        }
    };
    let mut say = |grade: Grade, text: String, frames: Option<(u32, u32)>| reasons.push(Reason { grade, text, frames });

    let g = grade(solution.rms_px / scale, GOOD_PX, FAIR_PX);
    let advice = if g == Grade::Good { "" } else { "; drop the worst tracks or keep moving things out" };
    say(g, format!("reprojection error {:.2} px RMS{advice}", solution.rms_px), None);

    let missing = solution.frames_total - solution.frames.len() as u32;
    if missing == 0 {
        say(Grade::Good, format!("all {} frames solved", solution.frames_total), None);
    } else {
        let g = if missing * 20 <= solution.frames_total { Grade::Fair } else { Grade::Weak };
        let first = (0..solution.frames_total).find(|&f| solution.at(f).is_none());
        let text = format!("{missing} of {} frames could not be solved; too few points hold there", solution.frames_total);
        say(g, text, first.map(|f| (f, (f + missing).saturating_sub(1))));
    }
    if solution.motion == Motion::Nodal {
        let text = "the camera turns on the spot: there are directions but no depths, so things can only be placed far away".to_owned();
        say(Grade::Good, text, None);
    } else {
        let g = grade(-solution.parallax_deg, -GOOD_PARALLAX_DEG, -FAIR_PARALLAX_DEG);
        let advice = if g == Grade::Good {
            ""
        } else {
            ": the camera travels little for the distance, so depth is uncertain; a longer part of the clip may help"
        };
        say(g, format!("parallax {:.1} degrees (median){advice}", solution.parallax_deg), None);
    }
    if solution.zoom {
        let focal = |f: &SolvedFrame| f.lens.focal_px;
        let (low, high) = solution.frames.iter().map(focal).fold((f64::INFINITY, 0.0f64), |(l, h), f| (l.min(f), h.max(f)));
        say(Grade::Good, format!("the lens zooms from {low:.0} to {high:.0} px"), None);
    }
    if solution.readout != 0.0 {
        say(Grade::Good, format!("rolling shutter: the rows are read over {:.2} of the frame time", solution.readout), None);
    }
    if solution.focal_deviation_percent == 0.0 {
        say(Grade::Good, "focal length as given".to_owned(), None);
    } else {
        let g = grade(solution.focal_deviation_percent, GOOD_FOCAL_PERCENT, FAIR_FOCAL_PERCENT);
        let advice = if g == Grade::Good { "" } else { "; give the focal length if it is known" };
        say(g, format!("focal length known to {:.2} %{advice}", solution.focal_deviation_percent), None);
    }

    if let Some(thin) = solution.frames.iter().min_by_key(|f| f.points).filter(|f| f.points < GOOD_POINTS) {
        let g = if thin.points < FAIR_POINTS { Grade::Weak } else { Grade::Fair };
        say(
            g,
            format!("only {} points on frame {}; a smaller spacing gives more", thin.points, thin.frame),
            Some((thin.frame, thin.frame)),
        );
    }
    if let Some((a, b, links)) = solution.weakest_link().filter(|l| l.2 < GOOD_LINKS) {
        let g = if links < FAIR_LINKS { Grade::Weak } else { Grade::Fair };
        say(
            g,
            format!("only {links} points hold frames {a} and {b} together; what lies before and after may slip against each other"),
            Some((a, b)),
        );
    }
    let worst = solution.frames.iter().max_by(|a, b| a.rms_px.total_cmp(&b.rms_px));
    if let Some(bad) = worst.filter(|f| f.rms_px > BAD_FRAME * solution.rms_px && f.rms_px > GOOD_PX * scale) {
        let text = format!("frame {} stands out with {:.2} px; look at it", bad.frame, bad.rms_px);
        say(Grade::Fair, text, Some((bad.frame, bad.frame)));
    }
    let grade = reasons.iter().map(|r| r.grade).max().unwrap_or(Grade::Weak);
    reasons.sort_by_key(|r| std::cmp::Reverse(r.grade));
    Verdict { grade, reasons }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn solution(spans: &[(u32, u32, usize)]) -> Solution {
        let lens = Lens::centred(900.0, 1280, 720);
        let frames = (0..20).map(|frame| SolvedFrame { frame, pose: Pose::identity(), lens, rms_px: 0.1, points: 100 }).collect();
        let mut points = Vec::new();
        for &(first_frame, last_frame, count) in spans {
            let from = points.len();
            points.extend((from..from + count).map(|i| SolvedPoint {
                id: TrackId(i as u32),
                position: Vector3::z(),
                rms_px: 0.1,
                first_frame,
                last_frame,
                parallax_deg: 5.0,
            }));
        }
        Solution {
            width: 1280,
            height: 720,
            frames_total: 20,
            motion: Motion::Free,
            zoom: false,
            readout: 0.0,
            frames,
            points,
            rejected: Vec::new(),
            rms_px: 0.1,
            median_px: 0.08,
            regions_px: [[None; 3]; 3],
            parallax_deg: 5.0,
            focal_deviation_percent: 0.1,
            verdict: Verdict { grade: Grade::Weak, reasons: Vec::new() },
        }
    }

    #[test]
    fn two_stretches_that_hang_by_a_thread_are_not_called_good() {
        let firm = solution(&[(0, 19, 200)]);
        assert_eq!(firm.weakest_link().map(|l| l.2), Some(200));
        assert_eq!(verdict(&firm, 1.0).grade, Grade::Good);
        let thread = solution(&[(0, 9, 200), (10, 19, 200), (5, 15, 8)]);
        assert_eq!(thread.weakest_link(), Some((9, 10, 8)));
        let said = verdict(&thread, 1.0);
        assert!(said.grade == Grade::Weak && said.reasons[0].frames == Some((9, 10)), "{said:?}");
        assert_eq!(verdict(&solution(&[(0, 9, 200), (10, 19, 200), (5, 15, 20)]), 1.0).grade, Grade::Fair);
        assert_eq!(verdict(&solution(&[(0, 9, 200), (10, 19, 200)]), 1.0).grade, Grade::Weak);
    }

    #[test]
    fn a_reading_past_its_limit_pulls_the_verdict_down_and_says_so() {
        let good = solution(&[(0, 19, 200)]);
        for (change, word) in [
            (Box::new(|s: &mut Solution| s.rms_px = 0.8) as Box<dyn Fn(&mut Solution)>, "reprojection"),
            (Box::new(|s: &mut Solution| s.parallax_deg = 0.5), "parallax"),
            (Box::new(|s: &mut Solution| s.focal_deviation_percent = 9.0), "focal length"),
            (Box::new(|s: &mut Solution| s.frames.truncate(12)), "could not be solved"),
            (Box::new(|s: &mut Solution| s.frames[3].points = 9), "points on frame 3"),
        ] {
            let mut worse = good.clone();
            change(&mut worse);
            let said = verdict(&worse, 1.0);
            assert!(said.grade != Grade::Good && said.reasons[0].text.contains(word), "{word}: {said:?}");
        }
        // The same error weighs less in a larger picture.
        let mut large = good;
        large.rms_px = 0.8;
        assert_eq!(verdict(&large, 3.0).grade, Grade::Good);
    }
}
