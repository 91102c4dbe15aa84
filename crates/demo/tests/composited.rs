//! What is composited over a film against a film of the same thing in its place: same light, lens, shutter, rows.

use fennik_core::camera::CameraPath;
use fennik_core::geometry::{Pose, Similarity};
use fennik_core::scene::{Asset, AssetName, Insert, InsertKind, Light, LightNow, ModelUp, Placement, Prop, Stance};
use fennik_core::solve::{Solution, SolvedFrame};
use fennik_demo::places::Place;
use fennik_demo::scenery::{SceneLight, Scenery, Witness};
use fennik_demo::sensor::film;
use fennik_demo::take::Take;
use fennik_render::{
    AssetError, Assets, Material, Mesh, Model, Quality, RenderScene, Run, ShapeCache, Texture, Treatment, composite,
};
use nalgebra::Vector3;
use std::sync::Arc;

/// Strength of the sun, and of the light from everywhere, as the renderer has them.
const SUN: f32 = 0.9;
const AMBIENT: f32 = 0.4;

/// The same as the film maker has it: what is upright gets 0.85 of it, what looks up the whole.
const LIGHT: SceneLight = SceneLight { sun: [SUN; 3], sky: [0.85 * AMBIENT; 3], up: 0.15 / 0.85, haze: false };

/// A box as a model.
#[derive(Debug)]
struct BoxModel(Arc<Model>);

impl BoxModel {
    fn of(witness: &Witness) -> Self {
        let [x, y, z] = witness.size.map(|v| v as f32);
        let (x, z) = (0.5 * x, 0.5 * z);
        let corner = |i: usize| {
            Vector3::new(
                if i & 1 == 0 { -x } else { x },
                if i & 2 == 0 { 0.0 } else { y },
                if i & 4 == 0 { -z } else { z },
            )
        };
        let faces = [[0, 4, 6, 2], [1, 3, 7, 5], [0, 1, 5, 4], [2, 6, 7, 3], [0, 2, 3, 1], [4, 5, 7, 6]];
        let indices = faces.iter().flat_map(|[a, b, c, d]| [[*a, *b, *c], [*a, *c, *d]]).map(|t| t.map(|k| k as u32));
        let mesh = Mesh { positions: (0..8).map(corner).collect(), indices: indices.collect(), ..Mesh::default() };
        let materials = vec![Material::matt(witness.colour)];
        Self(Arc::new(Model { mesh, materials, names: vec!["all".to_owned()], rig: None }))
    }
}

fn none() -> AssetError {
    AssetError("none".to_owned())
}

impl Assets for BoxModel {
    fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
        Ok(Run { frames: 1, rate: 1.0 })
    }
    fn picture(&self, _: &AssetName, _: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
        Err(none())
    }
    fn model(&self, _: &AssetName) -> Result<Arc<Model>, AssetError> {
        Ok(self.0.clone())
    }
    fn bytes(&self, _: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
        Err(none())
    }
}

fn moving(frame: f64) -> Pose {
    let eye = Vector3::new(1.0 + 0.05 * frame, 3.2, 14.0 - 0.02 * frame);
    Pose::look_at(eye, Vector3::new(-0.6 + 0.03 * frame, 1.0, 3.0), Vector3::y()).unwrap_or_else(Pose::identity)
}

fn still(_: f64) -> Pose {
    moving(3.0)
}

fn take(pose: fn(f64) -> Pose, shutter: f64, readout: f64) -> Take {
    Take {
        name: "witness",
        place: Place::Quay,
        motion: "free",
        width: 640,
        height: 360,
        frames: 7,
        pose,
        focal: |_| 960.0,
        k1: -0.03,
        shutter,
        readout,
        rays: 36,
        least_rays: usize::MAX,
        noise: 0.0,
        contrast: 1.0,
        plain: true,
        flicker: 0.0,
        crowd: 0,
        caption: false,
        rate_factor: 20,
    }
}

fn linear(byte: u8) -> f64 {
    f64::from(fennik_render::colour::linear_of(byte))
}

/// How far apart the edges of two pictures are, px, and how much brighter the one is than the other, in parts.
struct Apart {
    edges: Vec<f64>,
    brighter: f64,
}

/// Compares a filmed and a composited box against the plate without either.
fn apart(filmed: &[u8], composited: &[u8], plate: &[u8], width: usize) -> Apart {
    let green = |of: &[u8], i: usize| linear(of[3 * i + 1]);
    let covered: Vec<bool> = (0..filmed.len() / 3)
        .map(|i| {
            let d = |of: &[u8]| (0..3).map(|k| of[3 * i + k].abs_diff(plate[3 * i + k])).max().unwrap_or(0);
            d(composited) > 12
        })
        .collect();
    let rows: Vec<usize> =
        (0..covered.len() / width).filter(|y| covered[y * width..][..width].iter().any(|c| *c)).collect();
    // Its foot stands in its own shadow, which is the film's alone.
    let upper = &rows[rows.len() / 10..rows.len() * 6 / 10];
    let mut edges = Vec::new();
    let (mut of_film, mut of_composite) = (0.0, 0.0);
    for y in upper {
        let row = &covered[y * width..][..width];
        let (Some(left), Some(right)) = (row.iter().position(|c| *c), row.iter().rposition(|c| *c)) else { continue };
        if right < left + 30 {
            continue;
        }
        for (edge, inside) in [(left, left + 8), (right, right - 8)] {
            let (low, high) = (edge.saturating_sub(6).max(1), (edge + 6).min(width - 2));
            let contrast = green(composited, y * width + inside) - green(plate, y * width + edge);
            if contrast.abs() < 0.12 {
                continue;
            }
            // What is missing on one side of an edge is how far it has moved.
            let sum: f64 = (low..=high).map(|x| green(filmed, y * width + x) - green(composited, y * width + x)).sum();
            edges.push(sum / contrast);
        }
        for x in left + 10..right - 10 {
            of_film += green(filmed, y * width + x);
            of_composite += green(composited, y * width + x);
        }
    }
    Apart { edges, brighter: of_composite / of_film - 1.0 }
}

#[test]
fn a_composited_box_agrees_with_a_filmed_one() {
    let witness = Witness { foot: [-0.6, 0.0, 3.4], size: [1.6, 1.9, 0.9], turn_deg: 24.0, colour: [0.62, 0.58, 0.5] };
    let (with, without) = (Scenery::with(Place::Quay, LIGHT, &[witness]), Scenery::with(Place::Quay, LIGHT, &[]));
    let sun = with.toward_sun();
    let light: Light = LightNow {
        bearing_deg: sun.x.atan2(sun.z).to_degrees(),
        height_deg: sun.y.asin().to_degrees(),
        sun: f64::from(SUN),
        ambient: f64::from(AMBIENT),
        floor_shadow: 0.0,
    }
    .into();
    let asset = Asset { name: AssetName::of_digest(&[1; 32]), file: "box.obj".into() };
    let mut placement = Placement::on(witness.foot, [0.0, 1.0, 0.0], Stance::Standing);
    placement.set_turn_lean_deg(0.0, [witness.turn_deg, 0.0]);
    let insert = Insert::new(InsertKind::Prop(Prop::new(asset, 1.0, ModelUp::Y)), placement);
    let assets: Arc<dyn Assets> = Arc::new(BoxModel::of(&witness));
    let scene = RenderScene::build(&[insert], &light, &ShapeCache::default(), &assets).unwrap();
    for (name, take) in [
        ("still", take(still, 0.0, 0.0)),
        ("moving, shutter half open", take(moving, 0.5, 0.0)),
        ("rolling, shutter half open", take(moving, 0.5, 0.6)),
    ] {
        let frames = (0..take.frames).map(|f| {
            let (pose, lens) = (take.pose(f64::from(f)), take.lens(f64::from(f)));
            SolvedFrame::new(f, pose, lens, 0.0, 100)
        });
        let solution = Solution {
            frames: frames.collect(),
            readout: take.readout,
            ..Solution::empty(take.width, take.height, take.frames)
        };
        let camera = CameraPath::new(&solution, &Similarity::identity()).at(3).unwrap();
        let [filmed, plate] = [&with, &without].map(|scenery| film(scenery, &take, 3));
        let mut composited = plate.clone();
        composite(&mut composited, 640, 360, &camera, &scene, Quality::Exact, take.shutter).unwrap();
        if let Some(folder) = std::env::var_os("KEEP_PICTURES") {
            for (what, bytes) in [("filmed", &filmed), ("composited", &composited)] {
                let path = std::path::Path::new(&folder).join(format!("{name}-{what}.png"));
                image::RgbImage::from_raw(640, 360, bytes.clone()).unwrap().save(path).unwrap();
            }
        }
        let apart = apart(&filmed, &composited, &plate, 640);
        let mut sizes: Vec<f64> = apart.edges.iter().map(|e| e.abs()).collect();
        sizes.sort_by(f64::total_cmp);
        let (median, most) = (sizes[sizes.len() / 2], sizes[sizes.len() * 95 / 100]);
        println!(
            "{name}: edges {median:.3} px in the median, 95 of 100 within {most:.3}; brightness {:+.2} %",
            100.0 * apart.brighter
        );
        assert!(sizes.len() > 60, "{name}: {} edges", sizes.len());
        assert!(most < 0.2, "{name}: {most} px");
        assert!(apart.brighter.abs() < 0.03, "{name}: {}", apart.brighter);
    }
}
