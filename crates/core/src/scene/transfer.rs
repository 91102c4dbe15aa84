//! From the world of one solve to that of another, so that what stands in the first stays where it is on the picture.
//!
//! Two solves of one clip agree up to a similarity, and up to what their errors bend. The similarity is begun from the
//! cameras of the frames that both know: turns give the rotation (L1 mean on SO(3), Hartley et al., "Rotation
//! Averaging", 2013), centres the scale and the shift; within one track run points take part, since their ids mean
//! something there. It is then adjusted on the picture itself: the marks (feet of inserts, corners of the floor) and
//! points of the scene are to be seen by the new cameras where the old ones saw them (Levenberg-Marquardt, Huber's
//! loss).

use super::{Datum, ShotDocument, TransferFit, world_of};
use crate::geometry::{Similarity, log_so3};
use crate::solve::{Motion, Solution, SolvedFrame};
use nalgebra::{Matrix3, Rotation3, SMatrix, SVector, Vector2, Vector3};

/// Frames that both solves must know: with a single one of a travelling camera the size of its scene stays open.
const FEWEST_FRAMES: usize = 2;
/// Frames and points of the scene that the adjustment looks at, at most.
const MOST_FRAMES: usize = 60;
const MOST_POINTS: usize = 80;
/// What all points of the scene count beside all marks.
const POINTS_COUNT: f64 = 0.1;
/// Residual beyond which one counts linearly, px of a picture 1280 wide.
const HUBER_PX: f64 = 2.0;
/// Steps of the adjustment.
const STEPS: usize = 30;
/// What good solves of one clip differ by at least, px: floors of the error that an uncertainty is told from.
const LEAST_ERROR_PX: f64 = 0.1;
/// Beyond this the marks would visibly move: one of the cameras is wrong, px of a picture 1280 wide.
const MOST_ERROR_PX: f64 = 4.0;
/// Beyond this deviation of the scale, per cent, things would slide on frames that only one solve knows.
const MOST_SCALE_DEVIATION: f64 = 8.0;

/// The way from an old world to a new one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Transfer {
    /// Old world to new world.
    pub new_from_old: Similarity,
    /// How well it fits.
    pub fit: TransferFit,
}

/// Why nothing can be carried over.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum TransferError {
    /// One camera turns on the spot.
    #[error(
        "one camera turns on the spot and the other travels; directions give no depths by which what is placed could \
            follow"
    )]
    Kinds,
    /// Too few frames in common.
    #[error("the two cameras share {found} frames of the clip; at least {FEWEST_FRAMES} are needed")]
    Frames {
        /// How many.
        found: usize,
    },
    /// The size of the new scene against the old one stays open.
    #[error(
        "on the {frames} frames that both cameras know, too little moves to tell the sizes of the two scenes apart"
    )]
    Size {
        /// Frames in common.
        frames: usize,
    },
    /// It does not fit.
    #[error(
        "what is placed would move by {rms_px:.1} px (most on frame {frame}): one of the two cameras is wrong there"
    )]
    Apart {
        /// RMS, px.
        rms_px: f64,
        /// The worst frame of the new solve.
        frame: u32,
    },
}

/// One solve with the frame of the file on which it begins.
#[derive(Debug, Clone, Copy)]
pub struct SolveOfClip<'a> {
    /// The solve.
    pub solution: &'a Solution,
    /// Its frame 0, counted in the file.
    pub first_frame: u32,
}

/// A place in the old world that is to stay on the picture, with the frames of the old solve on which it counts.
struct Control {
    at: Vector3<f64>,
    frames: (u32, u32),
    weight: f64,
}

/// The old and the new camera of one frame of the clip.
struct Pair<'a> {
    old: &'a SolvedFrame,
    new: &'a SolvedFrame,
}

/// How far from the middle of a floor to its corners its marks lie.
const HALF_WAY: f64 = 0.5;

/// Feet of inserts, middles of surfaces and corners of the floor, in the world of `laid_in`, the solve that the document's datum belongs to.
pub fn marks_of(document: &ShotDocument, laid_in: &Solution) -> Vec<Vector3<f64>> {
    let world = &document.datum.world_from_solve;
    let back = world.inverse();
    let inserts = &document.placing.inserts;
    let placed = inserts.iter().flat_map(|i| i.placement.anchor.chosen_frames().into_iter().map(move |f| (i, f)));
    let mut marks: Vec<Vector3<f64>> =
        placed.map(|(i, frame)| back.point(world_of(inserts, i, frame).point(i.placement.origin(frame)))).collect();
    marks.extend(document.surfacing.surfaces.iter().map(|s| back.point(s.middle())));
    // The ends of an outline are seen worst; half-way to them the floor is.
    let corners = floor_corners(&document.datum, laid_in);
    let middle = corners.iter().sum::<Vector3<f64>>() / corners.len().max(1) as f64;
    marks.extend(corners.iter().map(|c| back.point(middle + (c - middle) * HALF_WAY)));
    marks
}

/// The corners of the floor, in the world of the datum: as they were laid, or for a floor that an earlier version laid
/// those of what nine in ten of its points lie in, in the solve that it was laid in. Nothing where no floor is laid.
pub fn floor_corners(datum: &Datum, laid_in: &Solution) -> Vec<Vector3<f64>> {
    let Some(floor) = &datum.floor else { return Vec::new() };
    if !floor.outline.is_empty() {
        return floor.outline.iter().map(|c| Vector3::from(*c)).collect();
    }
    let on_floor = laid_in.points.iter().filter(|p| floor.points.binary_search(&p.id).is_ok());
    corners(on_floor.map(|p| datum.world_from_solve.point(p.position)).collect())
}

/// The corners, at y = 0 and in their order round it, of what nine in ten points lie in; nothing for fewer than four.
fn corners(points: Vec<Vector3<f64>>) -> Vec<Vector3<f64>> {
    if points.len() < 4 {
        return Vec::new();
    }
    let ends = |axis: usize| {
        let mut values: Vec<f64> = points.iter().map(|p| p[axis]).collect();
        values.sort_by(f64::total_cmp);
        let cut = values.len() / 20;
        [values[cut], values[values.len() - 1 - cut]]
    };
    let (x, z) = (ends(0), ends(2));
    [(0, 0), (0, 1), (1, 1), (1, 0)].iter().map(|(i, k)| Vector3::new(x[*i], 0.0, z[*k])).collect()
}

/// Finds the way from the world of `old` to that of `new` on which `marks` (old world) stay where they are on the
/// picture. `same_run` tells that both come from one track run, so that ids of points mean the same.
///
/// # Errors
/// [`TransferError`] where there is no such way.
pub fn transfer(
    old: SolveOfClip,
    new: SolveOfClip,
    same_run: bool,
    marks: &[Vector3<f64>],
) -> Result<Transfer, TransferError> {
    let nodal = old.solution.motion == Motion::Nodal;
    if nodal != (new.solution.motion == Motion::Nodal) {
        return Err(TransferError::Kinds);
    }
    let pairs: Vec<Pair> = old
        .solution
        .frames
        .iter()
        .filter_map(|o| {
            let frame = (o.frame + old.first_frame).checked_sub(new.first_frame)?;
            Some(Pair { old: o, new: new.solution.at(frame)? })
        })
        .collect();
    if pairs.len() < if nodal { 1 } else { FEWEST_FRAMES } {
        return Err(TransferError::Frames { found: pairs.len() });
    }
    let rotation = mean_turn(&pairs);
    let begin = if nodal {
        Similarity { rotation, ..Similarity::identity() }
    } else {
        let shared = if same_run { shared_points(old.solution, new.solution) } else { Vec::new() };
        scale_and_shift(rotation, &pairs, &shared).ok_or(TransferError::Size { frames: pairs.len() })?
    };
    let size = (f64::from(new.solution.width), f64::from(new.solution.height));
    let controls = controls(old.solution, marks);
    let picture = OnPicture { pairs: &pairs, size, nodal, huber_px: HUBER_PX * size.0 / 1280.0 };
    let (new_from_old, scale_deviation) = picture.adjust(begin, &controls);
    if !nodal && !(100.0 * scale_deviation <= MOST_SCALE_DEVIATION) {
        return Err(TransferError::Size { frames: pairs.len() });
    }
    let fit = picture.fit(&new_from_old, old.solution, marks).ok_or(TransferError::Size { frames: pairs.len() })?;
    if !(fit.rms_px <= MOST_ERROR_PX * size.0 / 1280.0) {
        return Err(TransferError::Apart { rms_px: fit.rms_px, frame: fit.worst_frame });
    }
    Ok(Transfer { new_from_old, fit })
}

/// The turn from the old world to the new one: the L1 mean of what every frame says.
fn mean_turn(pairs: &[Pair]) -> Rotation3<f64> {
    let turns: Vec<Rotation3<f64>> =
        pairs.iter().map(|p| p.new.pose.rotation.inverse() * p.old.pose.rotation).collect();
    let mut mean = turns[turns.len() / 2];
    for _ in 0..20 {
        let (mut sum, mut weights) = (Vector3::zeros(), 0.0);
        for turn in &turns {
            let away = log_so3(&(turn * mean.inverse()));
            let weight = 1.0 / away.norm().max(1e-5);
            sum += away * weight;
            weights += weight;
        }
        let step = sum / weights;
        mean = Rotation3::new(step) * mean;
        if step.norm() < 1e-9 {
            break;
        }
    }
    mean
}

/// Points of both solves that have one id.
fn shared_points(old: &Solution, new: &Solution) -> Vec<Both> {
    let new_of = |id| new.points.binary_search_by_key(&id, |p| p.id).ok().map(|i| new.points[i].position);
    old.points.iter().filter_map(|p| Some((p.position, new_of(p.id)?))).collect()
}

/// One point in two worlds.
type Both = (Vector3<f64>, Vector3<f64>);

/// Scale and shift by least squares, far-off pairs weighed down round by round.
fn scale_and_shift(rotation: Rotation3<f64>, pairs: &[Pair], points: &[Both]) -> Option<Similarity> {
    let centres = pairs.iter().map(|p| (p.old.pose.centre(), p.new.pose.centre()));
    let both: Vec<Both> = centres.chain(points.iter().copied()).map(|(a, b)| (rotation * a, b)).collect();
    let mut weights = vec![1.0; both.len()];
    let mut found = None;
    for _ in 0..10 {
        let total: f64 = weights.iter().sum();
        let mean = |of: fn(&Both) -> Vector3<f64>| -> Vector3<f64> {
            both.iter().zip(&weights).map(|(p, w)| of(p) * *w).sum::<Vector3<f64>>() / total
        };
        let (from, to) = (mean(|p| p.0), mean(|p| p.1));
        let (mut along, mut spread) = (0.0, 0.0);
        for ((a, b), w) in both.iter().zip(&weights) {
            along += w * (a - from).dot(&(b - to));
            spread += w * (a - from).norm_squared();
        }
        let scale = along / spread;
        if !(scale > 0.0 && scale.is_finite()) {
            return found;
        }
        let translation = to - from * scale;
        found = Some(Similarity { scale, rotation, translation });
        let residuals: Vec<f64> = both.iter().map(|(a, b)| (a * scale + translation - b).norm()).collect();
        let mut sorted = residuals.clone();
        sorted.sort_by(f64::total_cmp);
        let usual = 2.0 * sorted[sorted.len() / 2].max(1e-12);
        weights = residuals.iter().map(|m| if *m <= usual { 1.0 } else { usual / m }).collect();
    }
    found
}

/// Marks, and points of the scene spread over all there are.
fn controls(old: &Solution, marks: &[Vector3<f64>]) -> Vec<Control> {
    let of_all = if marks.is_empty() { 1.0 } else { POINTS_COUNT };
    let step = old.points.len().div_ceil(MOST_POINTS).max(1);
    let some: Vec<_> = old.points.iter().step_by(step).collect();
    let weight = of_all / some.len().max(1) as f64;
    let points = some.iter().map(|p| Control { at: p.position, frames: (p.first_frame, p.last_frame), weight });
    let of_mark = 1.0 / marks.len().max(1) as f64;
    marks.iter().map(|m| Control { at: *m, frames: (0, u32::MAX), weight: of_mark }).chain(points).collect()
}

/// Where a point is seen; `None` behind the camera, and so far off the axis that the lens's model folds back into the
/// picture.
fn seen(frame: &SolvedFrame, world: Vector3<f64>) -> Option<Vector2<f64>> {
    let c = frame.pose.to_camera(world);
    let n = Vector2::new(c.x / c.z, c.y / c.z);
    let (r2, lens) = (n.norm_squared(), &frame.lens);
    let unfolded = |r2: f64| 1.0 + r2 * (3.0 * lens.k1 + 5.0 * lens.k2 * r2) > 0.0;
    (c.z > 1e-9 && unfolded(r2) && unfolded(0.5 * r2))
        .then(|| lens.project(n))
        .filter(|p| p.x.is_finite() && p.y.is_finite())
}

/// The frames on which the two worlds are held against each other.
struct OnPicture<'a> {
    pairs: &'a [Pair<'a>],
    size: (f64, f64),
    nodal: bool,
    huber_px: f64,
}

type Step = SVector<f64, 7>;

impl OnPicture<'_> {
    fn inside(&self, p: Vector2<f64>) -> bool {
        (-0.5..self.size.0 - 0.5).contains(&p.x) && (-0.5..self.size.1 - 0.5).contains(&p.y)
    }

    /// Old places on the picture with what sees them, and how much each counts.
    fn sightings<'s>(&'s self, controls: &'s [Control]) -> Vec<(&'s SolvedFrame, Vector3<f64>, Vector2<f64>, f64)> {
        let step = self.pairs.len().div_ceil(MOST_FRAMES).max(1);
        let frames = || self.pairs.iter().step_by(step);
        let mut all = Vec::new();
        for control in controls {
            let within = |p: &&Pair| (control.frames.0..=control.frames.1).contains(&p.old.frame);
            let there = frames()
                .filter(within)
                .filter_map(|p| Some((p.new, control.at, seen(p.old, control.at).filter(|q| self.inside(*q))?)));
            let there: Vec<_> = there.collect();
            let weight = control.weight / there.len().max(1) as f64;
            all.extend(there.into_iter().map(|(frame, at, pixel)| (frame, at, pixel, weight)));
        }
        all
    }

    /// The similarity after a small step: a turn and a growth about `middle` of the new world, and a shift, in units of
    /// `unit`.
    fn stepped(&self, from: &Similarity, step: &Step, middle: Vector3<f64>, unit: f64) -> Similarity {
        let rotation = Rotation3::new(Vector3::new(step[0], step[1], step[2]));
        if self.nodal {
            return Similarity { rotation: rotation * from.rotation, ..*from };
        }
        let (scale, shift) = (step[6].exp(), Vector3::new(step[3], step[4], step[5]) * unit);
        let about = Similarity { scale, rotation, translation: middle + shift - rotation * middle * scale };
        from.then(&about)
    }

    /// Adjusts a similarity; returns it with the deviation of its scale, as a part of it.
    fn adjust(&self, begin: Similarity, controls: &[Control]) -> (Similarity, f64) {
        let sightings = self.sightings(controls);
        let mut now = begin;
        let middle = controls.iter().map(|c| begin.point(c.at) * c.weight).sum::<Vector3<f64>>()
            / controls.iter().map(|c| c.weight).sum::<f64>().max(1e-12);
        let unit = sightings.iter().map(|s| s.0.pose.to_camera(middle).norm()).fold(f64::INFINITY, f64::min);
        let unit = if unit.is_finite() && unit > 1e-9 { unit } else { 1.0 };
        let residuals = |at: &Similarity| -> Vec<Option<Vector2<f64>>> {
            sightings.iter().map(|(frame, old, pixel, _)| Some(seen(frame, at.point(*old))? - pixel)).collect()
        };
        // What is lost behind a camera costs as much as a residual of the whole picture.
        let far = self.size.0;
        let loss = |m: &Option<Vector2<f64>>| {
            let r = m.map_or(far, |m| m.norm());
            if r <= self.huber_px { r * r } else { self.huber_px * (2.0 * r - self.huber_px) }
        };
        let cost = |m: &[Option<Vector2<f64>>]| m.iter().zip(&sightings).map(|(m, s)| s.3 * loss(m)).sum::<f64>();
        let unknowns = if self.nodal { 3 } else { 7 };
        let normal = |at: &Similarity, held: &[Option<Vector2<f64>>]| {
            let (mut jtj, mut jtr) = (SMatrix::<f64, 7, 7>::zeros(), Step::zeros());
            let slopes: Vec<_> = (0..unknowns)
                .map(|k| {
                    let (mut up, mut down) = (Step::zeros(), Step::zeros());
                    (up[k], down[k]) = (1e-6, -1e-6);
                    (residuals(&self.stepped(at, &up, middle, unit)), residuals(&self.stepped(at, &down, middle, unit)))
                })
                .collect();
            for (i, sighting) in sightings.iter().enumerate() {
                let Some(r) = held[i] else { continue };
                let weight = sighting.3 * if r.norm() <= self.huber_px { 1.0 } else { self.huber_px / r.norm() };
                let row: Vec<Vector2<f64>> = slopes
                    .iter()
                    .map(|(up, down)| up[i].zip(down[i]).map_or_else(Vector2::zeros, |(u, d)| (u - d) / 2e-6))
                    .collect();
                for a in 0..unknowns {
                    jtr[a] += weight * row[a].dot(&r);
                    for b in 0..unknowns {
                        jtj[(a, b)] += weight * row[a].dot(&row[b]);
                    }
                }
            }
            for k in unknowns..7 {
                jtj[(k, k)] = 1.0;
            }
            (jtj, jtr)
        };
        let mut held = residuals(&now);
        let mut damping = 1e-4;
        for _ in 0..STEPS {
            let (jtj, jtr) = normal(&now, &held);
            let mut damped = jtj;
            (0..7).for_each(|k| damped[(k, k)] *= 1.0 + damping);
            let Some(step) = damped.cholesky().map(|c| -c.solve(&jtr)) else { break };
            let next = self.stepped(&now, &step, middle, unit);
            let there = residuals(&next);
            if cost(&there) < cost(&held) {
                let gain = 1.0 - cost(&there) / cost(&held).max(1e-300);
                (now, held) = (next, there);
                damping = (damping * 0.2).max(1e-9);
                if gain < 1e-9 {
                    break;
                }
            } else {
                damping *= 10.0;
                if damping > 1e6 {
                    break;
                }
            }
        }
        // Weights add up to about one, so that their inverse counts single sightings.
        let error = cost(&held).sqrt().max(LEAST_ERROR_PX);
        let (jtj, _) = normal(&now, &held);
        let independent = controls.len().max(1) as f64;
        let scale = jtj.try_inverse().map_or(f64::INFINITY, |m| (m[(6, 6)].max(0.0) / independent).sqrt() * error);
        // One step of Newton for the polar factor: products of many turns stay turns.
        let m = now.rotation.into_inner();
        now.rotation = Rotation3::from_matrix_unchecked(m * (Matrix3::identity() * 1.5 - m.transpose() * m * 0.5));
        (now, if self.nodal { 0.0 } else { scale })
    }

    /// How far marks move on the picture, over all frames that both solves know; without marks in sight, points of the
    /// scene. `None` where there is nothing to see.
    fn fit(&self, by: &Similarity, old: &Solution, marks: &[Vector3<f64>]) -> Option<TransferFit> {
        let marks: Vec<Control> =
            marks.iter().map(|m| Control { at: *m, frames: (0, u32::MAX), weight: 1.0 }).collect();
        let of = |controls: &[Control], marks: bool| {
            let (mut sum, mut n, mut worst) = (0.0, 0u32, (0.0f64, 0));
            for pair in self.pairs {
                for control in controls.iter().filter(|c| (c.frames.0..=c.frames.1).contains(&pair.old.frame)) {
                    let Some(before) = seen(pair.old, control.at).filter(|p| self.inside(*p)) else { continue };
                    // Behind the new camera it is as good as gone from the picture.
                    let residual =
                        seen(pair.new, by.point(control.at)).map_or(self.size.0, |after| (after - before).norm());
                    sum += residual * residual;
                    n += 1;
                    if residual > worst.0 {
                        worst = (residual, pair.new.frame);
                    }
                }
            }
            let rms_px = (sum / f64::from(n.max(1))).sqrt();
            (n > 0).then_some(TransferFit {
                rms_px,
                worst_px: worst.0,
                worst_frame: worst.1,
                frames: self.pairs.len() as u32,
                marks,
            })
        };
        of(&marks, true).or_else(|| of(&controls(old, &[]), false))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose};
    use crate::solve::SolvedPoint;
    use crate::track::TrackId;
    use proptest::prelude::*;

    /// A walk past points on a floor and a wall.
    fn walk(frames: std::ops::Range<u32>, motion: Motion) -> Solution {
        let lens = Lens { k1: -0.02, ..Lens::centred(900.0, 1280, 720) };
        let frame = |f: u32| {
            let t = f64::from(f);
            let eye = if motion == Motion::Nodal {
                Vector3::zeros()
            } else {
                Vector3::new(0.05 * t, 2.0 + 0.004 * t, 9.0 - 0.02 * t)
            };
            let aim = eye + Vector3::new(0.004 * t - 0.1, -0.2, -1.0);
            SolvedFrame::new(f, Pose::look_at(eye, aim, Vector3::y()).unwrap(), lens, 0.1, 40)
        };
        let points = (0..60u32).map(|i| {
            let (u, v) = (f64::from(i % 10) - 4.0, f64::from(i / 10));
            let at = if i % 2 == 0 { Vector3::new(u, 0.0, v - 3.0) } else { Vector3::new(u, v * 0.6, -4.0) };
            SolvedPoint::new(TrackId(i), at, 0.1, (frames.start, frames.end - 1), 5.0)
        });
        Solution {
            motion,
            frames: frames.clone().map(frame).collect(),
            points: points.collect(),
            ..Solution::empty(1280, 720, frames.end)
        }
    }

    /// The same solve in another world, its frames counted from another one, its points under other ids.
    fn elsewhere(solve: &Solution, by: &Similarity, first: u32) -> Solution {
        let mut new = solve.clone();
        new.frames.iter_mut().for_each(|f| {
            f.pose = by.pose(&f.pose);
            f.frame -= first;
        });
        new.points.iter_mut().for_each(|p| {
            p.position = by.point(p.position);
            p.id = TrackId((p.id.0 * 7 + 3) % 60);
        });
        new.points.sort_by_key(|p| p.id);
        new
    }

    fn of(solution: &Solution, first_frame: u32) -> SolveOfClip<'_> {
        SolveOfClip { solution, first_frame }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn the_way_between_two_worlds_is_found_whatever_the_ids(
            w in prop::array::uniform3(-2.0f64..2.0), t in prop::array::uniform3(-9.0f64..9.0),
                scale in 0.05f64..20.0, first in 0u32..30,
        ) {
            let old = walk(0..60, Motion::Free);
            let by = Similarity { scale, rotation: Rotation3::new(Vector3::from(w)), translation: Vector3::from(t) };
            let mut new = elsewhere(&old, &by, 0);
            new.frames.drain(..first as usize);
            new.frames.iter_mut().for_each(|f| f.frame -= first);
            let marks = [Vector3::new(0.5, 0.0, 0.0), Vector3::new(2.0, 1.0, -4.0)];
            let found = transfer(of(&old, 5), of(&new, 5 + first), false, &marks).unwrap();
            prop_assert!(found.fit.worst_px < 1e-3 && found.fit.marks, "{:?}", found.fit);
            prop_assert_eq!(found.fit.frames, 60 - first);
            for p in &old.points {
                let gap = (found.new_from_old.point(p.position) - by.point(p.position)).norm();
                prop_assert!(gap < 1e-4 * scale, "{gap} at scale {scale}");
            }
        }

        #[test]
        fn a_camera_that_turns_gives_its_turn_and_nothing_else(w in prop::array::uniform3(-2.0f64..2.0)) {
            let old = walk(0..40, Motion::Nodal);
            let by = Similarity { rotation: Rotation3::new(Vector3::from(w)), ..Similarity::identity() };
            let found = transfer(of(&old, 0), of(&elsewhere(&old, &by, 0), 0), false,
                &[Vector3::new(3.0, -4.0, -100.0)]).unwrap();
            prop_assert!(log_so3(&(found.new_from_old.rotation * by.rotation.inverse())).norm() < 1e-7);
            prop_assert!(found.new_from_old.scale == 1.0 && found.new_from_old.translation.norm() == 0.0);
        }
    }

    #[test]
    fn a_few_wrong_cameras_do_not_pull() {
        let old = walk(0..60, Motion::Free);
        let by = Similarity {
            scale: 0.7,
            rotation: Rotation3::new(Vector3::new(0.2, 1.0, -0.4)),
            translation: Vector3::new(3.0, 1.0, 2.0),
        };
        let mut new = elsewhere(&old, &by, 0);
        for f in 10..16 {
            new.frames[f].pose = new.frames[f].pose.retract(Vector3::new(0.3, 0.2, 0.0), Vector3::new(0.5, 0.0, 2.0));
        }
        let marks = [Vector3::new(0.5, 0.0, 0.0)];
        let pairs: Vec<Pair> = old.frames.iter().zip(&new.frames).map(|(old, new)| Pair { old, new }).collect();
        let begin = scale_and_shift(mean_turn(&pairs), &pairs, &[]).unwrap();
        assert!((begin.point(marks[0]) - by.point(marks[0])).norm() < 0.02);
    }

    #[test]
    fn what_cannot_be_carried_over_is_said() {
        let (free, nodal) = (walk(0..60, Motion::Free), walk(0..60, Motion::Nodal));
        let marks = [Vector3::new(0.5, 0.0, 0.0)];
        assert_eq!(transfer(of(&free, 0), of(&nodal, 0), false, &marks), Err(TransferError::Kinds));
        assert_eq!(transfer(of(&free, 0), of(&free, 60), false, &marks), Err(TransferError::Frames { found: 0 }));
        // Two neighbouring frames of a slow walk: the picture hardly changes, and neither world's size shows.
        let mut still = walk(0..2, Motion::Free);
        still.frames[1].pose = Pose { ..still.frames[0].pose };
        still.frames[1].pose.translation.x += 1e-5;
        assert!(matches!(transfer(of(&still, 0), of(&still, 0), false, &marks), Err(TransferError::Size { .. })));
        let mut wrong = free.clone();
        for (i, f) in wrong.frames.iter_mut().enumerate() {
            f.lens.focal_px *= 1.0 + 0.6 * (i as f64 / 60.0);
        }
        assert!(matches!(transfer(of(&free, 0), of(&wrong, 0), false, &marks), Err(TransferError::Apart { .. })));
    }

    #[test]
    fn corners_leave_out_what_lies_astray() {
        let mut points: Vec<_> = (0..40).map(|i| Vector3::new(f64::from(i % 8), 0.0, f64::from(i / 8))).collect();
        points.push(Vector3::new(900.0, 0.0, -900.0));
        let found = corners(points);
        assert_eq!(found.len(), 4);
        assert!(found.iter().all(|c| (0.0..=7.0).contains(&c.x) && (0.0..=4.0).contains(&c.z)), "{found:?}");
        assert!(corners(vec![Vector3::zeros(); 3]).is_empty());
    }
}
