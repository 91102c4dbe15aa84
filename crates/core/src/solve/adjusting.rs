//! The adjustment of all frames and all good tracks, round by round, and what came out of it.

use super::Problem;
use super::astray::{self, AstrayTrack};
use super::bundle::{Bundle, BundleOptions, Move, Observation};
use super::far::{self, FarPoint};
use super::firmness::{CameraFirmness, firmness};
use super::report::{Asked, Grade, Motion, Solution, SolvedFrame, SolvedPoint, Verdict, median};
use super::resect;
use super::settings::{CentreChoice, LensChoice, MOST_READOUT, MotionChoice, ReadoutChoice, SolveSettings};
use super::start::place_track;
use super::state::Scene;
use super::verdict::FLAT;
use crate::geometry::{Lens, Pose, Similarity, parallax_rad};
use crate::random::SplitMix64;
use crate::track::TrackId;
use nalgebra::{Matrix3, Rotation3, Vector2, Vector3};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

/// Points that must agree for a frame to count as solved.
pub(super) const MIN_FRAME_POINTS: usize = 12;
/// Steps of the last round.
const LAST_STEPS: usize = 10;
/// Parallax below which a point has no depth, degrees.
const FAR_PARALLAX_DEG: f64 = 0.25;
/// Ratio of the median of a 2D normal error's length to its deviation on one axis.
const MEDIAN_OF_RAYLEIGH: f64 = 1.1774;
/// Drop of the cost that makes k2 worth its while.
const K2_GAIN: f64 = 0.02;
/// Drop of the cost that makes a zoom or a rolling shutter worth its while.
const RELEASE_GAIN: f64 = 0.06;
/// Least zoom that counts as one: logarithm of the longest focal length over the shortest.
const LEAST_ZOOM: f64 = 0.004;
/// Least readout that counts as one, part of the frame time.
const LEAST_READOUT: f64 = 0.03;
/// Frames and points that are enough to try a release on.
const PROBE_FRAMES: usize = 40;
const PROBE_POINTS: usize = 300;
/// Points and planes that tell how flat a scene is.
const FLAT_POINTS: usize = 300;
const FLAT_DRAWS: usize = 200;
/// Steps of such a try.
const PROBE_STEPS: usize = 8;
/// Pairs of views of one point that an adjustment takes on, the last one and those before it; of longer clips only
/// every few frames take part.
const MOST_PAIRS: f64 = 4e5;
const MOST_PAIRS_BEFORE: f64 = 2e5;
/// The same where a rolling shutter needs every frame: before the last adjustment some of the points are left out instead.
const ROLLING_PAIRS: f64 = 1e6;
/// Views that the longer tracks keep all the same.
const LEAST_VIEWS: f64 = 10.0;

/// What [`Adjusting::release`] found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Released {
    /// The tracks ask for nothing more.
    Nothing,
    /// A zoom of a nodal camera or a rolling shutter now is part of the scene.
    Something,
    /// A travelling camera zooms; a fresh start is due.
    ZoomSuspected,
}

/// The adjustment of all frames and all good tracks.
pub(super) struct Adjusting<'a> {
    pub problem: &'a Problem,
    /// Frames in the bundle, by rising frame.
    frames: Vec<u32>,
    /// Tracks in the bundle, in the order of its points.
    tracks: Vec<usize>,
    bundle: Bundle,
    options: BundleOptions,
    free_focal: bool,
    /// Whether a readout that is not zero is adjusted.
    free_readout: bool,
    /// Whether the principal point is adjusted.
    free_centre: bool,
    /// Relative deviation of the focal length, from the last round.
    focal_deviation: f64,
    /// Where the focal length is given: the one that the tracks speak for, px, and its deviation, percent.
    focal_by_tracks: Option<[f64; 2]>,
    /// How firmly frames and tracks are known, from the last round.
    firm_frames: BTreeMap<u32, CameraFirmness>,
    firm_tracks: BTreeMap<usize, Matrix3<f64>>,
    /// Part of all views that are of tracks that agree, from the last round.
    following: f64,
    /// Every how many frames take part in rounds before the last, at least.
    least_step: usize,
    /// Within what a point agrees, from the last round, px.
    limit_px: f64,
    /// What the tracks ask for beyond what was said.
    asked: Asked,
}

impl<'a> Adjusting<'a> {
    /// Nothing collected yet.
    pub fn new(problem: &'a Problem, scene: &Scene, settings: &SolveSettings) -> Self {
        Self {
            problem,
            frames: Vec::new(),
            tracks: Vec::new(),
            bundle: scene.bundle(&[]),
            options: BundleOptions::default(),
            free_focal: settings.focal_px.is_none(),
            free_readout: settings.readout == ReadoutChoice::Auto,
            free_centre: settings.centre == CentreChoice::Found,
            focal_deviation: f64::INFINITY,
            focal_by_tracks: None,
            firm_frames: BTreeMap::new(),
            firm_tracks: BTreeMap::new(),
            following: 0.0,
            least_step: 1,
            limit_px: problem.scale(),
            asked: Asked::default(),
        }
    }

    /// Takes in every track that agrees within `limit_px`, observation by observation, and adjusts. A
    /// loss or limit of zero is set from the noise that the round before left.
    pub fn round(&mut self, scene: &mut Scene, loss_px: f64, limit_px: f64, max_steps: usize) {
        self.adjust_within(scene, loss_px, limit_px, max_steps, false);
    }

    /// The round that all ends with: within the limits of the noise, with as many frames as can be, and with how firmly all is
    /// known.
    pub fn last_round(&mut self, scene: &mut Scene) {
        self.adjust_within(scene, 0.0, 0.0, LAST_STEPS, true);
    }

    /// A round in which the focal length stays where it is in the scene.
    pub fn round_held(&mut self, scene: &mut Scene, loss_px: f64, limit_px: f64, max_steps: usize) {
        let free = std::mem::replace(&mut self.free_focal, false);
        self.adjust_within(scene, loss_px, limit_px, max_steps, false);
        self.free_focal = free;
    }

    fn adjust_within(&mut self, scene: &mut Scene, loss_px: f64, limit_px: f64, max_steps: usize, last: bool) {
        let scale = self.problem.scale();
        let (loss_px, limit_px) = if loss_px > 0.0 {
            (loss_px, limit_px)
        } else {
            let sigma = self.sigma_px().max(0.02 * scale);
            ((2.5 * sigma).max(0.08 * scale), (6.0 * sigma).clamp(0.3 * scale, 1.2 * scale))
        };
        self.limit_px = limit_px;
        let step = if last { self.frame_step(scene, MOST_PAIRS) } else { self.frame_step(scene, MOST_PAIRS_BEFORE).max(self.least_step) };
        self.collect(scene, limit_px, step);
        self.following = self.views_share();
        if scene.readout != 0.0 && !last {
            self.thin_points(ROLLING_PAIRS);
        }
        self.options = BundleOptions {
            motion: scene.motion,
            focal: self.free_focal && !scene.zooms(),
            zoom: scene.zooms(),
            k1: true,
            k2: false,
            readout: scene.readout != 0.0 && self.free_readout,
            centre: self.free_centre,
            loss_px,
            curved: false,
            bent: false,
            max_steps,
            tolerance: 3e-5,
        };
        let done = self.bundle.adjust(&self.options, |_| true);
        if last {
            // k2 stays out unless the data ask for it; a term too many bends the edges of the frame.
            let mut with_k2 = self.bundle.clone();
            let options = BundleOptions { k2: true, max_steps: 1, ..self.options };
            if with_k2.adjust(&options, |_| true).cost_last < done.cost_last * (1.0 - K2_GAIN) {
                self.bundle = with_k2;
                self.options.k2 = true;
            }
        }
        scene.take(&self.bundle, &self.frames);
        for (p, (&t, point)) in self.tracks.iter().zip(&self.bundle.points).enumerate() {
            scene.points[t] = Some(*point).filter(|_| self.bundle.far(p).is_none());
        }
        if last {
            let sigma_px = self.sigma_px().max(0.01);
            let free = self.options.focal || self.options.zoom;
            self.focal_deviation = if free { f64::INFINITY } else { 0.0 };
            if !free {
                // What is given is kept to; what the tracks say of it is told.
                let options =
                    BundleOptions { focal: true, loss_px: 4.0 * self.options.loss_px, max_steps: 60, tolerance: 1e-7, ..self.options };
                let mut open = self.bundle.clone();
                open.adjust(&options, |_| true);
                self.focal_by_tracks = open.focal_deviation(&options, sigma_px).map(|d| [open.lens.focal_px, 100.0 * d]);
            }
            self.weigh(sigma_px);
        }
        if step > 1 {
            self.refit_between(scene, loss_px);
            if last {
                self.collect(scene, limit_px, 1);
            }
        }
    }

    /// Notes how firmly frames, tracks and the focal length are known, with a noise of `sigma_px`.
    fn weigh(&mut self, sigma_px: f64) {
        let Some(firm) = firmness(&self.bundle, &self.options) else { return };
        if let Some(variance) = firm.focal_variance {
            self.focal_deviation = sigma_px * variance.sqrt();
        }
        let square = sigma_px * sigma_px;
        let camera = |c: CameraFirmness| CameraFirmness {
            centre: c.centre * square,
            turn_rad: c.turn_rad * sigma_px,
            miss_px: c.miss_px * sigma_px,
        };
        self.firm_frames = self.frames.iter().copied().zip(firm.cameras.into_iter().map(camera)).collect();
        self.firm_tracks = self.tracks.iter().copied().zip(firm.points.into_iter().map(|p| p * square)).collect();
    }

    /// How firmly a frame is known; one that took no part in the adjustment is as firm as its nearest neighbour that did.
    fn firm_at(&self, frame: u32) -> Option<CameraFirmness> {
        let before = self.firm_frames.range(..=frame).next_back();
        let after = self.firm_frames.range(frame..).next();
        match (before, after) {
            (Some((a, x)), Some((b, y))) => Some(if frame - a <= b - frame { *x } else { *y }),
            (Some((_, only)), None) | (None, Some((_, only))) => Some(*only),
            (None, None) => None,
        }
    }

    /// Every how many frames take part in the joint adjustment. A point that is seen n times ties n^2 pairs of
    /// cameras together; beyond a number of views it gains little, and frames between are placed from the points.
    fn frame_step(&self, scene: &Scene, most_pairs: f64) -> usize {
        if scene.readout != 0.0 {
            // How the camera moves within a frame is read off its neighbours.
            return 1;
        }
        let mut lengths: Vec<f64> = self.problem.tracks.iter().map(|t| t.len() as f64).collect();
        let pairs: f64 = 0.5 * lengths.iter().map(|n| n * n).sum::<f64>();
        let wanted = (pairs / most_pairs).sqrt().ceil();
        lengths.sort_by(f64::total_cmp);
        let long = lengths.get(lengths.len() * 3 / 4).copied().unwrap_or(1.0);
        wanted.min(long / LEAST_VIEWS).max(1.0) as usize
    }

    /// Leaves out points, spread evenly, until no more than `most_pairs` pairs of views are left: where every frame must
    /// take part, and what is left out is taken up again in the next round.
    fn thin_points(&mut self, most_pairs: f64) {
        let pairs: f64 = self.bundle.observations.iter().map(|o| 0.5 * (o.len() * o.len()) as f64).sum();
        let step = (pairs / most_pairs).ceil().max(1.0) as usize;
        if step == 1 || self.tracks.len() < step * PROBE_POINTS {
            return;
        }
        self.tracks = std::mem::take(&mut self.tracks).into_iter().step_by(step).collect();
        self.bundle.points = std::mem::take(&mut self.bundle.points).into_iter().step_by(step).collect();
        self.bundle.anchors = std::mem::take(&mut self.bundle.anchors).into_iter().step_by(step).collect();
        self.bundle.observations = std::mem::take(&mut self.bundle.observations).into_iter().step_by(step).collect();
    }

    /// Places the frames that took no part, from the points.
    fn refit_between(&mut self, scene: &mut Scene, loss_px: f64) {
        let problem = self.problem;
        let rest: Vec<u32> = scene.posed().into_iter().filter(|f| self.frames.binary_search(f).is_err()).collect();
        rest.iter().for_each(|&f| scene.zoom_between(f, &self.frames));
        let mut sights: Vec<Vec<resect::Sight>> = vec![Vec::new(); problem.frames];
        for (p, (&t, point)) in self.tracks.iter().zip(&self.bundle.points).enumerate() {
            let is_far = self.bundle.far(p).is_some();
            for &(f, pixel) in &problem.tracks[t] {
                let facing = scene.poses[f as usize].filter(|_| is_far).map_or(*point, |pose| far::facing(&pose, point));
                sights[f as usize].push((pixel, facing));
            }
        }
        let loose = resect::Loose { shift: scene.motion == Move::Free, focal: scene.zooms() };
        let placed: Vec<(Pose, Lens)> = rest
            .par_iter()
            .map(|&f| {
                let start = scene.poses[f as usize].unwrap_or_else(Pose::identity);
                let (pose, lens) = resect::refine_loose(start, &sights[f as usize], &scene.lens_at(f), 8.0 * loss_px, loose);
                resect::refine_loose(pose, &sights[f as usize], &lens, loss_px, loose)
            })
            .collect();
        for (&f, (pose, lens)) in rest.iter().zip(placed) {
            scene.pose_frame(f, pose, &lens);
        }
    }

    /// Gathers every `step`th frame and all tracks that agree there.
    fn collect(&mut self, scene: &mut Scene, limit_px: f64, step: usize) {
        let problem = self.problem;
        loop {
            let posed = scene.posed();
            let last = posed.len().saturating_sub(1);
            let frames: Vec<u32> = posed.iter().enumerate().filter(|(i, _)| i % step == 0 || *i == last).map(|(_, f)| *f).collect();
            let index = places_of(&frames, problem.frames);
            let centres: Vec<Vector3<f64>> = frames.iter().filter_map(|&f| scene.poses[f as usize]).map(|p| p.centre()).collect();
            let farthest = far::farthest(centres.iter().copied());
            let taken: Vec<Option<Taken>> = (0..problem.tracks.len())
                .into_par_iter()
                .map(|t| {
                    let trusted = problem.trusted[t];
                    // What a person insists on is taken whatever it does.
                    let (limit_px, least_deg) = if trusted { (f64::INFINITY, 0.0) } else { (limit_px, FAR_PARALLAX_DEG) };
                    let views = |position, miss: &Miss| agreeing(problem, t, &index, |f, pixel| miss(f, pixel, &position), limit_px);
                    let near =
                        |position| views(position, &|f, px, at| scene.miss(f, px, at)).map(|seen| Taken { position, anchor: None, seen });
                    let before =
                        scene.points[t].and_then(near).filter(|p| trusted || has_depth(scene.motion, &centres, p.position, &p.seen));
                    before.or_else(|| place_track(problem, scene, t, limit_px, least_deg).and_then(near)).or_else(|| {
                        let (FarPoint { position, anchor }, infinite) = far::place(problem, scene, t, farthest)?;
                        let seen = views(position, &|f, px, at| far::miss(scene, f, px, at))?;
                        if (position - anchor).dot(&(infinite - anchor)) < 0.0 {
                            // Beyond infinity there is nothing but noise.
                            views(infinite, &|f, px, at| scene.miss(f, px, at))?;
                        }
                        (!has_depth(scene.motion, &centres, position, &seen)).then_some(Taken { position, anchor: Some(anchor), seen })
                    })
                })
                .collect();
            self.bundle.points.clear();
            self.bundle.anchors.clear();
            self.bundle.observations.clear();
            self.tracks.clear();
            let mut counts = vec![0usize; frames.len()];
            for (t, entry) in taken.into_iter().enumerate() {
                scene.points[t] = entry.as_ref().filter(|p| p.anchor.is_none()).map(|p| p.position);
                if let Some(Taken { position, anchor, seen }) = entry {
                    // What is far off holds the turn of a frame, but not its place.
                    if anchor.is_none() {
                        seen.iter().for_each(|o| counts[o.camera as usize] += 1);
                    }
                    self.tracks.push(t);
                    self.bundle.points.push(position);
                    self.bundle.anchors.push(anchor);
                    self.bundle.observations.push(seen);
                }
            }
            // A frame that is left with too few points has no camera.
            let thin: Vec<u32> = frames.iter().zip(&counts).filter(|(_, c)| **c < MIN_FRAME_POINTS).map(|(f, _)| *f).collect();
            if thin.is_empty() || thin.len() == frames.len() {
                let bundle = std::mem::replace(&mut self.bundle, scene.bundle(&frames));
                let Bundle { points, anchors, observations, .. } = bundle;
                self.bundle = Bundle { points, anchors, observations, ..scene.bundle(&frames) };
                self.frames = frames;
                return;
            }
            thin.iter().for_each(|&f| scene.poses[f as usize] = None);
        }
    }

    /// Part of all views that are of tracks that agree.
    pub fn following(&self) -> f64 {
        self.following
    }

    /// Has no more than every `step`th frame take part in rounds before the last.
    pub fn skip_frames(&mut self, step: usize) {
        self.least_step = step;
    }

    fn views_share(&self) -> f64 {
        let views = |tracks: &mut dyn Iterator<Item = usize>| tracks.map(|t| self.problem.tracks[t].len()).sum::<usize>() as f64;
        views(&mut self.tracks.iter().copied()) / views(&mut (0..self.problem.tracks.len())).max(1.0)
    }

    /// Whether one focal length that all frames share is adjusted.
    pub fn adjusts_focal(&self) -> bool {
        self.options.focal
    }

    /// Median miss of the points, px.
    pub fn median_px(&self) -> f64 {
        median(&self.all_misses()).unwrap_or(1.0)
    }

    /// Noise on one axis, px.
    fn sigma_px(&self) -> f64 {
        self.median_px() / MEDIAN_OF_RAYLEIGH
    }

    fn all_misses(&self) -> Vec<f64> {
        self.bundle.residuals().into_iter().flatten().flatten().map(|r| r.norm()).collect()
    }

    /// Misses at the given frames only, px, and the number of points seen there.
    pub fn misses(&self, frames: &[u32]) -> (Vec<f64>, usize) {
        let mut misses = Vec::new();
        let mut points = 0;
        for (seen, residuals) in self.bundle.observations.iter().zip(self.bundle.residuals()) {
            let before = misses.len();
            let at_frames = seen.iter().zip(residuals).filter(|(o, _)| frames.contains(&self.frames[o.camera as usize]));
            misses.extend(at_frames.filter_map(|(_, r)| Some(r?.norm())));
            points += usize::from(misses.len() > before + 1);
        }
        (misses, points)
    }

    /// Whether the tracks ask for a focal length of each frame, or for a rolling shutter: both are tried on a part of
    /// the points, and what lowers the cost by enough is released in the scene.
    ///
    /// The zoom of a camera that travels is only reported: zoom, travel and depth trade places, and the way from a
    /// wrong fixed lens is longer than a fresh start.
    pub fn release(&mut self, scene: &mut Scene, settings: &SolveSettings) -> Released {
        let (mut may_zoom, mut may_roll) =
            (settings.lens == LensChoice::Auto && settings.focal_px.is_none(), settings.readout == ReadoutChoice::Auto);
        // A nodal pan at an even speed looks the same with and without a readout.
        may_zoom &= !scene.zooms();
        may_roll &= scene.readout == 0.0;
        let mut released = Released::Nothing;
        while may_zoom || may_roll {
            let zoom_gain = if may_zoom { self.zoom_gain(scene) } else { 0.0 };
            let rolled = if may_roll { self.rolled(scene) } else { None };
            let roll_gain = rolled.as_ref().map_or(0.0, |g| g.0);
            if zoom_gain.max(roll_gain) < RELEASE_GAIN {
                break;
            }
            if zoom_gain >= roll_gain {
                if scene.motion == Move::Free {
                    self.asked.zoom_gain = Some(zoom_gain);
                    return Released::ZoomSuspected;
                }
                scene.zoom = vec![0.0; scene.poses.len()];
                may_zoom = false;
                self.options.zoom = true;
                self.options.focal = false;
            } else if let Some((_, probe)) = rolled {
                scene.readout = probe.readout;
                scene.points.iter_mut().for_each(|p| *p = None);
                may_roll = false;
            }
            released = Released::Something;
            scene.refresh_speeds();
        }
        released
    }

    /// Notes what was said of the scene, and where the tracks ask for a zoom or a rolling shutter that the settings rule out:
    /// what was said is kept to, but not passed over in silence.
    pub fn hear(&mut self, scene: &Scene, settings: &SolveSettings) {
        self.asked.flat = settings.motion == MotionChoice::Planar;
        if !scene.zooms() && (settings.lens == LensChoice::Fixed || settings.focal_px.is_some()) {
            self.asked.zoom_gain = Some(self.zoom_gain(scene)).filter(|gain| *gain >= RELEASE_GAIN);
        }
        if settings.readout != ReadoutChoice::Auto && scene.motion == Move::Free {
            self.asked.roll = self.rolled(scene).filter(|r| r.0 >= RELEASE_GAIN).map(|(gain, bundle)| [gain, bundle.readout]);
        }
    }

    /// What both probes have in common.
    fn probe(&self, scene: &Scene) -> BundleOptions {
        let loss_px = (4.0 * self.sigma_px()).clamp(0.3 * self.problem.scale(), 2.0 * self.problem.scale());
        BundleOptions { loss_px, max_steps: PROBE_STEPS, tolerance: 1e-6, readout: scene.readout != 0.0, ..self.options }
    }

    /// Part of the cost that a zoom takes away, where it is one: over the whole clip.
    fn zoom_gain(&self, scene: &Scene) -> f64 {
        // Against the best fixed lens: one that was given wrongly is not made good by a zoom.
        let base = BundleOptions { focal: true, ..self.probe(scene) };
        let step = self.frames.len().div_ceil(PROBE_FRAMES).max(1);
        let few: Vec<u32> = self.frames.iter().copied().step_by(step).collect();
        let with = BundleOptions { focal: false, zoom: true, ..base };
        gain_of(&self.excerpt(scene, &few), &base, &with).filter(|(_, b)| zoom_range(&b.zoom) > LEAST_ZOOM).map_or(0.0, |g| g.0)
    }

    /// Part of the cost that a readout takes away, and the scene with it, where it is a plausible one: from frame to frame.
    fn rolled(&self, scene: &Scene) -> Option<(f64, Bundle)> {
        let base = BundleOptions { readout: false, ..self.probe(scene) };
        let plausible = |r: f64| (LEAST_READOUT..=MOST_READOUT).contains(&(r - scene.readout).abs());
        gain_of(&self.excerpt(scene, &shakiest(scene, PROBE_FRAMES)), &base, &BundleOptions { readout: true, ..base })
            .filter(|(_, b)| plausible(b.readout))
    }

    /// Some frames and a part of the points that are seen there, spread evenly.
    fn excerpt(&self, scene: &Scene, frames: &[u32]) -> Bundle {
        let index = places_of(frames, self.problem.frames);
        let mut part = scene.bundle(frames);
        let seen_there: Vec<(usize, Vec<Observation>)> = self
            .tracks
            .iter()
            .enumerate()
            .filter_map(|(p, &t)| {
                let seen: Vec<Observation> = self.problem.tracks[t]
                    .iter()
                    .filter_map(|&(f, pixel)| Some(Observation { camera: index[f as usize]?, pixel }))
                    .collect();
                (seen.len() >= 4).then_some((p, seen))
            })
            .collect();
        let step = seen_there.len().div_ceil(PROBE_POINTS).max(1);
        for (p, seen) in seen_there.into_iter().step_by(step) {
            part.points.push(self.bundle.points[p]);
            part.anchors.push(self.bundle.anchors[p]);
            part.observations.push(seen);
        }
        part
    }

    /// Why the tracks that are not used do not follow.
    fn astray(&self, scene: &Scene, used: &BTreeSet<TrackId>) -> Vec<AstrayTrack> {
        let unused: Vec<usize> = (0..self.problem.tracks.len()).filter(|&t| !used.contains(&self.problem.ids[t])).collect();
        unused.into_par_iter().map(|t| astray::reason(self.problem, scene, t, self.limit_px)).collect()
    }

    /// How far nine in ten points lie from the plane that holds the most of them, as a part of their distance from the
    /// nearest camera (RANSAC over planes through three points).
    fn flatness(&self, points: &[Vector3<f64>]) -> Option<f64> {
        let step = points.len().div_ceil(FLAT_POINTS).max(1);
        let some: Vec<(Vector3<f64>, f64)> = points
            .iter()
            .step_by(step)
            .map(|p| (*p, self.bundle.poses.iter().map(|c| (c.centre() - p).norm()).fold(f64::INFINITY, f64::min)))
            .collect();
        let mut random = SplitMix64::new(0xF1A7);
        let mut best: Option<f64> = None;
        for _ in 0..FLAT_DRAWS {
            let [a, b, c] = random.distinct::<3>(some.len())?.map(|i| some[i].0);
            let Some(normal) = (b - a).cross(&(c - a)).try_normalize(1e-12) else { continue };
            let mut off: Vec<f64> = some.iter().map(|(p, distance)| normal.dot(&(p - a)).abs() / distance.max(1e-12)).collect();
            let most = off.len() * 9 / 10;
            let reach = *off.select_nth_unstable_by(most, f64::total_cmp).1;
            best = Some(best.map_or(reach, |b: f64| b.min(reach)));
        }
        best
    }

    /// Which tracks of another problem over the same frames agree with this camera.
    pub fn agree_with(&self, other: &Problem, scene: &Scene) -> Vec<TrackId> {
        let frames = scene.posed();
        let index = places_of(&frames, other.frames);
        let agrees = |t: usize| {
            let point = place_track(other, scene, t, self.limit_px, FAR_PARALLAX_DEG)?;
            agreeing(other, t, &index, |f, pixel| scene.miss(f, pixel, &point), self.limit_px).map(|_| other.ids[t])
        };
        (0..other.tracks.len()).into_par_iter().filter_map(agrees).collect()
    }

    /// What came out, upright and in a handy size; still without a verdict.
    pub fn solution(&self, scene: &Scene) -> Solution {
        let centres: Vec<Vector3<f64>> = self.bundle.poses.iter().map(Pose::centre).collect();
        let near: Vec<bool> = (0..self.bundle.points.len()).map(|p| self.bundle.far(p).is_none()).collect();
        let with_depth: Vec<Vector3<f64>> = self.bundle.points.iter().zip(&near).filter(|(_, near)| **near).map(|(p, _)| *p).collect();
        let gauge = upright(&self.bundle.poses, &with_depth, scene.motion);
        let residuals = self.bundle.residuals();
        let mut of_frame = vec![(0.0f64, 0u32); self.frames.len()];
        let mut points = Vec::with_capacity(self.tracks.len());
        let (mut total, mut n) = (0.0, 0usize);
        let mut regions = [[(0.0f64, 0u32); 3]; 3];
        let (width, height) = (f64::from(self.problem.width), f64::from(self.problem.height));
        let third = |v: f64, size: f64| ((3.0 * v / size) as usize).min(2);
        for (p, seen) in self.bundle.observations.iter().enumerate() {
            let mut sum = 0.0;
            for (o, residual) in seen.iter().zip(&residuals[p]) {
                let square = residual.map_or(0.0, |r| r.norm_squared());
                sum += square;
                of_frame[o.camera as usize].0 += square;
                of_frame[o.camera as usize].1 += 1;
                let region = &mut regions[third(o.pixel.y, height)][third(o.pixel.x, width)];
                *region = (region.0 + square, region.1 + 1);
            }
            total += sum;
            n += seen.len();
            if !near[p] {
                continue;
            }
            let ends = |o: Option<&Observation>| o.map_or(0, |o| self.frames[o.camera as usize]);
            points.push(SolvedPoint {
                id: self.problem.ids[self.tracks[p]],
                position: gauge.point(self.bundle.points[p]),
                rms_px: (sum / seen.len().max(1) as f64).sqrt(),
                first_frame: ends(seen.first()),
                last_frame: ends(seen.last()),
                views: seen.len() as u32,
                spread: self.firm_tracks.get(&self.tracks[p]).map_or([0.0; 6], |c| packed(&gauge_spread(&gauge, c))),
                parallax_deg: if scene.motion == Move::Nodal { 0.0 } else { parallax_deg(&centres, self.bundle.points[p], seen) },
            });
        }
        let used: BTreeSet<TrackId> = points.iter().map(|p| p.id).collect();
        let frames = self
            .frames
            .iter()
            .zip(&self.bundle.poses)
            .zip(&of_frame)
            .map(|((&frame, pose), &(sum, count))| {
                let firm = self.firm_at(frame);
                SolvedFrame {
                    frame,
                    pose: gauge.pose(pose),
                    lens: scene.lens_at(frame),
                    rms_px: (sum / f64::from(count.max(1))).sqrt(),
                    points: count,
                    spread: firm.map_or([0.0; 6], |f| packed(&gauge_spread(&gauge, &f.centre))),
                    turn_deviation_deg: firm.map_or(0.0, |f| f.turn_rad.to_degrees()),
                    slip_px: firm.map_or(0.0, |f| f.miss_px),
                }
            })
            .collect();
        let angles: Vec<f64> = points.iter().map(|p| p.parallax_deg).collect();
        let flatness = if scene.motion == Move::Free { self.flatness(&with_depth) } else { None };
        Solution {
            width: self.problem.width,
            height: self.problem.height,
            frames_total: self.problem.frames as u32,
            motion: match (scene.motion, flatness) {
                (Move::Nodal, _) => Motion::Nodal,
                (Move::Free, Some(flatness)) if flatness < FLAT => Motion::Planar,
                (Move::Free, _) => Motion::Free,
            },
            zoom: scene.zooms(),
            readout: scene.readout,
            frames,
            astray: self.astray(scene, &used),
            agreeing_again: Vec::new(),
            rejected: self.problem.ids.iter().copied().filter(|id| !used.contains(id)).collect(),
            points,
            rms_px: (total / n.max(1) as f64).sqrt(),
            median_px: median(&self.all_misses()).unwrap_or(0.0),
            regions_px: regions.map(|row| row.map(|(sum, n)| (n > 0).then(|| (sum / f64::from(n)).sqrt()))),
            parallax_deg: median(&angles).unwrap_or(0.0),
            focal_deviation_percent: 100.0 * self.focal_deviation,
            focal_by_tracks: self.focal_by_tracks,
            turning_px: None,
            flatness,
            following: self.following,
            asked: self.asked,
            verdict: Verdict { grade: Grade::Weak, reasons: Vec::new() },
        }
    }
}

/// A covariance in the world that a change of gauge leads to.
fn gauge_spread(gauge: &Similarity, spread: &Matrix3<f64>) -> Matrix3<f64> {
    let r = gauge.rotation.matrix();
    r * spread * r.transpose() * (gauge.scale * gauge.scale)
}

/// The upper half of a covariance: xx, xy, xz, yy, yz, zz.
fn packed(m: &Matrix3<f64>) -> [f64; 6] {
    [m[(0, 0)], m[(0, 1)], m[(0, 2)], m[(1, 1)], m[(1, 2)], m[(2, 2)]]
}

/// For each frame of the clip its place among `frames`.
fn places_of(frames: &[u32], total: usize) -> Vec<Option<u32>> {
    let mut places = vec![None; total];
    frames.iter().enumerate().for_each(|(i, &f)| places[f as usize] = Some(i as u32));
    places
}

/// A track as it is taken into the bundle.
struct Taken {
    position: Vector3<f64>,
    /// Of a point that is far off.
    anchor: Option<Vector3<f64>>,
    seen: Vec<Observation>,
}

/// How far a place is missed on a frame, px; `None` where it cannot be seen.
type Miss<'a> = dyn Fn(u32, &Vector2<f64>, &Vector3<f64>) -> Option<f64> + 'a;

/// The observations of a track that agree within the limit; `None` when too few of its views do.
fn agreeing(
    problem: &Problem,
    track: usize,
    index: &[Option<u32>],
    miss: impl Fn(u32, &Vector2<f64>) -> Option<f64>,
    limit_px: f64,
) -> Option<Vec<Observation>> {
    let mut views = 0;
    let mut seen = Vec::new();
    for &(f, pixel) in &problem.tracks[track] {
        let Some(camera) = index[f as usize] else { continue };
        views += 1;
        if miss(f, &pixel).is_some_and(|m| m < limit_px) {
            seen.push(Observation { camera, pixel });
        }
    }
    (seen.len() >= 3 && seen.len() * 10 >= views * 7).then_some(seen)
}

/// The parallax of a point over its views, degrees; `centres` are those of the cameras of the bundle.
fn parallax_deg(centres: &[Vector3<f64>], point: Vector3<f64>, seen: &[Observation]) -> f64 {
    let from: Vec<Vector3<f64>> = seen.iter().map(|o| centres[o.camera as usize]).collect();
    parallax_rad(point, &from).to_degrees()
}

/// Whether enough parallax is seen of a point for it to have a place; of a nodal move all that is there is directions.
fn has_depth(motion: Move, centres: &[Vector3<f64>], point: Vector3<f64>, seen: &[Observation]) -> bool {
    motion == Move::Nodal || parallax_deg(centres, point, seen) >= FAR_PARALLAX_DEG
}

/// How much lower the cost comes with more released than without, and the bundle that it comes from.
pub(super) fn gain_of(start: &Bundle, without: &BundleOptions, with: &BundleOptions) -> Option<(f64, Bundle)> {
    let (mut plain, mut more) = (start.clone(), start.clone());
    let before = plain.adjust(without, |_| true).cost_last;
    let after = more.adjust(with, |_| true).cost_last;
    (before > 0.0).then(|| (1.0 - after / before, more))
}

/// The stretch of up to `most` frames, all with poses, over which the camera turns most from frame to frame.
fn shakiest(scene: &Scene, most: usize) -> Vec<u32> {
    let posed = scene.posed();
    let turn = |a: u32, b: u32| match (scene.poses[a as usize], scene.poses[b as usize]) {
        (Some(p), Some(q)) if b == a + 1 => (q.rotation * p.rotation.inverse()).angle(),
        _ => 0.0,
    };
    let turns: Vec<f64> = posed.windows(2).map(|w| turn(w[0], w[1])).collect();
    let from = (0..=posed.len().saturating_sub(most))
        .step_by(5)
        .max_by(|&a, &b| {
            let sum = |i: usize| turns.iter().skip(i).take(most - 1).sum::<f64>();
            sum(a).total_cmp(&sum(b))
        })
        .unwrap_or(0);
    posed.into_iter().skip(from).take(most).collect()
}

/// Logarithm of the longest focal length over the shortest.
pub(super) fn zoom_range(zoom: &[f64]) -> f64 {
    let (low, high) = zoom.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), &z| (l.min(z), h.max(z)));
    (high - low).max(0.0)
}

/// Puts the world upright: Y along the average camera's up, the first camera at the origin looking
/// along -Z, and the middle depth of the points from there at 10 units.
fn upright(poses: &[Pose], points: &[Vector3<f64>], motion: Move) -> Similarity {
    let Some(first) = poses.first() else { return Similarity::identity() };
    let up: Vector3<f64> = poses.iter().map(|p| p.rotation.inverse() * -Vector3::y()).sum();
    let forward = first.rotation.inverse() * Vector3::z();
    let frame = up.try_normalize(1e-9).and_then(|up| {
        let back = -(forward - up * forward.dot(&up)).try_normalize(1e-6)?;
        let right = up.cross(&back);
        Some(Matrix3::from_rows(&[right.transpose(), up.transpose(), back.transpose()]))
    });
    let rotation = frame.map_or(Rotation3::identity(), Rotation3::from_matrix_unchecked);
    if motion == Move::Nodal {
        return Similarity { rotation, ..Similarity::identity() };
    }
    let depths: Vec<f64> = points.iter().map(|p| first.to_camera(*p).z).filter(|z| *z > 0.0).collect();
    let scale = median(&depths).filter(|d| *d > 1e-9).map_or(1.0, |d| 10.0 / d);
    Similarity { scale, rotation, translation: -(rotation * first.centre()) * scale }
}
