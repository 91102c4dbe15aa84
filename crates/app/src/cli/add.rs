//! `fennik add`: takes a clip into a data folder, as the page does.

use super::show;
use crate::engine::import::{Arrived, extension, new_folder, take_in};
use crate::engine::{OpenShot, previews};
use crate::web;
use fennik_store::Store;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

/// Bytes copied between two lines of progress.
const CHUNK: usize = 4 * 1024 * 1024;

/// Options of `fennik add`.
#[derive(clap::Args)]
pub struct AddArguments {
    /// A video, a zip archive of pictures, pictures, or a folder of them.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// The data folder; made when it is not there.
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
}

/// Copies the files in, looks into the clip and makes its preview frames.
pub fn run(arguments: &AddArguments) -> Result<(), String> {
    let files = listed(&arguments.files)?;
    let data = arguments.data.clone().unwrap_or_else(web::default_data_folder);
    let store = Store::open(&data).map_err(|e| e.to_string())?;
    let (name, folder) = new_folder(&store).map_err(|e| e.to_string())?;
    let arrived = copy_all(&files, &folder).inspect_err(|_| {
        let _ = fs::remove_dir_all(&folder);
    })?;
    let id = take_in(&store, &name, &folder, arrived).map_err(|e| e.to_string())?;
    let shot = OpenShot::load(&store, id).map_err(|e| e.to_string())?;
    let total = shot.clip.frames;
    previews::make(&store, &shot, |n| {
        show(&format!("decoding: frame {n} of {total}"));
        true
    })
    .map_err(|e| e.to_string())?;
    println!();
    for note in &shot.clip.notes {
        println!("note: {}", note.text());
    }
    println!("shot {} {:?}: {}x{} px, {} frames", id.0, shot.state.shot.name, shot.clip.width, shot.clip.height, shot.clip.frames);
    Ok(())
}

/// The files that were named; a folder stands for the files in it.
fn listed(named: &[PathBuf]) -> Result<Vec<PathBuf>, String> {
    let mut files = Vec::new();
    for path in named {
        if path.is_dir() {
            let entries = fs::read_dir(path).map_err(|e| format!("{} cannot be read: {e}", path.display()))?;
            files.extend(entries.flatten().map(|e| e.path()).filter(|p| p.is_file() && !extension(&p.to_string_lossy()).is_empty()));
        } else {
            files.push(path.clone());
        }
    }
    if files.is_empty() {
        return Err("no files are in this folder; name a video or pictures".to_owned());
    }
    Ok(files)
}

fn copy_all(files: &[PathBuf], folder: &Path) -> Result<Vec<Arrived>, String> {
    let sizes: Vec<u64> = files.iter().map(|p| fs::metadata(p).map(|m| m.len()).unwrap_or(0)).collect();
    let total = sizes.iter().sum::<u64>().max(1);
    let mut done = 0;
    let mut arrived = Vec::new();
    for (i, path) in files.iter().enumerate() {
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let target = folder.join(format!("clip-{i}.{}", extension(&name)));
        copy(path, &target, |bytes| {
            done += bytes;
            show(&format!("copying: {} %", 100 * done / total));
        })?;
        arrived.push(Arrived { name, path: target });
    }
    Ok(arrived)
}

fn copy(from: &Path, to: &Path, mut on_bytes: impl FnMut(u64)) -> Result<(), String> {
    let mut source = File::open(from).map_err(|e| format!("{} cannot be opened: {e}", from.display()))?;
    let full = |e: std::io::Error| format!("the clip could not be stored ({e}); make room on the disk and try again");
    let mut target = File::create(to).map_err(full)?;
    let mut buffer = vec![0; CHUNK];
    loop {
        let n = source.read(&mut buffer).map_err(|e| format!("{} cannot be read: {e}", from.display()))?;
        if n == 0 {
            return target.sync_all().map_err(full);
        }
        target.write_all(&buffer[..n]).map_err(full)?;
        on_bytes(n as u64);
    }
}
