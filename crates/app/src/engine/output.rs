//! What a person takes away: the video, the camera file, the scene.

use super::{EngineError, OpenShot, picture};
use fennik_core::scene::InsertKind;
use fennik_media::{AudioFrom, FrameReader, PixelKind, SceneMesh, VideoWriter, camera_document, glb};
use fennik_render::{Quality, Stage};
use fennik_store::Store;
use std::path::Path;

/// Renders the trimmed clip with its inserts to an MP4 file. `go_on` hears of frames done and in all,
/// and may stop it.
///
/// # Errors
/// [`EngineError`] when something cannot be read or written.
pub fn video(store: &Store, shot: &OpenShot, target: &Path, mut go_on: impl FnMut(u32, u32) -> bool) -> Result<(), EngineError> {
    let solution = shot.solution(store)?;
    let document = shot.document();
    let stage = Stage::build(&document.inserts, &document.light)?;
    let (first, end) = shot.range();
    let mut reader = FrameReader::open(&shot.clip, Some((first, end)), PixelKind::Rgb)?;
    let mut writer = VideoWriter::create(target, &shot.clip, Some(AudioFrom { clip: &shot.clip, first, end }))?;
    let mut buffer = Vec::new();
    let mut frame = 0;
    while let Some(bytes) = reader.next_frame()? {
        buffer.clear();
        buffer.extend_from_slice(bytes);
        picture::draw(&mut buffer, (shot.clip.width, shot.clip.height), frame, &solution, document, &stage, Quality::Exact);
        writer.push(&buffer)?;
        frame += 1;
        if !go_on(frame, end - first) {
            return Err(EngineError::Stopped);
        }
    }
    writer.finish()?;
    Ok(())
}

/// The camera file, JSON.
///
/// # Errors
/// [`EngineError`] when there is no camera.
pub fn camera_json(store: &Store, shot: &OpenShot) -> Result<Vec<u8>, EngineError> {
    let document = shot.document();
    let camera = camera_document(&shot.solution(store)?, shot.clip.rate, document.trim.first, &document.datum.world_from_solve);
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
    for insert in document.inserts.iter().filter(|i| !i.hidden) {
        let mesh = Stage::mesh(insert)?;
        let InsertKind::Title(title) = &insert.content;
        meshes.push(SceneMesh {
            name: title.text.lines().next().unwrap_or("title").to_owned(),
            positions: mesh.positions.iter().map(|p| [p.x, p.y, p.z]).collect(),
            indices: mesh.indices.as_flattened().to_vec(),
            colour: title.colour.map(|c| (f32::from(c) / 255.0).powf(2.2)),
        });
    }
    Ok(glb(&solution, &document.datum.world_from_solve, shot.clip.rate.per_second(), &meshes))
}
