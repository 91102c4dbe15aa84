//! Pictures held to those that were looked at and agreed (tests/golden/README.md).

use crate::title;
use fennik_core::camera::{Camera, CameraPath};
use fennik_core::geometry::{Lens, Pose, Similarity};
use fennik_core::scene::{Insert, InsertId, Light, LightNow, Stance};
use fennik_core::solve::{Solution, SolvedFrame};
use fennik_render::{NoAssets, Quality, RenderScene, ShapeCache, composite};
use image::RgbImage;
use nalgebra::{Rotation3, Vector3};
use std::path::Path;

const WIDTH: u32 = 320;
const HEIGHT: u32 = 180;
/// One sample of sixteen falls to the other side of an edge.
const MOST: u8 = 16;
/// Mean difference of a picture, of 255.
const MEAN: f64 = 0.03;

fn look(eye: [f64; 3]) -> Pose {
    Pose::look_at(Vector3::from(eye), Vector3::new(0.0, 0.45, 0.0), Vector3::y()).unwrap()
}

fn drawn(inserts: &[Insert], camera: &Camera, quality: Quality) -> RgbImage {
    let light: Light = LightNow {
        bearing_deg: 55.0,
        height_deg: 30.0,
        sun: 0.9,
        ambient: 0.3,
        floor_shadow: 0.0,
        ..LightNow::default()
    }
    .into();
    let scene = RenderScene::build(inserts, &light, &ShapeCache::default(), &NoAssets::shared()).unwrap();
    let mut rgb = vec![120; (WIDTH * HEIGHT * 3) as usize];
    composite(&mut rgb, WIDTH as usize, HEIGHT as usize, camera, &scene, quality, 0.0).unwrap();
    RgbImage::from_raw(WIDTH, HEIGHT, rgb).unwrap()
}

/// Largest and mean difference.
fn apart(a: &RgbImage, b: &RgbImage) -> (u8, f64) {
    let differences = a.iter().zip(b.iter()).map(|(a, b)| a.abs_diff(*b));
    let (most, sum) = differences.fold((0, 0u64), |(most, sum), d| (most.max(d), sum + u64::from(d)));
    (most, sum as f64 / a.len() as f64)
}

fn held_to(case: &str, drawn: &RgbImage) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/golden/{case}.png"));
    if std::env::var_os("UPDATE_GOLDEN").is_some() {
        drawn.save(&path).unwrap();
    }
    let golden = image::open(&path).unwrap().into_rgb8();
    let (most, mean) = apart(drawn, &golden);
    if most > MOST || mean > MEAN {
        // Beside each other under target/, to be looked at.
        let out = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/golden");
        std::fs::create_dir_all(&out).unwrap();
        drawn.save(out.join(format!("{case}.actual.png"))).unwrap();
        let difference = RgbImage::from_fn(WIDTH, HEIGHT, |x, y| {
            let (a, b) = (drawn.get_pixel(x, y), golden.get_pixel(x, y));
            image::Rgb(std::array::from_fn(|k| a[k].abs_diff(b[k]).saturating_mul(8)))
        });
        difference.save(out.join(format!("{case}.difference.png"))).unwrap();
        panic!("{case} differs by {most} at most and {mean:.4} on average; see target/golden");
    }
}

fn standing() -> Vec<Insert> {
    let front = title("KAI 7", "Lato Black", Stance::Standing, 0.04);
    let mut behind = title("B", "League Spartan Bold", Stance::Standing, 0.02);
    behind.id = InsertId(2);
    behind.placement.anchor.foot = [1.2, 0.0, 0.9].into();
    behind.placement.set_turn_lean_deg(0.0, [-35.0, 10.0]);
    vec![front, behind]
}

fn still(eye: [f64; 3], k1: f64) -> Camera {
    Camera::new(look(eye), Lens { k1, ..Lens::centred(300.0, WIDTH, HEIGHT) }, HEIGHT)
}

#[test]
fn titles_stand_in_the_sun_and_take_each_others_light() {
    held_to("standing", &drawn(&standing(), &still([1.4, 1.5, 4.2], 0.0), Quality::Exact));
}

#[test]
fn a_draft_is_as_it_was() {
    held_to("draft", &drawn(&standing(), &still([1.4, 1.5, 4.2], 0.0), Quality::Draft));
}

#[test]
fn lines_lie_on_the_floor_through_a_lens_that_bends() {
    let flat = title("VARRICK\nBASIN", "Lato Black", Stance::Lying, 0.03);
    held_to("lying", &drawn(&[flat], &still([0.6, 3.4, 3.2], -0.12), Quality::Exact));
}

#[test]
fn a_title_bends_with_the_rows() {
    let pose = |t: f64| {
        let (at, pan) = (look([0.4 + 0.1 * t, 1.2, 4.0]), Rotation3::from_euler_angles(0.02 * t, 0.25 * t, 0.0));
        Pose { rotation: pan * at.rotation, translation: pan * at.translation }
    };
    let lens = Lens::centred(300.0, WIDTH, HEIGHT);
    let frames = (0..5).map(|f| SolvedFrame::new(f, pose(f64::from(f) - 2.0), lens, 0.1, 50)).collect();
    let solution = Solution { frames, readout: 0.8, ..Solution::empty(WIDTH, HEIGHT, 5) };
    let camera = CameraPath::new(&solution, &Similarity::identity()).at(2).unwrap();
    held_to("rolling", &drawn(&[title("HI", "Lato Black", Stance::Standing, 0.02)], &camera, Quality::Exact));
}

/// The tolerance tells a twentieth of a pixel.
#[test]
fn a_small_shift_is_seen() {
    let at = drawn(&standing(), &still([1.4, 1.5, 4.2], 0.0), Quality::Exact);
    let camera = Camera::new(
        look([1.4, 1.5, 4.2]),
        Lens { centre_px: [159.55, 89.5], ..Lens::centred(300.0, WIDTH, HEIGHT) },
        HEIGHT,
    );
    let (_, mean) = apart(&at, &drawn(&standing(), &camera, Quality::Exact));
    assert!(mean > 2.0 * MEAN, "{mean}");
}
