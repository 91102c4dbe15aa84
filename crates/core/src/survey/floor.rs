//! Planes that could be the floor.

use super::cloud::CloudPoint;
use super::plane::{Plane, fit_weighted};
use super::upright::Held;
use crate::random::SplitMix64;
use nalgebra::Vector3;
use rayon::prelude::*;

/// Draws of three points near each other, and of two with the camera's roll as the third.
const DRAWS: (usize, usize) = (400, 600);
/// Neighbours among which a draw is made.
const NEIGHBOURS: usize = 24;
/// Deviations from a plane within which a point lies on it.
const BELONGS: f64 = 2.5;
/// Deviations under a plane, and part of the distance, beyond which a point lies under it.
const UNDER: (f64, f64) = (5.0, 0.015);
/// What a point under a floor takes off one on it.
const UNDER_COSTS: f64 = 0.6;
/// Cameras that may be under a floor, a part of all.
const CAMERAS_UNDER: f64 = 0.05;
/// What a floor that the camera looks down on steeply counts for beside one that it does not: it may be a wall.
const STEEP_COUNTS: f64 = 0.1;
/// Points that a floor needs before the picture is asked.
const FEWEST: f64 = 4.0;
/// Two floors are one within this angle, degrees, and this part of the camera's height.
const ALIKE: (f64, f64) = (3.0, 0.08);
/// Floors that are refitted.
const MOST: usize = 8;

/// A plane that could be the floor.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// The plane; its normal is up.
    pub plane: Plane,
    /// What speaks for it: points on it, weighed, less what lies under it, by how likely that way is up.
    pub score: f64,
    /// Points on it, weighed by how near.
    pub support: f64,
}

/// Which points of a cloud lie near each, in sight and in depth.
fn neighbours(cloud: &[CloudPoint], of: usize) -> Vec<usize> {
    let p = &cloud[of];
    let mut near: Vec<(f64, usize)> = cloud
        .iter()
        .enumerate()
        .filter(|(i, _)| *i != of)
        .map(|(i, q)| ((q.position - p.position).norm_squared(), i))
        .collect();
    let k = NEIGHBOURS.min(near.len());
    if k > 0 {
        near.select_nth_unstable_by(k - 1, |a, b| a.0.total_cmp(&b.0));
    }
    near.truncate(k);
    near.into_iter().map(|n| n.1).collect()
}

/// A plane as a floor; `None` where it cannot be one.
pub fn judged(plane: Plane, cloud: &[CloudPoint], held: &Held, eyes: &[Vector3<f64>]) -> Option<Candidate> {
    let above = eyes.iter().filter(|e| plane.distance(**e) > 0.0).count();
    let plane = if 2 * above < eyes.len() { Plane { normal: -plane.normal, ..plane } } else { plane };
    let under = eyes.iter().filter(|e| plane.distance(**e) <= 0.0).count();
    let upright = held.judge(&plane.normal);
    if under as f64 > CAMERAS_UNDER * eyes.len() as f64 || upright.likely < 0.01 {
        return None;
    }
    let (mut support, mut beneath) = (0.0, 0usize);
    for p in cloud {
        let e = plane.distance(p.position);
        let s = p.deviation(&plane.normal);
        let x = e / (BELONGS * s);
        if x.abs() < 1.0 {
            support += 1.0 - x * x;
        } else if e < -UNDER.0 * s && e < -UNDER.1 * p.depth {
            beneath += 1;
        }
    }
    let steep = if upright.is_steep() { STEEP_COUNTS } else { 1.0 };
    let score = (support - UNDER_COSTS * beneath as f64) * upright.likely * steep;
    Some(Candidate { plane, score, support })
}

/// Planes that could be the floor, the likeliest first: through points that lie near each other, and through pairs with
/// the way the cameras are held.
pub fn candidates(cloud: &[CloudPoint], held: &Held, eyes: &[Vector3<f64>]) -> Vec<Candidate> {
    let mut random = SplitMix64::new(29);
    let mut planes = Vec::new();
    if cloud.len() >= 3 {
        for i in 0..DRAWS.0 + DRAWS.1 {
            let a = random.below(cloud.len());
            let near = neighbours(cloud, a);
            let b = if random.below(3) == 0 { random.below(cloud.len()) } else { near[random.below(near.len())] };
            let c = near[random.below(near.len())];
            let [a, b, c] = [a, b, c].map(|i| cloud[i].position);
            let plane = if i < DRAWS.0 {
                fit_weighted([a, b, c].into_iter().map(|p| (p, 1.0)))
            } else {
                held.right.cross(&(b - a)).try_normalize(1e-12).map(|normal| Plane { point: a, normal })
            };
            planes.extend(plane);
        }
    }
    let mut all: Vec<Candidate> = planes
        .into_par_iter()
        .filter_map(|p| judged(p, cloud, held, eyes))
        .filter(|c| c.support >= FEWEST && c.score > 0.0)
        .collect();
    all.sort_by(|a, b| b.score.total_cmp(&a.score));
    let mut kept: Vec<Candidate> = Vec::new();
    for candidate in all {
        if kept.len() >= MOST {
            break;
        }
        if kept.iter().all(|k| !alike(&k.plane, &candidate.plane, eyes)) {
            kept.push(candidate);
        }
    }
    // The consensus of three points is rough; refits widen it to all that belong.
    kept.iter_mut().for_each(|k| {
        for _ in 0..3 {
            let Some(better) = refitted(&k.plane, cloud).and_then(|p| judged(p, cloud, held, eyes)) else { break };
            if better.score < 0.9 * k.score {
                break;
            }
            *k = better;
        }
    });
    kept.sort_by(|a, b| b.score.total_cmp(&a.score));
    let mut apart: Vec<Candidate> = Vec::new();
    for candidate in kept {
        if apart.iter().all(|k| !alike(&k.plane, &candidate.plane, eyes)) {
            apart.push(candidate);
        }
    }
    apart
}

/// Whether two planes are one floor.
pub fn alike(a: &Plane, b: &Plane, eyes: &[Vector3<f64>]) -> bool {
    let apart =
        |e: &Vector3<f64>| (a.distance(*e).abs() - b.distance(*e).abs()).abs() / a.distance(*e).abs().max(1e-12);
    let mean = eyes.iter().map(apart).sum::<f64>() / eyes.len().max(1) as f64;
    a.angle_deg(b) < ALIKE.0 && mean < ALIKE.1
}

/// The plane through the points near another, each weighed by how firmly it is known.
pub fn refitted(plane: &Plane, cloud: &[CloudPoint]) -> Option<Plane> {
    let near = cloud.iter().filter_map(|p| {
        let s = p.deviation(&plane.normal);
        let x = plane.distance(p.position) / (BELONGS * s);
        (x.abs() < 1.0).then(|| (p.position, (1.0 - x * x).powi(2) / (s * s)))
    });
    fit_weighted(near)
}
