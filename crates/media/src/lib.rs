//! Clips and stills in through ffmpeg; videos, the camera file and scene exchange out.

mod asset;
mod clip;
mod error;
mod export;
mod tool;

pub use asset::model::rig::Rig;
pub use asset::model::{Companions, ModelCover, ModelFile, ModelMap, ModelMaterial, Rim};
pub use asset::{AssetFileError, AssetKind, FontFile, Picture, Pixels, table};
pub use clip::chosen::ChosenFrames;
pub use clip::decode::{FrameReader, PixelKind, write_proxies};
pub use clip::info::{ClipInfo, Levels};
pub use clip::note::Note;
pub use clip::probe::{probe, read_probe};
pub use clip::rate::Rate;
pub use clip::sequence::{Gathered, SequenceError, gather_folder, series_of, still_kind, unpack_zip};
pub use clip::source::Source;
pub use clip::still::StillError;
pub use error::MediaError;
pub use export::camera_file::{
    CameraDocument, CameraFrame, CameraSurface, MasksFileError, camera_document, read_masks,
};
pub use export::glb::{SceneMesh, glb};
pub use export::video::{AudioFrom, VideoColour, VideoWriter};
