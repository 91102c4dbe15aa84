//! One frame: inserts over the plate.

mod bins;
mod exposure;
mod moment;
mod sight;
mod view;

use crate::canvas::{Canvas, Fronts};
use crate::layers::{Bounds, Layer, compose};
use crate::lens::{Drawn, LensPass};
use crate::light::Care;
use crate::placed::PlacedScene;
use crate::raster::project;
use crate::scene::{RenderError, RenderScene};
use bins::{Bins, bounds};
use exposure::{Exposure, exposed};
use fennik_core::camera::Camera;
use moment::{Parted, inserts, quickly};
use std::sync::Arc;
use view::View;

/// How carefully a frame is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quality {
    /// One sample a pixel, no shadows: while something is dragged.
    Draft,
    /// Sixteen samples on every edge, shadows: what is delivered.
    Exact,
}

/// Draws the scene over `rgb` (`width` x `height`, display values), as seen by a camera for this size. Pixels without
/// insert are left to the byte. `shutter` is the part of a frame for which the exact picture is exposed; 0 is a moment.
///
/// # Errors
/// [`RenderError`] names the insert whose picture of that time cannot be read.
///
/// # Panics
/// When the buffer is not `3 * width * height` long.
pub fn composite(
    rgb: &mut [u8],
    width: usize,
    height: usize,
    camera: &Camera,
    scene: &RenderScene,
    quality: Quality,
    shutter: f64,
) -> Result<(), RenderError> {
    assert_eq!(rgb.len(), 3 * width * height, "three bytes a pixel");
    let how = Drawing { quality, shutter, phase: 0.0, lens: None };
    composite_on(&mut Canvas::Bytes(rgb), [width, height], camera, scene, &how, &Fronts::none())
}

/// How a frame is drawn.
#[derive(Debug, Clone)]
pub struct Drawing {
    /// How carefully.
    pub quality: Quality,
    /// Part of a frame for which the exact picture is exposed; 0 is a moment.
    pub shutter: f64,
    /// Frames by which the middle of the exposure lies after the frame's time.
    pub phase: f64,
    /// What lens and film do to the exact picture.
    pub lens: Option<LensPass>,
}

/// Draws the scene over a picture of a size, but for what stands in front of it; see [`composite`].
///
/// # Errors
/// [`RenderError`] names the insert whose picture of that time cannot be read.
///
/// # Panics
/// When the picture is not of that size.
pub fn composite_on(
    canvas: &mut Canvas,
    size: [usize; 2],
    camera: &Camera,
    scene: &RenderScene,
    how: &Drawing,
    fronts: &Fronts,
) -> Result<(), RenderError> {
    let (quality, shutter) = (how.quality, how.shutter);
    let lens = how.lens.as_ref().filter(|l| quality == Quality::Exact && l.acts());
    assert_eq!(canvas.len(), size[0] * size[1], "the picture is of its size");
    if quality == Quality::Exact && shutter > 0.0 {
        if let Some(exposure) = Exposure::new(camera, scene, shutter, how.phase)? {
            return exposed(canvas, size, camera, scene, &exposure, (fronts, lens));
        }
    }
    Projected::new(camera, size, scene, quality)?.drawn(canvas, fronts, lens);
    Ok(())
}

/// A moment of a scene as a camera sees it, ready to be drawn over a plate.
pub struct Projected {
    camera: Camera,
    size: [usize; 2],
    placed: Arc<PlacedScene>,
    /// `None` where nothing is in sight.
    bins: Option<Bins>,
    quality: Quality,
}

impl Projected {
    /// What a camera for a picture of a size, width and height, sees of a scene.
    ///
    /// # Errors
    /// [`RenderError`] names the insert whose picture of that time cannot be read.
    pub fn new(camera: &Camera, size: [usize; 2], scene: &RenderScene, quality: Quality) -> Result<Self, RenderError> {
        let placed = scene.at(f64::from(camera.frame), camera.centre(), quality == Quality::Draft)?;
        let triangles = project(&placed, camera, size[0], size[1]);
        let bins = bounds(&triangles, size[0], size[1]).map(|bounds| Bins::new(triangles, bounds));
        Ok(Self { camera: *camera, size, placed, bins, quality })
    }

    /// Draws it over a picture, but for what stands in front; see [`composite`].
    ///
    /// # Panics
    /// When the picture is not of its size.
    pub fn draw(&self, canvas: &mut Canvas, fronts: &Fronts) {
        self.drawn(canvas, fronts, None);
    }

    fn drawn(&self, canvas: &mut Canvas, fronts: &Fronts, lens: Option<&LensPass>) {
        assert_eq!(canvas.len(), self.size[0] * self.size[1], "the picture is of its size");
        let Some(bins) = &self.bins else { return };
        let exact = self.quality == Quality::Exact;
        let care = Care { shadows: exact, fine: exact, quick: !exact };
        let asks_far = lens.is_some_and(LensPass::asks_depth);
        let view = View::new(&self.camera, &self.placed, care, self.size, fronts).asking_far(asks_far);
        if !exact {
            quickly(&view, bins, canvas, fronts);
            return;
        }
        let parted = if lens.is_some() { Parted::Apart } else { Parted::Whole };
        let (layer, far) = inserts(&view, bins, canvas.behind(), parted);
        match lens {
            Some(lens) => lens.finish(whole(self.size, &layer, far), canvas, fronts),
            None => compose(canvas, self.size[0], &layer, fronts),
        }
    }
}

/// A layer as large as the picture.
fn whole(size: [usize; 2], layer: &Layer, far: Vec<f32>) -> Drawn {
    let Bounds { left, top, .. } = layer.bounds;
    let columns = layer.bounds.width();
    let spread = |row: usize| (top + row) * size[0] + left;
    let mut pixels = vec![[0.0; 4]; size[0] * size[1]];
    let mut depth = (!far.is_empty()).then(|| vec![f32::INFINITY; size[0] * size[1]]);
    for row in 0..layer.bounds.height() {
        let own = row * columns..(row + 1) * columns;
        pixels[spread(row)..spread(row) + columns].copy_from_slice(&layer.pixels[own.clone()]);
        if let Some(depth) = &mut depth {
            depth[spread(row)..spread(row) + columns].copy_from_slice(&far[own]);
        }
    }
    Drawn { size, pixels, depth }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assets::{AssetError, Run, Treatment};
    use crate::sample::letters;
    use crate::{NoAssets, ShapeCache, Texture};
    use fennik_core::camera::CameraPath;
    use fennik_core::geometry::{Lens, Pose, Similarity};
    use fennik_core::scene::anim::{Animated, Curve, Ease, Key};
    use fennik_core::scene::{
        Asset, AssetName, Backdrop, Insert, InsertId, InsertKind, Light, LightNow, Placement, Spread, Stance,
    };
    use fennik_core::solve::{Solution, SolvedFrame};
    use nalgebra::{Vector2, Vector3};

    fn insert(text: &str, x: f64, z: f64) -> Insert {
        let placement = Placement::on([x, 0.0, z], [0.0, 1.0, 0.0], Stance::Standing);
        Insert { id: InsertId(1), placement, ..letters(text, [250, 120, 20]) }
    }

    /// No shadow on the floor, so that what changes is the insert alone.
    fn unshaded() -> Light {
        LightNow { floor_shadow: 0.0, ..Light::default().at(0.0) }.into()
    }

    fn camera() -> (Pose, Lens) {
        let pose = Pose::look_at(Vector3::new(0.5, 1.5, 5.0), Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
        (pose, Lens { k1: -0.06, ..Lens::centred(300.0, 320, 180) })
    }

    fn draw(inserts: &[Insert], light: &Light, quality: Quality) -> Vec<u8> {
        let (pose, lens) = camera();
        let mut rgb = vec![90u8; 320 * 180 * 3];
        composite(
            &mut rgb,
            320,
            180,
            &Camera::new(pose, lens, 180),
            &RenderScene::build(inserts, light, &ShapeCache::default(), &NoAssets::shared()).unwrap(),
            quality,
            0.0,
        )
        .unwrap();
        rgb
    }

    #[test]
    fn the_letter_is_where_the_lens_sees_it_and_the_plate_is_untouched_elsewhere() {
        let rgb = draw(&[insert("I", 0.0, 0.0)], &unshaded(), Quality::Exact);
        let (pose, lens) = camera();
        let c = pose.to_camera(Vector3::new(0.0, 0.5, 0.15));
        let p = lens.project(Vector2::new(c.x / c.z, c.y / c.z));
        let at = |x: usize, y: usize| &rgb[3 * (320 * y + x)..3 * (320 * y + x) + 3];
        let seen = at(p.x.round() as usize, p.y.round() as usize);
        assert!(seen[0] > seen[2] + 60, "{seen:?}");
        for (x, y) in [(5, 5), (315, 5), (5, 175), (315, 175)] {
            assert_eq!(at(x, y), [90; 3]);
        }
    }

    #[test]
    fn edges_are_smooth_when_exact_and_hard_in_a_draft() {
        let count = |rgb: Vec<u8>| rgb.chunks(3).map(|p| p.to_vec()).collect::<std::collections::BTreeSet<_>>().len();
        let (exact, draft) = (
            count(draw(&[insert("O", 0.0, 0.0)], &unshaded(), Quality::Exact)),
            count(draw(&[insert("O", 0.0, 0.0)], &unshaded(), Quality::Draft)),
        );
        assert!(exact > 2 * draft, "{exact} {draft}");
    }

    #[test]
    fn a_draft_is_left_out_where_something_stands_in_front_and_half_of_it_where_half_does() {
        let scene =
            RenderScene::build(&[insert("HO", 0.0, 0.0)], &unshaded(), &ShapeCache::default(), &NoAssets::shared())
                .unwrap();
        let (pose, lens) = camera();
        let drawn = |parts: Option<Vec<f32>>| {
            let all = parts.map(|parts| Arc::new(fennik_core::matte::Coverage { width: 320, height: 180, parts }));
            let mut rgb = vec![90u8; 320 * 180 * 3];
            let how = Drawing { quality: Quality::Draft, shutter: 0.0, phase: 0.0, lens: None };
            let fronts = Fronts { all, ..Fronts::none() };
            let camera = Camera::new(pose, lens, 180);
            composite_on(&mut Canvas::Bytes(&mut rgb), [320, 180], &camera, &scene, &how, &fronts).unwrap();
            rgb
        };
        let open = drawn(None);
        // All of it on the left, half of it on the right.
        let held = drawn(Some((0..320 * 180).map(|i| if i % 320 < 160 { 1.0 } else { 0.5 }).collect()));
        let mut seen = [0, 0];
        for (i, (open, held)) in open.chunks(3).zip(held.chunks(3)).enumerate() {
            let left = i % 320 < 160;
            seen[usize::from(left)] += usize::from(open != [90; 3]);
            for (o, h) in open.iter().zip(held) {
                let half = crate::colour::byte_of(0.5 * (crate::colour::linear_of(*o) + crate::colour::linear_of(90)));
                assert!(h.abs_diff(if left { 90 } else { half }) <= 1, "pixel {i}: {o} {h}");
            }
        }
        assert!(seen[0] > 1000 && seen[1] > 1000, "the letters lie on both sides: {seen:?}");
    }

    #[test]
    fn a_draft_differs_little_from_a_careful_look_though_it_looks_at_cells() {
        let light = LightNow { bearing_deg: 200.0, height_deg: 40.0, floor_shadow: 1.0, ..LightNow::default() };
        let [draft, exact] =
            [Quality::Draft, Quality::Exact].map(|quality| draw(&[insert("HO", 0.0, 0.0)], &light.into(), quality));
        let plate = [90u8; 3];
        let both = draft.chunks(3).zip(exact.chunks(3)).filter(|(d, e)| *d != plate && *e != plate);
        let mut off: Vec<u8> = both.map(|(d, e)| d.iter().zip(e).map(|(a, b)| a.abs_diff(*b)).max().unwrap()).collect();
        off.sort_unstable();
        // Edges differ, and where faces keep the sun from one another: no draft looks for that.
        assert!(off.len() > 3000 && off[off.len() / 2] <= 2, "{} {}", off.len(), off[off.len() / 2]);
    }

    #[test]
    fn one_insert_throws_its_shadow_on_another() {
        let light = LightNow {
            bearing_deg: 0.0,
            height_deg: 30.0,
            sun: 1.0,
            ambient: 0.1,
            floor_shadow: 0.0,
            ..LightNow::default()
        }
        .into();
        let sum = |rgb: Vec<u8>| rgb.iter().map(|&b| u64::from(b)).sum::<u64>();
        let behind = Insert { id: InsertId(2), ..insert("HHH", 0.0, -2.0) };
        let alone = sum(draw(std::slice::from_ref(&behind), &light, Quality::Exact));
        // The blocker stands behind the camera's back, out of sight, in the way of the sun only.
        let mut blocker = insert("HHHHHH", 0.0, 6.0);
        blocker.placement.scale = 6.0.into();
        let shaded = sum(draw(&[behind, blocker], &light, Quality::Exact));
        assert!(shaded < alone, "{shaded} {alone}");
    }

    #[test]
    fn what_stands_throws_its_shadow_on_the_floor_and_nothing_else_changes() {
        // The sun stands behind the letter: its shadow falls towards the camera.
        let light = |floor_shadow| LightNow {
            bearing_deg: 180.0,
            height_deg: 40.0,
            sun: 0.8,
            ambient: 0.3,
            floor_shadow,
            ..LightNow::default()
        };
        for quality in [Quality::Draft, Quality::Exact] {
            let [with, without] = [1.0, 0.0].map(|s| draw(&[insert("I", 0.0, 0.0)], &light(s).into(), quality));
            let (pose, lens) = camera();
            let seen = |p: [f64; 3]| {
                let c = pose.to_camera(p.into());
                let px = lens.project(Vector2::new(c.x / c.z, c.y / c.z));
                3 * (320 * px.y.round() as usize + px.x.round() as usize)
            };
            let (shaded, lit) = (seen([0.0, 0.0, 0.7]), seen([0.8, 0.0, 0.7]));
            assert!(with[shaded] < 80 && without[shaded] == 90, "{} {quality:?}", with[shaded]);
            assert_eq!(with[lit], 90);
            let letter = seen([0.0, 0.5, 0.15]);
            assert_eq!(with[letter], without[letter]);
        }
    }

    #[test]
    fn what_moves_while_the_shutter_is_open_is_blurred_by_as_much() {
        let mut moving = insert("I", 0.0, 0.0);
        // About 24 px a frame to the right.
        let keys =
            vec![Key { ease: Ease::Linear, ..Key::smooth(-1.0, [-0.4, 0.0, 0.0]) }, Key::smooth(1.0, [0.4, 0.0, 0.0])];
        moving.placement.anchor.foot = Animated::Curve(Curve::new(keys).unwrap());
        let (pose, lens) = camera();
        let scene = RenderScene::build(&[moving], &unshaded(), &ShapeCache::default(), &NoAssets::shared()).unwrap();
        let row = |shutter: f64| {
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &scene, Quality::Exact, shutter).unwrap();
            let middle = lens.project(
                pose.to_camera(Vector3::new(0.0, 0.5, 0.15)).xy() / pose.to_camera(Vector3::new(0.0, 0.5, 0.15)).z,
            );
            let y = middle.y.round() as usize;
            (0..320).filter(|x| rgb[3 * (320 * y + x)..][..3] != [90; 3]).count() as f64
        };
        let (sharp, half, whole) = (row(0.0), row(0.5), row(1.0));
        // Sixteen moments reach fifteen sixteenths of the way.
        let way = 300.0 / 5.0 * 0.4;
        assert!((half - sharp - 0.5 * way * 15.0 / 16.0).abs() < 2.5, "{sharp} {half}, {way} px a frame");
        assert!((whole - sharp - way * 15.0 / 16.0).abs() < 3.5, "{sharp} {whole}");
    }

    /// One pixel: green for what is called 8, red for all else.
    #[derive(Debug)]
    struct Red;

    fn picture(called: u8) -> Asset {
        Asset { name: AssetName::of_digest(&[called; 32]), file: "sky.png".into() }
    }

    impl crate::Assets for Red {
        fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
            Ok(Run { frames: 1, rate: 1.0 })
        }

        fn picture(&self, name: &AssetName, _: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
            let green = *name == picture(8).name;
            Ok(Arc::new(Texture::new(1, 1, if green { &[0, 255, 0, 255] } else { &[255, 0, 0, 255] })))
        }

        fn model(&self, _: &AssetName) -> Result<Arc<crate::Model>, AssetError> {
            Err(AssetError("no model is asked for".to_owned()))
        }

        fn bytes(&self, _: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
            Err(AssetError("no file is asked for".to_owned()))
        }
    }

    /// Fault: as soon as anything followed the camera, everything cast rough shadows in the exact picture.
    #[test]
    fn what_follows_the_camera_leaves_the_shadows_of_the_rest_alone() {
        let light = LightNow {
            bearing_deg: 200.0,
            height_deg: 35.0,
            sun: 0.8,
            ambient: 0.3,
            floor_shadow: 1.0,
            ..LightNow::default()
        };
        let mut sky = Insert { id: InsertId(2), ..insert("", 0.0, 0.0) };
        sky.content =
            InsertKind::Backdrop(Backdrop { height_deg: 60.0, ..Backdrop::new(picture(7), 2.0, Spread::Flat) });
        let (pose, lens) = camera();
        let at = |f: u32| Pose { translation: pose.translation + Vector3::x() * 0.04 * f64::from(f), ..pose };
        let frames = (0..3).map(|f| SolvedFrame::new(f, at(f), lens, 0.1, 50)).collect();
        let solution = Solution { frames, ..Solution::empty(320, 180, 3) };
        let camera = CameraPath::new(&solution, &Similarity::identity()).at(1).unwrap();
        let drawn = |inserts: &[Insert]| {
            let scene =
                RenderScene::build(inserts, &light.into(), &ShapeCache::default(), &(Arc::new(Red) as Arc<_>)).unwrap();
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &camera, &scene, Quality::Exact, 1.0).unwrap();
            rgb
        };
        let (alone, before_sky) = (drawn(&[insert("HO", 0.0, 0.0)]), drawn(&[insert("HO", 0.0, 0.0), sky]));
        let differ = alone.iter().zip(&before_sky).filter(|(a, b)| a.abs_diff(**b) > 2).count();
        assert_eq!(differ, 0);
    }

    /// Fault: a card before a dome, and two domes, went through one another in stripes.
    #[test]
    fn of_far_pictures_the_later_is_in_front_all_over_and_what_stands_is_before_all() {
        let far = |id: u32, spread: Spread| {
            let mut far = Insert { id: InsertId(id), ..insert("", 0.0, 0.0) };
            let over = Backdrop {
                above_horizon: false,
                width_deg: 150.0,
                height_deg: -60.0,
                bearing_deg: 3.0 * f64::from(id),
                ..Backdrop::new(picture(6 + id as u8), 1.0, spread)
            };
            far.content = InsertKind::Backdrop(over);
            far
        };
        let (pose, lens) = camera();
        let drawn = |inserts: &[Insert], shutter: f64| {
            let assets: Arc<dyn crate::Assets> = Arc::new(Red);
            let scene = RenderScene::build(inserts, &unshaded(), &ShapeCache::default(), &assets).unwrap();
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &scene, Quality::Exact, shutter).unwrap();
            rgb
        };
        let count = |rgb: &[u8], of: usize| rgb.chunks(3).filter(|p| p[of] > 200 && p[1 - of] < 50).count();
        for spreads in [[Spread::Dome, Spread::Dome], [Spread::Dome, Spread::Flat], [Spread::Flat, Spread::Dome]] {
            let rgb = drawn(&[far(1, spreads[0]), far(2, spreads[1])], 0.0);
            assert_eq!((count(&rgb, 1), count(&rgb, 0)), (320 * 180, 0), "{spreads:?}");
        }
        let letters = drawn(&[Insert { id: InsertId(3), ..insert("HO", 0.0, 0.0) }, far(2, Spread::Dome)], 0.0);
        let seen = count(&letters, 1);
        assert!((20_000..57_000).contains(&seen), "letters stand before it: {seen}");
    }

    #[test]
    fn the_camera_may_fly_through_a_title() {
        let (_, lens) = camera();
        let scene =
            RenderScene::build(&[insert("OOO", 0.0, 0.0)], &unshaded(), &ShapeCache::default(), &NoAssets::shared())
                .unwrap();
        for z in [0.5, 0.1, 0.0, -0.1, -3.0] {
            let pose = Pose::look_at(Vector3::new(0.0, 0.5, z), Vector3::new(0.0, 0.5, z - 1.0), Vector3::y()).unwrap();
            let mut rgb = vec![90u8; 320 * 180 * 3];
            composite(&mut rgb, 320, 180, &Camera::new(pose, lens, 180), &scene, Quality::Exact, 0.0).unwrap();
            let changed = rgb.chunks(3).filter(|p| **p != [90; 3]).count();
            if z < -2.0 {
                assert_eq!(changed, 0, "all behind the camera");
            } else if z > 0.2 {
                assert!(changed > 10_000, "it fills the picture: {changed} pixels");
            }
        }
    }
}
