//! The upright edges that a frame of a take shows: what a person would draw along to tell what is up.

use crate::scene::Scene;
use crate::take::Take;
use nalgebra::{Vector2, Vector3};

/// Places along an edge that are asked whether they are seen.
const PLACES: usize = 48;
/// What lies just outside an edge must be seen past it, metres.
const OUTSIDE_M: f64 = 0.01;
/// Distance from the picture's border, px.
const MARGIN_PX: f64 = 8.0;
/// The least length, of the picture's height.
const LEAST_LENGTH: f64 = 0.12;

/// An upright edge of something that stands still.
#[derive(Debug, Clone)]
pub struct Upright {
    /// Where it begins.
    pub foot: Vector3<f64>,
    /// How long it is, metres.
    pub height: f64,
    /// Away from the body that it bounds, level, of unit length.
    pub outward: Vector3<f64>,
}

/// The upright edges that a frame shows, each as far as nothing is before it: its ends, px of the frame.
pub fn uprights(scene: &dyn Scene, take: &Take, frame: u32) -> Vec<[Vector2<f64>; 2]> {
    scene
        .uprights()
        .into_iter()
        .filter_map(|edge| {
            let seen: Vec<Option<Vector2<f64>>> = (0..=PLACES)
                .map(|i| {
                    let at = edge.foot + Vector3::y() * (edge.height * i as f64 / PLACES as f64);
                    seen_at(scene, take, frame, at, edge.outward)
                })
                .collect();
            let longest = seen.split(Option::is_none).max_by_key(|run| run.len())?;
            let (from, to) = ((*longest.first()?)?, (*longest.last()?)?);
            ((to - from).norm() >= LEAST_LENGTH * f64::from(take.height)).then_some([from, to])
        })
        .collect()
}

/// Where a place of an edge is seen, px; `None` where something is before it.
fn seen_at(
    scene: &dyn Scene,
    take: &Take,
    frame: u32,
    at: Vector3<f64>,
    outward: Vector3<f64>,
) -> Option<Vector2<f64>> {
    let lens = take.lens(f64::from(frame));
    let mut px = Vector2::new(0.0, f64::from(take.height) / 2.0);
    let mut time = f64::from(frame);
    // The row tells when it is exposed, and where the camera is by then.
    for _ in 0..3 {
        time = take.row_time(frame, px.y);
        let c = take.pose(time).to_camera(at);
        if c.z < 0.1 || c.xy().norm() > c.z {
            return None;
        }
        px = lens.project(c.xy() / c.z);
    }
    let within = |v: f64, size: u32| (MARGIN_PX..f64::from(size - 1) - MARGIN_PX).contains(&v);
    let eye = take.pose(time).centre();
    let past = at + outward * OUTSIDE_M - eye;
    let distance = past.norm();
    let free = || scene.meet(eye, past / distance, time).is_none_or(|m| m.distance > distance);
    (within(px.x, take.width) && within(px.y, take.height) && free()).then_some(px)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trials::trial;

    #[test]
    fn the_edges_of_a_room_are_seen_and_the_picture_changes_across_them() {
        let take = trial("room").unwrap();
        let edges = uprights(take.scene().as_ref(), take, 40);
        assert!(edges.len() >= 4, "{}", edges.len());
        for [from, to] in &edges {
            let pose = take.pose(40.0);
            let lens = take.lens(40.0);
            // The plane through the eye and an upright holds the true vertical.
            let ray = |px: &Vector2<f64>| {
                let n = lens.unproject(*px);
                pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0)
            };
            let normal = ray(from).cross(&ray(to)).normalize();
            assert!(normal.y.abs() < 1e-6, "{from} {to}: {normal}");
        }
    }
}
