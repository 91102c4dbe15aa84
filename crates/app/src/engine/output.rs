//! What a person takes away: the video, the camera file, the scene.

use super::{EngineError, OpenShot, picture};
use fennik_core::camera::CameraPath;
use fennik_media::{AudioFrom, FrameReader, PixelKind, SceneMesh, VideoWriter, camera_document, glb};
use fennik_render::{Quality, RenderScene, ShapeCache, colour};
use fennik_store::Store;
use std::path::Path;

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
    let solution = shot.solution(store)?;
    let document = shot.document();
    let scene = RenderScene::build(&document.placing.inserts, &document.light, &ShapeCache::default())?;
    let (first, end) = shot.range();
    let mut reader = FrameReader::open(&shot.clip, Some((first, end)), PixelKind::Rgb)?;
    let mut writer = VideoWriter::create(target, &shot.clip, Some(AudioFrom { clip: &shot.clip, first, end }))?;
    let mut buffer = Vec::new();
    let mut frame = 0;
    // Every frame of the trim, or no video: the reader tells when one is missing.
    while let Some(bytes) = reader.next_frame()? {
        buffer.clear();
        buffer.extend_from_slice(bytes);
        picture::draw(
            &mut buffer,
            (shot.clip.width, shot.clip.height),
            frame,
            &solution,
            document,
            &scene,
            Quality::Exact,
        );
        writer.push(&buffer)?;
        frame += 1;
        if !go_on(frame, end - first) {
            return Err(EngineError::Stopped);
        }
    }
    if frame != end - first {
        return Err(EngineError::Message(format!(
            "{frame} of {} frames could be read; the video before is kept. Decode the clip again",
            end - first
        )));
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
    let document = shot.document();
    let frames = document.trim.count();
    if last < first || last >= frames {
        return Err(EngineError::Message(format!(
            "frames {first} to {last} are none of this shot; it has frames 0 to {}",
            frames - 1
        )));
    }
    let solution = document.solving.solve.map(|_| shot.solution(store)).transpose()?;
    let scene = RenderScene::build(&document.placing.inserts, &document.light, &ShapeCache::default())?;
    let unwritten = |e: &dyn std::fmt::Display| {
        EngineError::Message(format!("the stills cannot be written to {}: {e}", folder.display()))
    };
    std::fs::create_dir_all(folder).map_err(|e| unwritten(&e))?;
    let begin = document.trim.first;
    let (width, height) = (shot.clip.width, shot.clip.height);
    let mut reader = FrameReader::open(&shot.clip, Some((begin + first, begin + last + 1)), PixelKind::Rgb)?;
    for frame in first..=last {
        let bytes =
            reader.next_frame()?.ok_or_else(|| EngineError::Message(format!("frame {frame} cannot be decoded")))?;
        let mut picture = image::RgbImage::from_raw(width, height, bytes.to_vec()).ok_or(EngineError::Fault)?;
        if let Some(solution) = &solution {
            picture::draw(&mut picture, (width, height), frame, solution, document, &scene, Quality::Exact);
        }
        let mut png = Vec::new();
        picture.write_to(&mut std::io::Cursor::new(&mut png), image::ImageFormat::Png).map_err(|e| unwritten(&e))?;
        write_file(&folder.join(format!("{frame:06}.png")), &png)?;
        if !go_on(frame - first + 1, last - first + 1) {
            return Err(EngineError::Stopped);
        }
    }
    Ok(())
}

/// Writes a file whole: under a name of its own, then renamed.
///
/// # Errors
/// A message that names the path.
pub fn write_file(path: &Path, bytes: &[u8]) -> Result<(), EngineError> {
    let unwritten = |e: std::io::Error| EngineError::Message(format!("{} cannot be written: {e}", path.display()));
    // What is no plain file (a pipe, a device) is written to as it is.
    if path.exists() && !path.is_file() {
        return std::fs::write(path, bytes).map_err(unwritten);
    }
    let name = path.file_name().ok_or_else(|| EngineError::Message(format!("{} is no file's name", path.display())))?;
    let mut partial = std::ffi::OsString::from(".");
    partial.push(name);
    partial.push(".part");
    let partial = path.with_file_name(partial);
    std::fs::write(&partial, bytes).and_then(|()| std::fs::rename(&partial, path)).map_err(|e| {
        let _ = std::fs::remove_file(&partial);
        unwritten(e)
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
    serde_json::to_vec(&camera).map_err(|e| EngineError::Message(e.to_string()))
}

/// The scene as glTF 2.0 binary.
///
/// # Errors
/// [`EngineError`] when there is no camera or an insert cannot be made.
pub fn scene_glb(store: &Store, shot: &OpenShot) -> Result<Vec<u8>, EngineError> {
    let document = shot.document();
    let solution = shot.solution(store)?;
    let mut meshes = Vec::new();
    for insert in document.placing.inserts.iter().filter(|i| !i.hidden) {
        let mesh = RenderScene::mesh(insert, 0.0)?;
        meshes.push(SceneMesh {
            name: insert.content.label(),
            positions: mesh.positions.iter().map(|p| [p.x, p.y, p.z]).collect(),
            indices: mesh.indices.as_flattened().to_vec(),
            colour: insert.content.base_colour().map(colour::linear_of),
        });
    }
    let path = CameraPath::new(&solution, &document.datum.world_from_solve);
    Ok(glb(&path, shot.clip.rate.per_second(), &meshes))
}
