//! An outline of what stands still in the scene, as other frames see it.

use crate::camera::{Camera, CameraPath};
use crate::survey::Plane;
use nalgebra::{Vector2, Vector3};

/// Corners count as the foot within this part of the outline's height from where it is lowest.
const FOOT: f64 = 0.04;
/// A camera that looks down so steeply, sine of the angle between the sight and the upright, sees no side of a thing: what
/// stands there is then taken to face it.
const STEEP: f64 = 0.25;
/// Corners farther than this from the picture's corner, px, are those of a thing that passes the camera.
const FARTHEST_PX: f64 = 20_000.0;

/// Why an outline does not stand anywhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum StandError {
    /// Nothing is known of the frame.
    #[error("frame {frame} has no camera; stand it on one that has")]
    NoCamera {
        /// Of the trimmed clip.
        frame: u32,
    },
    /// A corner is beside the plane on which it stands.
    #[error(
        "it cannot stand at its lowest corner on frame {frame}: draw it down to its foot, where it meets the ground"
    )]
    NotThere {
        /// Of the trimmed clip.
        frame: u32,
    },
}

/// Where the thing in an outline meets the ground: below the middle of its lowest corners, px.
pub fn foot_of(outline: &[[f64; 2]]) -> [f64; 2] {
    let [low, high] = crate::matte::bounds(outline);
    let lowest = || outline.iter().filter(|c| c[1] >= high[1] - FOOT * (high[1] - low[1])).map(|c| c[0]);
    let (left, right) = (lowest().fold(f64::INFINITY, f64::min), lowest().fold(f64::NEG_INFINITY, f64::max));
    [0.5 * (left + right), high[1]]
}

/// The upright plane through a place that faces a camera.
fn facing(camera: &Camera, foot: Vector3<f64>) -> Plane {
    let toward = camera.centre() - foot;
    let level = Vector3::new(toward.x, 0.0, toward.z);
    let normal = if level.norm() > STEEP * toward.norm() { level } else { toward };
    Plane { point: foot, normal: normal.normalize() }
}

/// An outline that was drawn on a frame, px, on every frame from there to another, which may lie before it: the thing stands
/// at `foot`, world of the datum, on an upright plane that faces the camera of that frame. As long as all of it lies before
/// the camera, so that there may be fewer frames.
///
/// # Errors
/// [`StandError`].
pub fn standing(
    path: &CameraPath,
    outline: &[[f64; 2]],
    foot: Vector3<f64>,
    (from, to): (u32, u32),
) -> Result<Vec<Vec<[f64; 2]>>, StandError> {
    let camera = path.at(from).ok_or(StandError::NoCamera { frame: from })?;
    let plane = facing(&camera, foot);
    let place = |corner: &[f64; 2]| plane.meet(&camera.ray(Vector2::from(*corner)));
    let corners: Vec<Vector3<f64>> =
        outline.iter().map(place).collect::<Option<_>>().ok_or(StandError::NotThere { frame: from })?;
    let seen = |frame: u32| {
        let camera = path.at(frame)?;
        let at = |corner: &Vector3<f64>| {
            let pixel: [f64; 2] = camera.project(*corner)?.into();
            pixel.iter().all(|v| v.abs() < FARTHEST_PX).then_some(pixel)
        };
        corners.iter().map(at).collect::<Option<Vec<_>>>()
    };
    let frames: Box<dyn Iterator<Item = u32>> =
        if from <= to { Box::new(from + 1..=to) } else { Box::new((to..from).rev()) };
    Ok(std::iter::once(outline.to_vec()).chain(frames.map_while(seen)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Lens, Pose, Similarity};
    use crate::solve::{Solution, SolvedFrame};
    use nalgebra::Rotation3;
    use proptest::prelude::*;

    const FRAMES: u32 = 25;

    /// A camera 2 m over the ground that looks along -Z, goes past what stands in front of it, and is read out over a part
    /// of each frame.
    fn walk(readout: f64) -> Solution {
        let lens = Lens { k1: -0.05, ..Lens::centred(900.0, 1280, 720) };
        let frame = |f: u32| {
            let t = f64::from(f);
            let upside = Rotation3::from_axis_angle(&Vector3::x_axis(), std::f64::consts::PI + 0.05);
            let rotation = Rotation3::from_euler_angles(0.0, 0.004 * t, 0.002 * (0.7 * t).sin()) * upside;
            let centre = Vector3::new(0.05 * t, 2.0, 6.0 - 0.2 * t);
            SolvedFrame::new(f, Pose { rotation, translation: -(rotation * centre) }, lens, 0.1, 50)
        };
        Solution { frames: (0..FRAMES).map(frame).collect(), readout, ..Solution::empty(1280, 720, FRAMES) }
    }

    fn outline_of(camera: &Camera, corners: &[Vector3<f64>]) -> Vec<[f64; 2]> {
        corners.iter().map(|c| camera.project(*c).unwrap().into()).collect()
    }

    proptest! {
        /// A board that faces the frame on which it was drawn is where it is on all the others, the rows of the sensor heeded.
        #[test]
        fn what_stands_still_goes_with_the_camera(
            from in 0..FRAMES, x in -1.5f64..1.5, z in -6.0f64..-1.0, high in 0.5f64..4.0, wide in 0.02f64..0.6,
            readout in prop_oneof![Just(0.0), 0.2f64..0.9],
        ) {
            let solution = walk(readout);
            let path = CameraPath::new(&solution, &Similarity::identity());
            let camera = path.at(from).unwrap();
            let foot = Vector3::new(x, 0.0, z);
            let toward = camera.centre() - foot;
            let beside = Vector3::new(toward.z, 0.0, -toward.x).normalize() * wide;
            let top = Vector3::y() * high;
            let board = [foot - beside, foot + beside, foot + beside + top, foot - 0.5 * beside + 1.2 * top];
            let drawn = outline_of(&camera, &board);
            // Beyond the picture there are no rows.
            let within = |c: &[f64; 2]| (0.0..720.0).contains(&c[1]);
            prop_assume!(drawn.iter().all(within));
            for to in [0, FRAMES - 1] {
                let run = standing(&path, &drawn, foot, (from, to)).unwrap();
                prop_assert_eq!(run.len() as u32, from.abs_diff(to) + 1);
                for (n, there) in run.iter().enumerate() {
                    let frame = if to < from { from - n as u32 } else { from + n as u32 };
                    let known = outline_of(&path.at(frame).unwrap(), &board);
                    for (a, b) in there.iter().zip(&known).filter(|(_, known)| within(known)) {
                        prop_assert!((a[0] - b[0]).hypot(a[1] - b[1]) < 0.02, "{:?} {:?} on {}", a, b, frame);
                    }
                }
            }
        }
    }

    #[test]
    fn the_foot_lies_below_the_middle_of_what_is_lowest() {
        let mast = [[100.0, 10.0], [140.0, 12.0], [128.0, 300.0], [112.0, 302.0]];
        assert_eq!(foot_of(&mast), [120.0, 302.0]);
        let leaning = [[100.0, 10.0], [140.0, 12.0], [200.0, 300.0]];
        assert_eq!(foot_of(&leaning), [200.0, 300.0]);
    }

    #[test]
    fn what_the_camera_passes_ends_there_and_what_has_no_place_says_so() {
        let solution = walk(0.0);
        let path = CameraPath::new(&solution, &Similarity::identity());
        let foot = Vector3::new(0.3, 0.0, 3.0);
        let drawn = outline_of(&path.at(0).unwrap(), &[foot, foot + Vector3::y(), foot + Vector3::new(0.1, 1.0, 0.0)]);
        let run = standing(&path, &drawn, foot, (0, FRAMES - 1)).unwrap();
        assert!((10..=16).contains(&run.len()), "the camera passes it after 15 frames: {}", run.len());
        assert_eq!(standing(&path, &drawn, foot, (99, 0)), Err(StandError::NoCamera { frame: 99 }));
        let behind = Vector3::new(0.0, 0.0, 20.0);
        assert_eq!(standing(&path, &drawn, behind, (0, 3)), Err(StandError::NotThere { frame: 0 }));
    }

    #[test]
    fn from_straight_above_it_faces_the_camera() {
        let down = Rotation3::from_axis_angle(&Vector3::x_axis(), std::f64::consts::FRAC_PI_2);
        let camera = Camera::new(
            Pose { rotation: down, translation: -(down * Vector3::new(0.0, 30.0, 0.1)) },
            Lens::centred(900.0, 1280, 720),
            720,
        );
        let plane = facing(&camera, Vector3::zeros());
        assert!(plane.normal.y > 0.9, "{:?}", plane.normal);
    }
}
