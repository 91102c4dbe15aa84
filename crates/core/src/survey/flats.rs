//! Flat parts of a scene beside its floor: walls, roofs, slopes.

use super::cloud::CloudPoint;
use super::plane::{Plane, fit_weighted};
use crate::random::SplitMix64;
use nalgebra::Vector3;
use rayon::prelude::*;

/// Draws: of two points for planes that stand upright, and of three for any.
const DRAWS: (usize, usize) = (900, 500);
/// Neighbours among which a draw is made.
const NEIGHBOURS: usize = 20;
/// Deviations from a plane within which a point lies on it.
const BELONGS: f64 = 2.5;
/// Points that a plane needs.
const FEWEST: usize = 8;
/// Planes that are looked for.
const MOST: usize = 14;
/// How far the members of a plane may lie from the first, and from the next of them, of the distance to the camera.
const REACH: (f64, f64) = (0.45, 0.13);
/// A plane must be so broad in its narrower direction, of the distance to the camera.
const BROAD: f64 = 0.012;

/// A flat part as the points tell of it.
#[derive(Debug, Clone)]
pub struct Flat {
    /// The plane, its normal towards the cameras.
    pub plane: Plane,
    /// Its points, as indices into the cloud.
    pub members: Vec<usize>,
}

struct Draw {
    plane: Plane,
    seed: usize,
    /// Points on it near the seed, each with its weight.
    near: Vec<(usize, f64)>,
}

fn on(plane: &Plane, p: &CloudPoint) -> f64 {
    let x = plane.distance(p.position) / (BELONGS * p.deviation(&plane.normal));
    (1.0 - x * x).max(0.0)
}

/// The flat parts among the points of a cloud that `free` says are on none yet, the largest first. `up` is known where
/// a floor is.
pub fn flats(cloud: &[CloudPoint], free: &[bool], up: Option<&Vector3<f64>>, eye: Vector3<f64>) -> Vec<Flat> {
    let mut left: Vec<bool> = free.to_vec();
    let seeds: Vec<usize> = (0..cloud.len()).filter(|&i| free[i]).collect();
    if seeds.len() < FEWEST {
        return Vec::new();
    }
    let mut random = SplitMix64::new(43);
    let picks: Vec<(usize, bool, u64)> = (0..DRAWS.0 + DRAWS.1)
        .map(|i| (seeds[random.below(seeds.len())], i < DRAWS.0 && up.is_some(), random.next_u64()))
        .collect();
    let mut draws: Vec<Draw> = picks
        .into_par_iter()
        .filter_map(|(seed, upright, bits)| drawn(cloud, free, seed, up.filter(|_| upright), bits))
        .collect();
    let mut found = Vec::new();
    while found.len() < MOST {
        let support = |d: &Draw| d.near.iter().filter(|(i, _)| left[*i]).map(|(_, w)| w).sum::<f64>();
        let Some((score, best)) = draws.iter().map(|d| (support(d), d)).max_by(|a, b| a.0.total_cmp(&b.0)) else {
            break;
        };
        if score < 0.6 * FEWEST as f64 {
            break;
        }
        let (seed, plane) = (best.seed, best.plane);
        let grown = grow(cloud, &left, seed, plane);
        match grown {
            Some(flat) => {
                flat.members.iter().for_each(|&i| left[i] = false);
                found.push(Flat { plane: flat.plane.facing(eye), ..flat });
            }
            // Nothing comes of it; it is not asked again.
            None => draws.retain(|d| d.seed != seed || d.plane != plane),
        }
        draws.retain(|d| left[d.seed]);
    }
    found
}

fn drawn(cloud: &[CloudPoint], free: &[bool], seed: usize, up: Option<&Vector3<f64>>, bits: u64) -> Option<Draw> {
    let p = &cloud[seed];
    let mut near: Vec<(f64, usize)> = (0..cloud.len())
        .filter(|&i| i != seed && free[i])
        .map(|i| ((cloud[i].position - p.position).norm_squared(), i))
        .collect();
    let reach = (REACH.0 * p.depth).powi(2);
    near.retain(|n| n.0 < reach);
    let k = NEIGHBOURS.min(near.len());
    if k < 2 {
        return None;
    }
    near.select_nth_unstable_by(k - 1, |a, b| a.0.total_cmp(&b.0));
    let mut random = SplitMix64::new(bits);
    let [b, c] = random.distinct::<2>(k)?.map(|i| cloud[near[i].1].position);
    let plane = match up {
        Some(up) => Plane { point: p.position, normal: up.cross(&(b - p.position)).try_normalize(1e-9)? },
        None => fit_weighted([p.position, b, c].into_iter().map(|p| (p, 1.0)))?,
    };
    let weighed = near.iter().map(|n| (n.1, on(&plane, &cloud[n.1]))).filter(|(_, w)| *w > 0.0);
    let near: Vec<(usize, f64)> = std::iter::once((seed, 1.0)).chain(weighed).collect();
    (near.len() >= FEWEST / 2).then_some(Draw { plane, seed, near })
}

/// All points of a plane that hang together with the seed, with the plane refitted to them.
fn grow(cloud: &[CloudPoint], left: &[bool], seed: usize, start: Plane) -> Option<Flat> {
    let mut plane = start;
    let mut members = Vec::new();
    for _ in 0..4 {
        let on_it: Vec<usize> = (0..cloud.len()).filter(|&i| left[i] && on(&plane, &cloud[i]) > 0.0).collect();
        members = together(cloud, &on_it, seed);
        if members.len() < FEWEST {
            return None;
        }
        let weighed = members.iter().map(|&i| {
            let s = cloud[i].deviation(&plane.normal);
            (cloud[i].position, on(&plane, &cloud[i]).powi(2).max(1e-6) / (s * s))
        });
        plane = fit_weighted(weighed)?.turned_like(&plane);
    }
    let depth = members.iter().map(|&i| cloud[i].depth).sum::<f64>() / members.len() as f64;
    (breadth(cloud, &members, &plane) > BROAD * depth).then_some(Flat { plane, members })
}

/// Deviation of the members in the direction of the plane in which they spread least.
fn breadth(cloud: &[CloudPoint], members: &[usize], plane: &Plane) -> f64 {
    let [a, b] = plane.across();
    let n = members.len() as f64;
    let flat = |i: usize| {
        let away = cloud[i].position - plane.point;
        [away.dot(&a), away.dot(&b)]
    };
    let mean = members.iter().fold([0.0; 2], |m, &i| [m[0] + flat(i)[0] / n, m[1] + flat(i)[1] / n]);
    let (mut xx, mut xy, mut yy) = (0.0, 0.0, 0.0);
    for &i in members {
        let [x, y] = [flat(i)[0] - mean[0], flat(i)[1] - mean[1]];
        (xx, xy, yy) = (xx + x * x / n, xy + x * y / n, yy + y * y / n);
    }
    // The smaller eigenvalue of a symmetric 2 x 2 matrix.
    let (half, apart) = (0.5 * (xx + yy), (0.25 * (xx - yy).powi(2) + xy * xy).sqrt());
    (half - apart).max(0.0).sqrt()
}

/// Those of some points that hang together with the seed.
fn together(cloud: &[CloudPoint], of: &[usize], seed: usize) -> Vec<usize> {
    let mut waiting: Vec<usize> = of.iter().copied().filter(|&i| i != seed).collect();
    let (mut reached, mut next) = (vec![seed], 0);
    while next < reached.len() {
        let p = &cloud[reached[next]];
        let near = |i: usize| (cloud[i].position - p.position).norm() < REACH.1 * p.depth.max(cloud[i].depth);
        let (here, rest): (Vec<usize>, Vec<usize>) = waiting.iter().partition(|&&i| near(i));
        reached.extend(here);
        waiting = rest;
        next += 1;
    }
    reached.sort_unstable();
    reached
}
