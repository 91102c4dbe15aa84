//! Laws that the server and the page both know, held to one file each under `e2e/golden/`: what is computed here must
//! be what stands there, and the scripts are held to the same by `e2e/tests/golden.test.mjs`. `UPDATE_GOLDEN=1` writes
//! the files anew.

use super::data::camera_as_sent;
use fennik_core::camera::CameraPath;
use fennik_core::geometry::{Lens, Pose, Similarity};
use fennik_core::matte::{Outline, OutlineKey};
use fennik_core::scene::anim::{Animated, Curve, Ease, Key, Rotation};
use fennik_core::scene::{Anchor, Facing, Placement, Stance};
use fennik_core::solve::{Solution, SolvedFrame};
use nalgebra::{Rotation3, Vector3};
use serde_json::{Value, json};
use std::path::Path;

/// Sums of a few dozen terms in another order differ by this at most, of numbers up to thousands.
const TOLERANCE: f64 = 1e-8;

/// How far apart two values are that ought to be alike; infinite where they differ in kind.
fn apart(a: &Value, b: &Value) -> f64 {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => (a.as_f64().unwrap() - b.as_f64().unwrap()).abs(),
        (Value::Array(a), Value::Array(b)) if a.len() == b.len() => {
            a.iter().zip(b).map(|(a, b)| apart(a, b)).fold(0.0, f64::max)
        }
        (Value::Object(a), Value::Object(b)) if a.len() == b.len() => {
            a.iter().map(|(k, v)| b.get(k).map_or(f64::INFINITY, |w| apart(v, w))).fold(0.0, f64::max)
        }
        _ if a == b => 0.0,
        _ => f64::INFINITY,
    }
}

fn held_to(file: &str, cases: Vec<Value>) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../e2e/golden").join(file);
    let computed = Value::Array(cases);
    if std::env::var_os("UPDATE_GOLDEN").is_some() {
        std::fs::write(&path, format!("{}\n", serde_json::to_string_pretty(&computed).unwrap())).unwrap();
    }
    let kept: Value = serde_json::from_slice(&std::fs::read(&path).unwrap()).unwrap();
    let off = apart(&computed, &kept);
    assert!(off < TOLERANCE, "{file} is off by {off}");
}

/// A camera that pans and rises, in a datum that is turned, shifted and larger.
fn solution(readout: f64) -> Solution {
    let lens = Lens { k1: -0.05, k2: 0.01, ..Lens::centred(900.0, 1280, 720) };
    let pose = |f: u32| {
        let t = f64::from(f);
        let turn = Rotation3::from_euler_angles(0.01 * (0.5 * t).sin(), 0.02 * t, 0.004 * t);
        Pose { rotation: turn, translation: Vector3::new(-0.05 * t, 0.03 * t, 0.01 * t) }
    };
    let frames = (0..9).map(|f| SolvedFrame::new(f, pose(f), lens, 0.1, 50)).collect();
    Solution { frames, readout, ..Solution::empty(1280, 720, 9) }
}

#[test]
fn cameras_see_points_where_the_page_draws_them() {
    let rotation = Rotation3::from_euler_angles(0.4, -1.1, 0.2);
    let world = Similarity { scale: 2.5, rotation, translation: Vector3::new(1.0, -2.0, 3.0) };
    let mut cases = Vec::new();
    for readout in [0.0, 0.7, -0.4] {
        let solved = solution(readout);
        for frame in [0, 4, 8] {
            let camera = CameraPath::new(&solved, &world).at(frame).unwrap();
            let toward = camera.pose().rotation.inverse();
            let seen = [[0.1, -0.2, 4.0], [-2.0, 1.0, 9.0], [3.0, -1.5, 12.0], [0.0, 0.0, 60.0], [5.0, 4.0, 6.0]]
                .map(|p| toward * (Vector3::from(p) - camera.pose().translation));
            let pixels = seen.map(|p| camera.project(p).map(|p| [p.x, p.y]));
            let rays: Vec<_> = pixels
                .iter()
                .flatten()
                .map(|p| {
                    let ray = camera.ray(nalgebra::Vector2::from(*p));
                    json!({ "from": ray.from, "along": ray.along })
                })
                .collect();
            let camera = camera_as_sent(&camera, solved.height);
            cases.push(json!({ "camera": camera, "points": seen, "pixels": pixels, "rays": rays }));
        }
    }
    held_to("cameras.json", cases);
}

#[test]
fn outlines_are_between_their_keys_where_the_page_draws_them() {
    let key = |frame, outline: [[f64; 2]; 4]| OutlineKey::new(frame, outline.to_vec());
    let keys = vec![
        key(4, [[10.0, 10.0], [90.0, 12.0], [85.5, 70.0], [8.0, 64.0]]),
        key(9, [[20.0, 15.0], [95.0, 25.0], [99.0, 88.0], [18.0, 71.0]]),
        key(30, [[-5.0, 1.0], [60.0, 2.0], [61.0, 44.0], [-6.0, 40.0]]),
    ];
    let mut cases = Vec::new();
    let mut told = |outline: Outline| {
        for frame in [0, 4, 7, 9, 22, 40] {
            let (corners, shape) = (outline.at(frame), outline.shape_at(frame));
            cases.push(json!({ "outline": outline, "frame": frame, "corners": corners, "shape": shape }));
        }
    };
    for smooth in [vec![], vec![true; 4], vec![false, true]] {
        told(Outline { smooth, ..Outline::new(keys.clone()) });
    }
    let mut traced = Outline { smooth: vec![true; 4], ..Outline::new(keys) };
    traced.keys[1].along = vec![vec![[50.0, 11.0], [70.5, 19.0]], vec![], vec![[60.0, 95.0]], vec![]];
    told(traced);
    held_to("outlines.json", cases);
}

#[test]
fn inserts_stand_where_the_page_puts_their_handles() {
    let curve = |keys| Animated::Curve(Curve::new(keys).unwrap());
    let turned = |angles| Rotation::from_turn_lean_roll(angles);
    let keyed = Anchor {
        foot: Animated::Curve(
            Curve::new(vec![
                Key { frame: 0.0, value: [0.0, 0.0, 0.0], ease: Ease::Smooth },
                Key { frame: 10.0, value: [2.0, 0.5, -1.0], ease: Ease::Smooth },
                Key { frame: 16.0, value: [3.0, 0.2, -6.0], ease: Ease::Linear },
                Key { frame: 20.0, value: [3.0, 0.0, 0.0], ease: Ease::Hold },
                Key { frame: 30.0, value: [9.0, 9.0, 9.0], ease: Ease::Hold },
            ])
            .unwrap(),
        ),
        turn: Animated::Curve(
            Curve::new(vec![
                Key { frame: 2.0, value: turned([10.0, 0.0, 0.0]), ease: Ease::Smooth },
                Key { frame: 12.0, value: turned([100.0, 20.0, 0.0]), ease: Ease::Lands },
                Key { frame: 25.0, value: turned([170.0, -30.0, 15.0]), ease: Ease::Linear },
                Key { frame: 28.0, value: turned([-100.0, 0.0, 0.0]), ease: Ease::Smooth },
            ])
            .unwrap(),
        ),
        lift_m: curve(vec![
            Key { frame: 0.0, value: 0.0, ease: Ease::Leaves },
            Key { frame: 9.0, value: 1.5, ease: Ease::Rests },
            Key::smooth(19.0, 0.5),
        ]),
        ..Anchor::on([0.0; 3], [0.0, 1.0, 0.0])
    };
    let still = |normal: [f64; 3], angles: [f64; 3]| Anchor {
        turn: turned(angles).into(),
        lift_m: 0.25.into(),
        ..Anchor::on([1.0, 2.0, -3.0], normal)
    };
    let anchors = [
        still([0.0, 1.0, 0.0], [33.0, 0.0, 0.0]),
        still([0.6, 0.0, 0.8], [-120.0, 75.0, 0.0]),
        still([0.1, 0.9, (1.0f64 - 0.01 - 0.81).sqrt()], [200.0, -100.0, 12.0]),
        keyed,
    ];
    let mut cases = Vec::new();
    for anchor in anchors {
        for stance in [Stance::Standing, Stance::Lying] {
            let scale = curve(vec![Key::smooth(0.0, 1.0), Key::smooth(12.0, 3.0), Key::smooth(30.0, 2.0)]);
            let mut placement =
                Placement { anchor: anchor.clone(), scale, ..Placement::on([0.0; 3], [0.0, 1.0, 0.0], stance) };
            placement.pivot = [0.3, -0.2, 0.5];
            let facings = [Facing::Stays, Facing::Upright, Facing::Wholly];
            for (i, frame) in [-1.0, 5.0, 11.5, 18.0, 26.0, 99.0].into_iter().enumerate() {
                placement.facing = facings[i % 3];
                let m = placement.rotation(frame);
                let (eye, own) = (Vector3::new(7.0, 3.0, 5.0), Vector3::new(0.4, 1.5, -0.7));
                cases.push(json!({
                    "placement": placement, "frame": frame, "foot": placement.origin(frame),
                    "baseline": m * Vector3::x(), "up": m * Vector3::y(), "facing": m * Vector3::z(),
                    "scale": placement.scale.at(frame), "eye": eye, "own": own,
                    "own_seen": placement.own_toward(frame, eye).point(own),
                }));
            }
        }
    }
    held_to("placements.json", cases);
}
