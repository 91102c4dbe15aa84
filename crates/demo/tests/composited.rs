//! What is composited over a film against a film of the same thing in its place: same light, lens, shutter, rows.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

use fennik_core::camera::CameraPath;
use fennik_core::geometry::{Lens, Pose, Similarity};
use fennik_core::scene::{
    Asset, AssetName, Insert, InsertKind, Lettering, Light, LightNow, ModelUp, Placement, Prop, Sign, Stance, Title,
};
use fennik_core::solve::{Solution, SolvedFrame};
use fennik_demo::places::Place;
use fennik_demo::scene::{Met, Scene};
use fennik_demo::scenery::{SceneLight, Scenery, Witness};
use fennik_demo::sensor::film;
use fennik_demo::take::Take;
use fennik_demo::uprights::Upright;
use fennik_render::{
    AssetError, Assets, Material, Mesh, Model, Quality, RenderScene, Run, ShapeCache, Texture, Treatment, composite,
};
use nalgebra::Vector3;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

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
        rays: 24,
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

impl Apart {
    /// Asserts what is asked, and says what was found.
    fn holds(&self, name: &str, least: usize) {
        let mut sizes: Vec<f64> = self.edges.iter().map(|e| e.abs()).collect();
        sizes.sort_by(f64::total_cmp);
        assert!(sizes.len() > least, "{name}: {} edges", sizes.len());
        let (median, most) = (sizes[sizes.len() / 2], sizes[sizes.len() * 95 / 100]);
        println!(
            "{name}: {} edges {median:.3} px in the median, 95 of 100 within {most:.3}; brightness {:+.2} %",
            sizes.len(),
            100.0 * self.brighter
        );
        assert!(most < 0.2, "{name}: {most} px");
        assert!(self.brighter.abs() < 0.03, "{name}: {}", self.brighter);
    }
}

/// Narrowest run of a row that is compared, px, and how far inside it its light is looked at.
const LEAST_RUN: usize = 24;
const INSIDE: usize = 8;

/// Compares something filmed and composited against the plate without either, run by run of each row.
fn apart(filmed: &[u8], composited: &[u8], plate: &[u8], width: usize) -> Apart {
    let green = |of: &[u8], i: usize| linear(of[3 * i + 1]);
    let covered: Vec<bool> =
        (0..filmed.len() / 3).map(|i| (0..3).any(|k| composited[3 * i + k].abs_diff(plate[3 * i + k]) > 12)).collect();
    let rows: Vec<usize> =
        (0..covered.len() / width).filter(|y| covered[y * width..][..width].iter().any(|c| *c)).collect();
    // Its foot stands in its own shadow, which is the film's alone.
    let upper = &rows[rows.len() / 10..rows.len() * 6 / 10];
    let mut edges = Vec::new();
    let (mut of_film, mut of_composite) = (0.0, 0.0);
    for y in upper {
        let row = &covered[y * width..][..width];
        let mut x = 0;
        while x < width {
            let long = row[x..].iter().take_while(|c| **c).count();
            let (left, next) = (x, x + long.max(1));
            x = next;
            if long < LEAST_RUN {
                continue;
            }
            let right = next - 1;
            for (edge, inside) in [(left, left + INSIDE), (right, right - INSIDE)] {
                let (low, high) = (edge.saturating_sub(6).max(1), (edge + 6).min(width - 2));
                let alone = (low..=high).all(|x| (left..=right).contains(&x) || !row[x]);
                let contrast = green(composited, y * width + inside) - green(plate, y * width + edge);
                if !alone || contrast.abs() < 0.12 {
                    continue;
                }
                // What is missing on one side of an edge is how far it has moved.
                let missing = |x: usize| green(filmed, y * width + x) - green(composited, y * width + x);
                edges.push((low..=high).map(missing).sum::<f64>() / contrast);
            }
            for x in left + INSIDE..right - INSIDE {
                of_film += green(filmed, y * width + x);
                of_composite += green(composited, y * width + x);
            }
        }
    }
    Apart { edges, brighter: of_composite / of_film - 1.0 }
}

/// The light of the film as the renderer names it.
fn named(toward_sun: Vector3<f64>) -> Light {
    LightNow {
        bearing_deg: toward_sun.x.atan2(toward_sun.z).to_degrees(),
        height_deg: toward_sun.y.asin().to_degrees(),
        sun: f64::from(SUN),
        ambient: f64::from(AMBIENT),
        floor_shadow: 0.0,
        ..LightNow::default()
    }
    .into()
}

/// The cameras of a take, as a solve that is right.
fn solved(take: &Take) -> Solution {
    let frames = (0..take.frames).map(|f| {
        let (pose, lens) = (take.pose(f64::from(f)), take.lens(f64::from(f)));
        SolvedFrame::new(f, pose, lens, 0.0, 100)
    });
    Solution {
        frames: frames.collect(),
        readout: take.readout,
        ..Solution::empty(take.width, take.height, take.frames)
    }
}

/// Films one frame with and without, composites over the latter, and compares.
fn compared(name: &str, take: &Take, [with, without]: [&dyn Scene; 2], scene: &RenderScene, least: usize) {
    let solution = solved(take);
    let camera = CameraPath::new(&solution, &Similarity::identity()).at(FRAME).unwrap();
    let filmed = film(with, take, FRAME);
    let plate = plate(without, take);
    let mut composited = plate.to_vec();
    composite(&mut composited, 640, 360, &camera, scene, Quality::Exact, take.shutter).unwrap();
    if let Some(folder) = std::env::var_os("KEEP_PICTURES") {
        for (what, bytes) in [("filmed", &filmed), ("composited", &composited)] {
            let path = std::path::Path::new(&folder).join(format!("{name}-{what}.png"));
            image::RgbImage::from_raw(640, 360, bytes.clone()).unwrap().save(path).unwrap();
        }
    }
    apart(&filmed, &composited, &plate, 640).holds(name, least);
}

/// The frame without anything placed. All that is compared stands on the same quay, so it is filmed once for a take.
fn plate(quay: &dyn Scene, take: &Take) -> Arc<Vec<u8>> {
    type Plates = Vec<([u64; 3], Arc<OnceLock<Arc<Vec<u8>>>>)>;
    static PLATES: Mutex<Plates> = Mutex::new(Vec::new());
    let of = [take.shutter.to_bits(), take.readout.to_bits(), take.rays as u64];
    let slot = {
        let mut all = PLATES.lock().unwrap_or_else(PoisonError::into_inner);
        let at = all.iter().position(|(key, _)| *key == of).unwrap_or_else(|| {
            all.push((of, Arc::default()));
            all.len() - 1
        });
        all[at].1.clone()
    };
    slot.get_or_init(|| Arc::new(film(quay, take, FRAME))).clone()
}

/// The frame that is compared.
const FRAME: u32 = 3;

fn takes() -> [(&'static str, Take); 3] {
    [
        ("still", take(still, 0.0, 0.0)),
        ("moving, shutter half open", take(moving, 0.5, 0.0)),
        ("rolling, shutter half open", take(moving, 0.5, 0.6)),
    ]
}

#[test]
fn a_composited_box_agrees_with_a_filmed_one() {
    let witness = Witness { foot: [-0.6, 0.0, 3.4], size: [1.6, 1.9, 0.9], turn_deg: 24.0, colour: [0.62, 0.58, 0.5] };
    let (with, without) = (Scenery::with(Place::Quay, LIGHT, &[witness]), Scenery::with(Place::Quay, LIGHT, &[]));
    let asset = Asset { name: AssetName::of_digest(&[1; 32]), file: "box.obj".into() };
    let mut placement = Placement::on(witness.foot, [0.0, 1.0, 0.0], Stance::Standing);
    placement.set_turn_lean_deg(0.0, [witness.turn_deg, 0.0]);
    let insert = Insert::new(InsertKind::Prop(Prop::new(asset, 1.0, ModelUp::Y)), placement);
    let assets: Arc<dyn Assets> = Arc::new(BoxModel::of(&witness));
    let scene = RenderScene::build(&[insert], &named(with.toward_sun()), &ShapeCache::default(), &assets).unwrap();
    for (name, take) in takes() {
        compared(&format!("box, {name}"), &take, [&with, &without], &scene, 60);
    }
}

/// What a thing that is filmed shows where it is hit, at weights of the second and the third corner: linear light that it
/// gives back, or gives.
type Shown = Box<dyn Fn(usize, f64, f64) -> [f32; 3] + Sync>;

/// The quay with triangles in it.
struct Overlaid<'a> {
    quay: &'a Scenery,
    triangles: Vec<[Vector3<f64>; 3]>,
    shown: Shown,
    glows: bool,
    low: Vector3<f64>,
    high: Vector3<f64>,
}

impl<'a> Overlaid<'a> {
    fn new(quay: &'a Scenery, triangles: Vec<[Vector3<f64>; 3]>, shown: Shown, glows: bool) -> Self {
        let all = || triangles.iter().flatten();
        let low = all().fold(Vector3::repeat(f64::INFINITY), |m, p| m.inf(p));
        let high = all().fold(Vector3::repeat(f64::NEG_INFINITY), |m, p| m.sup(p));
        Self { quay, shown, glows, low, high, triangles }
    }

    /// The nearest triangle that a ray meets, how far off, and the weights of its second and third corner.
    fn hit(&self, from: Vector3<f64>, ray: Vector3<f64>) -> Option<(usize, f64, f64, f64)> {
        let (a, b) = ((self.low - from).component_div(&ray), (self.high - from).component_div(&ray));
        if a.inf(&b).max() > a.sup(&b).min() + 1e-9 {
            return None;
        }
        let meets = |(i, [p, q, r]): (usize, &[Vector3<f64>; 3])| {
            // Cramer's rule on p + u (q - p) + v (r - p) = from + t ray.
            let (e, f, s) = (q - p, r - p, from - p);
            let n = e.cross(&f);
            let det = -n.dot(&ray);
            let t = n.dot(&s) / det;
            let w = s.cross(&ray);
            let (u, v) = (f.dot(&w) / det, -e.dot(&w) / det);
            (t > 1e-6 && u >= 0.0 && v >= 0.0 && u + v <= 1.0).then_some((i, t, u, v))
        };
        self.triangles.iter().enumerate().filter_map(meets).min_by(|a, b| a.1.total_cmp(&b.1))
    }
}

impl Scene for Overlaid<'_> {
    fn meet(&self, from: Vector3<f64>, ray: Vector3<f64>, frame: f64) -> Option<Met> {
        self.quay.meet(from, ray, frame)
    }

    fn look(
        &self,
        among: &[usize],
        from: Vector3<f64>,
        ray: Vector3<f64>,
        frame: f64,
        spread: f64,
        unit: [f64; 4],
    ) -> [f32; 3] {
        let Some((i, t, u, v)) = self.hit(from, ray) else {
            return self.quay.look(among, from, ray, frame, spread, unit);
        };
        let colour = (self.shown)(i, u, v);
        if self.glows {
            return colour;
        }
        let [p, q, r] = self.triangles[i];
        let normal = (q - p).cross(&(r - p)).normalize();
        let normal = if normal.dot(&ray) > 0.0 { -normal } else { normal };
        let sun = self.quay.toward_sun();
        let at = from + ray * t + normal * 1e-4;
        let facing = if self.hit(at, sun).is_none() { normal.dot(&sun).max(0.0) as f32 } else { 0.0 };
        let from_everywhere = LIGHT.sky[0] * (1.0 + LIGHT.up * normal.y as f32);
        colour.map(|c| c * (SUN * facing + from_everywhere))
    }

    fn in_rows(&self, pose: &Pose, lens: &Lens, top: f64, bottom: f64, frame: f64) -> Vec<usize> {
        self.quay.in_rows(pose, lens, top, bottom, frame)
    }

    fn in_columns(&self, among: &[usize], pose: &Pose, lens: &Lens, columns: (f64, f64), frame: f64) -> Vec<usize> {
        self.quay.in_columns(among, pose, lens, columns, frame)
    }

    fn uprights(&self) -> Vec<Upright> {
        Vec::new()
    }
}

#[test]
fn a_composited_title_agrees_with_a_filmed_one() {
    let quay = Scenery::with(Place::Quay, LIGHT, &[]);
    let title = Title {
        lettering: Lettering::default(),
        text: "HIT".into(),
        font: "League Spartan Bold".into(),
        height_m: 1.5,
        depth_m: 0.4,
        bevel_m: 0.05,
        colour: [214, 206, 190],
    };
    let colour = title.colour.map(fennik_render::colour::linear_of);
    let mut placement = Placement::on([-0.6, 0.0, 3.4], [0.0, 1.0, 0.0], Stance::Standing);
    placement.set_turn_lean_deg(0.0, [20.0, 0.0]);
    let insert = Insert::new(InsertKind::Title(title), placement);
    let mesh = RenderScene::mesh(&insert, &[], 0.0, &fennik_render::NoAssets).unwrap();
    let triangles = (0..mesh.indices.len()).map(|i| mesh.triangle(i).map(|p| p.cast::<f64>())).collect();
    let with = Overlaid::new(&quay, triangles, Box::new(move |_, _, _| colour), false);
    let assets = fennik_render::NoAssets::shared();
    let scene = RenderScene::build(&[insert], &named(quay.toward_sun()), &ShapeCache::default(), &assets).unwrap();
    for (name, take) in takes() {
        compared(&format!("title, {name}"), &take, [&with, &quay], &scene, 25);
    }
}

/// A light picture with a darker ring and a slope of colour, as red as its frame is late, across and down from 0 to 1.
fn pictured(x: f64, y: f64, frame: u32) -> [u8; 3] {
    let ring = ((x - 0.5).hypot(0.6 * (y - 0.5)) - 0.25).abs() < 0.06;
    let light = if ring { 120.0 } else { 225.0 };
    [light - 12.0 * f64::from(frame), light - 40.0 * y, light - 60.0 * x * y].map(|v| v as u8)
}

/// One picture, or a clip of seven frames.
#[derive(Debug)]
struct Pictures {
    frames: u32,
}

const SIDE: [usize; 2] = [400, 240];

impl Assets for Pictures {
    fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
        Ok(Run { frames: self.frames, rate: 25.0 })
    }
    fn picture(&self, _: &AssetName, frame: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
        let [width, height] = SIDE;
        let at = |i: usize| {
            let (x, y) = ((i % width) as f64 + 0.5, (i / width) as f64 + 0.5);
            let [r, g, b] = pictured(x / width as f64, y / height as f64, frame);
            [r, g, b, 255]
        };
        let rgba: Vec<u8> = (0..width * height).flat_map(at).collect();
        Ok(Arc::new(Texture::new(width, height, &rgba)))
    }
    fn model(&self, _: &AssetName) -> Result<Arc<Model>, AssetError> {
        Err(none())
    }
    fn bytes(&self, _: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
        Err(none())
    }
}

#[test]
fn composited_signs_agree_with_filmed_ones() {
    let quay = Scenery::with(Place::Quay, LIGHT, &[]);
    let (foot, turn_deg, high) = (Vector3::new(-0.4, 0.0, 3.4), -28.0f64, 1.7);
    let wide = high * SIDE[0] as f64 / SIDE[1] as f64;
    // Its corners by hand: from the top left across and down.
    let right = Vector3::new(turn_deg.to_radians().cos(), 0.0, -turn_deg.to_radians().sin());
    let corner = |x: f64, y: f64| foot + right * (wide * (x - 0.5)) + Vector3::y() * (high * (1.0 - y));
    let corners = [corner(0.0, 0.0), corner(1.0, 0.0), corner(0.0, 1.0), corner(1.0, 1.0)];
    let triangles = vec![[corners[0], corners[1], corners[2]], [corners[3], corners[2], corners[1]]];
    for (what, frames, glows) in [("sign", 1, false), ("clip as a screen", 7, true)] {
        let of_clip = if frames > 1 { FRAME } else { 0 };
        let shown = move |i: usize, u: f64, v: f64| {
            let (x, y) = if i == 0 { (u, v) } else { (1.0 - u, 1.0 - v) };
            pictured(x, y, of_clip).map(fennik_render::colour::linear_of)
        };
        let with = Overlaid::new(&quay, triangles.clone(), Box::new(shown), glows);
        let asset = Asset { name: AssetName::of_digest(&[2; 32]), file: "sign.png".into() };
        let mut placement = Placement::on(foot.into(), [0.0, 1.0, 0.0], Stance::Standing);
        placement.set_turn_lean_deg(0.0, [turn_deg, 0.0]);
        let sign = Sign { glows, ..Sign::new(asset, SIDE[0] as f64 / SIDE[1] as f64, high) };
        let insert = Insert::new(InsertKind::Sign(sign), placement);
        let assets: Arc<dyn Assets> = Arc::new(Pictures { frames });
        let light = named(quay.toward_sun());
        let scene = RenderScene::build(&[insert], &light, &ShapeCache::default(), &assets).unwrap();
        for (name, take) in takes() {
            // It stands out less than the others, and the film's own grain of rays would count for more.
            let take = Take { rays: 81, ..take };
            compared(&format!("{what}, {name}"), &take, [&with, &quay], &scene, 40);
        }
    }
}
