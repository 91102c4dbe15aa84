//! Makes the demo film and its truth again: `cargo run --release -p fennik-demo --bin film [FOLDER]`.
//! `--still N FILE.ppm` makes one frame of it, `--truth FOLDER` the truth alone, `--trial NAME FOLDER` a clip that
//! tries the solver, with its truth.

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

fn main() -> std::io::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["--still", frame, file] => {
            let mut out = std::fs::File::create(file)?;
            writeln!(out, "P6 {} {} 255", QUAY.width, QUAY.height)?;
            out.write_all(&sensor::film(&Scenery::new(), &QUAY, frame.parse().unwrap_or(0)))
        }
        ["--truth", folder] => write_truth(&QUAY, Path::new(folder)),
        ["--trial", name, folder] => {
            let take = trials::trial(name).ok_or_else(|| std::io::Error::other(format!("there is no take {name}")))?;
            std::fs::create_dir_all(folder)?;
            write_clip(take, folder, &TRIAL)
        }
        _ => {
            let folder = words.first().copied().unwrap_or("crates/demo/assets");
            write_clip(&QUAY, folder, &Compression { preset: "veryslow", rate_factor: 25, most_kbit: Some(3000), sound: true })
        }
    }
}
