//! The adjustment of all frames and all good tracks, round by round.

use crate::geometry::{Lens, Pose};
use crate::solve::bundle::inverse_depth as far;
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Move};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::resection as resect;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::refine::inlier_gates::{InlierGate, MEDIAN_OF_RAYLEIGH};
use crate::solve::settings::{CentreChoice, ReadoutChoice, SolveSettings};
use crate::solve::solution::Asked;
use crate::solve::stats::median;
use crate::solve::uncertainty::focal::focal_deviation;
use crate::solve::uncertainty::gauge_free::{CameraUncertainty, uncertainty_of};
use nalgebra::Matrix3;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// Points that must agree for a frame to count as solved.
pub const MIN_FRAME_POINTS: usize = 12;
/// Steps of the last round.
const LAST_STEPS: usize = 10;
/// Parallax below which a point has no depth, degrees.
pub const FAR_PARALLAX_DEG: f64 = 0.25;
/// Drop of the cost that makes k2 worth its while.
const K2_GAIN: f64 = 0.02;
/// Pairs of views of one point that an adjustment takes on, the last one and those before it; of longer clips only
/// every few frames take part.
const MOST_PAIRS: f64 = 2e5;
const MOST_PAIRS_BEFORE: f64 = 1e5;
/// Pairs of views from which long tracks are left with every few of their views, where frames cannot be left out:
/// because a rolling shutter needs every one of them, or because most tracks are short.
const THINNED_PAIRS: f64 = 5e5;
const THINNED_PAIRS_BEFORE: f64 = 2.5e5;
/// Views that the longer tracks keep all the same, and points that a frame keeps.
const LEAST_VIEWS: f64 = 10.0;
const LEAST_ON_FRAME: usize = 60;

/// The adjustment of all frames and all good tracks.
pub struct Refinement<'a> {
    pub problem: &'a Problem,
    /// Frames in the bundle, by rising frame.
    pub frames: Vec<u32>,
    /// Tracks in the bundle, in the order of its points.
    pub tracks: Vec<usize>,
    pub bundle: Bundle,
    pub options: BundleOptions,
    free_focal: bool,
    /// Whether a readout that is not zero is adjusted.
    free_readout: bool,
    /// Whether the principal point is adjusted.
    free_centre: bool,
    /// Relative deviation of the focal length, from the last round.
    pub focal_deviation: f64,
    /// Where the focal length is given: the one that the tracks speak for, px, and its deviation, percent.
    pub focal_by_tracks: Option<[f64; 2]>,
    /// How firmly frames and tracks are known, from the last round.
    pub frame_uncertainty: BTreeMap<u32, CameraUncertainty>,
    pub point_covariance: BTreeMap<usize, Matrix3<f64>>,
    /// Part of all views that are of tracks that agree, from the last round.
    pub following: f64,
    /// Every how many frames take part in rounds before the last, at least.
    least_step: usize,
    /// Within what a point agrees, from the last round, px.
    pub limit_px: f64,
    /// What the tracks ask for beyond what was said.
    pub asked: Asked,
}

impl<'a> Refinement<'a> {
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
            frame_uncertainty: BTreeMap::new(),
            point_covariance: BTreeMap::new(),
            following: 0.0,
            least_step: 1,
            limit_px: problem.scale(),
            asked: Asked::default(),
        }
    }

    /// Takes in every track that agrees within the limits, observation by observation, and adjusts.
    pub fn round(&mut self, scene: &mut Scene, within: InlierGate, max_steps: usize) {
        self.adjust_within(scene, within, max_steps, false);
    }

    /// The round that all ends with: within the limits of the noise, with as many frames as can be, and with how firmly
    /// all is known.
    pub fn last_round(&mut self, scene: &mut Scene) {
        self.adjust_within(scene, self.tight(), LAST_STEPS, true);
    }

    /// A round in which the focal length stays where it is in the scene.
    pub fn round_held(&mut self, scene: &mut Scene, within: InlierGate, max_steps: usize) {
        let free = std::mem::replace(&mut self.free_focal, false);
        self.adjust_within(scene, within, max_steps, false);
        self.free_focal = free;
    }

    /// The limits of the noise that the round before left.
    pub fn tight(&self) -> InlierGate {
        InlierGate::tight(self.sigma_px(), self.problem.scale())
    }

    fn adjust_within(
        &mut self,
        scene: &mut Scene,
        InlierGate { loss_px, most_px: limit_px }: InlierGate,
        max_steps: usize,
        last: bool,
    ) {
        self.limit_px = limit_px;
        let step = if last {
            self.frame_step(scene, MOST_PAIRS)
        } else {
            self.frame_step(scene, MOST_PAIRS_BEFORE).max(self.least_step)
        };
        self.collect(scene, limit_px, step);
        self.following = self.views_share();
        let thinned = self.thin_views(if last { THINNED_PAIRS } else { THINNED_PAIRS_BEFORE });
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
            accelerated: false,
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
            let free = self.options.focal || self.options.zoom;
            self.focal_deviation = if free { f64::INFINITY } else { 0.0 };
            if !free {
                // What is given is kept to; what the tracks say of it is told.
                let options = BundleOptions {
                    focal: true,
                    loss_px: 4.0 * self.options.loss_px,
                    max_steps: 60,
                    tolerance: 1e-7,
                    ..self.options
                };
                let mut open = self.bundle.clone();
                open.adjust(&options, |_| true);
                self.focal_by_tracks = focal_deviation(&open, &options).map(|d| [open.lens.focal_px, 100.0 * d]);
            }
            self.weigh();
        }
        if step > 1 {
            self.refit_between(scene, loss_px);
        }
        if last && (step > 1 || thinned) {
            self.collect(scene, limit_px, 1);
        }
    }

    /// Notes how firmly frames, tracks and the focal length are known.
    fn weigh(&mut self) {
        let Some(firm) = uncertainty_of(&self.bundle, &self.options) else { return };
        if let Some(variance) = firm.focal_variance {
            self.focal_deviation = variance.sqrt();
        }
        self.frame_uncertainty = self.frames.iter().copied().zip(firm.cameras).collect();
        self.point_covariance = self.tracks.iter().copied().zip(firm.points).collect();
    }

    /// Every how many frames take part in the joint adjustment. A point that is seen n times ties n^2 pairs of
    /// cameras together; beyond a number of views it gains little, and frames between are placed from the points.
    fn frame_step(&self, scene: &Scene, most_pairs: f64) -> usize {
        if scene.readout != 0.0 {
            // How the camera moves within a frame is read off its neighbours.
            return 1;
        }
        let mut lengths: Vec<f64> = self.problem.tracks.iter().map(|t| t.len() as f64).collect();
        let pairs = pairs_of(lengths.iter().copied());
        let wanted = (pairs / most_pairs).sqrt().ceil();
        lengths.sort_by(f64::total_cmp);
        let long = lengths.get(lengths.len() * 3 / 4).copied().unwrap_or(1.0);
        wanted.min(long / LEAST_VIEWS).max(1.0) as usize
    }

    /// Leaves long tracks with every few of their views, another choice for each track, until about `most_pairs` pairs
    /// of views are left. Tells whether any were left out.
    fn thin_views(&mut self, most_pairs: f64) -> bool {
        let pairs = pairs_of(self.bundle.observations.iter().map(|seen| seen.len() as f64));
        let step = (pairs / most_pairs).sqrt().ceil() as usize;
        if step <= 1 {
            return false;
        }
        let mut per_frame = vec![0usize; self.frames.len()];
        self.bundle.observations.iter().flatten().for_each(|o| per_frame[o.camera as usize] += 1);
        for (p, seen) in self.bundle.observations.iter_mut().enumerate() {
            let step = step.min((seen.len() as f64 / LEAST_VIEWS) as usize).max(1);
            seen.retain(|o| {
                let kept =
                    (o.camera as usize + p).is_multiple_of(step) || per_frame[o.camera as usize] <= LEAST_ON_FRAME;
                per_frame[o.camera as usize] -= usize::from(!kept);
                kept
            });
        }
        true
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
                let facing =
                    scene.poses[f as usize].filter(|_| is_far).map_or(*point, |pose| far::facing(&pose, point));
                sights[f as usize].push((pixel, facing));
            }
        }
        let loose = resect::Loose { shift: scene.motion == Move::Free, focal: scene.zooms() };
        let placed: Vec<(Pose, Lens)> = rest
            .par_iter()
            .map(|&f| {
                let start = scene.poses[f as usize].unwrap_or_else(Pose::identity);
                let (pose, lens) =
                    resect::refine_loose(start, &sights[f as usize], &scene.lens_at(f), 8.0 * loss_px, loose);
                resect::refine_loose(pose, &sights[f as usize], &lens, loss_px, loose)
            })
            .collect();
        for (&f, (pose, lens)) in rest.iter().zip(placed) {
            scene.pose_frame(f, pose, &lens);
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

    pub fn views_share(&self) -> f64 {
        let views = |tracks: &mut dyn Iterator<Item = usize>| {
            tracks.map(|t| self.problem.tracks[t].len()).sum::<usize>() as f64
        };
        views(&mut self.tracks.iter().copied()) / views(&mut (0..self.problem.tracks.len())).max(1.0)
    }

    /// Whether one focal length that all frames share is adjusted.
    pub fn adjusts_focal(&self) -> bool {
        self.options.focal
    }

    /// Median reprojection error of the points, px.
    pub fn median_px(&self) -> f64 {
        median(&self.reprojection_errors()).unwrap_or(1.0)
    }

    /// Noise on one axis, px.
    pub fn sigma_px(&self) -> f64 {
        self.median_px() / MEDIAN_OF_RAYLEIGH
    }

    pub fn reprojection_errors(&self) -> Vec<f64> {
        self.bundle.residuals().into_iter().flatten().flatten().map(|r| r.norm()).collect()
    }

    /// Misses at the given frames only, px, and the number of points seen there.
    pub fn errors(&self, frames: &[u32]) -> (Vec<f64>, usize) {
        let mut errors = Vec::new();
        let mut points = 0;
        for (seen, residuals) in self.bundle.observations.iter().zip(self.bundle.residuals()) {
            let before = errors.len();
            let at_frames =
                seen.iter().zip(residuals).filter(|(o, _)| frames.contains(&self.frames[o.camera as usize]));
            errors.extend(at_frames.filter_map(|(_, r)| Some(r?.norm())));
            points += usize::from(errors.len() > before + 1);
        }
        (errors, points)
    }
}

/// The pairs of views of points that are seen so many times each.
fn pairs_of(views: impl Iterator<Item = f64>) -> f64 {
    0.5 * views.map(|n| n * n).sum::<f64>()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::log_so3;
    use crate::solve::synthetic::{Making, Walk, walk};

    const USUAL: Making = Making { frames: 40, points: 160, noise_px: 0.1, movers: 0, zoom: |_| 0.0 };

    /// The walk's own camera, with a focal length that is off by a factor, and its points.
    fn scene_of(walk: &Walk, off: f64) -> Scene {
        let lens = Lens { focal_px: off * walk.lens.focal_px, ..walk.lens };
        let mut scene = Scene::new(Move::Free, &walk.problem, lens, false);
        scene.poses = walk.poses.iter().copied().map(Some).collect();
        scene.points = walk.points.iter().copied().map(Some).collect();
        scene
    }

    /// By how much the turn of a frame against the first differs from the true one at most, degrees.
    fn worst_turn_deg(walk: &Walk, scene: &Scene) -> f64 {
        let found: Vec<Pose> = scene.poses.iter().map(|p| p.unwrap()).collect();
        let relative = |poses: &[Pose], f: usize| poses[f].rotation * poses[0].rotation.inverse();
        let off = |f: usize| log_so3(&(relative(&found, f) * relative(&walk.poses, f).inverse())).norm().to_degrees();
        (0..found.len()).map(off).fold(0.0, f64::max)
    }

    #[test]
    fn rounds_bring_a_focal_length_home_and_a_held_one_stays() {
        let walk = walk(&USUAL);
        let mut scene = scene_of(&walk, 1.03);
        let mut refinement = Refinement::new(&walk.problem, &scene, &SolveSettings::default());
        let loose = InlierGate { loss_px: 10.0, most_px: 60.0 };
        refinement.round_held(&mut scene, loose, 10);
        assert!((scene.lens.focal_px / (1.03 * walk.lens.focal_px) - 1.0).abs() < 1e-12 && !refinement.adjusts_focal());
        refinement.round(&mut scene, loose, 30);
        assert!(refinement.adjusts_focal());
        refinement.last_round(&mut scene);
        assert!((scene.lens.focal_px / walk.lens.focal_px - 1.0).abs() < 0.004, "{}", scene.lens.focal_px);
        assert!((scene.lens.k1 - walk.lens.k1).abs() < 0.003, "{}", scene.lens.k1);
        assert!((0.05..0.2).contains(&refinement.sigma_px()) && refinement.following() > 0.99);
        assert!(refinement.focal_deviation < 0.01 && refinement.frame_uncertainty.len() == 40);
    }

    #[test]
    fn what_moves_on_its_own_is_not_taken_in() {
        let walk = walk(&Making { movers: 4, ..USUAL });
        let mut scene = scene_of(&walk, 1.0);
        let mut refinement = Refinement::new(&walk.problem, &scene, &SolveSettings::default());
        refinement.round(&mut scene, InlierGate { loss_px: 0.5, most_px: 3.0 }, 10);
        refinement.last_round(&mut scene);
        assert!(refinement.tracks.iter().all(|t| !t.is_multiple_of(4)), "{:?}", refinement.tracks);
        assert!(
            refinement.tracks.len() > 110 && (0.7..0.8).contains(&refinement.following()),
            "{}",
            refinement.following()
        );
    }

    #[test]
    fn of_long_tracks_every_few_frames_take_part_and_the_rest_are_placed_from_the_points() {
        let walk = walk(&Making { frames: 90, points: 120, ..USUAL });
        let mut scene = scene_of(&walk, 1.0);
        let mut refinement = Refinement::new(&walk.problem, &scene, &SolveSettings::default());
        let (few, many) = (refinement.frame_step(&scene, 1e4), refinement.frame_step(&scene, 1e9));
        assert!((5..=9).contains(&few) && many == 1, "every {few}");
        refinement.skip_frames(3);
        scene.poses[40] = scene.poses[44];
        refinement.round(&mut scene, InlierGate { loss_px: 0.5, most_px: 3.0 }, 10);
        assert!((28..=32).contains(&refinement.frames.len()), "{:?}", refinement.frames);
        assert!(
            !refinement.frames.contains(&40) && worst_turn_deg(&walk, &scene) < 0.1,
            "{}",
            worst_turn_deg(&walk, &scene)
        );
        scene.readout = 0.3;
        assert_eq!(refinement.frame_step(&scene, 1e4), 1, "with a rolling shutter neighbours are needed");
    }

    #[test]
    fn long_tracks_are_thinned_evenly_and_no_frame_is_left_bare() {
        let walk = walk(&Making { frames: 60, points: 400, ..USUAL });
        let mut scene = scene_of(&walk, 1.0);
        let mut refinement = Refinement::new(&walk.problem, &scene, &SolveSettings::default());
        refinement.collect(&mut scene, 3.0, 1);
        let pairs =
            |refinement: &Refinement| pairs_of(refinement.bundle.observations.iter().map(|seen| seen.len() as f64));
        let per_frames = |refinement: &Refinement| {
            let mut on = vec![0usize; refinement.frames.len()];
            refinement.bundle.observations.iter().flatten().for_each(|o| on[o.camera as usize] += 1);
            on
        };
        let (all, before) = (pairs(&refinement), per_frames(&refinement));
        assert!(!refinement.thin_views(all), "there is room for all of them");
        assert!(refinement.thin_views(0.25 * all));
        assert!(pairs(&refinement) < 0.35 * all, "{} of {all}", pairs(&refinement));
        let kept: Vec<f64> = per_frames(&refinement).iter().zip(&before).map(|(a, b)| *a as f64 / *b as f64).collect();
        assert!(kept.iter().all(|k| (0.35..0.65).contains(k)), "{kept:?}");
        // However little is asked for.
        refinement.thin_views(1.0);
        assert!(refinement.bundle.observations.iter().all(|o| o.len() >= 4));
        assert!(per_frames(&refinement).iter().zip(&before).all(|(n, before)| *n >= LEAST_ON_FRAME.min(*before)));
    }
}
