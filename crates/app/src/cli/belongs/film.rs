//! A box over a plate against a film of the box in its place: its shadow on the floor, its light, what the floor mirrors.

use super::{Row, percentile};
use fennik_core::camera::{Camera, CameraPath};
use fennik_core::geometry::{Pose, Similarity};
use fennik_core::scene::{
    Asset, AssetName, Insert, InsertKind, Lamp, Light, LightNow, MIRROR, ModelUp, Placement, Prop, Stance,
};
use fennik_core::solve::{Solution, SolvedFrame};
use fennik_demo::places::Place;
use fennik_demo::scene::{Met, Scene};
use fennik_demo::sensor::film;
use fennik_demo::take::Take;
use fennik_demo::uprights::Upright;
use fennik_render::colour::{linear_colour, linear_of};
use fennik_render::{
    AssetError, Assets, Material, Mesh, Model, NoAssets, Quality, RenderScene, Run, ShapeCache, Texture, Treatment,
    composite,
};
use nalgebra::Vector3;
use std::sync::Arc;

type V = Vector3<f64>;

const WIDTH: usize = 640;
const HEIGHT: usize = 360;
/// The box: half its width and depth, its height, metres; how it is turned; what it gives back.
const HALF: [f64; 2] = [0.6, 0.35];
const TALL: f64 = 1.6;
const TURN_DEG: f64 = 24.0;
const COLOUR: [f32; 3] = [0.62, 0.50, 0.38];
/// Light from everywhere, of the sun, and how much of the former reaches what stands upright.
const AMBIENT: f64 = 0.35;
const SUN: f64 = 0.7;
const UPRIGHT: f64 = 0.85;
/// Colours of the sun and of the sky where they differ.
const LOW_SUN: [f64; 3] = [255.0, 214.0, 160.0];
const SKY: [f64; 3] = [178.0, 205.0, 255.0];

/// A floor with a box on it, as the film maker sees them.
struct Stage {
    with_box: bool,
    light: LightNow,
    /// Whether the box keeps the sun off the floor.
    shades: bool,
    /// Place and strength of a lamp, which lights the box alone.
    lamp: Option<(V, f64)>,
    /// How much the floor mirrors the box, looked at straight on.
    mirror: f64,
}

/// Where a ray meets the box, and what looks out there.
fn on_box(from: V, ray: V) -> Option<(f64, V)> {
    let turn = nalgebra::Rotation3::from_axis_angle(&V::y_axis(), TURN_DEG.to_radians());
    let (from, ray) = (turn.inverse() * from, turn.inverse() * ray);
    let (low, high) = (V::new(-HALF[0], 0.0, -HALF[1]), V::new(HALF[0], TALL, HALF[1]));
    let (mut near, mut far, mut side) = (1e-6f64, f64::INFINITY, V::zeros());
    for axis in 0..3 {
        let (a, b) = ((low[axis] - from[axis]) / ray[axis], (high[axis] - from[axis]) / ray[axis]);
        if a.min(b) > near {
            near = a.min(b);
            side = V::zeros();
            side[axis] = -ray[axis].signum();
        }
        far = far.min(a.max(b));
    }
    (near < far && side != V::zeros()).then(|| (near, turn * side))
}

impl Stage {
    fn on_floor(&self, at: V) -> f64 {
        0.34 + 0.06 * (2.1 * at.x).sin() * (1.7 * at.z).cos()
    }

    /// Of the sun and of what is all round, linear.
    fn colours(&self) -> (V, V) {
        (linear_colour(self.light.sun_colour).cast(), linear_colour(self.light.ambient_colour).cast())
    }

    /// What the sun and what is all round bring to a place of the box.
    fn of_box(&self, at: V, normal: V) -> [f32; 3] {
        let facing = normal.dot(&self.light.toward_sun()).max(0.0);
        let lamp = self.lamp.map_or(0.0, |(place, strength)| {
            let way = place - at;
            strength * normal.dot(&way).max(0.0) / way.norm().powi(3)
        });
        let (sun, ambient) = self.colours();
        let all = sun * self.light.sun * facing + ambient * AMBIENT * (UPRIGHT + (1.0 - UPRIGHT) * normal.y);
        [0, 1, 2].map(|k| COLOUR[k] * (all[k] + lamp) as f32)
    }
}

impl Scene for Stage {
    fn meet(&self, from: V, ray: V, _: f64) -> Option<Met> {
        let (distance, _) = on_box(from, ray)?;
        Some(Met { distance, still: false, ground: false, moves: true, surface: None })
    }

    fn look(&self, _: &[usize], from: V, ray: V, _: f64, _: f64, unit: [f64; 4]) -> [f32; 3] {
        if let Some((far, normal)) = on_box(from, ray).filter(|_| self.with_box) {
            return self.of_box(from + ray * far, normal);
        }
        if ray.y > -1e-3 {
            return [0.5; 3];
        }
        let at = from - ray * (from.y / ray.y);
        let sun = self.light.toward_sun();
        // A place on the sun's disc.
        let (r, a) =
            (unit[0].sqrt() * (0.5 * self.light.sun_width_deg).to_radians().tan(), std::f64::consts::TAU * unit[1]);
        let across = sun.cross(&V::y()).normalize();
        let toward = (sun + (across * a.cos() + across.cross(&sun) * a.sin()) * r).normalize();
        let lit = !(self.with_box && self.shades) || on_box(at + V::y() * 1e-5, toward).is_none();
        let sunny = if lit { self.light.sun * sun.y } else { 0.0 };
        let (sun, ambient) = self.colours();
        let own: [f32; 3] = ((sun * sunny + ambient * AMBIENT) * self.on_floor(at)).cast::<f32>().into();
        let mirrored = V::new(ray.x, -ray.y, ray.z);
        match on_box(at + V::y() * 1e-5, mirrored).filter(|_| self.with_box && self.mirror > 0.0) {
            Some((far, normal)) => {
                // Schlick 1994.
                let part = (self.mirror + (1.0 - self.mirror) * (1.0 + ray.y / ray.norm()).powi(5)) as f32;
                let there = self.of_box(at + mirrored * far, normal);
                [0, 1, 2].map(|k| own[k] * (1.0 - part) + part * there[k])
            }
            None => own,
        }
    }

    fn uprights(&self) -> Vec<Upright> {
        Vec::new()
    }
}

/// The box as a model.
#[derive(Debug)]
struct BoxModel(Arc<Model>);

impl BoxModel {
    fn new() -> Self {
        let corner = |i: usize| {
            let side = |bit: usize, half: f64| if i & bit == 0 { -half } else { half } as f32;
            Vector3::new(side(1, HALF[0]), if i & 2 == 0 { 0.0 } else { TALL as f32 }, side(4, HALF[1]))
        };
        let faces = [[0, 4, 6, 2], [1, 3, 7, 5], [0, 1, 5, 4], [2, 6, 7, 3], [0, 2, 3, 1], [4, 5, 7, 6]];
        let indices = faces.iter().flat_map(|[a, b, c, d]| [[*a, *b, *c], [*a, *c, *d]]);
        let mesh = Mesh { positions: (0..8).map(corner).collect(), indices: indices.collect(), ..Mesh::default() };
        let (materials, names) = (vec![Material::matt(COLOUR)], vec!["all".to_owned()]);
        Self(Arc::new(Model { mesh, materials, names, rig: None }))
    }
}

impl Assets for BoxModel {
    fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
        Ok(Run { frames: 1, rate: 1.0 })
    }
    fn picture(&self, name: &AssetName, frame: u32, how: &Treatment) -> Result<Arc<Texture>, AssetError> {
        NoAssets.picture(name, frame, how)
    }
    fn model(&self, _: &AssetName) -> Result<Arc<Model>, AssetError> {
        Ok(self.0.clone())
    }
    fn bytes(&self, name: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
        NoAssets.bytes(name)
    }
}

fn pose(_: f64) -> Pose {
    let eye = V::new(2.2, 2.4, 5.2);
    Pose::look_at(eye, V::new(-0.2, 0.45, 0.0), V::y()).unwrap_or_else(Pose::identity)
}

fn take(rays: usize) -> Take {
    Take {
        name: "stage",
        place: Place::Quay,
        motion: "free",
        width: WIDTH as u32,
        height: HEIGHT as u32,
        frames: 1,
        pose,
        focal: |_| 1250.0,
        k1: -0.03,
        shutter: 0.0,
        readout: 0.0,
        rays,
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

fn camera(take: &Take) -> Option<Camera> {
    let frames = vec![SolvedFrame::new(0, take.pose(0.0), take.lens(0.0), 0.0, 100)];
    let solution = Solution { frames, ..Solution::empty(take.width, take.height, 1) };
    CameraPath::new(&solution, &Similarity::identity()).at(0)
}

/// Linear light of a channel of three pictures: the film with the box, the composite, the film without.
struct Pictures {
    film: Vec<f64>,
    made: Vec<f64>,
    plate: Vec<f64>,
    /// Pixels of which nothing, and pixels of which all is the box's.
    floor: Vec<bool>,
    covered: Vec<bool>,
}

impl Pictures {
    /// A row for how far film and composite are apart on some pixels.
    fn apart(&self, what: &str, there: impl Fn(usize) -> bool) -> Row {
        let (mut off, mut all) = (0.0, 0.0);
        for i in (0..self.film.len()).filter(|i| there(*i)) {
            off += (self.film[i] - self.made[i]).abs();
            all += self.film[i];
        }
        let what = format!("{what} against the film of it: mean difference");
        [what, "3 %".to_owned(), format!("{:.2} %", 100.0 * off / all)]
    }
}

/// Of red, green and blue.
fn pictures(stage: &Stage, light: Light, inserts: &[Insert], rays: usize) -> Option<[Pictures; 3]> {
    let take = take(rays);
    let camera = camera(&take)?;
    let assets: Arc<dyn Assets> = Arc::new(BoxModel::new());
    let scene = RenderScene::build(inserts, &light, &ShapeCache::default(), &assets).ok()?;
    let filmed = film(stage, &take, 0);
    let plate = film(&Stage { with_box: false, lamp: None, ..*stage }, &take, 0);
    let mut made = plate.clone();
    composite(&mut made, WIDTH, HEIGHT, &camera, &scene, Quality::Exact, 0.0).ok()?;
    let hit: Vec<bool> = (0..WIDTH * HEIGHT)
        .map(|i| {
            let ray = camera.ray(nalgebra::Vector2::new((i % WIDTH) as f64, (i / WIDTH) as f64));
            on_box(ray.from, ray.along).is_some()
        })
        .collect();
    let about = |i: usize, wanted: bool| {
        let (x, y) = ((i % WIDTH) as i64, (i / WIDTH) as i64);
        let inside = |x: i64, y: i64| (0..WIDTH as i64).contains(&x) && (0..HEIGHT as i64).contains(&y);
        (-3..=3).all(|dy| {
            (-3..=3).all(|dx| !inside(x + dx, y + dy) || hit[(y + dy) as usize * WIDTH + (x + dx) as usize] == wanted)
        })
    };
    let (floor, covered): (Vec<bool>, Vec<bool>) =
        (0..WIDTH * HEIGHT).map(|i| (about(i, false), about(i, true))).unzip();
    Some([0, 1, 2].map(|channel| {
        let light_of = |of: &[u8]| of.chunks_exact(3).map(|p| f64::from(linear_of(p[channel]))).collect();
        let [film, made, plate] = [&filmed, &made, &plate].map(|of| light_of(of));
        Pictures { film, made, plate, floor: floor.clone(), covered: covered.clone() }
    }))
}

fn the_box() -> Insert {
    let mut placement = Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing);
    placement.set_turn_lean_deg(0.0, [TURN_DEG, 0.0]);
    let asset = Asset { name: AssetName::of_digest(&[1; 32]), file: "box.obj".into() };
    Insert::new(InsertKind::Prop(Prop::new(asset, 1.0, ModelUp::Y)), placement)
}

fn sunny(width_deg: f64, floor_shadow: f64) -> LightNow {
    LightNow {
        bearing_deg: 62.0,
        height_deg: 38.0,
        sun: SUN,
        sun_width_deg: width_deg,
        ambient: AMBIENT,
        floor_shadow,
        ..LightNow::default()
    }
}

/// How dark it is in the middle of the sun's shadow, of how bright it is beside it.
fn umbra(light: &LightNow) -> f64 {
    AMBIENT / (light.sun * light.toward_sun().y + AMBIENT)
}

/// All rows.
pub(super) fn rows() -> Vec<Row> {
    let mut all = Vec::new();
    for width_deg in [3.0, 8.0] {
        let light = sunny(width_deg, 1.0);
        let stage = Stage { with_box: true, light, shades: true, lamp: None, mirror: 0.0 };
        if let Some([_, found, _]) = pictures(&stage, light.into(), &[the_box()], 100) {
            all.extend(shadow_rows(&found, &light));
        }
    }
    let light = LightNow { sun_colour: LOW_SUN, ambient_colour: SKY, ..sunny(3.0, 1.0) };
    let stage = Stage { with_box: true, light, shades: true, lamp: None, mirror: 0.0 };
    let channels = pictures(&stage, light.into(), &[the_box()], 36).into_iter().flatten();
    for (found, name) in channels.zip(["red", "green", "blue"]) {
        let there = |i: usize| found.floor[i] && found.film[i] / found.plate[i] < 0.9;
        all.push(found.apart(&format!("shadow on the floor under a low sun and a blue sky: {name}"), there));
    }
    let light = sunny(1.0, 0.0);
    let lamp_at = V::new(1.6, 1.4, 1.9);
    let lamp = Lamp { strength: 2.5, colour: [255; 3], radius_m: 0.0, ..Lamp::default() };
    let strength = lamp.strength;
    let placed = Insert::new(InsertKind::Lamp(lamp), Placement::on(lamp_at.into(), [0.0, 1.0, 0.0], Stance::Standing));
    let stage = Stage { with_box: true, light, shades: false, lamp: Some((lamp_at, strength)), mirror: 0.0 };
    if let Some([_, found, _]) = pictures(&stage, light.into(), &[the_box(), placed], 36) {
        all.push(found.apart("a box in sun, ambient and lamp light", |i| found.covered[i]));
    }
    let stage = Stage { with_box: true, light, shades: false, lamp: None, mirror: 0.3 };
    let mut mirrors: Light = light.into();
    let floor = mirrors.catcher_mut(None);
    floor.numbers.set_at(&MIRROR[0], 0.0, stage.mirror);
    floor.numbers.set_at(&MIRROR[1], 0.0, 0.0);
    if let Some([_, found, _]) = pictures(&stage, mirrors, &[the_box()], 36) {
        let there = |i: usize| found.floor[i] && (found.film[i] / found.plate[i] - 1.0).abs() > 0.02;
        all.push(found.apart("a box mirrored in the floor", there));
    }
    all
}

/// Places along a row at which a shade goes through a level, px, with whether it rises there.
fn crossings(shade: &[f64], level: f64) -> Vec<(f64, bool)> {
    let through = |x: usize| {
        let (a, b) = (shade[x] - level, shade[x + 1] - level);
        (a.is_finite() && b.is_finite() && (a < 0.0) != (b < 0.0)).then(|| (x as f64 + a / (a - b), b > a))
    };
    (0..shade.len() - 1).filter_map(through).collect()
}

fn shadow_rows(found: &Pictures, light: &LightNow) -> Vec<Row> {
    let dark = umbra(light);
    let level = |part: f64| dark + (1.0 - dark) * part;
    let (mut edges, mut softness) = (Vec::new(), Vec::new());
    let (mut off, mut all) = (0.0, 0.0);
    for y in 0..HEIGHT {
        let shade = |of: &[f64]| -> Vec<f64> {
            let at = |x: usize| {
                let near = (x.saturating_sub(2)..(x + 3).min(WIDTH)).map(|x| y * WIDTH + x);
                let (sum, whole) = near.fold((0.0, 0.0), |(a, b), i| (a + of[i], b + found.plate[i]));
                if found.floor[y * WIDTH + x] { sum / whole } else { f64::NAN }
            };
            (0..WIDTH).map(at).collect()
        };
        let (film, made) = (shade(&found.film), shade(&found.made));
        for x in 0..WIDTH {
            if film[x] < 0.97 || made[x] < 0.97 {
                off += (film[x] - made[x]).abs();
                all += film[x];
            }
        }
        let width_at = |row: &[f64], at: (f64, bool)| -> Option<f64> {
            let near = |part: f64| {
                let all = crossings(row, level(part));
                all.into_iter()
                    .filter(|c| c.1 == at.1)
                    .map(|c| c.0)
                    .min_by(|a, b| (a - at.0).abs().total_cmp(&(b - at.0).abs()))
            };
            Some((near(0.75)? - near(0.25)?).abs())
        };
        let theirs = crossings(&film, level(0.5));
        for at in crossings(&made, level(0.5)) {
            let same = theirs.iter().filter(|c| c.1 == at.1);
            let Some(other) = same.min_by(|a, b| (a.0 - at.0).abs().total_cmp(&(b.0 - at.0).abs())) else { continue };
            edges.push((other.0 - at.0).abs());
            if let (Some(a), Some(b)) = (width_at(&film, *other), width_at(&made, at)) {
                // Narrower ones are of the pixels themselves.
                if a > 3.0 && a < 60.0 {
                    softness.push(b / a - 1.0);
                }
            }
        }
    }
    let (middle, most) = (percentile(&mut edges, 0.5), percentile(&mut edges, 0.95));
    let soft = percentile(&mut softness, 0.5);
    let of = format!("a sun {:.0} deg wide", light.sun_width_deg);
    vec![
        [
            format!("shadow on the floor under {of}: mean difference to the film"),
            "3 %".to_owned(),
            format!("{:.2} %", 100.0 * off / all),
        ],
        [
            format!("shadow on the floor under {of}: where half of the sun is seen"),
            "0.5 px".to_owned(),
            format!("{middle:.2} px in the median, 95 of 100 within {most:.2}, of {}", edges.len()),
        ],
        [
            format!("shadow on the floor under {of}: breadth of its half-light"),
            "10 %".to_owned(),
            format!("{:+.1} % in the median, of {}", 100.0 * soft, softness.len()),
        ],
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ray_meets_the_box_where_it_stands() {
        let (far, normal) = on_box(V::new(0.0, 5.0, 0.0), -V::y()).unwrap();
        assert!((far - (5.0 - TALL)).abs() < 1e-9 && (normal - V::y()).norm() < 1e-9);
        assert!(on_box(V::new(2.0, 5.0, 0.0), -V::y()).is_none());
        assert!(on_box(V::new(0.0, 5.0, 0.0), V::y()).is_none());
    }

    #[test]
    fn a_row_is_crossed_where_it_goes_through_a_level() {
        assert_eq!(crossings(&[1.0, 1.0, 0.5, 0.0, 1.0], 0.25), [(2.5, false), (3.25, true)]);
        assert!(crossings(&[1.0, f64::NAN, 0.0], 0.5).is_empty());
    }
}
