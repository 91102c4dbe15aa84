//! Pictures and models for whoever draws, kept as long as there is room for them.

use super::key::treat;
use super::{AssetInfo, AssetsError, ShotOn, TakenAsset, companions, find, main_file};
use crate::engine::{EngineError, OpenShot};
use fennik_core::scene::{Asset, AssetName, Insert};
use fennik_media::{
    ClipInfo, FontFile, FrameReader, ModelCover, ModelFile, ModelMap, ModelMaterial, Picture, PixelKind, Pixels, Rate,
    Rim,
};
use fennik_render::{
    AssetError, Assets, ChannelMap, Cover, Map, Material, Mesh, Model, Panorama, Rig, Run, Texture, Treatment, Wrap,
    colour,
};
use fennik_store::Store;
use nalgebra::Vector3;
use std::collections::{HashMap, VecDeque};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Bytes of pictures that are kept.
const CACHE_BYTES: usize = 384 * 1024 * 1024;
/// Clips that are read on from where they were.
const READERS: usize = 6;
/// So far ahead a clip is read on rather than opened anew, frames.
const READ_ON: u32 = 24;
/// Frames before the wanted one that are kept when they are passed: of two that are asked for at once the later may come
/// first.
const PASSED: u32 = 1;
/// Width of a frame of a clip where a smaller one will do, px.
const ROUGH_WIDTH: u32 = 512;
/// Models that are kept.
const MODELS: usize = 32;

/// Pictures all round that are kept.
const PANORAMAS: usize = 4;
/// Most light of a pixel of them.
const MOST_LIGHT: f32 = 1e4;

fn bounded(v: f32) -> f32 {
    if v.is_finite() { v.clamp(0.0, MOST_LIGHT) } else { 0.0 }
}

/// All files of a data folder, as far as they were shown.
#[derive(Default)]
pub struct AssetFiles {
    pictures: Mutex<Pictures>,
    readers: Mutex<VecDeque<OpenClip>>,
    models: Mutex<VecDeque<(AssetName, Arc<Model>)>>,
    panoramas: Mutex<VecDeque<(AssetName, Arc<Panorama>)>>,
    /// Whose turn it is to read a clip: of a name, so wide.
    turns: Mutex<HashMap<(AssetName, u32), Arc<Turn>>>,
}

/// A clip is read by one at a time: whoever else wants a frame of it goes on from there, instead of beginning anew.
#[derive(Default)]
struct Turn {
    reading: Mutex<()>,
    /// Whether a frame is being read ahead.
    ahead: AtomicBool,
}

/// A frame of a file, and what was done to it, written down.
type PictureKey = (AssetName, u32, String);

#[derive(Default)]
struct Pictures {
    held: HashMap<PictureKey, Arc<Texture>>,
    order: VecDeque<PictureKey>,
    bytes: usize,
}

impl Pictures {
    fn hold(&mut self, key: PictureKey, texture: Arc<Texture>) {
        self.bytes += texture.bytes();
        if let Some(same) = self.held.insert(key.clone(), texture) {
            self.bytes -= same.bytes();
        } else {
            self.order.push_back(key);
        }
        while self.bytes > CACHE_BYTES {
            let Some(oldest) = self.order.pop_front() else { break };
            if let Some(gone) = self.held.remove(&oldest) {
                self.bytes -= gone.bytes();
            }
        }
    }
}

/// A frame that was read on the way to another, and its number.
type Passed = (u32, Vec<u8>);

/// A clip that is being read.
struct OpenClip {
    name: AssetName,
    /// Of its frames as they are read, px.
    width: u32,
    /// The frame that comes next.
    next: u32,
    reader: FrameReader,
}

fn locked<T>(slot: &Mutex<T>) -> MutexGuard<'_, T> {
    slot.lock().unwrap_or_else(PoisonError::into_inner)
}

impl AssetFiles {
    fn picture(&self, known: &Known, frame: u32, treatment: &Treatment) -> Result<Arc<Texture>, EngineError> {
        let name = &known.taken.asset.name;
        let treatment = &known.treated(treatment);
        let key = |frame: u32, t: &Treatment| (name.clone(), frame, format!("{t:?}"));
        let there = || {
            // The larger frame does as well.
            let pictures = locked(&self.pictures);
            let fine = Treatment { rough: false, ..*treatment };
            [&fine, treatment].into_iter().find_map(|t| pictures.held.get(&key(frame, t)).cloned())
        };
        if let Some(there) = there() {
            return Ok(there);
        }
        let turn = self.turn(known, treatment);
        let reading = turn.as_ref().map(|t| locked(&t.reading));
        // Somebody may have read it meanwhile.
        if let Some(there) = reading.is_some().then(there).flatten() {
            return Ok(there);
        }
        let made = |(width, height): (u32, u32), mut rgba: Vec<u8>| {
            treat(&mut rgba, treatment.alpha, &treatment.key);
            let (width, height) = (width as usize, height as usize);
            Arc::new(if treatment.numbers {
                Texture::of_numbers(width, height, &rgba)
            } else {
                Texture::new(width, height, &rgba)
            })
        };
        let AssetInfo::Clip { clip, .. } = &known.taken.info else {
            let file = &known.taken.asset.file;
            let picture = Picture::open(&main_file(&known.folder, file), file).map_err(AssetsError::from)?;
            let texture = made((picture.width, picture.height), display_values(picture.pixels));
            locked(&self.pictures).hold(key(frame, treatment), texture.clone());
            return Ok(texture);
        };
        let mut clip = (**clip).clone();
        clip.source = clip.source.rebased(&known.folder);
        if treatment.rough {
            clip = clip.shrunk(ROUGH_WIDTH);
        }
        let (before, wanted) = self.frames(name, &clip, frame)?;
        // Whoever asked for the one before just now waits for its turn.
        for (earlier, rgba) in before {
            let texture = made((clip.width, clip.height), rgba);
            locked(&self.pictures).hold(key(earlier, treatment), texture);
        }
        let texture = made((clip.width, clip.height), wanted);
        locked(&self.pictures).hold(key(frame, treatment), texture.clone());
        Ok(texture)
    }

    /// Reads the frame of a clip after this one while this one is drawn.
    fn read_ahead(self: &Arc<Self>, known: &Known, frame: u32, treatment: &Treatment) {
        let AssetInfo::Clip { clip, .. } = &known.taken.info else { return };
        let next = if frame + 1 < clip.frames { frame + 1 } else { return };
        let treatment = &known.treated(treatment);
        let key = (known.taken.asset.name.clone(), next, format!("{treatment:?}"));
        let Some(turn) = self.turn(known, treatment) else { return };
        if locked(&self.pictures).held.contains_key(&key) || turn.ahead.swap(true, Ordering::AcqRel) {
            return;
        }
        let (files, known, treatment) = (self.clone(), known.clone(), *treatment);
        std::thread::spawn(move || {
            // Whoever asks for that frame is told what is wrong with it.
            let _ = files.picture(&known, next, &treatment);
            turn.ahead.store(false, Ordering::Release);
        });
    }

    /// Whose turn it is to read a file; `None` for a still.
    fn turn(&self, known: &Known, treatment: &Treatment) -> Option<Arc<Turn>> {
        let AssetInfo::Clip { clip, .. } = &known.taken.info else { return None };
        let width = if treatment.rough { ROUGH_WIDTH } else { clip.width };
        Some(locked(&self.turns).entry((known.taken.asset.name.clone(), width)).or_default().clone())
    }

    /// A frame of a clip, after those just before it that were passed; one that comes soon after the last one is read on
    /// to.
    fn frames(&self, name: &AssetName, clip: &ClipInfo, frame: u32) -> Result<(Vec<Passed>, Vec<u8>), EngineError> {
        let open = {
            let mut readers = locked(&self.readers);
            let at = readers
                .iter()
                .position(|r| &r.name == name && r.width == clip.width && (r.next..r.next + READ_ON).contains(&frame));
            at.and_then(|i| readers.remove(i))
        };
        let mut open = match open {
            Some(open) => open,
            None => {
                let reader = FrameReader::open(clip, Some((frame, clip.frames.max(frame + 1))), PixelKind::Rgba);
                OpenClip {
                    name: name.clone(),
                    width: clip.width,
                    next: frame,
                    reader: reader.map_err(AssetsError::from)?,
                }
            }
        };
        let (mut passed, mut bytes) = (Vec::new(), None);
        while open.next <= frame {
            let read = open.reader.next_frame().map_err(AssetsError::from)?.map(<[u8]>::to_vec);
            if open.next == frame {
                bytes = read;
            } else if open.next + PASSED >= frame {
                passed.extend(read.map(|r| (open.next, r)));
            }
            open.next += 1;
        }
        let mut readers = locked(&self.readers);
        readers.push_back(open);
        if readers.len() > READERS {
            readers.pop_front();
        }
        Ok((passed, bytes.ok_or(crate::engine::output::OutputError::NoFrame { frame })?))
    }

    /// A picture all round, in linear light.
    fn panorama(&self, known: &Known) -> Result<Arc<Panorama>, EngineError> {
        let name = &known.taken.asset.name;
        if let Some((_, there)) = locked(&self.panoramas).iter().find(|(n, _)| n == name) {
            return Ok(there.clone());
        }
        let file = &known.taken.asset.file;
        if !matches!(known.taken.info, AssetInfo::Picture { .. }) {
            let why = format!("“{file}” is no picture; surroundings are one (HDR, EXR, JPEG, PNG)");
            return Err(AssetsError::Shown { why }.into());
        }
        let picture = Picture::open(&main_file(&known.folder, file), file).map_err(AssetsError::from)?;
        let light = match &picture.pixels {
            Pixels::Encoded(rgba) => rgba.chunks_exact(4).map(|p| [p[0], p[1], p[2]].map(colour::linear_of)).collect(),
            // Light without end would put out all the rest.
            Pixels::Linear(rgba) => rgba.chunks_exact(4).map(|p| [p[0], p[1], p[2]].map(bounded)).collect(),
        };
        let made = Arc::new(Panorama::new(picture.width as usize, picture.height as usize, light));
        let mut all = locked(&self.panoramas);
        all.push_back((name.clone(), made.clone()));
        if all.len() > PANORAMAS {
            all.pop_front();
        }
        Ok(made)
    }

    fn model(&self, known: &Known) -> Result<Arc<Model>, EngineError> {
        let name = &known.taken.asset.name;
        if let Some((_, there)) = locked(&self.models).iter().find(|(n, _)| n == name) {
            return Ok(there.clone());
        }
        let (folder, called) = (&known.folder, &known.taken.asset.file);
        let path = main_file(folder, called);
        let file = ModelFile::open(&path, called, &companions(folder, &path)).map_err(AssetsError::from)?;
        let model = Arc::new(model_of(file));
        let mut models = locked(&self.models);
        models.push_back((name.clone(), model.clone()));
        if models.len() > MODELS {
            models.pop_front();
        }
        Ok(model)
    }
}

/// Pixels as encoded for display, with straight alpha.
pub fn display_values(pixels: Pixels) -> Vec<u8> {
    match pixels {
        Pixels::Encoded(rgba) => rgba,
        // Files of linear light hold colours times alpha; what is brighter than white is white.
        Pixels::Linear(rgba) => rgba
            .chunks_exact(4)
            .flat_map(|p| {
                let alpha = p[3].clamp(0.0, 1.0);
                let light = |v: f32| colour::byte_of(v / alpha.max(1e-4));
                [light(p[0]), light(p[1]), light(p[2]), (alpha * 255.0 + 0.5) as u8]
            })
            .collect(),
    }
}

/// A model as it is drawn.
pub fn model_of(file: ModelFile) -> Model {
    let sizes: Vec<(usize, usize)> = file.pictures.iter().map(|p| (p.width as usize, p.height as usize)).collect();
    let pixels: Vec<Vec<u8>> = file.pictures.into_iter().map(|p| display_values(p.pixels)).collect();
    let mut light: HashMap<usize, Arc<Texture>> = HashMap::new();
    let mut numbers: HashMap<usize, Arc<Texture>> = HashMap::new();
    let mut map = |of: &Option<ModelMap>, is_light: bool| {
        let of = of.as_ref()?;
        let (rgba, (width, height)) = (pixels.get(of.picture)?, *sizes.get(of.picture)?);
        let make = || {
            Arc::new(if is_light {
                Texture::new(width, height, rgba)
            } else {
                Texture::of_numbers(width, height, rgba)
            })
        };
        let texture = if is_light { &mut light } else { &mut numbers }.entry(of.picture).or_insert_with(make).clone();
        let wrap = of.rim.map(|r| match r {
            Rim::Clamp => Wrap::Clamp,
            Rim::Repeat => Wrap::Repeat,
            Rim::Mirror => Wrap::Mirror,
        });
        Some(Map { texture, wrap, transform: of.transform })
    };
    let materials = file
        .materials
        .iter()
        .map(|m: &ModelMaterial| Material {
            base: m.base,
            base_map: map(&m.base_map, true),
            metal: m.metal,
            rough: m.rough,
            rough_map: map(&m.surface_map, false).map(|m| ChannelMap::new(m, 1)),
            metal_map: map(&m.surface_map, false).map(|m| ChannelMap::new(m, 2)),
            occlusion_map: m.occlusion_map.as_ref().and_then(|(of, strength)| {
                let made = map(&Some(of.clone()), false)?;
                Some(ChannelMap { strength: *strength, ..ChannelMap::new(made, 0) })
            }),
            normal_map: map(&m.normal_map, false),
            emission: m.emission,
            emission_map: map(&m.emission_map, true),
            cover: match m.cover {
                ModelCover::Opaque => Cover::Opaque,
                ModelCover::Mask(from) => Cover::Mask(from),
                ModelCover::Blend => Cover::Blend,
            },
            two_sided: m.two_sided,
            glows: m.unlit,
            shines: !m.unlit,
            ..Material::matt([1.0; 3])
        })
        .collect();
    let flat = file.normals.iter().all(|n| *n == [0.0; 3]);
    let mesh = Mesh {
        positions: file.positions.into_iter().map(Vector3::from).collect(),
        indices: file.triangles,
        normals: if flat { Vec::new() } else { file.normals.into_iter().map(Vector3::from).collect() },
        uvs: file.uvs,
        colours: file.colours,
        parts: file.parts,
    };
    let names = file.materials.iter().map(|m| m.name.clone()).collect();
    let rig = file.rig.filter(|r| r.length_s > 0.0).map(|rig| Arc::new(OwnMotion { rig, flat }) as Arc<dyn Rig>);
    Model { mesh, materials, names, rig }
}

/// The motion that a model's file holds.
#[derive(Debug)]
struct OwnMotion {
    rig: fennik_media::Rig,
    /// Without normals.
    flat: bool,
}

impl Rig for OwnMotion {
    fn length_s(&self) -> f64 {
        self.rig.length_s
    }

    fn posed(&self, seconds: f64) -> (Vec<Vector3<f32>>, Vec<Vector3<f32>>) {
        let (positions, normals) = self.rig.posed(Some(seconds));
        let normals = if self.flat { Vec::new() } else { normals.into_iter().map(Vector3::from).collect() };
        (positions.into_iter().map(Vector3::from).collect(), normals)
    }
}

/// A file that was taken in, and where it lies.
#[derive(Clone)]
struct Known {
    taken: TakenAsset,
    folder: PathBuf,
}

impl Known {
    /// What is done to it: nothing is made smaller that is small.
    fn treated(&self, treatment: &Treatment) -> Treatment {
        let large = matches!(&self.taken.info, AssetInfo::Clip { clip, .. } if clip.width > ROUGH_WIDTH);
        Treatment { rough: treatment.rough && large, ..*treatment }
    }
}

/// The files that the inserts of a document show, in a shot of a rate.
pub struct ShotAssets {
    files: Arc<AssetFiles>,
    known: HashMap<AssetName, Known>,
    rate: Rate,
    plate: Option<PlateFile>,
}

/// The clip of the shot itself, as a file of its own.
struct PlateFile {
    known: Known,
    /// First frame of the trim, and the one after its last.
    range: (u32, u32),
}

impl PlateFile {
    fn of(shot: &OpenShot) -> Self {
        let mut digest = [0xff; 32];
        digest[..8].copy_from_slice(&shot.state.shot.clip.0.to_be_bytes());
        let asset = Asset { name: AssetName::of_digest(&digest), file: shot.clip.name() };
        let info = AssetInfo::Clip { clip: Box::new(shot.clip.clone()), ground: ShotOn::Anything };
        let taken = TakenAsset { asset, kind: String::new(), info };
        Self { known: Known { taken, folder: PathBuf::new() }, range: shot.range() }
    }
}

impl std::fmt::Debug for ShotAssets {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ShotAssets")
            .field("known", &self.known.keys())
            .field("rate", &self.rate)
            .finish_non_exhaustive()
    }
}

impl ShotAssets {
    /// Looks up what inserts of a shot show. What was never taken in is missed only when it is to be drawn.
    ///
    /// # Errors
    /// [`EngineError`] when the database refuses.
    pub fn of(
        store: &Store,
        files: &Arc<AssetFiles>,
        inserts: &[Insert],
        shot: Option<&OpenShot>,
    ) -> Result<Arc<dyn Assets>, EngineError> {
        Self::of_all(store, files, inserts.iter().flat_map(|i| i.content.assets()), shot)
    }

    /// The same for any files.
    ///
    /// # Errors
    /// As [`ShotAssets::of`].
    pub fn of_all<'a>(
        store: &Store,
        files: &Arc<AssetFiles>,
        assets: impl Iterator<Item = &'a Asset>,
        shot: Option<&OpenShot>,
    ) -> Result<Arc<dyn Assets>, EngineError> {
        let mut known = HashMap::new();
        for asset in assets {
            if store.asset(&asset.name)?.is_some() {
                let taken = find(store, &asset.name)?;
                known.insert(asset.name.clone(), Known { taken, folder: store.asset_folder(&asset.name) });
            }
        }
        let rate = shot.map_or(Rate { frames: 25, seconds: 1 }, |s| s.clip.rate);
        Ok(Arc::new(Self { files: files.clone(), known, rate, plate: shot.map(PlateFile::of) }))
    }

    fn known(&self, name: &AssetName) -> Result<&Known, AssetError> {
        self.known.get(name).ok_or_else(|| said(&AssetsError::NoSuch { name: name.clone() }))
    }
}

fn said(why: &impl std::fmt::Display) -> AssetError {
    AssetError(why.to_string())
}

impl Assets for ShotAssets {
    fn run(&self, name: &AssetName) -> Result<Run, AssetError> {
        Ok(match &self.known(name)?.taken.info {
            AssetInfo::Clip { clip, .. } => {
                Run { frames: clip.frames, rate: clip.rate.per_second() / self.rate.per_second() }
            }
            AssetInfo::Model { length_s, .. } => {
                Run { frames: (length_s * self.rate.per_second()).round().max(1.0) as u32, rate: 1.0 }
            }
            _ => Run { frames: 1, rate: 1.0 },
        })
    }

    fn picture(&self, name: &AssetName, frame: u32, treatment: &Treatment) -> Result<Arc<Texture>, AssetError> {
        let known = self.known(name)?;
        let picture = self.files.picture(known, frame, treatment).map_err(|e| said(&e))?;
        self.files.read_ahead(known, frame, treatment);
        Ok(picture)
    }

    fn plate(&self, frame: i64, rough: bool) -> Result<Arc<Texture>, AssetError> {
        let none = || AssetError("there is no plate".to_owned());
        let PlateFile { known, range: (first, end) } = self.plate.as_ref().ok_or_else(none)?;
        let at = (i64::from(*first) + frame).clamp(i64::from(*first), i64::from(*end) - 1) as u32;
        let treatment = Treatment { rough, ..Treatment::default() };
        let picture = self.files.picture(known, at, &treatment).map_err(|e| said(&e))?;
        self.files.read_ahead(known, at, &treatment);
        Ok(picture)
    }

    fn surroundings(&self, name: &AssetName) -> Result<Arc<Panorama>, AssetError> {
        self.files.panorama(self.known(name)?).map_err(|e| said(&e))
    }

    fn bytes(&self, name: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
        let known = self.known(name)?;
        let file = &known.taken.asset.file;
        let font = FontFile::open(&main_file(&known.folder, file), file).map_err(|e| said(&e))?;
        Ok(Arc::new(font.bytes))
    }

    fn model(&self, name: &AssetName) -> Result<Arc<Model>, AssetError> {
        self.files.model(self.known(name)?).map_err(|e| said(&e))
    }
}
