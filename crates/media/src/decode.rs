//! Frames out of a clip, one at a time.

use crate::clip::{ClipInfo, LUMA_FORMATS, last_line};
use crate::{MediaError, io_error};
use std::fmt::Write;
use std::io::Read;
use std::path::Path;
use std::process::{Child, ChildStdout, Command, Stdio};

/// What the bytes of a frame are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PixelKind {
    /// One byte a pixel: brightness, on the scale of [`ClipInfo::grey_levels`].
    Grey,
    /// Three bytes a pixel: red, green, blue, as encoded for display.
    Rgb,
}

impl PixelKind {
    fn bytes(self) -> usize {
        match self {
            Self::Grey => 1,
            Self::Rgb => 3,
        }
    }

    fn format(self) -> &'static str {
        match self {
            Self::Grey => "gray",
            Self::Rgb => "rgb24",
        }
    }
}

/// Streams the frames of a clip through ffmpeg; holds one frame at a time.
pub struct FrameReader {
    child: Child,
    out: ChildStdout,
    complaints: Option<std::thread::JoinHandle<Vec<u8>>>,
    frame: Vec<u8>,
    delivered: u32,
    name: String,
}

impl FrameReader {
    /// Starts to read `range` (first frame and the one after the last), or the whole clip.
    ///
    /// # Errors
    /// [`MediaError::ToolMissing`] when ffmpeg cannot be started.
    pub fn open(clip: &ClipInfo, range: Option<(u32, u32)>, kind: PixelKind) -> Result<Self, MediaError> {
        let (mut filters, mut format) = (clip.filters(range), vec!["-pix_fmt", kind.format()]);
        if kind == PixelKind::Grey && clip.luma.is_some() {
            // Nothing is computed and nothing rounded.
            let _ = write!(filters, ",format={},extractplanes=y", LUMA_FORMATS.join("|"));
            format.clear();
        }
        let mut child = Command::new("ffmpeg")
            .args(["-v", "error", "-nostdin"])
            .args(clip.source.input_arguments())
            .args(["-map", "0:v:0", "-an", "-sn", "-fps_mode", "passthrough", "-vf", &filters])
            .args(format)
            .args(["-f", "rawvideo", "-"])
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|source| MediaError::ToolMissing { tool: "ffmpeg", source })?;
        let missing = || io_error("no pipe to ffmpeg")(std::io::Error::other("closed"));
        let out = child.stdout.take().ok_or_else(missing)?;
        let stderr = child.stderr.take().ok_or_else(missing)?;
        let complaints = std::thread::spawn(move || {
            // A broken file can complain without end; the first part tells enough.
            let mut kept = Vec::new();
            let _ = stderr.take(64 * 1024).read_to_end(&mut kept);
            kept
        });
        let size = clip.width as usize * clip.height as usize * kind.bytes();
        Ok(Self { child, out, complaints: Some(complaints), frame: vec![0; size], delivered: 0, name: clip.source.name() })
    }

    /// The next frame, or `None` at the end. A file that is cut off ends where its frames end.
    ///
    /// # Errors
    /// [`MediaError::NoFrames`] when there is not even one.
    pub fn next_frame(&mut self) -> Result<Option<&[u8]>, MediaError> {
        match self.out.read_exact(&mut self.frame) {
            Ok(()) => {
                self.delivered += 1;
                Ok(Some(&self.frame))
            }
            Err(_) if self.delivered > 0 => Ok(None),
            Err(_) => {
                let said = self.complaints.take().and_then(|c| c.join().ok()).and_then(|b| last_line(&b));
                let detail = said.map_or_else(String::new, |s| format!(": {s}"));
                Err(MediaError::NoFrames { name: self.name.clone(), detail })
            }
        }
    }
}

impl Drop for FrameReader {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Decodes the whole clip once into JPEG files `000000.jpg`, ... of at most `max_width` px across;
/// `on_frame` hears the number so far and may stop it. Returns the number of frames.
///
/// # Errors
/// [`MediaError`] when ffmpeg is missing or not one frame comes out.
pub fn write_proxies(clip: &ClipInfo, folder: &Path, max_width: u32, mut on_frame: impl FnMut(u32) -> bool) -> Result<u32, MediaError> {
    std::fs::create_dir_all(folder).map_err(io_error("the folder for preview frames could not be made"))?;
    let width = clip.width.min(max_width);
    let height = (f64::from(clip.height) * f64::from(width) / f64::from(clip.width)).round().max(2.0) as u32;
    let filters = format!("{},scale={width}:{height}:flags=area:out_range=pc,format=yuvj444p", clip.filters(None));
    let mut child = Command::new("ffmpeg")
        .args(["-v", "error", "-nostdin", "-progress", "pipe:1", "-y"])
        .args(clip.source.input_arguments())
        .args(["-map", "0:v:0", "-an", "-sn", "-fps_mode", "passthrough", "-vf", &filters])
        .args(["-q:v", "3", "-start_number", "0", "-f", "image2"])
        // A per cent sign in the folder's name would count as a pattern.
        .arg(std::path::PathBuf::from(folder.to_string_lossy().replace('%', "%%")).join("%06d.jpg"))
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|source| MediaError::ToolMissing { tool: "ffmpeg", source })?;
    let stderr = child.stderr.take();
    let complaints = std::thread::spawn(move || {
        let mut kept = Vec::new();
        if let Some(stderr) = stderr {
            let _ = stderr.take(64 * 1024).read_to_end(&mut kept);
        }
        kept
    });
    if let Some(out) = child.stdout.take() {
        use std::io::BufRead;
        for line in std::io::BufReader::new(out).lines().map_while(Result::ok) {
            if let Some(n) = line.strip_prefix("frame=").and_then(|n| n.trim().parse().ok()) {
                if !on_frame(n) {
                    let _ = child.kill();
                    break;
                }
            }
        }
    }
    let _ = child.wait();
    let said = complaints.join().unwrap_or_default();
    let mut count = 0u32;
    while folder.join(format!("{count:06}.jpg")).exists() {
        count += 1;
    }
    if is_disk_full(&said) {
        // The last file may be cut off, and what is missing must not pass for the end of the clip.
        count = count.saturating_sub(1);
        let _ = std::fs::remove_file(folder.join(format!("{count:06}.jpg")));
        return Err(MediaError::DiskFull { after: count });
    }
    if count == 0 {
        let detail = last_line(&said).map_or_else(String::new, |s| format!(": {s}"));
        return Err(MediaError::NoFrames { name: clip.source.name(), detail });
    }
    Ok(count)
}

/// Whether ffmpeg complained of a full disk; its exit code does not tell.
fn is_disk_full(complaints: &[u8]) -> bool {
    String::from_utf8_lossy(complaints).contains("No space left on device")
}

#[cfg(test)]
mod tests {
    use super::is_disk_full;

    #[test]
    fn a_full_disk_is_told_from_a_broken_file() {
        assert!(is_disk_full(b"[image2 @ 0x1] Could not open file\nav_interleaved_write_frame(): No space left on device\n"));
        assert!(!is_disk_full(b"[h264 @ 0x1] error while decoding MB 3 4\n"));
    }
}
