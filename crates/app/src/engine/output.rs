//! What a person takes away: the video, the camera file, the scene.

use super::assets::ShotAssets;
use super::compose::Composer;
use super::{EngineError, OpenShot, fronts, picture};
use fennik_core::camera::CameraPath;
use fennik_core::scene::{Insert, InsertKind, Light};
use fennik_media::{AudioFrom, FrameReader, PixelKind, SceneMesh, VideoColour, VideoWriter, camera_document, glb};
use fennik_render::{Quality, RenderScene, ShapeCache, colour};
use fennik_store::Store;
use nalgebra::Vector3;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Why something cannot be handed over.
#[derive(Debug, thiserror::Error)]
pub enum OutputError {
    /// The clip broke off.
    #[error("{read} of {of} frames could be read; the video before is kept. Decode the clip again")]
    Short {
        /// Frames that were read.
        read: u32,
        /// Frames of the trim.
        of: u32,
    },
    /// Frames that there are not.
    #[error("frames {first} to {last} are none of this shot; it has frames 0 to {end}")]
    NoFrames {
        /// First that was asked for.
        first: u32,
        /// Last that was asked for.
        last: u32,
        /// Last that there is.
        end: u32,
    },
    /// One frame of the clip.
    #[error("frame {frame} cannot be decoded")]
    NoFrame {
        /// Of the trimmed clip, or of the file where that is what was asked for.
        frame: u32,
    },
    /// A folder for stills.
    #[error("the stills cannot be written to {}: {why}", folder.display())]
    Stills {
        /// Where to.
        folder: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// A file.
    #[error("{} cannot be written: {why}", path.display())]
    File {
        /// Where to.
        path: PathBuf,
        /// What is wrong with it.
        why: std::io::Error,
    },
    /// A path that ends in nothing.
    #[error("{} is no file's name", path.display())]
    NoName {
        /// Where to.
        path: PathBuf,
    },
    /// Where videos are kept.
    #[error("no folder for the video could be made: {why}")]
    NoFolder {
        /// What is wrong with it.
        why: std::io::Error,
    },
}

/// Names all that can be seen in a video of the shot: a change that it would not show leaves the name as it is.
pub fn shows(shot: &OpenShot) -> String {
    let trim = shot.document().trim;
    format!("{} {}-{}", picture::key(shot), trim.first, trim.last)
}

/// Renders the trimmed clip with its inserts to an MP4 file. `go_on` hears of frames done and in all,
/// and may stop it.
///
/// # Errors
/// [`EngineError`] when something cannot be read or written.
pub fn video(
    store: &Store,
    shot: &OpenShot,
    target: &Path,
    mut go_on: impl FnMut(u32, u32) -> bool,
) -> Result<(), EngineError> {
    let composer = Composer::of_shot(store, shot)?;
    let (first, end) = shot.range();
    let (transfer, primaries) = composer.law().delivered();
    let deep = shot.clip.deep;
    let kind = if deep { PixelKind::DeepRgb } else { PixelKind::Rgb };
    let mut reader = FrameReader::open(&shot.clip, Some((first, end)), kind)?;
    let audio = AudioFrom { clip: &shot.clip, first, end };
    // What is drawn in bytes is drawn for displays.
    let colour = if deep { VideoColour { deep, transfer, primaries } } else { VideoColour::default() };
    let mut writer = VideoWriter::create(target, &shot.clip, colour, Some(audio))?;
    let size = (shot.clip.width, shot.clip.height);
    let mut buffer = Vec::new();
    let mut frame = 0;
    // Every frame of the trim, or no video: the reader tells when one is missing.
    while let Some(bytes) = reader.next_frame()? {
        if deep {
            let mut codes = codes_of(bytes);
            composer.finish_deep(&mut codes, size, frame)?;
            buffer = bytes_of(&codes);
        } else {
            buffer.clear();
            buffer.extend_from_slice(bytes);
            composer.finish(&mut buffer, size, (frame, frame), Quality::Exact, None)?;
        }
        writer.push(&buffer)?;
        frame += 1;
        if !go_on(frame, end - first) {
            return Err(EngineError::Stopped);
        }
    }
    if frame != end - first {
        return Err(OutputError::Short { read: frame, of: end - first }.into());
    }
    writer.finish()?;
    Ok(())
}

/// Renders frames `first` to `last` of the trimmed clip as PNG stills `000012.png`, ... into a folder.
///
/// # Errors
/// [`EngineError`] when the frames are none of the clip's, or something cannot be read or written.
pub fn stills(
    store: &Store,
    shot: &OpenShot,
    (first, last): (u32, u32),
    folder: &Path,
    mut go_on: impl FnMut(u32, u32) -> bool,
) -> Result<(), EngineError> {
    let composer = Composer::of_shot(store, shot)?;
    let (width, height) = (shot.clip.width, shot.clip.height);
    each_frame(shot, (first, last), |frame, rgb| {
        let mut picture = image::RgbImage::from_raw(width, height, rgb).ok_or(EngineError::Fault)?;
        composer.finish(&mut picture, (width, height), (frame, frame), Quality::Exact, None)?;
        write_still(folder, frame, &picture.into())?;
        if go_on(frame - first + 1, last - first + 1) { Ok(()) } else { Err(EngineError::Stopped) }
    })
}

/// Code values 0 to 1 of numbers of 16 bits, the lower byte first.
fn codes_of(bytes: &[u8]) -> Vec<[f32; 3]> {
    let number = |p: &[u8], k: usize| f32::from(u16::from_le_bytes([p[2 * k], p[2 * k + 1]])) / 65_535.0;
    bytes.chunks_exact(6).map(|p| [number(p, 0), number(p, 1), number(p, 2)]).collect()
}

/// The same back.
fn bytes_of(codes: &[[f32; 3]]) -> Vec<u8> {
    codes.iter().flatten().flat_map(|v| ((v.clamp(0.0, 1.0) * 65_535.0).round() as u16).to_le_bytes()).collect()
}

/// Writes what stands in front on frames `first` to `last` of the trimmed clip, surfaces that hide what lies behind them
/// included, as grey PNG stills `000012.png`, ... into a folder: white is in front.
///
/// # Errors
/// [`EngineError`] when the frames are none of the clip's, or something cannot be read or written.
pub fn mattes(
    store: &Store,
    shot: &OpenShot,
    (first, last): (u32, u32),
    folder: &Path,
    mut go_on: impl FnMut(u32, u32) -> bool,
) -> Result<(), EngineError> {
    let composer = Composer::of_shot(store, shot)?;
    let size = [shot.clip.width as usize, shot.clip.height as usize];
    each_frame(shot, (first, last), |frame, rgb| {
        let grey = match composer.matte(frame, size, &rgb)? {
            Some(all) => all.parts.iter().map(|p| (p * 255.0 + 0.5) as u8).collect(),
            None => vec![0; size[0] * size[1]],
        };
        let picture = image::GrayImage::from_raw(size[0] as u32, size[1] as u32, grey).ok_or(EngineError::Fault)?;
        write_still(folder, frame, &picture.into())?;
        if go_on(frame - first + 1, last - first + 1) { Ok(()) } else { Err(EngineError::Stopped) }
    })
}

/// Goes through frames of the trimmed clip as they were filmed, three bytes a pixel.
fn each_frame(
    shot: &OpenShot,
    (first, last): (u32, u32),
    mut act: impl FnMut(u32, Vec<u8>) -> Result<(), EngineError>,
) -> Result<(), EngineError> {
    let trim = shot.document().trim;
    if last < first || last >= trim.count() {
        return Err(OutputError::NoFrames { first, last, end: trim.count() - 1 }.into());
    }
    let range = (trim.first + first, trim.first + last + 1);
    let mut reader = FrameReader::open(&shot.clip, Some(range), PixelKind::Rgb)?;
    for frame in first..=last {
        let bytes = reader.next_frame()?.ok_or(OutputError::NoFrame { frame })?;
        act(frame, bytes.to_vec())?;
    }
    Ok(())
}

/// Writes a still into a folder, which is made where it is not there.
fn write_still(folder: &Path, frame: u32, picture: &image::DynamicImage) -> Result<(), EngineError> {
    let unwritten = |e: &dyn std::fmt::Display| OutputError::Stills { folder: folder.to_owned(), why: e.to_string() };
    std::fs::create_dir_all(folder).map_err(|e| unwritten(&e))?;
    let mut png = Vec::new();
    picture.write_to(&mut std::io::Cursor::new(&mut png), image::ImageFormat::Png).map_err(|e| unwritten(&e))?;
    write_file(&folder.join(format!("{frame:06}.png")), &png)
}

/// Writes a file whole: under a name of its own, then renamed.
///
/// # Errors
/// A message that names the path.
pub fn write_file(path: &Path, bytes: &[u8]) -> Result<(), EngineError> {
    let unwritten = |why| OutputError::File { path: path.to_owned(), why };
    // What is no plain file (a pipe, a device) is written to as it is.
    if path.exists() && !path.is_file() {
        return Ok(std::fs::write(path, bytes).map_err(unwritten)?);
    }
    let name = path.file_name().ok_or_else(|| OutputError::NoName { path: path.to_owned() })?;
    let mut partial = std::ffi::OsString::from(".");
    partial.push(name);
    partial.push(".part");
    let partial = path.with_file_name(partial);
    std::fs::write(&partial, bytes).and_then(|()| std::fs::rename(&partial, path)).map_err(|e| {
        let _ = std::fs::remove_file(&partial);
        unwritten(e).into()
    })
}

/// The camera file, JSON.
///
/// # Errors
/// [`EngineError`] when there is no camera.
pub fn camera_json(store: &Store, shot: &OpenShot) -> Result<Vec<u8>, EngineError> {
    let document = shot.document();
    let solution = shot.solution(store)?;
    let path = CameraPath::new(&solution, &document.datum.world_from_solve);
    let mut camera = camera_document(&path, shot.clip.rate, document.trim.first);
    camera.surfaces = super::recipe::show::surfaces(shot, &solution);
    Ok(serde_json::to_vec(&camera)?)
}

/// The scene as glTF 2.0 binary.
///
/// # Errors
/// [`EngineError`] when there is no camera or an insert cannot be made.
pub fn scene_glb(store: &Store, shot: &OpenShot) -> Result<Vec<u8>, EngineError> {
    let document = shot.document();
    let solution = shot.solution(store)?;
    let mut meshes = Vec::new();
    let inserts = &document.placing.inserts;
    let assets = ShotAssets::of(store, &Arc::default(), inserts, Some(shot))?;
    // What is far away, and what is not seen, has no place in a scene.
    let solid = |i: &&Insert| !matches!(i.content, InsertKind::Backdrop(_)) && !i.content.is_unseen();
    let seen: Vec<Insert> = document.placing.shown().filter(solid).map(Insert::clone).collect();
    // What lights it is no part of the file, nor is what that is read from.
    let scene = RenderScene::build(inserts, &Light::default(), &ShapeCache::default(), &assets)?;
    let eye =
        CameraPath::new(&solution, &document.datum.world_from_solve).at(0).map_or_else(Vector3::zeros, |c| c.centre());
    for body in scene.bodies(0.0, eye)? {
        let Some(insert) = seen.iter().find(|i| i.id.0 == body.insert) else { continue };
        let number = body.copy.map(|n| format!(" {}", n + 1)).unwrap_or_default();
        meshes.push(SceneMesh {
            name: format!("{}{number}", insert.content.label()),
            positions: body.mesh.positions.iter().map(|p| [p.x, p.y, p.z]).collect(),
            indices: body.mesh.indices.as_flattened().to_vec(),
            colour: insert.content.base_colour().map(colour::linear_of),
        });
    }
    meshes.extend(super::recipe::show::surfaces(shot, &solution).iter().filter_map(surface_mesh));
    let path = CameraPath::new(&solution, &document.datum.world_from_solve);
    Ok(glb(&path, shot.clip.rate.per_second(), &meshes))
}

/// Colour of surfaces in a scene, linear.
const SURFACE_COLOUR: [f32; 3] = [0.35, 0.38, 0.35];

/// A surface as a mesh that faces its normal; `None` without an outline.
fn surface_mesh(surface: &fennik_media::CameraSurface) -> Option<SceneMesh> {
    let mesh = fronts::flat(&surface.outline, surface.point, surface.normal)?;
    let positions = mesh.positions.iter().map(|p| (*p).into()).collect();
    let indices = mesh.indices.into_flattened();
    Some(SceneMesh { name: surface.name.clone(), positions, indices, colour: SURFACE_COLOUR })
}
