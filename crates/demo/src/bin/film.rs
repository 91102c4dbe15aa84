//! Makes the demo clips and their truth again: `cargo run --release -p fennik-demo --bin film [FOLDER]`. `--clip NAME
//! FOLDER` makes one of them, `--still NAME N FILE.ppm` one frame, `--truth NAME FOLDER` its truth alone; `--trial NAME FOLDER` a clip that tries the
//! solver, with its truth, `--trial-still NAME N FILE.ppm` one frame of that, `--trial-truth NAME FOLDER` its truth.

use fennik_demo::encode::{Compression, TRIAL, film, write_truth};
use fennik_demo::flight::CLIPS;
use fennik_demo::passing::PASSING;
use fennik_demo::take::Take;
use fennik_demo::{sensor, trials};
use std::io::Write;
use std::path::Path;

/// How the demo clips are compressed.
const CLIP: Compression = Compression { preset: "veryslow", most_kbit: Some(3000), sound: true };

fn write_clip(take: &Take, folder: &str, how: &Compression) -> std::io::Result<()> {
    film(take, Path::new(folder), how, |done| {
        print!("\r{}: frame {done} of {}", take.name, take.frames);
        let _ = std::io::stdout().flush();
    })?;
    println!();
    Ok(())
}

fn write_still(take: &Take, frame: &str, file: &str) -> std::io::Result<()> {
    let mut out = std::fs::File::create(file)?;
    writeln!(out, "P6 {} {} 255", take.width, take.height)?;
    out.write_all(&sensor::film(take.scene().as_ref(), take, frame.parse().unwrap_or(0)))
}

fn trial(name: &str) -> std::io::Result<&'static Take> {
    let passing = || PASSING.iter().map(|(take, _)| take).find(|t| t.name == name);
    trials::trial(name).or_else(passing).ok_or_else(|| std::io::Error::other(format!("there is no take {name}")))
}

fn clip(name: &str) -> std::io::Result<&'static Take> {
    CLIPS.into_iter().find(|t| t.name == name).ok_or_else(|| std::io::Error::other(format!("there is no clip {name}")))
}

fn main() -> std::io::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["--still", name, frame, file] => write_still(clip(name)?, frame, file),
        ["--trial-still", name, frame, file] => write_still(trial(name)?, frame, file),
        ["--truth", name, folder] => write_truth(clip(name)?, Path::new(folder)),
        ["--trial", name, folder] => {
            std::fs::create_dir_all(folder)?;
            write_clip(trial(name)?, folder, &TRIAL)
        }
        ["--trial-truth", name, folder] => write_truth(trial(name)?, Path::new(folder)),
        ["--clip", name, folder] => write_clip(clip(name)?, folder, &CLIP),
        _ => {
            let folder = words.first().copied().unwrap_or("crates/demo/assets");
            CLIPS.into_iter().try_for_each(|take| write_clip(take, folder, &CLIP))?;
            PASSING.iter().try_for_each(|(take, _)| write_clip(take, folder, &TRIAL))
        }
    }
}
