//! Which tracks agree with a camera, and where: what an adjustment works on.

use crate::geometry::parallax_rad;
use crate::solve::bundle::inverse_depth::{self as far, FarPoint};
use crate::solve::bundle::state::{Bundle, Move, Observation};
use crate::solve::problem::Problem;
use crate::solve::reconstruction::far_points;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::place_track;
use crate::solve::refine::rounds::{FAR_PARALLAX_DEG, MIN_FRAME_POINTS, Refinement};
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

impl Refinement<'_> {
    /// Gathers every `step`th frame and all tracks that agree there.
    pub fn collect(&mut self, scene: &mut Scene, limit_px: f64, step: usize) {
        let problem = self.problem;
        loop {
            let posed = scene.posed();
            let last = posed.len().saturating_sub(1);
            let frames: Vec<u32> =
                posed.iter().enumerate().filter(|(i, _)| i % step == 0 || *i == last).map(|(_, f)| *f).collect();
            let index = places_of(&frames, problem.frames);
            let centres: Vec<Vector3<f64>> =
                frames.iter().filter_map(|&f| scene.poses[f as usize]).map(|p| p.centre()).collect();
            let farthest = far::farthest(centres.iter().copied());
            let taken: Vec<Option<Taken>> = (0..problem.tracks.len())
                .into_par_iter()
                .map(|t| {
                    let trusted = problem.trusted[t];
                    // What a person insists on is taken whatever it does.
                    let (limit_px, least_deg) =
                        if trusted { (f64::INFINITY, 0.0) } else { (limit_px, FAR_PARALLAX_DEG) };
                    let views = |position, error: &Miss| {
                        agreeing(problem, t, &index, |f, pixel| error(f, pixel, &position), limit_px)
                    };
                    let near = |position| {
                        views(position, &|f, px, at| scene.reprojection_error(f, px, at)).map(|seen| Taken {
                            position,
                            anchor: None,
                            seen,
                        })
                    };
                    let before = scene.points[t]
                        .and_then(near)
                        .filter(|p| trusted || has_depth(scene.motion, &centres, p.position, &p.seen));
                    before.or_else(|| place_track(problem, scene, t, limit_px, least_deg).and_then(near)).or_else(
                        || {
                            let (FarPoint { position, anchor }, infinite) =
                                far_points::place(problem, scene, t, farthest)?;
                            let seen = views(position, &|f, px, at| far_points::reprojection_error(scene, f, px, at))?;
                            if (position - anchor).dot(&(infinite - anchor)) < 0.0 {
                                // Beyond infinity there is nothing but noise.
                                views(infinite, &|f, px, at| scene.reprojection_error(f, px, at))?;
                            }
                            (!has_depth(scene.motion, &centres, position, &seen)).then_some(Taken {
                                position,
                                anchor: Some(anchor),
                                seen,
                            })
                        },
                    )
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
            let thin: Vec<u32> =
                frames.iter().zip(&counts).filter(|(_, c)| **c < MIN_FRAME_POINTS).map(|(f, _)| *f).collect();
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
}

/// For each frame of the clip its place among `frames`.
pub fn places_of(frames: &[u32], total: usize) -> Vec<Option<u32>> {
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
pub fn agreeing(
    problem: &Problem,
    track: usize,
    index: &[Option<u32>],
    error: impl Fn(u32, &Vector2<f64>) -> Option<f64>,
    limit_px: f64,
) -> Option<Vec<Observation>> {
    let mut views = 0;
    let mut seen = Vec::new();
    for &(f, pixel) in &problem.tracks[track] {
        let Some(camera) = index[f as usize] else { continue };
        views += 1;
        if error(f, &pixel).is_some_and(|m| m < limit_px) {
            seen.push(Observation { camera, pixel });
        }
    }
    (seen.len() >= 3 && seen.len() * 10 >= views * 7).then_some(seen)
}

/// The parallax of a point over its views, degrees; `centres` are those of the cameras of the bundle.
pub fn parallax_deg(centres: &[Vector3<f64>], point: Vector3<f64>, seen: &[Observation]) -> f64 {
    let from: Vec<Vector3<f64>> = seen.iter().map(|o| centres[o.camera as usize]).collect();
    parallax_rad(point, &from).to_degrees()
}

/// Whether enough parallax is seen of a point for it to have a place; of a nodal move all that is there is directions.
fn has_depth(motion: Move, centres: &[Vector3<f64>], point: Vector3<f64>, seen: &[Observation]) -> bool {
    motion == Move::Nodal || parallax_deg(centres, point, seen) >= FAR_PARALLAX_DEG
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::track::TrackId;
    use proptest::prelude::*;

    fn one_track(frames: &[u32]) -> Problem {
        Problem {
            width: 1280,
            height: 720,
            frames: 40,
            tracks: vec![frames.iter().map(|&f| (f, Vector2::new(f64::from(f), 0.0))).collect()],
            ids: vec![TrackId(3)],
            trusted: vec![false],
            centre_px: [639.5, 359.5],
        }
    }

    #[test]
    fn views_beyond_the_limit_are_left_out_and_a_track_with_too_many_of_them_too() {
        let problem = one_track(&[4, 5, 6, 7, 8, 9, 10, 11, 12, 13]);
        let all: Vec<u32> = (0..40).collect();
        let index = places_of(&all, 40);
        let taken = |bad: u32| {
            agreeing(&problem, 0, &index, |f, _| Some(if f < 4 + bad { 2.0 } else { 0.1 }), 0.5).map(|s| s.len())
        };
        assert_eq!([taken(0), taken(3), taken(4), taken(10)], [Some(10), Some(7), None, None]);
        // A view behind the camera counts as one that does not agree.
        assert_eq!(agreeing(&problem, 0, &index, |f, _| (f != 9).then_some(0.1), 0.5).map(|s| s.len()), Some(9));
        assert!(
            agreeing(&problem, 0, &index, |_, _| Some(f64::NAN), 0.5).is_none(),
            "what is no number agrees with nothing"
        );
    }

    #[test]
    fn only_frames_in_the_bundle_are_looked_at_and_keep_their_order() {
        let problem = one_track(&[4, 5, 6, 7, 8, 9, 10, 11, 12, 13]);
        let index = places_of(&[0, 5, 7, 9, 30], 40);
        let seen = agreeing(&problem, 0, &index, |_, _| Some(0.0), 0.5).unwrap();
        assert_eq!(seen.iter().map(|o| (o.camera, o.pixel.x as u32)).collect::<Vec<_>>(), [(1, 5), (2, 7), (3, 9)]);
        assert!(
            agreeing(&problem, 0, &places_of(&[5, 7], 40), |_, _| Some(0.0), 0.5).is_none(),
            "two views hold no point"
        );
    }

    proptest! {
        #[test]
        fn parallax_is_the_angle_between_the_outermost_rays(distance in 1.0f64..200.0, travel in 0.05f64..2.0,
            cameras in 3usize..9) {
            let centres: Vec<Vector3<f64>> = (0..cameras)
                .map(|i| Vector3::x() * (travel * (i as f64 / (cameras - 1) as f64 - 0.5))).collect();
            let point = Vector3::new(0.0, 0.0, -distance);
            let seen: Vec<Observation> = (0..cameras)
                .map(|i| Observation { camera: i as u32, pixel: Vector2::zeros() }).collect();
            let right = 2.0 * (0.5 * travel / distance).atan().to_degrees();
            prop_assert!((parallax_deg(&centres, point, &seen) - right).abs() < 1e-3 * right.max(0.1));
            prop_assert_eq!(has_depth(Move::Free, &centres, point, &seen), right >= FAR_PARALLAX_DEG);
            prop_assert!(has_depth(Move::Nodal, &centres, point, &seen));
        }
    }
}
