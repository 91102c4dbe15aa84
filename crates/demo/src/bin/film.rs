//! Makes the demo film and its truth again: `cargo run --release -p fennik-demo --bin film [FOLDER]`. `--still N
//! FILE.ppm` makes one frame of it, `--truth FOLDER` the truth alone; `--trial NAME FOLDER` a clip that tries the
//! solver, with its truth, `--trial-still NAME N FILE.ppm` one frame of that, `--trial-truth NAME FOLDER` its truth.

use fennik_demo::encode::{Compression, TRIAL, film, write_truth};
use fennik_demo::flight::QUAY;
use fennik_demo::take::Take;
use fennik_demo::{scenery::Scenery, sensor, trials};
use std::io::Write;
use std::path::Path;

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
    out.write_all(&sensor::film(&Scenery::of(take.place, take.crowd), take, frame.parse().unwrap_or(0)))
}

fn trial(name: &str) -> std::io::Result<&'static Take> {
    trials::trial(name).ok_or_else(|| std::io::Error::other(format!("there is no take {name}")))
}

fn main() -> std::io::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["--still", frame, file] => write_still(&QUAY, frame, file),
        ["--trial-still", name, frame, file] => write_still(trial(name)?, frame, file),
        ["--truth", folder] => write_truth(&QUAY, Path::new(folder)),
        ["--trial", name, folder] => {
            std::fs::create_dir_all(folder)?;
            write_clip(trial(name)?, folder, &TRIAL)
        }
        ["--trial-truth", name, folder] => write_truth(trial(name)?, Path::new(folder)),
        _ => {
            let folder = words.first().copied().unwrap_or("crates/demo/assets");
            write_clip(&QUAY, folder, &Compression { preset: "veryslow", most_kbit: Some(3000), sound: true })
        }
    }
}
