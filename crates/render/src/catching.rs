//! Flat parts of the plate that are not seen themselves: shadows fall on them, they darken where something stands, and
//! mirror it.

use crate::colour::linear_colour;
use crate::light::{Care, Falling, Seen, Sent, scattered, shade};
use crate::placed::{OnPlane, PlacedScene};
use fennik_core::matte::contains;
use fennik_core::scene::{CatcherNow, Surface};
use fennik_core::survey::Plane;
use nalgebra::{Vector2, Vector3};
use std::f32::consts::TAU;

type V = Vector3<f32>;

/// Looks into a rough mirror.
const LOOKS: usize = 12;
/// Clear things that a mirrored ray goes through.
const DEEPEST: usize = 3;
/// A mirrored ray begins so far off the plane, of the distance to the camera.
const OFFSET: f32 = 1e-4;
/// Still water, looked at straight on, mirrors so much; what mirrors as little mirrors all at a grazing look.
const WATER: f32 = 0.04;

/// A flat part of the plate with what it does at one time. Its own frame has y along its normal.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct CatchPlane {
    origin: V,
    /// Of the world, in its own frame.
    axes: [V; 3],
    /// Corners, x and z of its own frame; without end where there are none.
    outline: Option<Vec<[f64; 2]>>,
    pub now: CatcherNow,
    /// Linear.
    tint: V,
}

impl CatchPlane {
    /// The floor.
    pub fn floor(now: CatcherNow) -> Self {
        let tint = linear_colour(now.tint);
        Self { origin: V::zeros(), axes: [V::x(), V::y(), V::z()], outline: None, now, tint }
    }

    /// A surface.
    pub fn surface(surface: &Surface, now: CatcherNow) -> Self {
        let (point, normal) = (Vector3::from(surface.point), Vector3::from(surface.normal));
        let [a, _] = Plane { point, normal }.across();
        let c = a.cross(&normal);
        let lies = |p: &[f64; 3]| [a.dot(&(Vector3::from(*p) - point)), c.dot(&(Vector3::from(*p) - point))];
        Self {
            origin: point.cast(),
            axes: [a.cast(), normal.cast(), c.cast()],
            outline: Some(surface.outline.iter().map(lies).collect()),
            now,
            tint: linear_colour(now.tint),
        }
    }

    /// Its unit normal, world.
    pub fn normal(&self) -> V {
        self.axes[1]
    }

    /// A place of the world in its own frame.
    pub fn own(&self, at: V) -> V {
        self.turned(at - self.origin)
    }

    /// A direction of the world in its own frame.
    pub fn turned(&self, way: V) -> V {
        V::new(self.axes[0].dot(&way), self.axes[1].dot(&way), self.axes[2].dot(&way))
    }

    /// A direction of its own frame in the world.
    pub fn way(&self, own: V) -> V {
        self.axes[0] * own.x + self.axes[1] * own.y + self.axes[2] * own.z
    }

    /// A place of its own frame in the world.
    pub fn world(&self, own: V) -> V {
        self.origin + self.way(own)
    }

    /// Names it among planes whose shadows are kept.
    pub fn bits(&self) -> [[u32; 3]; 3] {
        [self.origin, self.axes[0], self.axes[1]].map(|v| <[f32; 3]>::from(v).map(f32::to_bits))
    }

    /// Corners of its outline, x and z of its own frame.
    pub fn corners(&self) -> Option<&[[f64; 2]]> {
        self.outline.as_deref()
    }

    fn holds(&self, at: Vector2<f32>) -> bool {
        self.outline.as_ref().is_none_or(|o| contains(o, f64::from(at.x), f64::from(at.y)))
    }
}

/// What a place of a plane sends towards the eye over the plate.
pub(crate) fn caught(scene: &PlacedScene, light: &Falling, seen: &Seen, care: Care, plane: usize) -> Sent {
    let clear = Sent::new([0.0; 4], false);
    let of = &scene.catches[plane];
    let own = of.own(seen.at);
    let place = Vector2::new(own.x, own.z);
    // Its back is not seen.
    if !of.holds(place) || seen.along.dot(&of.normal()) >= 0.0 {
        return clear;
    }
    let mut alpha = darkened(scene, light, seen.at, place, care, plane);
    let mut out = of.tint.component_mul(&alpha);
    if of.now.mirror > 0.0 {
        let (mirrored, part) = mirrored(scene, light, seen, care, of);
        out = out * (1.0 - part) + mirrored;
        alpha = alpha.map(|a| a + part - a * part);
    }
    Sent { light: [out.x, out.y, out.z, alpha.max()], kept: alpha.map(|a| 1.0 - a).into(), lit: false }
}

/// How much of its light a place has lost to what is placed, 0 to 1 in each channel.
fn darkened(scene: &PlacedScene, light: &Falling, at: V, place: Vector2<f32>, care: Care, plane: usize) -> V {
    let of = &scene.catches[plane];
    let on = &scene.shadows(care.fine)[plane];
    let contact = if of.now.contact > 0.0 { on.contact_at(place) * of.now.contact as f32 } else { 0.0 };
    let lost = lost_to_shadow(scene, light, at, place, of, on) * of.now.shadow as f32;
    lost.map(|lost| 1.0 - (1.0 - lost.min(1.0)) * (1.0 - contact.min(1.0)))
}

/// How much of the light that would fall on a place is kept from it: in the shadow of a warm sun it is the bluer light of
/// all round that is left.
fn lost_to_shadow(
    scene: &PlacedScene,
    light: &Falling,
    at: V,
    place: Vector2<f32>,
    of: &CatchPlane,
    on: &OnPlane,
) -> V {
    let kept = on.sun_at(place);
    if kept <= 0.0 && on.lamps.iter().all(|shadow| on.kept_of(shadow, place) <= 0.0) {
        return V::zeros();
    }
    let normal = of.normal();
    let sun = light.sun * normal.dot(&light.toward_sun).max(0.0);
    let (mut whole, mut lost) = (sun + scene.everywhere(light, normal), sun * kept);
    for (lamp, shadow) in scene.lamps.iter().zip(&on.lamps) {
        let (falling, toward, _) = lamp.falling(lamp.at, at);
        let own = falling * normal.dot(&toward).max(0.0);
        whole += own;
        lost += own * on.kept_of(shadow, place) * lamp.floor_shadow;
    }
    lost.zip_map(&whole, |lost, whole| lost / whole.max(1e-6))
}

/// What is mirrored at a place, times how much of it; and how much that is.
fn mirrored(scene: &PlacedScene, light: &Falling, seen: &Seen, care: Care, of: &CatchPlane) -> (V, f32) {
    let normal = of.normal();
    let facing = -seen.along.dot(&normal);
    let head_on = of.now.mirror as f32;
    let grazing = (head_on / WATER).min(1.0);
    let part = head_on + (grazing - head_on) * (1.0 - facing).powi(5);
    let rough = of.now.mirror_rough as f32;
    let looks = if care.quick || rough < 0.01 { 1 } else { LOOKS };
    let from = seen.at + normal * (OFFSET * seen.distance.max(1.0));
    let straight = seen.along + normal * (2.0 * facing);
    let side = if straight.x.abs() < 0.7 { V::x() } else { V::z() };
    let u = straight.cross(&side).normalize();
    let v = straight.cross(&u);
    let turn = scattered(seen.at);
    let (mut sum, mut share) = (V::zeros(), 0.0);
    for k in 0..looks {
        // Micro facets lean the more the rougher it is; their mirrored rays lean twice as much.
        let q = (k as f32 + 0.5) / looks as f32;
        let away = if looks == 1 { 0.0 } else { 2.0 * rough * rough * (q / (1.0 - q)).sqrt().min(3.0) };
        let (sin, cos) = (2.399_963_2 * k as f32 + TAU * turn).sin_cos();
        let mut along = (straight + (u * cos + v * sin) * away).normalize();
        let under = along.dot(&normal);
        if under < 0.0 {
            along -= normal * (2.0 * under);
        }
        let (light, seen) = ray(scene, light, (from, along), seen, care, of);
        sum += light;
        share += seen;
    }
    (sum * (part / looks as f32), share * part / looks as f32)
}

/// What a mirrored ray meets: light times how much of it is seen, and that.
fn ray(
    scene: &PlacedScene,
    light: &Falling,
    (mut from, along): (V, V),
    seen: &Seen,
    care: Care,
    of: &CatchPlane,
) -> (V, f32) {
    let (mut sum, mut left, mut gone) = (V::zeros(), 1.0f32, 0.0f32);
    for _ in 0..DEEPEST {
        let Some((face, distance)) = scene.nearest(from, along) else { break };
        let at = from + along * distance;
        gone += distance;
        let fade = of.now.mirror_fade_m as f32;
        let fades = if fade > 0.0 { (1.0 - gone / fade).max(0.0) } else { 1.0 };
        let hit = Seen {
            face: &scene.faces[face],
            index: face,
            at,
            along,
            distance: seen.distance + gone,
            pixel: seen.pixel,
        };
        let sent = shade(scene, light, &hit, care);
        let look = scene.look(hit.face);
        let [r, g, b, alpha] =
            scene.seen_from(hit.face, sent.light, hit.distance).map(|v| v * look.share_at(at, hit.distance) * fades);
        sum += V::new(r, g, b) * left;
        left *= 1.0 - alpha;
        if left < 0.01 {
            break;
        }
        from = at + along * (1e-3 * distance.max(0.01));
    }
    (sum, 1.0 - left)
}

#[cfg(test)]
mod tests {
    use crate::sample::letters;
    use crate::{NoAssets, Quality, RenderScene, ShapeCache, composite};
    use fennik_core::camera::Camera;
    use fennik_core::colour::decode;
    use fennik_core::geometry::{Lens, Pose};
    use fennik_core::scene::{Insert, Light, LightNow, MIRROR};
    use nalgebra::Vector3;

    /// Light of the pixel in which a place is seen, over an even plate.
    fn seen(letter: &Insert, light: &Light, plate: u8, place: [f64; 3]) -> [f32; 3] {
        let pose = Pose::look_at(Vector3::new(0.0, 1.0, 5.0), Vector3::zeros(), Vector3::y()).unwrap();
        let camera = Camera::new(pose, Lens::centred(150.0, 160, 90), 90);
        let scene = std::slice::from_ref(letter);
        let scene = RenderScene::build(scene, light, &ShapeCache::default(), &NoAssets::shared()).unwrap();
        let mut rgb = vec![plate; 160 * 90 * 3];
        composite(&mut rgb, 160, 90, &camera, &scene, Quality::Exact, 0.0).unwrap();
        let at = camera.project(place.into()).unwrap();
        let [x, y] = [at.x, at.y].map(|v| v.round() as usize);
        [0, 1, 2].map(|k| decode(f32::from(rgb[3 * (160 * y + x) + k]) / 255.0))
    }

    /// Fault: the shadow of a coloured sun was grey.
    #[test]
    fn in_the_shadow_of_a_warm_sun_the_blue_of_all_round_is_left() {
        let light = LightNow {
            bearing_deg: 180.0,
            height_deg: 40.0,
            sun: 0.8,
            sun_width_deg: 0.5,
            sun_colour: [255.0, 180.0, 120.0],
            ambient: 0.3,
            ambient_colour: [120.0, 180.0, 255.0],
            floor_shadow: 1.0,
            ..LightNow::default()
        };
        let found = seen(&letters("I", [160; 3]), &light.into(), 200, [0.0, 0.0, 0.7]);
        let up = light.toward_sun().y as f32;
        for k in 0..3 {
            let [sun, all] = [light.sun_colour[k], light.ambient_colour[k]].map(|c| decode((c / 255.0) as f32));
            let left = 0.3 * all / (0.8 * sun * up + 0.3 * all);
            let part = found[k] / decode(200.0 / 255.0);
            assert!((part - left).abs() < 0.01, "channel {k}: {part}, {left}");
        }
    }

    /// Fault: what was mirrored kept the light that it had before it was graded.
    #[test]
    fn what_is_graded_is_mirrored_as_it_is_graded() {
        let mut light: Light = LightNow { floor_shadow: 0.0, ambient: 1.0, sun: 0.0, ..LightNow::default() }.into();
        light.catcher_mut(None).numbers.set_at(&MIRROR[0], 0.0, 0.5);
        let look = |letter: &Insert| [0.5, -0.5].map(|height| seen(letter, &light, 0, [0.0, height, 0.15])[1]);
        let mut letter = letters("I", [160; 3]);
        let before = look(&letter);
        letter.grade.set_at(Insert::grade_rule("exposure").unwrap(), 0.0, -1.0);
        let after = look(&letter);
        assert!(before[1] > 0.05, "it is mirrored: {before:?}");
        for (before, after) in before.into_iter().zip(after) {
            assert!((after / before - 0.5).abs() < 0.03, "a stop less: {before} {after}");
        }
    }
}
