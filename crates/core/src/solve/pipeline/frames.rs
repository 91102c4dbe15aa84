//! A pose for every frame.

use crate::geometry::{Lens, Pose};
use crate::solve::bundle::state::Move;
use crate::solve::problem::Problem;
use crate::solve::reconstruction::registration::add_frame;
use crate::solve::reconstruction::resection as resect;
use crate::solve::reconstruction::scene::Scene;
use crate::solve::reconstruction::triangulation::{BRIDGE_PARALLAX_DEG, add_points, add_points_from};
use crate::solve::refine::inlier_gates::InlierGate;
use crate::solve::refine::rounds::MIN_FRAME_POINTS;
use crate::solve::rotation::nodal;
use nalgebra::{Vector2, Vector3};
use rayon::prelude::*;

/// A pose for every frame between and around those that have one, as far as enough points agree: what a frame
/// adds may reach the next.
pub fn fill_frames(problem: &Problem, scene: &mut Scene) {
    let all: Vec<usize> = (0..problem.tracks.len()).collect();
    let limit = InlierGate::loose(scene.noise_px, problem.scale()).most_px;
    add_points(problem, scene, &all, limit);
    let mut before = 0;
    loop {
        fill_once(problem, scene, &all, limit);
        let now = scene.posed().len();
        if now == problem.frames || now <= before {
            return;
        }
        before = now;
        add_points_from(problem, scene, &all, limit, BRIDGE_PARALLAX_DEG);
    }
}

fn fill_once(problem: &Problem, scene: &mut Scene, all: &[usize], limit: f64) {
    let posed = scene.posed();
    let missing: Vec<u32> = (0..problem.frames as u32).filter(|&f| scene.poses[f as usize].is_none()).collect();
    missing.iter().for_each(|&f| scene.guess_zoom(f));
    let loose = resect::Loose { shift: scene.motion == Move::Free, focal: scene.zooms() };
    let found: Vec<(u32, Option<(Pose, Lens)>)> = missing
        .into_par_iter()
        .map(|frame| {
            let sights: Vec<resect::Sight> =
                all.iter().filter_map(|&t| Some((problem.at(t, frame)?, scene.points[t]?))).collect();
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
            let lens = scene.lens_at(frame);
            let good = |(pose, lens): &(Pose, Lens)| {
                let within = resect::count_within(pose, &sights, lens, limit);
                within >= MIN_FRAME_POINTS && within * 2 >= sights.len()
            };
            let near = guess.map(|g| resect::refine_loose(g, &sights, &lens, 0.5 * limit, loose)).filter(good);
            let turned = || {
                let pose = turn_onto(&sights, &lens).filter(|_| scene.motion == Move::Nodal)?;
                Some(resect::refine_loose(pose, &sights, &lens, 0.5 * limit, loose)).filter(good)
            };
            (frame, near.or_else(turned))
        })
        .collect();
    for (frame, found) in found {
        match found {
            Some((pose, lens)) => {
                scene.pose_frame(frame, pose, &lens);
            }
            None if scene.motion == Move::Free => {
                add_frame(problem, scene, all, frame, limit);
            }
            None => {}
        }
    }
}

/// The turn that takes directions of the world onto what is seen of them.
fn turn_onto(sights: &[resect::Sight], lens: &Lens) -> Option<Pose> {
    let ray = |pixel: &Vector2<f64>| {
        let n = lens.unproject(*pixel);
        Vector3::new(n.x, n.y, 1.0).normalize()
    };
    let rays: Vec<_> = sights.iter().map(|(pixel, direction)| (*direction, ray(pixel))).collect();
    nodal::turn_between(&rays).map(|(rotation, _)| Pose { rotation, translation: Vector3::zeros() })
}
