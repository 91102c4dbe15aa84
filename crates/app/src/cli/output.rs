//! `fennik render` and `fennik export`.

use super::show;
use crate::engine::{EngineError, OpenShot, output};
use crate::web;
use fennik_store::{ShotId, Store};
use std::path::PathBuf;

/// Options of `fennik render`.
#[derive(clap::Args)]
pub struct RenderArguments {
    /// The shot's number or name.
    shot: String,
    /// The video file to write.
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
    /// The data folder.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// What can be exported.
#[derive(Clone, Copy, clap::ValueEnum)]
enum Format {
    /// glTF 2.0 binary: camera, points, inserts.
    Gltf,
    /// The camera file.
    CameraJson,
}

/// Options of `fennik export`.
#[derive(clap::Args)]
pub struct ExportArguments {
    /// The shot's number or name.
    shot: String,
    /// What to write.
    #[arg(long)]
    format: Format,
    /// The file to write.
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
    /// The data folder.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

fn open(data: Option<&PathBuf>, shot: &str) -> Result<(Store, OpenShot), String> {
    let data = data.cloned().unwrap_or_else(web::default_data_folder);
    if !data.join("fennik.sqlite").exists() {
        return Err(format!("{} holds no shots; name the data folder with --data", data.display()));
    }
    let store = Store::open(&data).map_err(|e| e.to_string())?;
    let shots = store.shots().map_err(|e| e.to_string())?;
    let wanted = shots.iter().find(|s| s.name == shot).map(|s| s.id).or_else(|| shot.parse().ok().map(ShotId));
    let Some(id) = wanted.filter(|id| shots.iter().any(|s| s.id == *id)) else {
        let names: Vec<String> = shots.iter().map(|s| format!("{} {:?}", s.id.0, s.name)).collect();
        return Err(format!("there is no shot {shot:?}; there are: {}", names.join(", ")));
    };
    let shot = OpenShot::load(&store, id).map_err(|e| e.to_string())?;
    Ok((store, shot))
}

/// Renders a shot.
pub fn render(arguments: &RenderArguments) -> Result<(), String> {
    let (store, shot) = open(arguments.data.as_ref(), &arguments.shot)?;
    output::video(&store, &shot, &arguments.out, |done, total| {
        show(&format!("rendering: frame {done} of {total}"));
        true
    })
    .map_err(|e| e.to_string())?;
    println!();
    Ok(())
}

/// Exports a shot.
pub fn export(arguments: &ExportArguments) -> Result<(), String> {
    let (store, shot) = open(arguments.data.as_ref(), &arguments.shot)?;
    let bytes = match arguments.format {
        Format::Gltf => output::scene_glb(&store, &shot),
        Format::CameraJson => output::camera_json(&store, &shot),
    };
    let bytes = bytes.map_err(|e: EngineError| e.to_string())?;
    std::fs::write(&arguments.out, bytes).map_err(|e| format!("{} cannot be written: {e}", arguments.out.display()))
}
