//! Frames into a video file.

use crate::clip::info::ClipInfo;
use crate::error::{MediaError, io_error};
use crate::tool::{self, Running};
use fennik_core::colour::{Primaries, Transfer};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{ChildStdin, Stdio};

/// Which part of which clip's sound goes along.
#[derive(Debug, Clone)]
pub struct AudioFrom<'a> {
    /// The clip.
    pub clip: &'a ClipInfo,
    /// First frame.
    pub first: u32,
    /// Frame after the last.
    pub end: u32,
}

/// What the pixels of a video are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct VideoColour {
    /// Ten bits a channel in the file (H.265), handed over as 16 bits each, the lower byte first; else eight (H.264).
    pub deep: bool,
    /// The law of its code values.
    pub transfer: Transfer,
    /// Their primaries.
    pub primaries: Primaries,
}

/// Writes an MP4 frame by frame. The file appears under its name when it is whole.
pub struct VideoWriter {
    running: Running,
    pipe: Option<ChildStdin>,
    partial: PathBuf,
    target: PathBuf,
}

impl VideoWriter {
    /// Starts the file `target` for RGB frames of the clip's size and rate.
    ///
    /// # Errors
    /// [`MediaError::ToolMissing`] when ffmpeg cannot be started.
    pub fn create(
        target: &Path,
        clip: &ClipInfo,
        colour: VideoColour,
        audio: Option<AudioFrom>,
    ) -> Result<Self, MediaError> {
        let partial = target.with_extension("part.mp4");
        let rate = format!("{}/{}", clip.rate.frames, clip.rate.seconds);
        let mut command = tool::command("ffmpeg");
        command.args(["-v", "error", "-y", "-f", "rawvideo", "-pix_fmt"]);
        command.args([if colour.deep { "rgb48le" } else { "rgb24" }, "-s"]);
        command.arg(format!("{}x{}", clip.width, clip.height)).args(["-r", &rate, "-i", "pipe:0"]);
        if let Some(from) = audio.as_ref().filter(|a| a.clip.audio) {
            let seconds = |frame: u32| format!("{:.6}", f64::from(frame) / clip.rate.per_second());
            command.args(["-ss", &seconds(from.first), "-t", &seconds(from.end - from.first)]);
            command.args(from.clip.source.input_arguments());
            command.args(["-map", "0:v:0", "-map", "1:a:0", "-c:a", "aac", "-b:a", "192k", "-shortest"]);
        }
        // 4:2:0 needs even sides; the colours are tagged so that players show what we saw.
        let wide = colour.primaries == Primaries::Bt2020;
        let matrix = if wide { "bt2020" } else { "bt709" };
        let format = if colour.deep { "yuv420p10le" } else { "yuv420p" };
        let filters =
            format!("pad=ceil(iw/2)*2:ceil(ih/2)*2,scale=out_color_matrix={matrix}:out_range=tv,format={format}");
        command.args(["-vf", &filters]);
        if colour.deep {
            command.args(["-c:v", "libx265", "-preset", "medium", "-crf", "14", "-tag:v", "hvc1"]);
            command.args(["-x265-params", "log-level=error"]);
        } else {
            command.args(["-c:v", "libx264", "-preset", "medium", "-crf", "16"]);
        }
        let space = if wide { "bt2020nc" } else { "bt709" };
        command.args(["-colorspace", space, "-color_primaries", colour.primaries.file_name()]);
        command.args(["-color_trc", colour.transfer.file_name(), "-movflags", "+faststart"]);
        // The prefix keeps a name that begins with a dash or holds a colon what it is.
        let mut named = std::ffi::OsString::from("file:");
        named.push(&partial);
        command.args(["-f", "mp4"]).arg(named).stdin(Stdio::piped()).stdout(Stdio::null());
        let mut running = Running::start("ffmpeg", &mut command)?;
        let pipe = running.child.stdin.take();
        Ok(Self { running, pipe, partial, target: target.to_owned() })
    }

    /// Adds one RGB frame.
    ///
    /// # Errors
    /// [`MediaError::Encode`] with what ffmpeg said.
    pub fn push(&mut self, rgb: &[u8]) -> Result<(), MediaError> {
        let written = self.pipe.as_mut().is_some_and(|p| p.write_all(rgb).is_ok());
        if written { Ok(()) } else { Err(self.failure()) }
    }

    /// Completes the file.
    ///
    /// # Errors
    /// [`MediaError`] when ffmpeg or the disk refuses.
    pub fn finish(mut self) -> Result<(), MediaError> {
        drop(self.pipe.take());
        self.running.end().map_err(encode_error)?;
        let sync = std::fs::File::open(&self.partial).and_then(|f| f.sync_all());
        sync.and_then(|()| std::fs::rename(&self.partial, &self.target))
            .map_err(io_error("the finished video could not be put in its place"))
    }

    fn failure(&mut self) -> MediaError {
        drop(self.pipe.take());
        match self.running.end() {
            Ok(said) => MediaError::Encode { why: said.unwrap_or_else(|| "ffmpeg ended early".to_owned()) },
            Err(error) => encode_error(error),
        }
    }
}

fn encode_error(error: MediaError) -> MediaError {
    match error {
        MediaError::Died { why, .. } => MediaError::Encode { why },
        other => other,
    }
}

impl Drop for VideoWriter {
    fn drop(&mut self) {
        drop(self.pipe.take());
        let _ = self.running.child.kill();
        let _ = self.running.child.wait();
        let _ = std::fs::remove_file(&self.partial);
    }
}
