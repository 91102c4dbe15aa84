//! A take into a clip, through ffmpeg.

use crate::flight::RATE;
use crate::scene::Scene;
use crate::sensor;
use crate::take::Take;
use crate::truth;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

/// How the clip is compressed.
pub struct Compression<'a> {
    /// x264's preset.
    pub preset: &'a str,
    /// Highest rate, kbit/s.
    pub most_kbit: Option<u32>,
    /// Whether the wind is heard.
    pub sound: bool,
}

/// How clips that try the solver are compressed.
pub const TRIAL: Compression = Compression { preset: "medium", most_kbit: None, sound: false };

/// Writes NAME.truth.json and NAME.mp4 of a take to a folder; the clip appears under its name when it is whole.
///
/// # Errors
/// As of [`encode`], or when the folder cannot be written.
pub fn film(take: &Take, folder: &Path, how: &Compression, on_frame: impl FnMut(u32)) -> std::io::Result<()> {
    write_truth(take, folder)?;
    let clip = folder.join(format!("{}.mp4", take.name));
    let partial = clip.with_extension("part.mp4");
    encode(take.scene().as_ref(), take, &partial, how, on_frame)?;
    std::fs::rename(partial, clip)
}

/// Writes NAME.truth.json of a take to a folder.
///
/// # Errors
/// When the folder cannot be written.
pub fn write_truth(take: &Take, folder: &Path) -> std::io::Result<()> {
    let truth = truth::compute(take.scene().as_ref(), take);
    std::fs::write(folder.join(format!("{}.truth.json", take.name)), serde_json::to_vec(&truth)?)
}

/// Films all frames of a take and encodes them (H.264 in MP4); `on_frame` hears how many are done.
///
/// # Errors
/// When ffmpeg is missing or refuses.
pub fn encode(
    scene: &dyn Scene,
    take: &Take,
    to: &Path,
    how: &Compression,
    mut on_frame: impl FnMut(u32),
) -> std::io::Result<()> {
    let mut command = Command::new("ffmpeg");
    let rate = RATE.to_string();
    command.args([
        "-v",
        "error",
        "-y",
        "-f",
        "rawvideo",
        "-pix_fmt",
        "rgb24",
        "-s",
        &format!("{}x{}", take.width, take.height),
    ]);
    command.args(["-r", &rate, "-i", "-"]);
    if how.sound {
        let seconds = f64::from(take.frames) / f64::from(RATE);
        let wind = format!("anoisesrc=color=brown:amplitude=0.05:seed=7:duration={seconds}");
        command.args(["-f", "lavfi", "-i", &wind, "-c:a", "aac", "-b:a", "64k"]);
    }
    command.args(["-vf", "scale=out_color_matrix=bt709:out_range=tv,format=yuv420p", "-colorspace", "bt709"]);
    command.args(["-color_primaries", "bt709", "-color_trc", "bt709", "-c:v", "libx264", "-preset", how.preset]);
    command.args(["-crf", &take.rate_factor.to_string()]);
    if let Some(most) = how.most_kbit {
        command.args(["-maxrate", &format!("{most}k"), "-bufsize", &format!("{}k", 2 * most)]);
    }
    command.args(["-map_metadata", "-1", "-fflags", "+bitexact", "-movflags", "+faststart"]).arg(to);
    let mut ffmpeg = command.stdin(Stdio::piped()).spawn()?;
    let Some(mut pipe) = ffmpeg.stdin.take() else { return Err(std::io::Error::other("no pipe to ffmpeg")) };
    for frame in 0..take.frames {
        pipe.write_all(&sensor::film(scene, take, frame))?;
        on_frame(frame + 1);
    }
    drop(pipe);
    if ffmpeg.wait()?.success() { Ok(()) } else { Err(std::io::Error::other("ffmpeg refused")) }
}
