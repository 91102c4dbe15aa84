//! What a solve hands on.

use crate::geometry::{Lens, Pose, is_rotation};
use crate::solve::outlier::Outlier;
use crate::track::TrackId;
use nalgebra::{Matrix3, Vector3};
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
    /// Covariance of the camera's centre, world units^2 of the solve: xx, xy, xz, yy, yz, zz.
    #[serde(default)]
    pub spread: [f64; 6],
    /// Deviation of the camera's turn, degrees.
    #[serde(default)]
    pub turn_deviation_deg: f64,
    /// How far, by the adjustment's own uncertainty, points of the scene may lie from where they are shown, px.
    #[serde(default)]
    pub slip_px: f64,
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
    /// Frames on which it was used.
    #[serde(default)]
    pub views: u32,
    /// Covariance of its position, world units^2 of the solve: xx, xy, xz, yy, yz, zz.
    #[serde(default)]
    pub spread: [f64; 6],
}

impl SolvedFrame {
    /// A camera of which nothing is known but its error and its number of points.
    pub fn new(frame: u32, pose: Pose, lens: Lens, rms_px: f64, points: u32) -> Self {
        Self { frame, pose, lens, rms_px, points, spread: [0.0; 6], turn_deviation_deg: 0.0, slip_px: 0.0 }
    }
}

impl SolvedPoint {
    /// A point that was seen on all frames of a span.
    pub fn new(
        id: TrackId,
        position: Vector3<f64>,
        rms_px: f64,
        (first_frame, last_frame): (u32, u32),
        parallax_deg: f64,
    ) -> Self {
        Self {
            id,
            position,
            rms_px,
            first_frame,
            last_frame,
            parallax_deg,
            views: last_frame - first_frame + 1,
            spread: [0.0; 6],
        }
    }
}

/// A covariance from its six numbers: xx, xy, xz, yy, yz, zz.
pub fn covariance([xx, xy, xz, yy, yz, zz]: [f64; 6]) -> Matrix3<f64> {
    Matrix3::new(xx, xy, xz, xy, yy, yz, xz, yz, zz)
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
    /// By how large something is that had better be small: up to `good`, up to `fair`, or beyond.
    pub fn of(value: f64, good: f64, fair: f64) -> Self {
        if value <= good {
            Self::Good
        } else if value <= fair {
            Self::Fair
        } else {
            Self::Weak
        }
    }

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
    /// The tracks that it speaks of, if it speaks of some only.
    #[serde(default)]
    pub tracks: Vec<TrackId>,
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
    /// It travels, and the points lie nearly in one plane.
    Planar,
}

impl Motion {
    /// The word of the camera file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Free => "free",
            Self::Nodal => "nodal",
            Self::Planar => "planar",
        }
    }
}

/// What was said, and what the tracks ask for although it was ruled out, or could not be had.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Asked {
    /// Part of the cost that a focal length of its own for each frame takes away, where that is worth it.
    pub zoom_gain: Option<f64>,
    /// Part of the cost that another readout takes away, where that is worth it, and that readout, part of the frame
    /// time.
    pub roll: Option<[f64; 2]>,
    /// Whether the scene was said to be near-planar.
    pub flat: bool,
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
    /// Why they did not.
    #[serde(default, alias = "astray")]
    pub outliers: Vec<Outlier>,
    /// Tracks that were left out by hand and yet agree with this camera.
    #[serde(default)]
    pub agreeing_again: Vec<TrackId>,
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
    /// Where the focal length was given: the one that the tracks speak for, px, and its deviation, percent.
    #[serde(default)]
    pub focal_by_tracks: Option<[f64; 2]>,
    /// Median reprojection error of the best camera that only turns, px, where one could be fitted: what speaks for the
    /// kind of move.
    #[serde(default)]
    pub turning_px: Option<f64>,
    /// How far nine in ten points lie from one plane, as a part of their distance from the camera.
    #[serde(default)]
    pub flatness: Option<f64>,
    /// What the tracks ask for beyond what was said of the lens and the shutter.
    #[serde(default)]
    pub asked: Asked,
    /// Part of the views of all tracks of useful length that are of tracks which follow the camera.
    #[serde(default = "all")]
    pub following: f64,
    /// How far it can be trusted.
    pub verdict: Verdict,
}

/// What solves from before it was measured are taken to have.
fn all() -> f64 {
    1.0
}

/// What cannot be in a solve that was read from outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SolutionError {
    /// A picture or a clip without a size.
    #[error("its picture or its clip has no size")]
    NoSize,
    /// Frames that do not rise.
    #[error("its frames are out of order")]
    FrameOrder,
    /// A camera with numbers that are none.
    #[error("a camera of it is none")]
    Camera,
    /// Points that do not rise.
    #[error("its points are out of order")]
    PointOrder,
    /// A point with numbers that are none.
    #[error("a point of it lies nowhere")]
    Point,
}

impl Solution {
    /// A travelling camera without frames or points.
    pub fn empty(width: u32, height: u32, frames_total: u32) -> Self {
        Self {
            width,
            height,
            frames_total,
            motion: Motion::Free,
            zoom: false,
            readout: 0.0,
            frames: Vec::new(),
            points: Vec::new(),
            rejected: Vec::new(),
            outliers: Vec::new(),
            agreeing_again: Vec::new(),
            rms_px: 0.0,
            median_px: 0.0,
            regions_px: [[None; 3]; 3],
            parallax_deg: 0.0,
            focal_deviation_percent: 0.0,
            focal_by_tracks: None,
            turning_px: None,
            flatness: None,
            asked: Asked::default(),
            following: all(),
            verdict: Verdict { grade: Grade::Weak, reasons: Vec::new() },
        }
    }

    /// Where its cameras are, by rising frame.
    pub fn centres(&self) -> Vec<Vector3<f64>> {
        self.frames.iter().map(|f| f.pose.centre()).collect()
    }

    /// Checks a solve that was read from outside: what every reader of it counts on.
    ///
    /// # Errors
    /// The first [`SolutionError`].
    pub fn check(&self) -> Result<(), SolutionError> {
        const MOST_SIDE: u32 = 16_384;
        const MOST_FRAMES: u32 = 10_000_000;
        if !(1..=MOST_SIDE).contains(&self.width)
            || !(1..=MOST_SIDE).contains(&self.height)
            || self.frames_total > MOST_FRAMES
        {
            return Err(SolutionError::NoSize);
        }
        if self.frames.windows(2).any(|p| p[0].frame >= p[1].frame)
            || self.frames.last().is_some_and(|f| f.frame >= self.frames_total)
        {
            return Err(SolutionError::FrameOrder);
        }
        let lens = |l: &Lens| {
            l.focal_px > 0.0 && [l.focal_px, l.centre_px[0], l.centre_px[1], l.k1, l.k2].iter().all(|v| v.is_finite())
        };
        let pose = |p: &Pose| is_rotation(&p.rotation) && p.translation.iter().all(|v| v.is_finite());
        if !self.frames.iter().all(|f| lens(&f.lens) && pose(&f.pose)) {
            return Err(SolutionError::Camera);
        }
        if self.points.windows(2).any(|p| p[0].id >= p[1].id) {
            return Err(SolutionError::PointOrder);
        }
        let point = |p: &SolvedPoint| {
            p.position.iter().all(|v| v.is_finite())
                && p.first_frame <= p.last_frame
                && p.last_frame < self.frames_total
        };
        if self.points.iter().all(point) { Ok(()) } else { Err(SolutionError::Point) }
    }

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

    /// Stretches of frames without a camera, first and last.
    pub fn gaps(&self) -> Vec<(u32, u32)> {
        let mut gaps: Vec<(u32, u32)> = Vec::new();
        for frame in (0..self.frames_total).filter(|&f| self.at(f).is_none()) {
            match gaps.last_mut() {
                Some(last) if last.1 + 1 == frame => last.1 = frame,
                _ => gaps.push((frame, frame)),
            }
        }
        gaps
    }

    /// The camera of a frame, if it was solved.
    pub fn at(&self, frame: u32) -> Option<&SolvedFrame> {
        self.frames.binary_search_by_key(&frame, |f| f.frame).ok().map(|i| &self.frames[i])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Cameras on some frames of ten, and points seen from one frame to another.
    fn solution(frames: &[u32], spans: &[(u32, u32)]) -> Solution {
        let mut solution = Solution::empty(1280, 720, 10);
        let lens = Lens::centred(900.0, 1280, 720);
        solution.frames = frames.iter().map(|&f| SolvedFrame::new(f, Pose::identity(), lens, 0.1, 20)).collect();
        let point =
            |(i, &span): (usize, &(u32, u32))| SolvedPoint::new(TrackId(i as u32), Vector3::zeros(), 0.1, span, 2.0);
        solution.points = spans.iter().enumerate().map(point).collect();
        solution
    }

    #[test]
    fn a_stored_solve_that_cannot_be_is_told() {
        let good = solution(&[1, 2, 5], &[(0, 5), (2, 9)]);
        assert_eq!(good.check(), Ok(()));
        for change in [
            (|s| s.width = 0) as fn(&mut Solution),
            |s| s.frames_total = 5,
            |s| s.frames[1].frame = 1,
            |s| s.frames[0].lens.focal_px = f64::NAN,
            |s| s.frames[0].pose.rotation = nalgebra::Rotation3::from_matrix_unchecked(nalgebra::Matrix3::zeros()),
            |s| s.points[1].id = TrackId(0),
            |s| s.points[0].position.x = f64::INFINITY,
            |s| s.points[0].last_frame = 10,
        ] {
            let mut bad = good.clone();
            change(&mut bad);
            assert!(bad.check().is_err());
        }
    }

    #[test]
    fn frames_without_a_camera_are_told_stretch_by_stretch() {
        assert_eq!(solution(&[1, 2, 5, 6, 8], &[]).gaps(), [(0, 0), (3, 4), (7, 7), (9, 9)]);
        assert_eq!(solution(&[], &[]).gaps(), [(0, 9)]);
        let all: Vec<u32> = (0..10).collect();
        assert!(solution(&all, &[]).gaps().is_empty());
        assert_eq!(solution(&[1, 2, 5], &[]).at(5).map(|f| f.frame), Some(5));
        assert!(solution(&[1, 2, 5], &[]).at(4).is_none());
    }

    #[test]
    fn the_weakest_link_is_where_the_fewest_points_are_seen_on_both_sides() {
        let all: Vec<u32> = (0..10).collect();
        // Three points reach from the first half to the middle, one of them across it, two are seen in the second half.
        let held = solution(&all, &[(0, 5), (0, 5), (0, 9), (6, 9), (6, 9)]);
        assert_eq!(held.weakest_link(), Some((5, 6, 1)));
        let torn = solution(&all, &[(0, 5), (0, 5), (6, 9)]);
        assert_eq!(torn.weakest_link(), Some((5, 6, 0)));
        // Over a gap a point counts only where it is seen on both of its sides.
        let gap = solution(&[0, 1, 2, 6, 7, 8, 9], &[(0, 9), (0, 4), (5, 9), (0, 9)]);
        assert_eq!(gap.weakest_link(), Some((2, 6, 2)));
        assert_eq!(solution(&[3], &[(0, 9)]).weakest_link(), None);
    }
}
