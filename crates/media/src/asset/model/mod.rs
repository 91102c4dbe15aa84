//! Models: glTF and GLB, OBJ with MTL, PLY, STL.

mod flat;
mod gltf_file;
mod obj;
pub mod rig;

pub use rig::Rig;

use super::{AssetFileError, Picture, bytes_of, extension};
use std::collections::BTreeMap;
use std::path::Path;

/// Triangles at most.
pub(crate) const MOST_TRIANGLES: usize = 3_000_000;

/// What lies beyond the rim of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Rim {
    /// The rim.
    Clamp,
    /// The picture again.
    #[default]
    Repeat,
    /// The picture mirrored.
    Mirror,
}

/// A picture on a model.
#[derive(Debug, Clone, PartialEq)]
pub struct ModelMap {
    /// Position among the model's pictures.
    pub picture: usize,
    /// Across and down.
    pub rim: [Rim; 2],
    /// Rows of two, then a shift.
    pub transform: [f32; 6],
}

/// What is done with alpha.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum ModelCover {
    /// Nothing.
    #[default]
    Opaque,
    /// All or nothing from here on.
    Mask(f32),
    /// What lies behind shows through.
    Blend,
}

/// A material (glTF 2.0, section 3.9).
#[derive(Debug, Clone, PartialEq)]
pub struct ModelMaterial {
    /// What it is called.
    pub name: String,
    /// Linear light and alpha.
    pub base: [f32; 4],
    /// 0 or 1 and between.
    pub metal: f32,
    /// 0 is smooth.
    pub rough: f32,
    /// Linear light that it gives.
    pub emission: [f32; 3],
    /// Colours.
    pub base_map: Option<ModelMap>,
    /// Roughness in green, metal in blue.
    pub surface_map: Option<ModelMap>,
    /// How much of the light from everywhere reaches it, in red, and how much that counts.
    pub occlusion_map: Option<(ModelMap, f32)>,
    /// Directions.
    pub normal_map: Option<ModelMap>,
    /// Light that it gives.
    pub emission_map: Option<ModelMap>,
    /// What shows through.
    pub cover: ModelCover,
    /// Whether its back is seen.
    pub two_sided: bool,
    /// Whether it shows its base as it is.
    pub unlit: bool,
}

impl Default for ModelMaterial {
    fn default() -> Self {
        Self {
            name: String::new(),
            base: [0.6, 0.6, 0.6, 1.0],
            metal: 0.0,
            rough: 0.8,
            emission: [0.0; 3],
            base_map: None,
            surface_map: None,
            occlusion_map: None,
            normal_map: None,
            emission_map: None,
            cover: ModelCover::Opaque,
            two_sided: true,
            unlit: false,
        }
    }
}

/// A model in its own units and axes, all its parts in one frame.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ModelFile {
    /// Corners.
    pub positions: Vec<[f32; 3]>,
    /// One per corner, of unit length; zero where a face is flat.
    pub normals: Vec<[f32; 3]>,
    /// One per corner; the origin is at the top left.
    pub uvs: Vec<[f32; 2]>,
    /// Linear light and alpha, one per corner; empty where all are white.
    pub colours: Vec<[f32; 4]>,
    /// How it moves by itself, where it does.
    pub rig: Option<Rig>,
    /// Counter-clockwise from outside.
    pub triangles: Vec<[u32; 3]>,
    /// The material of each triangle.
    pub parts: Vec<u16>,
    /// At least one.
    pub materials: Vec<ModelMaterial>,
    /// What the maps refer to.
    pub pictures: Vec<Picture>,
    /// What was left out or is only approximated, in words.
    pub notes: Vec<String>,
    /// Whether its own Z points up.
    pub z_up: bool,
    /// Metres of one of its units, as its kind has it, or by its size.
    pub unit_m: f64,
}

/// Files that came with a model, by their names.
pub type Companions = BTreeMap<String, Vec<u8>>;

impl ModelFile {
    /// Reads a file; `name` is what it is called, and says what it is. `with` holds what else came with it.
    ///
    /// # Errors
    /// [`AssetFileError`] when it is no model, too large, or refers to what is not there.
    pub fn open(path: &Path, name: &str, with: &Companions) -> Result<Self, AssetFileError> {
        Self::read(&bytes_of(path, name)?, name, with)
    }

    /// Reads the bytes of a file.
    ///
    /// # Errors
    /// As [`ModelFile::open`].
    pub fn read(bytes: &[u8], name: &str, with: &Companions) -> Result<Self, AssetFileError> {
        let mut model = match extension(name).as_str() {
            "obj" => obj::read(bytes, name, with)?,
            "ply" => flat::ply(bytes, name)?,
            "stl" => flat::stl(bytes, name)?,
            _ => gltf_file::read(bytes, name, with)?,
        };
        model.check(name)?;
        if model.unit_m <= 0.0 {
            model.unit_m = model.guessed_unit();
        }
        Ok(model)
    }

    fn check(&mut self, name: &str) -> Result<(), AssetFileError> {
        let n = self.positions.len();
        if self.triangles.is_empty() || n == 0 {
            return Err(AssetFileError::Empty { name: name.to_owned() });
        }
        too_many(self.triangles.len(), name)?;
        if self.positions.iter().flatten().any(|v| !v.is_finite() || v.abs() > 1e12) {
            return Err(AssetFileError::unreadable(name, "a corner of it lies nowhere"));
        }
        if self.triangles.iter().flatten().any(|k| *k as usize >= n) {
            return Err(AssetFileError::unreadable(name, "a face of it has a corner that is not there"));
        }
        if self.materials.is_empty() {
            self.materials.push(ModelMaterial::default());
        }
        // Materials are told by their names.
        for i in 0..self.materials.len() {
            let name = self.materials[i].name.trim().to_owned();
            let taken = self.materials[..i].iter().any(|m| m.name == name);
            self.materials[i].name =
                if name.is_empty() || taken { format!("{name} {}", i + 1).trim().into() } else { name };
        }
        let last = self.materials.len() as u16 - 1;
        self.parts.resize(self.triangles.len(), 0);
        self.parts.iter_mut().for_each(|p| *p = (*p).min(last));
        self.normals.resize(n, [0.0; 3]);
        self.uvs.resize(n, [0.0; 2]);
        if !self.colours.is_empty() {
            self.colours.resize(n, [1.0; 4]);
            self.colours.iter_mut().flatten().for_each(|v| *v = if v.is_finite() { v.clamp(0.0, 1.0) } else { 1.0 });
        }
        for normal in &mut self.normals {
            let length = normal.iter().map(|v| v * v).sum::<f32>().sqrt();
            *normal = if length.is_finite() && length > 1e-6 { normal.map(|v| v / length) } else { [0.0; 3] };
        }
        self.uvs.iter_mut().flatten().filter(|v| !v.is_finite()).for_each(|v| *v = 0.0);
        Ok(())
    }

    /// Least and greatest corner.
    pub fn bounds(&self) -> [[f32; 3]; 2] {
        let first = self.positions.first().copied().unwrap_or_default();
        self.positions.iter().fold([first, first], |[low, high], p| {
            [std::array::from_fn(|k| low[k].min(p[k])), std::array::from_fn(|k| high[k].max(p[k]))]
        })
    }

    /// What one of its units may be: metres, centimetres or millimetres, by which it would be of a size that people place.
    fn guessed_unit(&self) -> f64 {
        let [low, high] = self.bounds();
        let size = (0..3).map(|k| f64::from(high[k] - low[k])).fold(0.0, f64::max);
        [1.0, 0.01, 0.001].into_iter().find(|u| (0.02..40.0).contains(&(size * u))).unwrap_or(if size > 0.0 {
            1.0 / size
        } else {
            1.0
        })
    }
}

pub(crate) fn too_many(triangles: usize, name: &str) -> Result<(), AssetFileError> {
    if triangles > MOST_TRIANGLES {
        let what = format!("{triangles} triangles of at most {MOST_TRIANGLES}");
        return Err(AssetFileError::TooLarge { name: name.to_owned(), what });
    }
    Ok(())
}
