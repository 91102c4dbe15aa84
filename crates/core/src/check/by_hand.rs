//! What a person would get by hand over a solved clip whose truth is known: the vertical from drawn lines, and the
//! scale from one measured distance.

use super::datum::alignment;
use super::{TruePoint, at_share};
use crate::camera::Camera;
use crate::geometry::{Pose, triangulate};
use crate::random::SplitMix64;
use crate::survey::vanishing::{DRAWN_PX, EDGE_PX, Sighted, upright};
use nalgebra::{Vector2, Vector3};

/// Trials of each kind.
const TRIALS: usize = 100;
/// Lines drawn for a vertical: so many in each of the strips side by side that the picture is cut into.
const STRIPS: usize = 3;
const LINES_IN_STRIP: usize = 2;
/// How long an upright may be, of its distance, and the least of the picture's height that it covers.
const LENGTH: (f64, f64) = (0.5, 0.3);
/// How far the sightings of a place that a distance is taken from are off, px.
const SIGHTED_PX: f64 = 0.3;
/// Distances that are taken for one of 2 m, m.
const TWO_METRES: (f64, f64) = (1.6, 2.4);
/// Frames in which a place must be seen.
const SEEN: usize = 10;

/// What comes of laying a datum by hand, over a hundred trials of each.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ByHand {
    /// Angle between the true vertical and that of six drawn uprights, two in each third of the picture, with 1 px of
    /// jitter at their ends, degrees: the median, and what 95 of 100 stay within.
    pub vertical_deg: [f64; 2],
    /// How far the scale from one distance of about 2 m is off, as a part: likewise. `None` where the truth has no two
    /// places so far apart.
    pub scale_share: Option<[f64; 2]>,
}

/// What comes of a vertical by six lines drawn along edges that the pictures show, 1 px off at their ends, over a hundred
/// trials: the median, and what 95 of 100 stay within.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ByEdges {
    /// As they were drawn, degrees.
    pub drawn_deg: [f64; 2],
    /// Moved onto the edge where one was found, degrees.
    pub moved_deg: [f64; 2],
    /// Of the lines, so many found an edge.
    pub found_share: f64,
}

/// Draws along true upright edges, each with its frame and its true ends, px. `to_edge` moves a line of a frame onto the
/// edge that it finds there.
pub fn by_edges(
    cameras: &[(u32, Camera, Camera)],
    edges: &[(u32, [Vector2<f64>; 2])],
    to_edge: &dyn Fn(u32, [Vector2<f64>; 2]) -> Option<[Vector2<f64>; 2]>,
    seed: u64,
) -> Option<ByEdges> {
    let (true_up, before) = ups(cameras)?;
    let shown: Vec<_> = edges
        .iter()
        .filter_map(|(frame, ends)| Some((&cameras.iter().find(|c| c.0 == *frame)?.1, *frame, *ends)))
        .collect();
    if shown.len() < STRIPS * LINES_IN_STRIP {
        return None;
    }
    let mut random = SplitMix64::new(seed);
    let (mut drawn, mut moved, mut found) = (Vec::new(), Vec::new(), 0);
    for _ in 0..TRIALS {
        let (mut as_drawn, mut at_edge) = (Vec::new(), Vec::new());
        for _ in 0..STRIPS * LINES_IN_STRIP {
            let (camera, frame, ends) = shown[random.below(shown.len())];
            let ends = ends.map(|p| p + Vector2::new(random.normal(), random.normal()) * DRAWN_PX);
            let edge = to_edge(frame, ends);
            found += usize::from(edge.is_some());
            as_drawn.extend(Sighted::of(camera, ends, DRAWN_PX));
            at_edge.extend(Sighted::of(camera, edge.unwrap_or(ends), if edge.is_some() { EDGE_PX } else { DRAWN_PX }));
        }
        let off = |lines: &[Sighted]| upright(lines, &[], before).0.angle(&true_up).to_degrees();
        drawn.push(off(&as_drawn));
        moved.push(off(&at_edge));
    }
    let found_share = found as f64 / (TRIALS * STRIPS * LINES_IN_STRIP) as f64;
    Some(ByEdges { drawn_deg: spread(drawn)?, moved_deg: spread(moved)?, found_share })
}

/// What is up in the world of the found cameras, and what one would begin with: as they are held on average.
fn ups(cameras: &[(u32, Camera, Camera)]) -> Option<(Vector3<f64>, Vector3<f64>)> {
    let pairs: Vec<(Pose, Pose)> = cameras.iter().map(|(_, found, truth)| (found.pose(), truth.pose())).collect();
    let held = pairs.iter().map(|(found, _)| found.rotation.inverse() * -Vector3::y()).sum::<Vector3<f64>>();
    Some((alignment(&pairs)?.rotation.inverse() * Vector3::y(), held.try_normalize(1e-9)?))
}

/// An upright over a picture.
struct Drawn<'a> {
    /// The found camera of its frame.
    over: &'a Camera,
    /// Its true ends, px.
    ends: [Vector2<f64>; 2],
}

/// Lays the vertical and the scale by hand. `cameras` holds the found and the true camera of each frame that both know,
/// by frame; `points` are true places with their sightings. `None` where the cameras cannot be laid over each other or
/// no upright can be drawn.
pub fn by_hand(cameras: &[(u32, Camera, Camera)], points: &[(Vector3<f64>, TruePoint)], seed: u64) -> Option<ByHand> {
    let pairs: Vec<(Pose, Pose)> = cameras.iter().map(|(_, found, truth)| (found.pose(), truth.pose())).collect();
    let world = alignment(&pairs)?;
    let mut random = SplitMix64::new(seed);
    let mut off = |px: f64| Vector2::new(random.normal(), random.normal()) * px;
    let (true_up, before) = ups(cameras)?;
    let mut uprights: [Vec<Drawn>; STRIPS] = Default::default();
    for (at, seen) in points {
        let middle = seen.get(seen.len() / 2).map(|s| s.0);
        for (_, found, truth) in cameras.iter().filter(|c| Some(c.0) == middle) {
            if let Some((strip, ends)) = upright_at(truth, *at) {
                uprights[strip].push(Drawn { over: found, ends });
            }
        }
    }
    if uprights.iter().any(Vec::is_empty) {
        return None;
    }
    let mut pick = SplitMix64::new(seed ^ 1);
    let vertical = (0..TRIALS).map(|_| {
        let lines: Vec<Sighted> = (0..STRIPS * LINES_IN_STRIP)
            .filter_map(|i| {
                let strip = &uprights[i % STRIPS];
                let Drawn { over, ends: [from, to] } = strip[pick.below(strip.len())];
                Sighted::of(over, [from + off(DRAWN_PX), to + off(DRAWN_PX)], DRAWN_PX)
            })
            .collect();
        upright(&lines, &[], before).0.angle(&true_up).to_degrees()
    });
    let vertical_deg = spread(vertical.collect())?;
    let placed: Vec<(Vector3<f64>, Vector3<f64>)> = points
        .iter()
        .filter_map(|(at, seen)| {
            let views: Vec<(Pose, Vector2<f64>)> = seen
                .iter()
                .filter_map(|(frame, px)| {
                    let (_, found, _) = cameras.iter().find(|c| c.0 == *frame)?;
                    Some((found.pose(), found.lens.unproject(px + off(SIGHTED_PX))))
                })
                .collect();
            (views.len() >= SEEN).then(|| triangulate(&views)).flatten().map(|found| (*at, found))
        })
        .collect();
    let distances = placed.iter().enumerate().flat_map(|(i, a)| {
        placed[i + 1..].iter().filter_map(move |b| {
            let truth = (a.0 - b.0).norm();
            let share = world.scale * (a.1 - b.1).norm() / truth - 1.0;
            (TWO_METRES.0..TWO_METRES.1).contains(&truth).then_some(share.abs())
        })
    });
    Some(ByHand { vertical_deg, scale_share: spread(distances.collect()) })
}

/// The upright that stands on a place, as long as is seen of it: its strip of the picture, and its ends, px.
fn upright_at(truth: &Camera, at: Vector3<f64>) -> Option<(usize, [Vector2<f64>; 2])> {
    let [wide, high] = truth.lens.centre_px.map(|c| 2.0 * c);
    let inside = |p: &Vector2<f64>| (0.0..wide).contains(&p.x) && (0.0..high).contains(&p.y);
    let foot = truth.project(at).filter(inside)?;
    let length = LENGTH.0 * (at - truth.centre()).norm();
    let top = (1..=20).rev().find_map(|k| {
        let place = at + Vector3::y() * (length * f64::from(k) / 20.0);
        truth.project(place).filter(inside)
    })?;
    let strip = (foot.x / wide * STRIPS as f64) as usize;
    ((top - foot).norm() >= LENGTH.1 * high).then_some((strip.min(STRIPS - 1), [foot, top]))
}

/// Median and 95th percentile.
fn spread(mut values: Vec<f64>) -> Option<[f64; 2]> {
    values.sort_by(f64::total_cmp);
    Some([at_share(&values, 0.5)?, at_share(&values, 0.95)?])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Lens;

    fn cameras(lean: f64, longer: f64) -> Vec<(u32, Camera, Camera)> {
        (0..24)
            .map(|i| {
                let x = -2.0 + 0.2 * f64::from(i);
                let eye = Vector3::new(x, 1.7, 7.0);
                let pose = Pose::look_at(eye, Vector3::new(0.0, 1.0, -4.0), Vector3::y()).unwrap();
                let lens = Lens::centred(900.0, 1280, 720);
                // Leant about the camera's own axis, so that the whole scene cannot take it up.
                let wrong = nalgebra::Rotation3::from_axis_angle(&Vector3::z_axis(), lean * f64::from(i % 2));
                let rotation = wrong * pose.rotation;
                let found = Pose { rotation, translation: -(rotation * (eye * longer)) };
                (i as u32, Camera::new(found, lens, 720), Camera::new(pose, lens, 720))
            })
            .collect()
    }

    fn points(cameras: &[(u32, Camera, Camera)]) -> Vec<(Vector3<f64>, TruePoint)> {
        (0..60)
            .map(|i| {
                let at = Vector3::new(f64::from(i % 10) - 4.5, 0.0, -0.5 - f64::from(i / 10));
                (at, cameras.iter().map(|(f, _, truth)| (*f, truth.project(at).unwrap())).collect())
            })
            .collect()
    }

    #[test]
    fn true_cameras_leave_what_the_hand_is_off_and_wrong_ones_more() {
        let right = cameras(0.0, 1.0);
        let hand = by_hand(&right, &points(&right), 5).unwrap();
        assert!(hand.vertical_deg[1] < 0.5 && hand.vertical_deg[0] > 0.01, "{hand:?}");
        let scale = hand.scale_share.unwrap();
        assert!(scale[1] < 0.01 && scale[0] > 1e-5, "{hand:?}");
        let wrong = by_hand(&cameras(0.04, 1.0), &points(&right), 5).unwrap();
        assert!(wrong.vertical_deg[0] > 2.0 * hand.vertical_deg[0], "{wrong:?}");
        let scaled = by_hand(&cameras(0.0, 3.0), &points(&right), 5).unwrap().scale_share.unwrap();
        assert!((scaled[0] / scale[0] - 1.0).abs() < 0.5, "another unit is no error: {scaled:?}");
    }
}
