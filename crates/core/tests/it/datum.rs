//! Floor, origin, scale and surfaces on a solved scene whose ground is known.

use crate::made_up::{HEIGHT, Random, WIDTH, travelling};
use fennik_core::camera::CameraPath;
use fennik_core::geometry::{Lens, Similarity};
use fennik_core::scene::{Datum, SpotKind, spot_at};
use fennik_core::solve::{Solution, SolvedFrame, SolvedPoint};
use fennik_core::survey::{FoundPlane, PlaneError, PlaneKind, plane_through, survey};
use fennik_core::track::TrackId;
use nalgebra::{Rotation3, Vector2, Vector3};
use proptest::prelude::*;

/// Ids below this lie on the ground, the others on a wall at z = -8.
const GROUND: u32 = 120;

/// A solved scene in a world that was turned, shifted and scaled away from the true one.
fn solved(away: &Similarity) -> Solution {
    let mut random = Random(4);
    let lens = Lens::centred(900.0, WIDTH, HEIGHT);
    let frames = travelling(30, 6.0, 2)
        .iter()
        .enumerate()
        .map(|(f, pose)| SolvedFrame::new(f as u32, away.pose(pose), lens, 0.1, 200))
        .collect();
    let points = (0..200)
        .map(|i| {
            let p = if i < GROUND {
                Vector3::new(7.0 * random.unit(), 0.0, -1.0 + 6.0 * random.unit())
            } else {
                Vector3::new(7.0 * random.unit(), 2.0 + 2.0 * random.unit(), -8.0)
            };
            SolvedPoint::new(TrackId(i), away.point(p), 0.1, (0, 29), 5.0)
        })
        .collect();
    Solution {
        frames,
        points,
        rms_px: 0.1,
        median_px: 0.08,
        parallax_deg: 5.0,
        focal_deviation_percent: 0.1,
        ..Solution::empty(WIDTH, HEIGHT, 30)
    }
}

/// The floor that points alone tell of.
fn found_floor(solution: &Solution) -> Option<FoundPlane> {
    survey(solution, &[]).floors.into_iter().next()
}

fn through(solution: &Solution, ids: &[u32]) -> Result<FoundPlane, PlaneError> {
    let ids: Vec<TrackId> = ids.iter().map(|i| TrackId(*i)).collect();
    plane_through(solution, &[], &ids, PlaneKind::Floor, None).map(|p| p.found)
}

fn away() -> impl Strategy<Value = Similarity> {
    ((-2f64..2.0, -2f64..2.0, -2f64..2.0), (-9f64..9.0, -9f64..9.0, -9f64..9.0), 0.1f64..8.0).prop_map(
        |(w, t, scale)| Similarity {
            scale,
            rotation: Rotation3::new(Vector3::new(w.0, w.1, w.2)),
            translation: Vector3::new(t.0, t.1, t.2),
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn the_floor_is_found_wherever_the_solve_came_out(away in away()) {
        let solution = solved(&away);
        let fit = found_floor(&solution).unwrap();
        prop_assert!(fit.points.iter().filter(|id| id.0 >= GROUND).count() < 8);
        prop_assert!(fit.points.len() > 100 && fit.fit_px < 0.5);
        let datum = Datum::default().with_floor(&solution, &fit, None);
        prop_assert!(datum.floor.as_ref().is_some_and(|f| f.level_deg < 1.0));
        for p in &solution.points[..GROUND as usize] {
            let y = datum.world_from_solve.point(p.position).y / away.scale;
            prop_assert!(y.abs() < 3e-3, "a ground point is {y} m off the floor");
        }
        for f in &solution.frames {
            prop_assert!(datum.world_from_solve.pose(&f.pose).centre().y > 0.0, "cameras are above the floor");
        }
    }

    #[test]
    fn a_known_distance_sets_the_scale_and_the_origin_stays(away in away(), metres in 0.05f64..300.0) {
        let solution = solved(&away);
        let fit = through(&solution, &[0, 1, 2, 3]).unwrap();
        let (a, b) = (solution.points[5].position, solution.points[150].position);
        let datum = Datum::default().with_floor(&solution, &fit, Some(a)).with_distance(a, b, metres).unwrap();
        let (wa, wb) = (datum.world_from_solve.point(a), datum.world_from_solve.point(b));
        prop_assert!(((wa - wb).norm() / metres - 1.0).abs() < 1e-9);
        prop_assert!(wa.norm() < 1e-4 * metres.max(1.0), "the point at the origin is at {wa}");
        prop_assert_eq!(datum.scale.distances().len(), 1);
    }

    /// Whatever is done to a datum, its world is a similarity of the solve's, and no picture changes by it.
    #[test]
    fn changes_of_the_datum_are_similarities_and_never_change_a_reprojection(
        away in away(),
        steps in prop::collection::vec((0usize..6, (-170f64..170.0, -80f64..80.0, -4f64..4.0), 0.2f64..5.0), 1..7),
    ) {
        let solution = solved(&Similarity::identity());
        let mut datum = Datum { world_from_solve: away, ..Datum::default() };
        for (what, (a, b, c), s) in steps {
            let next = match what {
                0 => Ok(datum.nudged([a, b, c], [c, s, a / 50.0])),
                1 => Ok(datum.with_origin(Vector3::new(c, s, b / 20.0))),
                2 => datum.with_heading(Vector3::zeros(), Vector3::new(c, 0.3, s)),
                3 => datum.with_up(Vector3::new(c, s, b / 20.0)),
                4 => datum.with_scale_by(s),
                _ => datum.with_distance(Vector3::zeros(), Vector3::new(c, s, 1.0), s),
            };
            datum = next.unwrap();
            prop_assert!(datum.world_from_solve.is_sound(), "{what}: {:?}", datum.world_from_solve);
        }
        let world = &datum.world_from_solve;
        let (here, there) = (CameraPath::new(&solution, &Similarity::identity()), CameraPath::new(&solution, world));
        for p in solution.points.iter().step_by(17) {
            for frame in [0, 11, 29] {
                let seen = (here.at(frame).unwrap().project(p.position), there.at(frame).unwrap().project(there.point(p.position)));
                if let (Some(a), Some(b)) = seen {
                    prop_assert!((a - b).norm() < 1e-5, "{a} and {b}");
                }
            }
            let back = world.inverse().then(world).point(p.position) - p.position;
            prop_assert!(back.norm() < 1e-7 * (1.0 + p.position.norm()));
        }
    }

    #[test]
    fn a_flip_twice_and_a_turn_back_change_nothing(away in away(), y in -180f64..180.0, shift in -5f64..5.0) {
        let start = Datum { world_from_solve: away, ..Datum::default() };
        let p = Vector3::new(0.4, 1.0, -2.0);
        let flipped = start.flipped().flipped();
        prop_assert!((flipped.world_from_solve.point(p) - away.point(p)).norm() < 1e-9);
        let turned = start.nudged([0.0, y, 0.0], [0.0; 3]).nudged([0.0, -y, 0.0], [0.0; 3]);
        prop_assert!((turned.world_from_solve.point(p) - away.point(p)).norm() < 1e-9);
        let moved = start.nudged([0.0; 3], [shift, 0.0, 1.0]);
        prop_assert!((moved.world_from_solve.point(p) - away.point(p) - Vector3::new(shift, 0.0, 1.0)).norm() < 1e-9);
    }
}

#[test]
fn too_few_points_and_points_on_a_line_lay_no_floor() {
    let mut solution = solved(&Similarity::identity());
    assert!(through(&solution, &[0, 1]).unwrap_err().to_string().contains("at least 3"));
    assert!(through(&solution, &[0, 0, 0, 9999]).is_err(), "one point three times is one");
    for (i, p) in solution.points.iter_mut().enumerate() {
        p.position = Vector3::new(i as f64, 0.0, 2.0 * i as f64);
    }
    assert!(through(&solution, &[0, 3, 7]).unwrap_err().to_string().contains("line"));
    assert!(found_floor(&solution).is_none());
    solution.points.truncate(2);
    assert!(found_floor(&solution).is_none());
}

#[test]
fn points_close_together_are_refused_with_what_would_do_better() {
    let mut solution = solved(&Similarity::identity());
    for (i, p) in solution.points.iter_mut().enumerate().take(6) {
        p.position = Vector3::new(0.02 * (i % 3) as f64, 0.0, 0.02 * (i / 3) as f64);
    }
    let told = through(&solution, &[0, 1, 2, 3, 4, 5]).unwrap_err().to_string();
    assert!(told.contains("too close together") && told.contains("on frame"), "{told}");
}

#[test]
fn a_wrong_distance_is_refused() {
    let (a, b) = (Vector3::new(0.0, 0.0, 0.0), Vector3::new(1.0, 0.0, 0.0));
    for metres in [0.0, -2.0, f64::NAN, f64::INFINITY] {
        assert!(Datum::default().with_distance(a, b, metres).is_err(), "{metres}");
    }
    assert!(Datum::default().with_distance(a, a, 2.0).is_err());
}

#[test]
fn the_tile_lies_on_the_floor_or_on_the_wall_as_the_pointer_asks() {
    let solution = solved(&Similarity::identity());
    let fit = found_floor(&solution).unwrap();
    let datum = Datum::default().with_floor(&solution, &fit, Some(Vector3::zeros()));
    let pixel = |p: Vector3<f64>| {
        let c = solution.frames[10].pose.to_camera(p);
        solution.frames[10].lens.project(Vector2::new(c.x / c.z, c.y / c.z))
    };
    let wanted = Vector3::new(0.5, 0.0, 2.0);
    let floor = spot_at(&solution, &datum, &[], 10, pixel(wanted)).unwrap();
    assert_eq!((floor.kind, floor.tilt_deg < 1e-6), (SpotKind::Floor, true));
    let back = datum.world_from_solve.inverse().point(floor.point);
    assert!((back - wanted).norm() < 1e-2, "{back}");

    let on_wall = Vector3::new(0.5, 2.0, -8.0);
    let wall = spot_at(&solution, &datum, &[], 10, pixel(on_wall)).unwrap();
    assert_eq!(wall.kind, SpotKind::Wall);
    assert!(
        (wall.tilt_deg - 90.0).abs() < 0.5 && wall.support >= 6 && wall.fit_px.is_some_and(|e| e < 0.1),
        "{wall:?}"
    );
    let back = datum.world_from_solve.inverse().point(wall.point);
    assert!((back - on_wall).norm() < 5e-2, "{back}");

    assert!(spot_at(&solution, &datum, &[], 99, pixel(wanted)).unwrap_err().to_string().contains("no camera"));
    assert!(spot_at(&solution, &datum, &[], 10, Vector2::new(640.0, -4000.0)).is_err(), "the sky holds nothing");
    let bare = Datum::default();
    assert!(
        spot_at(&solution, &bare, &[], 10, Vector2::new(640.0, -4000.0))
            .unwrap_err()
            .to_string()
            .contains("floor first")
    );
}
