//! A frame of a title at 1280x720, as a draft and as it is delivered: `cargo bench -p fennik-render`.
#![expect(missing_docs, reason = "criterion's macros make what is public here")]
#![expect(clippy::unwrap_used, reason = "a bench ends where something it needs is missing")]

use criterion::{Criterion, criterion_group, criterion_main};
use fennik_core::camera::Camera;
use fennik_core::geometry::{Lens, Pose};
use fennik_core::scene::{Insert, InsertId, InsertKind, Light, Placement, Stance, Title};
use fennik_render::{NoAssets, Quality, RenderScene, ShapeCache, composite};
use nalgebra::Vector3;

const WIDTH: u32 = 1280;
const HEIGHT: u32 = 720;

fn title(text: &str) -> Insert {
    let title = Title {
        lettering: Default::default(),
        text: text.into(),
        font: "Lato Black".into(),
        height_m: 1.0,
        depth_m: 0.25,
        bevel_m: 0.03,
        colour: [240, 180, 40],
    };
    let placement = Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing);
    Insert { id: InsertId(1), ..Insert::new(InsertKind::Title(title), placement) }
}

fn frames(criterion: &mut Criterion) {
    let insert = title("VARRICK");
    let shapes = ShapeCache::default();
    let scene =
        RenderScene::build(std::slice::from_ref(&insert), &Light::default(), &shapes, &NoAssets::shared()).unwrap();
    let eye = Vector3::new(0.8, 1.6, 6.5);
    let pose = Pose::look_at(eye, Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
    let camera = Camera::new(pose, Lens { k1: -0.05, ..Lens::centred(1100.0, WIDTH, HEIGHT) }, HEIGHT);
    let plate = vec![120u8; (WIDTH * HEIGHT * 3) as usize];
    let draw = |quality| {
        let mut rgb = plate.clone();
        composite(&mut rgb, WIDTH as usize, HEIGHT as usize, &camera, &scene, quality, 0.0).unwrap();
        rgb
    };
    // The answer first: the letters are in the picture, and not all over it.
    let covered = draw(Quality::Exact).chunks(3).filter(|p| *p != [120; 3]).count();
    assert!((20_000..500_000).contains(&covered), "{covered} pixels are covered");
    criterion.bench_function("frame/draft 1280x720", |b| b.iter(|| draw(Quality::Draft)));
    criterion.bench_function("frame/exact 1280x720", |b| b.iter(|| draw(Quality::Exact)));
    criterion.bench_function("shape/7 letters with a bevel", |b| {
        b.iter(|| ShapeCache::default().shape(&insert.content, Stance::Standing, &NoAssets).unwrap());
    });
}

criterion_group! { name = benches; config = Criterion::default().sample_size(20); targets = frames }
criterion_main!(benches);
