//! Whether the tracks ask for more than is adjusted: a zoom, or a rolling shutter.

use crate::geometry::log_so3;
use crate::solve::bundle::options::BundleOptions;
use crate::solve::bundle::state::{Bundle, Move, Observation};
use crate::solve::reconstruction::scene::Scene;
use crate::solve::refine::inliers::places_of;
use crate::solve::refine::rounds::Refinement;
use crate::solve::settings::{LensChoice, MOST_READOUT, MotionChoice, ReadoutChoice, SolveSettings};

/// Drop of the cost that makes a zoom or a rolling shutter worth its while.
const RELEASE_GAIN: f64 = 0.06;
/// Least zoom that counts as one: logarithm of the longest focal length over the shortest.
const LEAST_ZOOM: f64 = 0.004;
/// Least readout that counts as one, part of the frame time.
const LEAST_READOUT: f64 = 0.03;
/// Frames and points that are enough to try an unlocking on.
const PROBE_FRAMES: usize = 40;
const PROBE_POINTS: usize = 300;
/// Steps of such a try.
const PROBE_STEPS: usize = 8;

/// What [`Refinement::unlock`] found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unlocked {
    /// The tracks ask for nothing more.
    Nothing,
    /// A zoom of a nodal camera or a rolling shutter now is part of the scene.
    Something,
    /// A travelling camera zooms; a fresh start is due.
    ZoomSuspected,
}

impl Refinement<'_> {
    /// Whether the tracks ask for a focal length of each frame, or for a rolling shutter: both are tried on a part of
    /// the points, and what lowers the cost by enough is unlocked in the scene.
    ///
    /// The zoom of a camera that travels is only reported: zoom, travel and depth trade places, and the way from a
    /// wrong fixed lens is longer than a fresh start.
    pub fn unlock(&mut self, scene: &mut Scene, settings: &SolveSettings) -> Unlocked {
        let (mut may_zoom, mut may_roll) =
            (settings.lens == LensChoice::Auto && settings.focal_px.is_none(), settings.readout == ReadoutChoice::Auto);
        // A nodal pan at an even speed looks the same with and without a readout.
        may_zoom &= !scene.zooms();
        may_roll &= scene.readout == 0.0;
        let mut unlocked = Unlocked::Nothing;
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
                    return Unlocked::ZoomSuspected;
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
            unlocked = Unlocked::Something;
            scene.refresh_velocities();
        }
        unlocked
    }

    /// Notes what was said of the scene, and where the tracks ask for a zoom or a rolling shutter that the settings
    /// rule out: what was said is kept to, but not passed over in silence.
    pub fn hear(&mut self, scene: &Scene, settings: &SolveSettings) {
        self.asked.flat = settings.motion == MotionChoice::Planar;
        if !scene.zooms() && (settings.lens == LensChoice::Fixed || settings.focal_px.is_some()) {
            self.asked.zoom_gain = Some(self.zoom_gain(scene)).filter(|gain| *gain >= RELEASE_GAIN);
        }
        if settings.readout != ReadoutChoice::Auto && scene.motion == Move::Free {
            self.asked.roll =
                self.rolled(scene).filter(|r| r.0 >= RELEASE_GAIN).map(|(gain, bundle)| [gain, bundle.readout]);
        }
    }

    /// What both probes have in common.
    fn probe(&self, scene: &Scene) -> BundleOptions {
        let loss_px = (4.0 * self.sigma_px()).clamp(0.3 * self.problem.scale(), 2.0 * self.problem.scale());
        BundleOptions {
            loss_px,
            max_steps: PROBE_STEPS,
            tolerance: 1e-6,
            readout: scene.readout != 0.0,
            ..self.options
        }
    }

    /// Part of the cost that a zoom takes away, where it is one: over the whole clip.
    fn zoom_gain(&self, scene: &Scene) -> f64 {
        // Against the best fixed lens: one that was given wrongly is not made good by a zoom.
        let base = BundleOptions { focal: true, ..self.probe(scene) };
        let step = self.frames.len().div_ceil(PROBE_FRAMES).max(1);
        let few: Vec<u32> = self.frames.iter().copied().step_by(step).collect();
        let with = BundleOptions { focal: false, zoom: true, ..base };
        gain_of(&self.excerpt(scene, &few), &base, &with)
            .filter(|(_, b)| zoom_range(&b.zoom) > LEAST_ZOOM)
            .map_or(0.0, |g| g.0)
    }

    /// Part of the cost that a readout takes away, and the scene with it, where it is a plausible one: from frame to
    /// frame.
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
}

/// How much lower the cost comes with more unlocked than without, and the bundle that it comes from.
pub fn gain_of(start: &Bundle, without: &BundleOptions, with: &BundleOptions) -> Option<(f64, Bundle)> {
    let (mut plain, mut more) = (start.clone(), start.clone());
    let before = plain.adjust(without, |_| true).cost_last;
    let after = more.adjust(with, |_| true).cost_last;
    (before > 0.0).then(|| (1.0 - after / before, more))
}

/// The stretch of up to `most` frames, all with poses, over which the camera turns most from frame to frame.
fn shakiest(scene: &Scene, most: usize) -> Vec<u32> {
    let posed = scene.posed();
    let turn = |a: u32, b: u32| match (scene.poses[a as usize], scene.poses[b as usize]) {
        (Some(p), Some(q)) if b == a + 1 => log_so3(&(q.rotation * p.rotation.inverse())).norm(),
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
pub fn zoom_range(zoom: &[f64]) -> f64 {
    let (low, high) = zoom.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), &z| (l.min(z), h.max(z)));
    (high - low).max(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::problem::Problem;
    use crate::track::TrackId;
    use nalgebra::Vector3;

    #[test]
    fn the_shakiest_stretch_is_where_the_camera_turns_most_and_gaps_do_not_count() {
        let problem = Problem {
            width: 1280,
            height: 720,
            frames: 120,
            tracks: vec![Vec::new()],
            ids: vec![TrackId(0)],
            trusted: vec![false],
            centre_px: [639.5, 359.5],
        };
        let mut scene = Scene::new(Move::Free, &problem, Lens::centred(900.0, 1280, 720), false);
        let mut turned = 0.0;
        for f in 0..120usize {
            turned += if (70..90).contains(&f) { 0.02 } else { 0.001 };
            // Between 30 and 34 nothing is solved, and the camera looks elsewhere afterwards.
            turned += if f == 34 { 1.0 } else { 0.0 };
            scene.poses[f] =
                (!(30..34).contains(&f)).then(|| Pose::identity().retract(Vector3::y() * turned, Vector3::zeros()));
        }
        let stretch = shakiest(&scene, 30);
        assert!(stretch.len() == 30 && stretch[0] <= 71 && stretch[29] >= 88, "{stretch:?}");
        assert_eq!(shakiest(&scene, 500).len(), 116, "what is there is all there is");
    }

    #[test]
    fn the_range_of_a_zoom_is_that_of_its_ends_wherever_they_are() {
        assert!((zoom_range(&[0.1, -0.2, 0.05]) - 0.3).abs() < 1e-12);
        assert_eq!(zoom_range(&[0.7]), 0.0);
        assert_eq!(zoom_range(&[]), 0.0);
    }

    #[test]
    fn what_is_released_in_vain_gains_next_to_nothing() {
        use crate::solve::bundle::synthetic::{seen_anew, truth};
        let mut bundle = truth(14, 90, 0.0);
        seen_anew(&mut bundle);
        let noisy = truth(14, 90, 0.15);
        bundle.observations = noisy.observations;
        let base = BundleOptions { loss_px: 1.0, max_steps: PROBE_STEPS, ..BundleOptions::default() };
        let zoomed = BundleOptions { focal: false, zoom: true, ..base };
        let (in_vain, _) = gain_of(&bundle, &base, &zoomed).unwrap();
        assert!(in_vain < RELEASE_GAIN, "{in_vain}");
        bundle.zoom = (0..14).map(|i| 0.01 * f64::from(i)).collect();
        seen_anew(&mut bundle);
        bundle.zoom.clear();
        let (asked, found) = gain_of(&bundle, &base, &zoomed).unwrap();
        assert!(asked > RELEASE_GAIN && zoom_range(&found.zoom) > LEAST_ZOOM, "{asked} {:?}", found.zoom);
    }
}
