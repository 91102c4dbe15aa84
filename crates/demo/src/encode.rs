//! A take into a clip, through ffmpeg.

use crate::flight::RATE;
use crate::scenery::Scenery;
use crate::sensor;
use crate::take::Take;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

/// How the clip is compressed.
pub struct Compression<'a> {
    /// x264's preset.
    pub preset: &'a str,
    /// x264's constant rate factor.
    pub rate_factor: u32,
    /// Highest rate, kbit/s.
    pub most_kbit: Option<u32>,
    /// Whether the wind is heard.
    pub sound: bool,
}

/// Films all frames of a take and encodes them (H.264 in MP4); `on_frame` hears how many are done.
///
/// # Errors
/// When ffmpeg is missing or refuses.
pub fn encode(scenery: &Scenery, take: &Take, to: &Path, how: &Compression, mut on_frame: impl FnMut(u32)) -> std::io::Result<()> {
    let mut command = Command::new("ffmpeg");
    let rate = RATE.to_string();
    command.args(["-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24", "-s", &format!("{}x{}", take.width, take.height)]);
    command.args(["-r", &rate, "-i", "-"]);
    if how.sound {
        let seconds = f64::from(take.frames) / f64::from(RATE);
        let wind = format!("anoisesrc=color=brown:amplitude=0.05:seed=7:duration={seconds}");
        command.args(["-f", "lavfi", "-i", &wind, "-c:a", "aac", "-b:a", "64k"]);
    }
    command.args(["-vf", "scale=out_color_matrix=bt709:out_range=tv,format=yuv420p", "-colorspace", "bt709"]);
    command.args(["-color_primaries", "bt709", "-color_trc", "bt709", "-c:v", "libx264", "-preset", how.preset]);
    command.args(["-crf", &how.rate_factor.to_string()]);
    if let Some(most) = how.most_kbit {
        command.args(["-maxrate", &format!("{most}k"), "-bufsize", &format!("{}k", 2 * most)]);
    }
    command.args(["-map_metadata", "-1", "-fflags", "+bitexact", "-movflags", "+faststart"]).arg(to);
    let mut ffmpeg = command.stdin(Stdio::piped()).spawn()?;
    let Some(mut pipe) = ffmpeg.stdin.take() else { return Err(std::io::Error::other("no pipe to ffmpeg")) };
    for frame in 0..take.frames {
        pipe.write_all(&sensor::film(scenery, take, frame))?;
        on_frame(frame + 1);
    }
    drop(pipe);
    if ffmpeg.wait()?.success() { Ok(()) } else { Err(std::io::Error::other("ffmpeg refused")) }
}
