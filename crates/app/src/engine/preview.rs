//! A small picture of something that could be placed, as it would stand.

use super::EngineError;
use super::assets::{AssetFiles, AssetInfo, ShotAssets, TakenAsset};
use super::kinds::{self, Wish};
use super::picture::jpeg_of;
use fennik_core::camera::Camera;
use fennik_core::geometry::{Lens, Pose};
use fennik_core::scene::{Insert, LightNow, Placement, Stance};
use fennik_media::Rate;
use fennik_render::{Quality, RenderScene, ShapeCache, composite};
use fennik_store::Store;
use nalgebra::Vector3;
use std::sync::Arc;

/// Its size, px.
const SIZE: [u32; 2] = [192, 144];
/// What stands behind it, display values.
const BEHIND: u8 = 46;
/// How much wider than what is shown the picture is.
const ROOM: f64 = 1.25;

/// A file as the insert that most would make of it.
///
/// # Errors
/// [`EngineError`] when it cannot be read.
pub fn of_asset(store: &Store, files: &Arc<AssetFiles>, taken: &TakenAsset) -> Result<Vec<u8>, EngineError> {
    let is_model = matches!(taken.info, AssetInfo::Model { .. });
    let kind = if is_model { "prop" } else { "sign" };
    let wish = Wish { kind, shows: Some(taken), distance_m: 10.0, toward: -Vector3::z(), frame: 0 };
    let placement = Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing);
    let insert = Insert::new(kinds::first_of(&wish)?, placement);
    let inserts = [insert];
    let assets = ShotAssets::of(store, files, &inserts, Rate { frames: 25, seconds: 1 })?;
    let light = LightNow { bearing_deg: 35.0, height_deg: 50.0, sun: 0.85, ambient: 0.4, floor_shadow: 0.0 };
    let scene = RenderScene::build(&inserts, &light.into(), &ShapeCache::default(), &assets)?;
    let mesh = RenderScene::mesh(&inserts[0], 0.0, assets.as_ref())?;
    let (low, high) = mesh.bounds().unwrap_or_default();
    let (low, high) = (low.cast::<f64>(), high.cast::<f64>());
    let middle = 0.5 * (low + high);
    // A model is seen from its side and above, a card from the front.
    let from = if is_model { Vector3::new(0.55, 0.4, 1.0).normalize() } else { Vector3::z() };
    let reach = 0.5 * (high - low).norm().max(1e-3);
    let [width, height] = SIZE;
    let focal = 1.6 * f64::from(height);
    let size = high - low;
    let needed = if is_model {
        ROOM * reach * 2.0 * focal / f64::from(height)
    } else {
        ROOM * focal * (size.x / f64::from(width)).max(size.y / f64::from(height)).max(1e-3)
    };
    let pose =
        Pose::look_at(middle + from * (needed + 0.5 * size.z), middle, Vector3::y()).ok_or(EngineError::Fault)?;
    let camera = Camera::new(pose, Lens::centred(focal, width, height), height);
    let mut rgb = vec![BEHIND; (3 * width * height) as usize];
    composite(&mut rgb, width as usize, height as usize, &camera, &scene, Quality::Exact, 0.0)?;
    jpeg_of(&rgb, width, height)
}
