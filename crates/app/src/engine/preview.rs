//! A small picture of something that could be placed, as it would stand.

use super::EngineError;
use super::assets::{AssetFiles, AssetInfo, AssetsError, ShotAssets, ShotOn, TakenAsset, display_values, model_of};
use super::kinds::{self, Wish};
use super::picture::jpeg_of;
use fennik_core::camera::Camera;
use fennik_core::geometry::{Lens, Pose};
use fennik_core::scene::{Asset, AssetName, Insert, InsertKind, LightNow, Placement, Stance};
use fennik_demo::library::Item;
use fennik_media::{AssetKind, Companions, ModelFile, Picture};
use fennik_render::{AssetError, Assets, Model, Quality, RenderScene, Run, ShapeCache, Texture, Treatment, composite};
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
    let inserts = [insert_of(taken)?];
    let assets = ShotAssets::of(store, files, &inserts, None)?;
    drawn(&inserts, &assets, matches!(taken.info, AssetInfo::Model { .. }))
}

/// An item of the library, made for the look alone.
///
/// # Errors
/// [`EngineError`] when it cannot be made.
pub fn of_item(item: &Item) -> Result<Vec<u8>, EngineError> {
    let file = item.look().ok_or(EngineError::Fault)?;
    let shown = Arc::new(OneFile::of(&file.name, &file.bytes)?);
    let asset = Asset { name: AssetName::of_digest(&[0; 32]), file: file.name };
    let is_model = shown.model.is_some();
    let info = shown.info();
    let inserts = [insert_of(&TakenAsset { asset, kind: String::new(), info })?];
    let assets: Arc<dyn Assets> = shown;
    drawn(&inserts, &assets, is_model)
}

fn insert_of(taken: &TakenAsset) -> Result<Insert, EngineError> {
    let kind = match taken.info {
        AssetInfo::Model { .. } => "prop",
        AssetInfo::Font { .. } => "title",
        _ => "sign",
    };
    let wish = Wish { kind, shows: Some(taken), distance_m: 10.0, toward: -Vector3::z(), frame: 0 };
    let placement = Placement::on([0.0; 3], [0.0, 1.0, 0.0], Stance::Standing);
    let mut insert = Insert::new(kinds::first_of(&wish)?, placement);
    if let InsertKind::Title(title) = &mut insert.content {
        // A letter that nearly every font has.
        title.text = "A".to_owned();
    }
    Ok(insert)
}

/// One picture or one model that lies in no folder.
#[derive(Debug)]
struct OneFile {
    picture: Option<Arc<Texture>>,
    model: Option<Arc<Model>>,
    size: [u32; 2],
}

impl OneFile {
    fn of(name: &str, bytes: &[u8]) -> Result<Self, EngineError> {
        if AssetKind::of(name) == AssetKind::Model {
            let file = ModelFile::read(bytes, name, &Companions::new()).map_err(AssetsError::from)?;
            return Ok(Self { picture: None, model: Some(Arc::new(model_of(file))), size: [1, 1] });
        }
        let picture = Picture::read(bytes, name).map_err(AssetsError::from)?;
        let size = [picture.width, picture.height];
        let rgba = display_values(picture.pixels);
        let texture = Texture::new(size[0] as usize, size[1] as usize, &rgba);
        Ok(Self { picture: Some(Arc::new(texture)), model: None, size })
    }

    fn info(&self) -> AssetInfo {
        let [width, height] = self.size;
        match &self.model {
            Some(_) => AssetInfo::Model {
                size: [1.0; 3],
                unit_m: 1.0,
                z_up: false,
                triangles: 1,
                notes: Vec::new(),
                length_s: 0.0,
                materials: Vec::new(),
            },
            None => AssetInfo::Picture { width, height, ground: ShotOn::Anything },
        }
    }
}

fn none() -> AssetError {
    AssetError("there is no such file".to_owned())
}

impl Assets for OneFile {
    fn run(&self, _: &AssetName) -> Result<Run, AssetError> {
        Ok(Run { frames: 1, rate: 1.0 })
    }

    fn picture(&self, _: &AssetName, _: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
        self.picture.clone().ok_or_else(none)
    }

    fn model(&self, _: &AssetName) -> Result<Arc<Model>, AssetError> {
        self.model.clone().ok_or_else(none)
    }

    fn bytes(&self, _: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
        Err(none())
    }
}

fn drawn(inserts: &[Insert; 1], assets: &Arc<dyn Assets>, is_model: bool) -> Result<Vec<u8>, EngineError> {
    let light = LightNow {
        bearing_deg: 35.0,
        height_deg: 50.0,
        sun: 0.85,
        ambient: 0.4,
        floor_shadow: 0.0,
        ..LightNow::default()
    };
    let scene = RenderScene::build(inserts, &light.into(), &ShapeCache::default(), assets)?;
    let mesh = RenderScene::mesh(&inserts[0], &[], 0.0, assets.as_ref())?;
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
