//! The picture against an independent account of it: every pixel's ray tried on every triangle.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

mod golden;

use fennik_core::camera::{Camera, CameraPath};
use fennik_core::geometry::{Lens, Pose, Similarity};
use fennik_core::scene::anim::{Animated, Curve, Key};
use fennik_core::scene::{Insert, InsertId, InsertKind, Light, LightNow, Placement, Stance, Title};
use fennik_core::solve::{Solution, SolvedFrame};
use fennik_render::{Mesh, NoAssets, Quality, RenderScene, ShapeCache, composite, fonts};
use nalgebra::{Rotation3, Vector2, Vector3};
use proptest::prelude::*;

const WIDTH: usize = 160;
const HEIGHT: usize = 90;
const PLATE: u8 = 70;

fn letters(text: &str, font: &str, bevel_m: f64) -> Title {
    Title {
        text: text.into(),
        font: font.into(),
        height_m: 1.0,
        depth_m: 0.25,
        bevel_m,
        colour: [240, 180, 40],
        lettering: Default::default(),
    }
}

pub(crate) fn title(text: &str, font: &str, stance: Stance, bevel_m: f64) -> Insert {
    let content = InsertKind::Title(letters(text, font, bevel_m));
    let placement = Placement::on([0.0; 3], [0.0, 1.0, 0.0], stance);
    Insert { id: InsertId(1), ..Insert::new(content, placement) }
}

/// No shadow on the floor, so that what changes is the insert alone.
fn light() -> Light {
    LightNow { floor_shadow: 0.0, ..Light::default().at(0.0) }.into()
}

fn draw(insert: &Insert, pose: &Pose, lens: &Lens, quality: Quality) -> Vec<u8> {
    let scene = RenderScene::build(std::slice::from_ref(insert), &light(), &ShapeCache::default(), &NoAssets::shared())
        .unwrap();
    let mut rgb = vec![PLATE; WIDTH * HEIGHT * 3];
    composite(&mut rgb, WIDTH, HEIGHT, &Camera::new(*pose, *lens, HEIGHT as u32), &scene, quality, 0.0).unwrap();
    rgb
}

/// Whether the middle of a pixel sees the mesh: Moller & Trumbore's test on every triangle, in f64.
fn sees(mesh: &Mesh, pose: &Pose, lens: &Lens, x: usize, y: usize) -> bool {
    let n = lens.unproject(Vector2::new(x as f64, y as f64));
    let ray = pose.rotation.inverse() * Vector3::new(n.x, n.y, 1.0);
    let eye = pose.centre();
    (0..mesh.indices.len()).any(|i| {
        let [a, b, c] = mesh.triangle(i).map(|p| p.cast::<f64>());
        let (u, v) = (b - a, c - a);
        let p = ray.cross(&v);
        let det = u.dot(&p);
        if det.abs() < 1e-12 {
            return false;
        }
        let t = eye - a;
        let s = t.dot(&p) / det;
        let q = t.cross(&u);
        let r = ray.dot(&q) / det;
        s >= 0.0 && r >= 0.0 && s + r <= 1.0 && v.dot(&q) / det > 0.0
    })
}

fn changed(rgb: &[u8], x: usize, y: usize) -> bool {
    rgb[3 * (y * WIDTH + x)..3 * (y * WIDTH + x) + 3] != [PLATE; 3]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]
    #[test]
    fn a_draft_shows_the_title_on_just_the_pixels_whose_rays_meet_it(
        x in -3f64..3.0, y in 0.3f64..3.0, z in 2.5f64..6.0, k1 in -0.12f64..0.12, focal in 90f64..260.0,
            turn in -180f64..180.0, lying in any::<bool>(),
    ) {
        let stance = if lying { Stance::Lying } else { Stance::Standing };
        let mut insert = title("Qu", "Lato Black", stance, 0.03);
        insert.placement.set_turn_lean_deg(0.0, [turn, 0.0]);
        let pose = Pose::look_at(Vector3::new(x, y, z), Vector3::new(0.1, 0.4, 0.0), Vector3::y()).unwrap();
        let lens = Lens { k1, ..Lens::centred(focal, WIDTH as u32, HEIGHT as u32) };
        let rgb = draw(&insert, &pose, &lens, Quality::Draft);
        let mesh = RenderScene::mesh(&insert, &[], 0.0, &NoAssets).unwrap();
        let wrong = (0..WIDTH * HEIGHT)
            .filter(|i| changed(&rgb, i % WIDTH, i / WIDTH) != sees(&mesh, &pose, &lens, i % WIDTH, i / WIDTH)).count();
        // Rays that graze an edge may fall to either side in f32.
        prop_assert!(wrong <= 6, "{wrong} pixels differ");
    }
}

/// What was filmed row by row is drawn row by row: each pixel shows what a ray of its own row's camera meets.
#[test]
fn an_insert_follows_the_rows_of_a_rolling_shutter() {
    let lens = Lens { k1: -0.04, ..Lens::centred(150.0, WIDTH as u32, HEIGHT as u32) };
    let pose = |t: f64| {
        // A whip of the head: some forty pixels a frame.
        let pan = Rotation3::from_euler_angles(0.02 * t, 0.25 * t, 0.0);
        let at =
            Pose::look_at(Vector3::new(0.4 + 0.1 * t, 1.2, 4.0), Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
        Pose { rotation: pan * at.rotation, translation: pan * at.translation }
    };
    let frames = (0..5).map(|f| SolvedFrame::new(f, pose(f64::from(f) - 2.0), lens, 0.1, 50)).collect();
    let solution = Solution { frames, readout: 0.8, ..Solution::empty(WIDTH as u32, HEIGHT as u32, 5) };
    let insert = title("HI", "Lato Black", Stance::Standing, 0.02);
    let scene =
        RenderScene::build(std::slice::from_ref(&insert), &light(), &ShapeCache::default(), &NoAssets::shared())
            .unwrap();
    let mesh = RenderScene::mesh(&insert, &[], 0.0, &NoAssets).unwrap();
    let shown = |readout: f64| {
        let solution = Solution { readout, ..solution.clone() };
        let camera = CameraPath::new(&solution, &Similarity::identity()).at(2).unwrap();
        let mut rgb = vec![PLATE; WIDTH * HEIGHT * 3];
        composite(&mut rgb, WIDTH, HEIGHT, &camera, &scene, Quality::Draft, 0.0).unwrap();
        rgb
    };
    let rolling = shown(0.8);
    let mut wrong = 0;
    let mut letters = 0;
    for y in 0..HEIGHT {
        // The oracle: this row's pose by the motion that the frames were made with.
        let row = pose(0.8 * (y as f64 / (HEIGHT - 1) as f64 - 0.5));
        for x in 0..WIDTH {
            let there = sees(&mesh, &row, &lens, x, y);
            letters += usize::from(there);
            wrong += usize::from(changed(&rolling, x, y) != there);
        }
    }
    assert!(letters > 400 && wrong * 50 < letters, "{wrong} of {letters} pixels differ");
    let global = shown(0.0);
    let apart = (0..WIDTH * HEIGHT).filter(|i| {
        let at = |rgb: &[u8]| changed(rgb, i % WIDTH, i / WIDTH);
        at(&rolling) != at(&global)
    });
    assert!(apart.count() > letters / 8, "it would show if all rows were exposed at once");
}

#[test]
fn the_exact_picture_is_the_draft_with_smooth_edges() {
    let insert = title("KAI", "Lato Black", Stance::Standing, 0.0);
    let pose = Pose::look_at(Vector3::new(0.6, 1.2, 4.0), Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
    let lens = Lens::centred(150.0, WIDTH as u32, HEIGHT as u32);
    let (draft, exact) = (draw(&insert, &pose, &lens, Quality::Draft), draw(&insert, &pose, &lens, Quality::Exact));
    let mesh = RenderScene::mesh(&insert, &[], 0.0, &NoAssets).unwrap();
    let mut inner = 0;
    for y in 1..HEIGHT - 1 {
        for x in 1..WIDTH - 1 {
            let around: Vec<bool> = (0..9).map(|k| sees(&mesh, &pose, &lens, x + k % 3 - 1, y + k / 3 - 1)).collect();
            if around.iter().all(|&s| !s) {
                assert!(!changed(&exact, x, y), "the plate changed at {x}, {y}");
            }
            if around.iter().all(|&s| s) {
                inner += 1;
                assert!(changed(&exact, x, y) && changed(&draft, x, y), "no letter at {x}, {y}");
            }
        }
    }
    assert!(inner > 200, "{inner} pixels lie inside the letters");
}

#[test]
fn every_font_that_ships_can_set_a_name_and_says_what_it_cannot() {
    assert!(fonts().len() >= 4, "at least four families");
    for font in fonts() {
        for stance in [Stance::Standing, Stance::Lying] {
            let mesh =
                RenderScene::mesh(&title("Łódź Regatta 2026 & Söhne", font.name, stance, 0.02), &[], 0.0, &NoAssets)
                    .unwrap();
            let (low, high) = mesh.bounds().unwrap();
            assert!(mesh.indices.len() > 400 && high.x - low.x > 4.0, "{}: {low:?} {high:?}", font.name);
            if stance == Stance::Standing {
                assert!(low.y.abs() < 1e-4, "{} stands at {}", font.name, low.y);
            } else {
                assert!(low.y.abs() < 1e-4 && high.y < 0.3, "{} lies from {} to {}", font.name, low.y, high.y);
            }
        }
        assert!(
            RenderScene::mesh(&title("漢", font.name, Stance::Standing, 0.0), &[], 0.0, &NoAssets)
                .unwrap_err()
                .to_string()
                .contains("漢")
        );
    }
}

#[test]
fn letters_are_closed_solids() {
    for font in fonts() {
        let mesh = RenderScene::mesh(&title("R8o", font.name, Stance::Standing, 0.02), &[], 0.0, &NoAssets).unwrap();
        // A closed surface meets every line an even number of times.
        let (low, high) = mesh.bounds().unwrap();
        let mut odd = 0;
        for i in 0..40 {
            let t = (i as f32 + 0.37) / 40.0;
            let eye =
                Vector3::new(low.x + t * (high.x - low.x), low.y + (1.0 - t) * (high.y - low.y), 50.0).cast::<f64>();
            let hits = (0..mesh.indices.len())
                .filter(|&k| {
                    let [a, b, c] = mesh.triangle(k).map(|p| p.cast::<f64>());
                    let side =
                        |p: Vector3<f64>, q: Vector3<f64>| (q.x - p.x) * (eye.y - p.y) - (q.y - p.y) * (eye.x - p.x);
                    let (s, u, v) = (side(a, b), side(b, c), side(c, a));
                    (s > 0.0 && u > 0.0 && v > 0.0) || (s < 0.0 && u < 0.0 && v < 0.0)
                })
                .count();
            odd += hits % 2;
        }
        assert_eq!(odd, 0, "{}", font.name);
    }
}

#[test]
fn sizes_that_cannot_be_shown_are_refused_before_anything_is_built() {
    for (height_m, depth_m) in [(0.0, 0.1), (f64::NAN, 0.1), (1.0, -0.1), (1e9, 0.1)] {
        let letters = Title { height_m, depth_m, ..letters("A", "Lato Black", 0.0) };
        let whole = title("A", "Lato Black", Stance::Standing, 0.0);
        let insert = Insert { content: InsertKind::Title(letters), ..whole };
        assert!(RenderScene::mesh(&insert, &[], 0.0, &NoAssets).is_err(), "{height_m} {depth_m}");
        assert!(RenderScene::build(&[insert], &light(), &ShapeCache::default(), &NoAssets::shared()).is_err());
    }
}

/// What changes over time is drawn as it is then.
#[test]
fn a_keyed_insert_stands_elsewhere_on_another_frame() {
    let mut insert = title("H", "Lato Black", Stance::Standing, 0.0);
    let keys = vec![Key::smooth(0.0, [-1.0, 0.0, 0.0]), Key::smooth(8.0, [1.0, 0.0, 0.0])];
    insert.placement.anchor.foot = Animated::Curve(Curve::new(keys).unwrap());
    let middle = |frame: f64| {
        let (low, high) = RenderScene::mesh(&insert, &[], frame, &NoAssets).unwrap().bounds().unwrap();
        (low.x + high.x) / 2.0
    };
    assert!((middle(-3.0) + 1.0).abs() < 0.02 && (middle(20.0) - 1.0).abs() < 0.02, "held outside its keys");
    // A quarter of the way: 2 (3 t^2 - 2 t^3) from the first key.
    assert!((middle(2.0) - (-1.0 + 2.0 * 0.15625)).abs() < 0.02, "{}", middle(2.0));
    let scene =
        RenderScene::build(std::slice::from_ref(&insert), &light(), &ShapeCache::default(), &NoAssets::shared())
            .unwrap();
    let eye = Vector3::new(0.0, 1.0, 5.0);
    assert!(!std::sync::Arc::ptr_eq(&scene.at(2.0, eye, false).unwrap(), &scene.at(3.0, eye, false).unwrap()));
    insert.placement.anchor.foot = [0.0; 3].into();
    let still = RenderScene::build(&[insert], &light(), &ShapeCache::default(), &NoAssets::shared()).unwrap();
    assert!(
        std::sync::Arc::ptr_eq(&still.at(2.0, eye, false).unwrap(), &still.at(3.0, eye, false).unwrap()),
        "what stays is placed once"
    );
}
