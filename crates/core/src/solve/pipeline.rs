//! The solve of a free move, from tracks to a reported camera.

use super::bundle::{Bundle, BundleOptions, Move, Observation};
use super::report::{Grade, Solution, SolveFailure, SolvedFrame, SolvedPoint, Verdict, median, verdict};
use super::start::{Release, Scene, add_frame, add_keyframes, find_start, pick_tracks, place_track};
use super::{Problem, keyframes, nodal, resect};
use crate::geometry::{Pose, Similarity, parallax_rad};
use crate::track::{TrackId, TrackSet};
use nalgebra::{Matrix3, Rotation3, Vector3};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::ops::ControlFlow;

/// Frames below which nothing can be said.
const MIN_FRAMES: usize = 8;
/// Tracks of useful length below which nothing can be said.
const MIN_TRACKS: usize = 30;
/// Frames that a track must last to be used.
const MIN_LENGTH: usize = 4;
/// Median motion that the clip must show somewhere, px of a picture 1280 wide.
const STILL_PX: f64 = 1.5;
/// Points that must agree for a frame to count as solved.
const MIN_FRAME_POINTS: usize = 12;
/// Parallax below which far points are left to the later stages, degrees.
const FAR_PARALLAX_DEG: f64 = 0.25;
/// Median parallax below which depth is guesswork, degrees.
const HOPELESS_PARALLAX_DEG: f64 = 0.35;
/// Ratio of the median of a 2D normal error's length to its deviation on one axis.
const MEDIAN_OF_RAYLEIGH: f64 = 1.1774;
/// Part of the usable tracks that must follow the camera.
const MIN_FOLLOWING: f64 = 0.3;
/// RMS above which a result is no camera, px of a picture 1280 wide.
const HOPELESS_PX: f64 = 2.5;
/// Median miss of a camera that only turns, px of a picture 1280 wide, within which there is no parallax
/// to speak of: where a free camera was found, and where none was.
const TURNING_PX: f64 = 0.2;
const TURNING_WHEN_LOST_PX: f64 = 1.5;
/// Drop of the cost that makes k2 worth its while.
const K2_GAIN: f64 = 0.02;

/// What a person can tell the solve.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SolveSettings {
    /// The focal length in px, where it is known; else it is found.
    pub focal_px: Option<f64>,
}

/// Where a solve has got to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SolveStep {
    /// What is being done.
    pub stage: &'static str,
    /// 0 to 1.
    pub fraction: f64,
}

/// Solves a free move with a fixed focal length.
///
/// Tracks in `left_out` are not used. `on_step` hears of progress and may stop the solve.
///
/// # Errors
/// [`SolveFailure`] tells why there is no camera.
pub fn solve_free(
    set: &TrackSet,
    left_out: &BTreeSet<TrackId>,
    settings: &SolveSettings,
    mut on_step: impl FnMut(SolveStep) -> ControlFlow<()>,
) -> Result<Solution, SolveFailure> {
    let mut tell = |stage, fraction| match on_step(SolveStep { stage, fraction }) {
        ControlFlow::Continue(()) => Ok(()),
        ControlFlow::Break(()) => Err(SolveFailure::Stopped),
    };
    tell("looking at the tracks", 0.0)?;
    let problem = Problem::new(set, MIN_LENGTH, left_out);
    check_input(set, &problem)?;
    let keys = keyframes::select(&problem);
    check_motion(&problem, &keys)?;

    tell("trying a camera that only turns", 0.05)?;
    let turning = nodal::fit(&problem, &every_few(&keys, 16));

    tell("finding a start", 0.12)?;
    let mut scene = match find_start(&problem, &keys, settings.focal_px) {
        Ok(scene) => scene,
        Err(why) => {
            return Err(match turning {
                Some(fit) if fit.median_px < TURNING_WHEN_LOST_PX * problem.scale() => {
                    SolveFailure::PureRotation { nodal_px: fit.median_px }
                }
                _ => SolveFailure::NoStart { why },
            });
        }
    };
    tell("growing over the keyframes", 0.35)?;
    let tracks = pick_tracks(&problem, &keys, 900);
    super::start::add_points(&problem, &mut scene, &tracks, 3.0 * problem.scale());
    add_keyframes(&problem, &mut scene, &tracks, &keys, settings.focal_px.is_none());

    tell("placing every frame", 0.55)?;
    fill_frames(&problem, &mut scene);

    let mut adjusted = Adjusting::new(&problem, &scene, settings.focal_px.is_none());
    for (round, (loss, limit, steps)) in [(1.0, 3.0, 4), (0.4, 1.2, 4), (0.0, 0.0, 10)].into_iter().enumerate() {
        tell("adjusting everything together", 0.6 + 0.12 * round as f64)?;
        adjusted.round(&mut scene, loss * problem.scale(), limit * problem.scale(), steps, || true);
    }
    tell("weighing the result", 0.97)?;
    let mut solution = adjusted.solution(&scene);
    let trusted = check_trust(&problem, &solution);
    if let Some(fit) = &turning {
        let misses = adjusted.misses(&every_few(&keys, 16));
        let noise = solution.median_px.max(0.05 * problem.scale());
        let enough = if trusted.is_ok() { TURNING_PX } else { TURNING_WHEN_LOST_PX };
        if fit.median_px < enough * problem.scale() || nodal::explains_better(fit, &misses.0, misses.1, keys.len().min(16), noise) {
            return Err(SolveFailure::PureRotation { nodal_px: fit.median_px });
        }
    }
    trusted?;
    solution.verdict = verdict(&solution, problem.scale());
    Ok(solution)
}

fn check_input(set: &TrackSet, problem: &Problem) -> Result<(), SolveFailure> {
    if problem.frames < MIN_FRAMES {
        return Err(SolveFailure::TooFewFrames { found: problem.frames, needed: MIN_FRAMES });
    }
    if let Some(&frame) = set.cuts.first() {
        return Err(SolveFailure::HardCut { frame });
    }
    let counts = set.counts();
    let (frame, there) = counts.iter().copied().enumerate().min_by_key(|&(_, c)| c).unwrap_or((0, 0));
    if problem.tracks.len() < MIN_TRACKS {
        return Err(SolveFailure::TooFewTracks { found: problem.tracks.len(), frame: frame as u32, there, needed: MIN_TRACKS });
    }
    Ok(())
}

fn check_motion(problem: &Problem, keys: &[u32]) -> Result<(), SolveFailure> {
    let mut largest = 0.0f64;
    for (i, &a) in keys.iter().enumerate() {
        for &b in keys.iter().skip(i + 1).step_by(1 + keys.len() / 8) {
            let (motion, shared) = keyframes::median_motion(problem, a, b);
            if shared >= 8 {
                largest = largest.max(motion);
            }
        }
    }
    if largest < STILL_PX * problem.scale() { Err(SolveFailure::Still { motion_px: largest }) } else { Ok(()) }
}

fn every_few(keys: &[u32], most: usize) -> Vec<u32> {
    if keys.len() <= most {
        return keys.to_vec();
    }
    (0..most).map(|i| keys[i * (keys.len() - 1) / (most - 1)]).collect()
}

/// A pose for every frame between and around the keyframes, where enough points agree.
fn fill_frames(problem: &Problem, scene: &mut Scene) {
    let all: Vec<usize> = (0..problem.tracks.len()).collect();
    super::start::add_points(problem, scene, &all, 3.0 * problem.scale());
    let posed: Vec<u32> = (0..problem.frames as u32).filter(|&f| scene.poses[f as usize].is_some()).collect();
    let limit = 3.0 * problem.scale();
    let found: Vec<(u32, Option<Pose>)> = (0..problem.frames as u32)
        .into_par_iter()
        .filter(|&f| scene.poses[f as usize].is_none())
        .map(|frame| {
            let sights: Vec<resect::Sight> = all.iter().filter_map(|&t| Some((problem.at(t, frame)?, scene.points[t]?))).collect();
            let after = posed.partition_point(|&f| f < frame);
            let guess = match (after.checked_sub(1).map(|i| posed[i]), posed.get(after)) {
                (Some(a), Some(&b)) => {
                    let t = f64::from(frame - a) / f64::from(b - a);
                    scene.poses[a as usize].zip(scene.poses[b as usize]).map(|(p, q)| p.between(&q, t))
                }
                (Some(a), None) => scene.poses[a as usize],
                (None, Some(&b)) => scene.poses[b as usize],
                (None, None) => None,
            };
            let pose = guess.map(|g| resect::refine(g, &sights, &scene.lens, 0.5 * limit));
            let good = |p: &Pose| {
                let within = resect::count_within(p, &sights, &scene.lens, limit);
                within >= MIN_FRAME_POINTS && within * 2 >= sights.len()
            };
            (frame, pose.filter(good))
        })
        .collect();
    for (frame, pose) in found {
        match pose {
            Some(pose) => scene.poses[frame as usize] = Some(pose),
            None => {
                add_frame(problem, scene, &all, frame, limit);
            }
        }
    }
}

/// The adjustment of all frames and all good tracks.
struct Adjusting<'a> {
    problem: &'a Problem,
    /// Frames in the bundle, by rising frame.
    frames: Vec<u32>,
    /// Tracks in the bundle, in the order of its points.
    tracks: Vec<usize>,
    bundle: Bundle,
    options: BundleOptions,
    free_focal: bool,
}

impl<'a> Adjusting<'a> {
    fn new(problem: &'a Problem, scene: &Scene, free_focal: bool) -> Self {
        let bundle = Bundle { poses: Vec::new(), lens: scene.lens, points: Vec::new(), observations: Vec::new() };
        Self { problem, frames: Vec::new(), tracks: Vec::new(), bundle, options: BundleOptions::default(), free_focal }
    }

    /// Takes in every track that agrees within `limit_px`, observation by observation, and adjusts. A
    /// loss or limit of zero is set from the noise that the round before left.
    fn round(&mut self, scene: &mut Scene, loss_px: f64, limit_px: f64, max_steps: usize, go_on: impl FnMut() -> bool) {
        let scale = self.problem.scale();
        let (loss_px, limit_px) = if loss_px > 0.0 {
            (loss_px, limit_px)
        } else {
            let sigma = self.sigma_px().max(0.02 * scale);
            ((2.5 * sigma).max(0.08 * scale), (6.0 * sigma).clamp(0.3 * scale, 1.2 * scale))
        };
        self.collect(scene, limit_px);
        let (focal, k1, _) = if self.free_focal { Release::FocalK1 } else { Release::K1 }.flags();
        self.options = BundleOptions { motion: Move::Free, focal, k1, k2: false, loss_px, max_steps, tolerance: 1e-5 };
        let last = max_steps > 4;
        let done = self.bundle.adjust(&self.options, go_on);
        if last {
            // k2 stays out unless the data ask for it; a term too many bends the edges of the frame.
            let mut with_k2 = self.bundle.clone();
            let options = BundleOptions { k2: true, max_steps: 2, ..self.options };
            if with_k2.adjust(&options, || true).cost_last < done.cost_last * (1.0 - K2_GAIN) {
                self.bundle = with_k2;
                self.options.k2 = true;
            }
        }
        scene.lens = self.bundle.lens;
        for (&f, pose) in self.frames.iter().zip(&self.bundle.poses) {
            scene.poses[f as usize] = Some(*pose);
        }
        for (&t, point) in self.tracks.iter().zip(&self.bundle.points) {
            scene.points[t] = Some(*point);
        }
    }

    fn collect(&mut self, scene: &mut Scene, limit_px: f64) {
        let problem = self.problem;
        loop {
            let frames: Vec<u32> = (0..problem.frames as u32).filter(|&f| scene.poses[f as usize].is_some()).collect();
            let mut index = vec![u32::MAX; problem.frames];
            frames.iter().enumerate().for_each(|(i, &f)| index[f as usize] = i as u32);
            let taken: Vec<Option<(Vector3<f64>, Vec<Observation>)>> = (0..problem.tracks.len())
                .into_par_iter()
                .map(|t| {
                    let point = scene.points[t].or_else(|| place_track(problem, scene, t, limit_px, FAR_PARALLAX_DEG))?;
                    agreeing(problem, scene, t, point, &index, limit_px).or_else(|| {
                        let again = place_track(problem, scene, t, limit_px, FAR_PARALLAX_DEG)?;
                        agreeing(problem, scene, t, again, &index, limit_px)
                    })
                })
                .collect();
            self.bundle.points.clear();
            self.bundle.observations.clear();
            self.tracks.clear();
            let mut counts = vec![0usize; frames.len()];
            for (t, entry) in taken.into_iter().enumerate() {
                scene.points[t] = entry.as_ref().map(|e| e.0);
                if let Some((point, seen)) = entry {
                    seen.iter().for_each(|o| counts[o.camera as usize] += 1);
                    self.tracks.push(t);
                    self.bundle.points.push(point);
                    self.bundle.observations.push(seen);
                }
            }
            // A frame that is left with too few points has no camera.
            let thin: Vec<u32> = frames.iter().zip(&counts).filter(|(_, c)| **c < MIN_FRAME_POINTS).map(|(f, _)| *f).collect();
            if thin.is_empty() || thin.len() == frames.len() {
                self.bundle.poses.clear();
                self.bundle.poses.extend(frames.iter().filter_map(|&f| scene.poses[f as usize]));
                self.bundle.lens = scene.lens;
                self.frames = frames;
                return;
            }
            thin.iter().for_each(|&f| scene.poses[f as usize] = None);
        }
    }

    /// Noise on one axis, px.
    fn sigma_px(&self) -> f64 {
        median(&self.all_misses()).unwrap_or(1.0) / MEDIAN_OF_RAYLEIGH
    }

    fn all_misses(&self) -> Vec<f64> {
        let of_point = |(p, seen): (usize, &Vec<Observation>)| -> Vec<f64> {
            seen.iter().filter_map(|o| Some(self.bundle.residual(p, o)?.norm())).collect()
        };
        self.bundle.observations.iter().enumerate().flat_map(of_point).collect()
    }

    /// Misses at the given frames only, px, and the number of points seen there.
    fn misses(&self, frames: &[u32]) -> (Vec<f64>, usize) {
        let mut misses = Vec::new();
        let mut points = 0;
        for (p, seen) in self.bundle.observations.iter().enumerate() {
            let before = misses.len();
            let at_frames = seen.iter().filter(|o| frames.contains(&self.frames[o.camera as usize]));
            misses.extend(at_frames.filter_map(|o| Some(self.bundle.residual(p, o)?.norm())));
            points += usize::from(misses.len() > before + 1);
        }
        (misses, points)
    }

    fn solution(&self, scene: &Scene) -> Solution {
        let gauge = upright(&self.bundle.poses, &self.bundle.points);
        let mut of_frame = vec![(0.0f64, 0u32); self.frames.len()];
        let mut points = Vec::with_capacity(self.tracks.len());
        let (mut total, mut n) = (0.0, 0usize);
        for (p, seen) in self.bundle.observations.iter().enumerate() {
            let mut sum = 0.0;
            for o in seen {
                let square = self.bundle.residual(p, o).map_or(0.0, |r| r.norm_squared());
                sum += square;
                of_frame[o.camera as usize].0 += square;
                of_frame[o.camera as usize].1 += 1;
            }
            total += sum;
            n += seen.len();
            let centres: Vec<_> = seen.iter().map(|o| self.bundle.poses[o.camera as usize].centre()).collect();
            let ends = |o: Option<&Observation>| o.map_or(0, |o| self.frames[o.camera as usize]);
            points.push(SolvedPoint {
                id: self.problem.ids[self.tracks[p]],
                position: gauge.point(self.bundle.points[p]),
                rms_px: (sum / seen.len().max(1) as f64).sqrt(),
                first_frame: ends(seen.first()),
                last_frame: ends(seen.last()),
                parallax_deg: parallax_rad(self.bundle.points[p], &centres).to_degrees(),
            });
        }
        let used: BTreeSet<TrackId> = points.iter().map(|p| p.id).collect();
        let frames = self
            .frames
            .iter()
            .zip(&self.bundle.poses)
            .zip(&of_frame)
            .map(|((&frame, pose), &(sum, count))| SolvedFrame {
                frame,
                pose: gauge.pose(pose),
                lens: scene.lens,
                rms_px: (sum / f64::from(count.max(1))).sqrt(),
                points: count,
            })
            .collect();
        let deviation = self.bundle.lens_deviation(&self.options, self.sigma_px().max(0.01)).map_or(f64::INFINITY, |d| d[0]);
        let angles: Vec<f64> = points.iter().map(|p| p.parallax_deg).collect();
        Solution {
            width: self.problem.width,
            height: self.problem.height,
            frames_total: self.problem.frames as u32,
            frames,
            rejected: self.problem.ids.iter().copied().filter(|id| !used.contains(id)).collect(),
            points,
            rms_px: (total / n.max(1) as f64).sqrt(),
            median_px: median(&self.all_misses()).unwrap_or(0.0),
            parallax_deg: median(&angles).unwrap_or(0.0),
            focal_deviation_percent: 100.0 * deviation,
            verdict: Verdict { grade: Grade::Weak, reasons: Vec::new() },
        }
    }
}

/// The observations of a track that agree within the limit; `None` when too few of its views do.
fn agreeing(
    problem: &Problem,
    scene: &Scene,
    track: usize,
    point: Vector3<f64>,
    index: &[u32],
    limit_px: f64,
) -> Option<(Vector3<f64>, Vec<Observation>)> {
    let mut views = 0;
    let mut seen = Vec::new();
    for &(f, pixel) in &problem.tracks[track] {
        let Some(pose) = &scene.poses[f as usize] else { continue };
        views += 1;
        if resect::miss(pose, &scene.lens, &pixel, &point).is_some_and(|m| m < limit_px) {
            seen.push(Observation { camera: index[f as usize], pixel });
        }
    }
    (seen.len() >= 3 && seen.len() * 10 >= views * 7).then_some((point, seen))
}

/// Puts the world upright: Y along the average camera's up, the first camera at the origin looking
/// along -Z, and the middle depth of the points from there at 10 units.
fn upright(poses: &[Pose], points: &[Vector3<f64>]) -> Similarity {
    let Some(first) = poses.first() else { return Similarity::identity() };
    let up: Vector3<f64> = poses.iter().map(|p| p.rotation.inverse() * -Vector3::y()).sum();
    let forward = first.rotation.inverse() * Vector3::z();
    let frame = up.try_normalize(1e-9).and_then(|up| {
        let back = -(forward - up * forward.dot(&up)).try_normalize(1e-6)?;
        let right = up.cross(&back);
        Some(Matrix3::from_rows(&[right.transpose(), up.transpose(), back.transpose()]))
    });
    let rotation = frame.map_or(Rotation3::identity(), Rotation3::from_matrix_unchecked);
    let depths: Vec<f64> = points.iter().map(|p| first.to_camera(*p).z).filter(|z| *z > 0.0).collect();
    let scale = median(&depths).filter(|d| *d > 1e-9).map_or(1.0, |d| 10.0 / d);
    Similarity { scale, rotation, translation: -(rotation * first.centre()) * scale }
}

fn check_trust(problem: &Problem, solution: &Solution) -> Result<(), SolveFailure> {
    let fail = |why: String, advice: &str| Err(SolveFailure::NotTrustworthy { why, advice: advice.to_owned() });
    let scale = problem.scale();
    let solved = solution.frames.len();
    if solved * 2 < problem.frames {
        return fail(
            format!("only {solved} of {} frames could be solved", problem.frames),
            "Trim to the part that holds, or keep moving things out of the analysis",
        );
    }
    let following = solution.points.len() as f64 / problem.tracks.len().max(1) as f64;
    if following < MIN_FOLLOWING {
        return fail(
            format!("only {:.0} % of the {} tracks follow one camera", 100.0 * following, problem.tracks.len()),
            "Things that move on their own fill the frame: keep them out of the analysis",
        );
    }
    if !(solution.rms_px <= HOPELESS_PX * scale) {
        return fail(
            format!("the reprojection error is {:.1} px", solution.rms_px),
            "Keep moving things out of the analysis, or choose a calmer part of the clip",
        );
    }
    if !(solution.parallax_deg >= HOPELESS_PARALLAX_DEG) {
        return fail(
            format!("the parallax is only {:.2} degrees (median)", solution.parallax_deg),
            "The camera travels too little for the distance of the scene; choose a part in which it travels further",
        );
    }
    let widths = solution.frames.first().map_or(0.0, |f| f.lens.focal_px / f64::from(problem.width.max(problem.height)));
    if !(0.25..8.0).contains(&widths) {
        return fail(format!("the focal length came out at {widths:.2} picture widths"), "Give the focal length if it is known");
    }
    Ok(())
}
