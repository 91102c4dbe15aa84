//! A flat thing that fills the frame, seen head on: ground from above, or a wall?
//!
//! The same picture could be of either. People hold a camera level before a wall, whose boards, bricks and windows run
//! along the picture's axes; ground seen from above has no such axes, and who flies over it turns.

use super::plane::Plane;
use super::refine::Refined;
use super::views::View;
use crate::solve::Solution;
use nalgebra::Vector3;

/// Half side of what is looked at round a window's middle, px of the level.
const HALF: i32 = 8;
/// The level of the pyramids that is looked at, below the one on which windows are read.
const LEVEL: usize = 1;
/// Slopes along the axes of the picture within so many degrees count as such.
const ALONG_DEG: f32 = 5.0;
/// Part of the slopes along the axes from which they are a wall's: of slopes of all ways it is a ninth.
const WALL_LIKE: f64 = 0.23;
/// A camera that turns by more than this about the plane's normal, degrees, is not held level before a wall.
const TURNS_DEG: f64 = 6.0;

/// Part of the slopes in the windows on a plane that run along the axes of the picture.
fn along_axes(views: &[View], found: &Refined) -> f64 {
    let (mut along, mut total) = (0.0f64, 0.0f64);
    for &i in &found.on_it {
        let reading = &found.readings[i];
        let picture = views[reading.view].pyramid.level(LEVEL);
        let middle = (reading.pixel * 0.5f64.powi(LEVEL as i32)).map(|v| v.round() as i32);
        let (wide, high) = (picture.width() as i32, picture.height() as i32);
        if middle.x < HALF + 1 || middle.y < HALF + 1 || middle.x >= wide - HALF - 1 || middle.y >= high - HALF - 1 {
            continue;
        }
        for y in middle.y - HALF..=middle.y + HALF {
            for x in middle.x - HALF..=middle.x + HALF {
                let at = |dx: i32, dy: i32| picture.at((x + dx) as usize, (y + dy) as usize);
                let (gx, gy) = (at(1, 0) - at(-1, 0), at(0, 1) - at(0, -1));
                let weight = f64::from(gx * gx + gy * gy);
                let from_axis = gx.abs().min(gy.abs()).atan2(gx.abs().max(gy.abs())).to_degrees();
                total += weight;
                if from_axis < ALONG_DEG {
                    along += weight;
                }
            }
        }
    }
    if total > 0.0 { along / total } else { 0.0 }
}

/// How far the camera turns about a plane's normal over the clip, degrees.
fn turns_deg(solution: &Solution, plane: &Plane) -> f64 {
    let [a, b] = plane.across();
    let bearing = |f: &crate::solve::SolvedFrame| {
        let right = f.pose.rotation.inverse() * Vector3::x();
        right.dot(&b).atan2(right.dot(&a))
    };
    let Some(first) = solution.frames.first().map(bearing) else { return 0.0 };
    let off = |v: f64| (v - first + std::f64::consts::PI).rem_euclid(std::f64::consts::TAU) - std::f64::consts::PI;
    let ends = solution.frames.iter().map(|f| off(bearing(f))).fold((0.0f64, 0.0f64), |(l, h), v| (l.min(v), h.max(v)));
    (ends.1 - ends.0).to_degrees()
}

/// Whether a plane that is seen head on looks like a wall rather than ground from above.
pub fn is_wall_like(solution: &Solution, views: &[View], found: &Refined) -> bool {
    turns_deg(solution, &found.plane) < TURNS_DEG && along_axes(views, found) > WALL_LIKE
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::CameraPath;
    use crate::geometry::{Lens, Pose, Similarity};
    use crate::image::Plane as Picture;
    use crate::matte::Masks;
    use crate::solve::SolvedFrame;
    use crate::survey::refine::{Known, refine};
    use crate::survey::views::views;
    use crate::survey::windows::Grid;

    /// A camera that passes a plane at z = 0 head on, and pictures of a pattern on it.
    fn filmed(tone: impl Fn(f64, f64) -> f32 + Sync) -> (Solution, Vec<View>) {
        let mut solution = Solution::empty(640, 360, 6);
        let lens = Lens::centred(520.0, 640, 360);
        let pose = |i: u32| {
            let eye = Vector3::new(0.25 * f64::from(i), 0.02 * f64::from(i % 2), 5.0 - 0.05 * f64::from(i));
            Pose::look_at(eye, eye - Vector3::new(0.02, 0.01, 5.0), Vector3::y()).unwrap()
        };
        solution.frames = (0..6).map(|i| SolvedFrame::new(i, pose(i), lens, 0.1, 50)).collect();
        let path = CameraPath::new(&solution, &Similarity::identity());
        let wall = Plane { point: Vector3::zeros(), normal: Vector3::z() };
        let pictures: Vec<_> = path
            .cameras()
            .map(|camera| {
                let picture = Picture::from_fn(640, 360, |x, y| {
                    let at = wall.meet(&camera.ray(nalgebra::Vector2::new(x as f64, y as f64))).unwrap();
                    tone(at.x, at.y)
                });
                (camera.frame, picture)
            })
            .collect();
        let seen = views(&solution, &pictures, &Masks::default());
        (solution, seen)
    }

    #[test]
    fn boards_are_a_wall_and_speckles_are_not_and_both_are_found_where_they_are() {
        let speckle = |x: f64, y: f64| {
            let waves = (0..9).map(|k| {
                let k = f64::from(k);
                (x * (3.0 + 2.7 * k) * (1.3 * k).cos() + y * (3.0 + 2.7 * k) * (1.3 * k).sin() + k).sin()
            });
            110.0 + 14.0 * waves.sum::<f64>() as f32
        };
        let boards = |x: f64, y: f64| {
            let row = (y / 0.3).floor();
            90.0 + 90.0 * (((x + 0.37 * row) / 0.5).floor() * 0.618 + row * 0.37).rem_euclid(1.0) as f32
        };
        // Begun a little off.
        let start = Plane { point: Vector3::new(0.0, 0.0, 0.03), normal: Vector3::new(0.01, -0.02, 1.0).normalize() };
        for (tone, wall) in [(&speckle as &(dyn Fn(f64, f64) -> f32 + Sync), false), (&boards, true)] {
            let (solution, seen) = filmed(tone);
            let grid = Grid { every: 1, finer: 1.0 };
            let found = refine(&seen, &[], &start, Known::Roughly, grid, |_| true).unwrap();
            let off = Plane { point: Vector3::zeros(), normal: Vector3::z() }.angle_deg(&found.plane);
            // The edges of boards jump from one px to the next; speckles are smooth.
            let most = if wall { 0.3 } else { 0.01 };
            assert!(off < most && found.plane.point.z.abs() < 2e-3, "{off} deg, {} off", found.plane.point.z);
            assert_eq!(is_wall_like(&solution, &seen, &found), wall, "{}", along_axes(&seen, &found));
        }
    }
}
