//! Makes the demo film and its truth again: `cargo run --release -p fennik-demo --bin film [FOLDER]`.
//! With `--still N FILE.ppm` it makes one frame, with `--truth FOLDER` the truth alone.

use fennik_demo::{flight, scenery::Scenery, sensor, truth};
use std::io::Write;
use std::process::{Command, Stdio};

fn main() -> std::io::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let scenery = Scenery::new();
    if let [flag, frame, file] = arguments.as_slice() {
        if flag == "--still" {
            let mut out = std::fs::File::create(file)?;
            writeln!(out, "P6 {} {} 255", flight::WIDTH, flight::HEIGHT)?;
            return out.write_all(&sensor::film(&scenery, frame.parse().unwrap_or(0)));
        }
    }
    let write_truth = |folder: &str| -> std::io::Result<()> {
        std::fs::write(format!("{folder}/varrick-quay.truth.json"), serde_json::to_vec(&truth::compute(&scenery))?)
    };
    if let [flag, folder] = arguments.as_slice() {
        if flag == "--truth" {
            return write_truth(folder);
        }
    }
    let folder = arguments.first().map_or("crates/demo/assets", String::as_str);
    write_truth(folder)?;
    let seconds = format!("{}", f64::from(flight::FRAMES) / f64::from(flight::RATE));
    let wind = format!("anoisesrc=color=brown:amplitude=0.05:seed=7:duration={seconds}");
    let size = format!("{}x{}", flight::WIDTH, flight::HEIGHT);
    let mut ffmpeg = Command::new("ffmpeg")
        .args(["-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24", "-s", &size, "-r", "25", "-i", "-"])
        .args(["-f", "lavfi", "-i", &wind, "-c:a", "aac", "-b:a", "64k"])
        .args(["-vf", "scale=out_color_matrix=bt709:out_range=tv,format=yuv420p", "-colorspace", "bt709"])
        .args(["-color_primaries", "bt709", "-color_trc", "bt709", "-c:v", "libx264", "-preset", "veryslow"])
        .args(["-crf", "25", "-maxrate", "3000k", "-bufsize", "6000k", "-map_metadata", "-1", "-fflags", "+bitexact"])
        .args(["-movflags", "+faststart", &format!("{folder}/varrick-quay.mp4")])
        .stdin(Stdio::piped())
        .spawn()?;
    let Some(mut pipe) = ffmpeg.stdin.take() else { return Err(std::io::Error::other("no pipe to ffmpeg")) };
    for frame in 0..flight::FRAMES {
        pipe.write_all(&sensor::film(&scenery, frame))?;
        print!("\rframe {} of {}", frame + 1, flight::FRAMES);
        std::io::stdout().flush()?;
    }
    println!();
    drop(pipe);
    if ffmpeg.wait()?.success() { Ok(()) } else { Err(std::io::Error::other("ffmpeg refused")) }
}
