//! Where pictures and models come from; who draws does not know how they are kept.

use crate::{Material, Mesh, Panorama, Texture};
use fennik_core::scene::{Alpha, AssetName, Key};
use nalgebra::Vector3;
use std::sync::Arc;

/// Why a file cannot be shown.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct AssetError(pub String);

/// How long a clip is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Run {
    /// Frames; one for a still.
    pub frames: u32,
    /// Times as many a second as the shot has.
    pub rate: f64,
}

/// What is done to a picture before it is shown.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Treatment {
    /// What its colours were multiplied by.
    pub alpha: Alpha,
    /// What of it is left out.
    pub key: Key,
    /// Whether it holds numbers rather than colours.
    pub numbers: bool,
    /// Whether a smaller frame of a clip will do.
    pub rough: bool,
}

/// How a model moves by itself.
pub trait Rig: Send + Sync + std::fmt::Debug {
    /// How long its motion is, seconds.
    fn length_s(&self) -> f64;

    /// Corners and normals at a time of it, in the order of the model's mesh and in its frame.
    fn posed(&self, seconds: f64) -> (Vec<Vector3<f32>>, Vec<Vector3<f32>>);
}

/// A model in its own frame.
#[derive(Debug, Clone)]
pub struct Model {
    /// All its triangles.
    pub mesh: Mesh,
    /// What they look like.
    pub materials: Vec<Material>,
    /// What its file calls them.
    pub names: Vec<String>,
    /// How it moves, where it does.
    pub rig: Option<Arc<dyn Rig>>,
}

/// Gives what inserts show.
pub trait Assets: Send + Sync + std::fmt::Debug {
    /// How long a file runs; a model for as long as it moves.
    ///
    /// # Errors
    /// [`AssetError`] when it is not there.
    fn run(&self, name: &AssetName) -> Result<Run, AssetError>;

    /// A frame of a picture or a clip.
    ///
    /// # Errors
    /// [`AssetError`] when it is not there or cannot be decoded.
    fn picture(&self, name: &AssetName, frame: u32, treatment: &Treatment) -> Result<Arc<Texture>, AssetError>;

    /// A frame of the plate itself; of those before its first and after its last one these.
    ///
    /// # Errors
    /// [`AssetError`] when there is none, or it cannot be decoded.
    fn plate(&self, frame: i64, rough: bool) -> Result<Arc<Texture>, AssetError> {
        let _ = rough;
        Err(AssetError(format!("there is no plate whose frame {frame} could be shown")))
    }

    /// A model.
    ///
    /// # Errors
    /// [`AssetError`] when it is not there or cannot be read.
    fn model(&self, name: &AssetName) -> Result<Arc<Model>, AssetError>;

    /// A picture all round.
    ///
    /// # Errors
    /// [`AssetError`] when it cannot be read.
    fn surroundings(&self, name: &AssetName) -> Result<Arc<Panorama>, AssetError> {
        Err(AssetError(format!("there are no surroundings {name}")))
    }

    /// A file as it is.
    ///
    /// # Errors
    /// [`AssetError`] when it is not there.
    fn bytes(&self, name: &AssetName) -> Result<Arc<Vec<u8>>, AssetError>;
}

/// No files at all: for scenes of titles alone.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoAssets;

impl NoAssets {
    /// For whoever asks for a shared one.
    pub fn shared() -> Arc<dyn Assets> {
        Arc::new(Self)
    }
}

impl Assets for NoAssets {
    fn run(&self, name: &AssetName) -> Result<Run, AssetError> {
        Err(missing(name))
    }

    fn picture(&self, name: &AssetName, _: u32, _: &Treatment) -> Result<Arc<Texture>, AssetError> {
        Err(missing(name))
    }

    fn model(&self, name: &AssetName) -> Result<Arc<Model>, AssetError> {
        Err(missing(name))
    }

    fn bytes(&self, name: &AssetName) -> Result<Arc<Vec<u8>>, AssetError> {
        Err(missing(name))
    }
}

fn missing(name: &AssetName) -> AssetError {
    AssetError(format!("the file {name} is not there"))
}
