//! Why tracks have no place in the scene.

use super::Problem;
use super::bundle::Move;
use super::far::FAR_VIEWS;
use super::placing::place_track;
use super::state::Scene;
use crate::track::TrackId;
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

/// Part of its views that must agree with a point, or with a direction, for it to be one.
const MOST_VIEWS: f64 = 0.75;
/// Part of the views from which a track agrees now and then.
const SOME_VIEWS: f64 = 0.3;
/// How far something that stands still on the frame may stray there, px of a picture 1280 wide.
const STILL_PX: f64 = 1.6;
/// How much more the picture must move meanwhile for that to mean anything.
const STILL_AGAINST: f64 = 5.0;

/// Why a track has no place in the scene.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Astray {
    /// It moves by itself: people, cars, water.
    OwnWay,
    /// It stands still on the frame while the picture moves: a caption, a mark on the lens.
    OnFrame,
    /// It agrees now and then: an edge before another, a reflection.
    Partly,
    /// It follows the turn of the camera, but is too far away to have a depth.
    Far,
    /// It is seen on too few frames to tell.
    Short,
}

impl Astray {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::OwnWay, Self::OnFrame, Self::Partly, Self::Far, Self::Short];

    /// As the files keep it.
    pub fn word(self) -> &'static str {
        match self {
            Self::OwnWay => "own-way",
            Self::OnFrame => "on-frame",
            Self::Partly => "partly",
            Self::Far => "far",
            Self::Short => "short",
        }
    }

    /// What it is, for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::OwnWay => "move on their own",
            Self::OnFrame => "stand still on the frame",
            Self::Partly => "agree now and then",
            Self::Far => "far off",
            Self::Short => "too short to tell",
        }
    }

    /// Why, for people.
    pub fn why(self) -> &'static str {
        match self {
            Self::OwnWay => "no fixed place of the scene explains them: people, cars, water",
            Self::OnFrame => "they keep their place on the frame while the picture moves: captions, marks on the lens",
            Self::Partly => "a fixed place explains a part of their frames: edges before one another, reflections",
            Self::Far => "no parallax is seen of them: they hold the turn of the camera, but have no place",
            Self::Short => "they are seen on too few frames",
        }
    }
}

/// A track that has no place in the scene.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AstrayTrack {
    /// Which.
    pub id: TrackId,
    /// Why.
    pub why: Astray,
    /// Median distance from the best fixed place, px; nothing where there is none.
    pub miss_px: Option<f64>,
}

/// Says why a track of the problem is not used, where points agree within `limit_px`.
pub(super) fn reason(problem: &Problem, scene: &Scene, track: usize, limit_px: f64) -> AstrayTrack {
    let id = problem.ids[track];
    let views = posed_views(problem, scene, track);
    let say = |why, miss_px| AstrayTrack { id, why, miss_px };
    if views.len() < 3 {
        return say(Astray::Short, None);
    }
    let misses = |seen: &dyn Fn(u32, &Vector2<f64>) -> Option<f64>| -> Vec<f64> {
        let mut m: Vec<f64> = views.iter().map(|(f, pixel)| seen(*f, pixel).unwrap_or(f64::INFINITY)).collect();
        m.sort_by(f64::total_cmp);
        m
    };
    let within = |m: &[f64]| m.iter().filter(|v| **v < limit_px).count() as f64 / m.len() as f64;
    let of_point = |point: Vector3<f64>| misses(&|f, pixel| scene.miss(f, pixel, &point));
    let of_direction = direction(scene, &views).map(|d| misses(&|f, pixel| miss_of_direction(scene, f, pixel, &d)));
    let far = of_direction.as_ref().is_some_and(|m| within(m) >= MOST_VIEWS);
    let placed = place_track(problem, scene, track, f64::INFINITY, 0.0).map(of_point);
    let middle = |m: &Option<Vec<f64>>| m.as_ref().map(|m| m[m.len() / 2]).filter(|m| m.is_finite());
    let miss_px = middle(&placed).or_else(|| middle(&of_direction));
    if stands_still(problem, scene, &views) {
        return say(Astray::OnFrame, miss_px);
    }
    if far || placed.as_ref().is_some_and(|m| within(m) >= MOST_VIEWS) {
        // Where the camera only turns, all that is used is as far off.
        let far = if scene.motion == Move::Nodal { Astray::Partly } else { Astray::Far };
        return say(if views.len() < FAR_VIEWS { Astray::Short } else { far }, miss_px);
    }
    let some = placed.as_ref().is_some_and(|m| within(m) >= SOME_VIEWS);
    say(if some { Astray::Partly } else { Astray::OwnWay }, miss_px)
}

/// The views of a track on frames that have poses.
pub(super) fn posed_views(problem: &Problem, scene: &Scene, track: usize) -> Vec<(u32, Vector2<f64>)> {
    problem.tracks[track].iter().filter(|(f, _)| scene.poses[*f as usize].is_some()).copied().collect()
}

/// The mean direction of the rays in the world.
fn direction(scene: &Scene, views: &[(u32, Vector2<f64>)]) -> Option<Vector3<f64>> {
    let ray = |(f, pixel): &(u32, Vector2<f64>)| {
        let n = scene.lens_at(*f).normalise(*pixel);
        Some(scene.pose_at(*f, pixel.y)?.rotation.inverse() * Vector3::new(n.x, n.y, 1.0).normalize())
    };
    views.iter().filter_map(ray).sum::<Vector3<f64>>().try_normalize(1e-9)
}

fn miss_of_direction(scene: &Scene, frame: u32, pixel: &Vector2<f64>, direction: &Vector3<f64>) -> Option<f64> {
    let c = scene.pose_at(frame, pixel.y)?.rotation * direction;
    (c.z > 1e-6).then(|| (scene.lens_at(frame).pixel(Vector2::new(c.x / c.z, c.y / c.z)) - pixel).norm())
}

/// Whether the pixels stay where they are while the scene moves past: its points are carried off meanwhile.
pub(super) fn stands_still(problem: &Problem, scene: &Scene, views: &[(u32, Vector2<f64>)]) -> bool {
    let limit = STILL_PX * problem.scale();
    let middle = views[views.len() / 2].1;
    if views.iter().any(|(_, p)| (p - middle).norm() > limit) {
        return false;
    }
    let (Some((a, _)), Some((b, _))) = (views.first(), views.last()) else { return false };
    let moved: Vec<f64> = (0..problem.tracks.len())
        .into_par_iter()
        .filter(|&t| scene.points[t].is_some())
        .filter_map(|t| Some((problem.at(t, *b)? - problem.at(t, *a)?).norm()))
        .collect();
    super::report::median(&moved).is_some_and(|m| m > STILL_AGAINST * limit)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};

    const FRAMES: u32 = 40;

    /// A camera that goes aside and tilts past a scene of forty points, and one more track.
    fn with(extra: impl Fn(u32, &Pose, &Lens) -> Option<Vector2<f64>>) -> (Problem, Scene) {
        let lens = Lens::centred(1000.0, 1280, 720);
        let poses: Vec<Pose> = (0..FRAMES)
            .map(|f| {
                Pose::identity().moved(Vector3::x() * (0.004 * f64::from(f)), Vector3::x() * (-0.05 * f64::from(f)))
            })
            .collect();
        let project = |pose: &Pose, point: Vector3<f64>| {
            let c = pose.to_camera(point);
            lens.pixel(Vector2::new(c.x / c.z, c.y / c.z))
        };
        let points: Vec<Vector3<f64>> = (0..40)
            .map(|i| Vector3::new(f64::from(i % 8) - 3.0, f64::from(i / 8) - 2.0, 8.0 + f64::from(i % 3)))
            .collect();
        let mut tracks: Vec<Vec<(u32, Vector2<f64>)>> =
            points.iter().map(|p| poses.iter().zip(0..).map(|(pose, f)| (f, project(pose, *p))).collect()).collect();
        tracks.push(poses.iter().zip(0..).filter_map(|(pose, f)| Some((f, extra(f, pose, &lens)?))).collect());
        let problem = Problem {
            width: 1280,
            height: 720,
            frames: FRAMES as usize,
            ids: (0..tracks.len() as u32).map(TrackId).collect(),
            trusted: vec![false; tracks.len()],
            tracks,
            centre_px: lens.centre_px,
        };
        let mut scene = Scene::new(Move::Free, &problem, lens, false);
        scene.poses = poses.into_iter().map(Some).collect();
        points.into_iter().enumerate().for_each(|(i, p)| scene.points[i] = Some(p));
        (problem, scene)
    }

    fn called((problem, scene): &(Problem, Scene)) -> AstrayTrack {
        reason(problem, scene, 40, 0.5)
    }

    fn seen(pose: &Pose, lens: &Lens, point: Vector3<f64>) -> Vector2<f64> {
        let c = pose.to_camera(point);
        lens.pixel(Vector2::new(c.x / c.z, c.y / c.z))
    }

    #[test]
    fn each_kind_of_stray_goes_by_its_name() {
        // The camera goes 2 m aside; somebody walks up and down meanwhile.
        let walker =
            with(|f, pose, lens| Some(seen(pose, lens, Vector3::new(0.0, 0.8 * (0.4 * f64::from(f)).sin(), 7.0))));
        assert_eq!(called(&walker).why, Astray::OwnWay);
        assert!(called(&walker).miss_px.is_some_and(|m| m > 5.0), "{:?}", called(&walker));
        assert_eq!(called(&with(|_, _, _| Some(Vector2::new(900.0, 80.0)))).why, Astray::OnFrame);
        assert_eq!(
            called(&with(|_, pose, lens| Some(seen(pose, lens, Vector3::new(0.3e6, -0.1e6, 1e6))))).why,
            Astray::Far
        );
        // Every other view jumps up or down, as a glint does.
        let glint = with(|f, pose, lens| {
            let jump = [0.0, 4.0, 0.0, -4.0][f as usize % 4];
            Some(seen(pose, lens, Vector3::new(0.0, 0.0, 8.0)) + Vector2::y() * jump)
        });
        assert_eq!(called(&glint).why, Astray::Partly);
        assert_eq!(
            called(&with(|f, pose, lens| (f < 2).then(|| seen(pose, lens, Vector3::new(0.0, 0.0, 8.0))))).why,
            Astray::Short
        );
    }

    #[test]
    fn a_mark_on_the_lens_is_only_told_while_the_picture_moves() {
        let (problem, mut scene) = with(|_, _, _| Some(Vector2::new(900.0, 80.0)));
        let views = posed_views(&problem, &scene, 40);
        assert!(stands_still(&problem, &scene, &views));
        assert!(!stands_still(&problem, &scene, &views[..2]), "one step moves the picture by too little");
        scene.points.iter_mut().for_each(|p| *p = None);
        assert!(!stands_still(&problem, &scene, &views), "nothing is known to move");
    }

    #[test]
    fn frames_without_a_camera_tell_nothing() {
        let (problem, mut scene) = with(|_, pose, lens| Some(seen(pose, lens, Vector3::new(0.0, 0.0, 8.0))));
        scene.poses.iter_mut().skip(2).for_each(|p| *p = None);
        assert_eq!(
            reason(&problem, &scene, 40, 0.5),
            AstrayTrack { id: TrackId(40), why: Astray::Short, miss_px: None }
        );
    }

    #[test]
    fn every_kind_has_words_of_its_own_and_keeps_them_in_files() {
        let words: std::collections::BTreeSet<&str> =
            Astray::ALL.iter().flat_map(|a| [a.word(), a.name(), a.why()]).collect();
        assert_eq!(words.len(), 15);
        for kind in Astray::ALL {
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
        }
    }
}
