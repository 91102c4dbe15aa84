//! Frames out of a clip, one at a time.

use crate::clip::info::{ClipInfo, LUMA_FORMATS};
use crate::clip::source::Source;
use crate::error::{MediaError, io_error};
use crate::tool::{self, Running};
use std::fmt::Write;
use std::io::{BufRead, BufReader, Read};
use std::path::Path;
use std::process::{ChildStdout, Stdio};

/// What the bytes of a frame are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PixelKind {
    /// One byte a pixel: brightness, on the scale of [`ClipInfo::grey_levels`].
    Grey,
    /// Three bytes a pixel: red, green, blue, as encoded for display.
    Rgb,
    /// Six bytes a pixel: red, green, blue, 16 bits each, the lower byte first.
    DeepRgb,
    /// Four bytes a pixel: with alpha, which is full where the clip has none.
    Rgba,
}

impl PixelKind {
    fn bytes(self) -> usize {
        match self {
            Self::Grey => 1,
            Self::Rgb => 3,
            Self::DeepRgb => 6,
            Self::Rgba => 4,
        }
    }

    fn format(self) -> &'static str {
        match self {
            Self::Grey => "gray",
            Self::Rgb => "rgb24",
            Self::DeepRgb => "rgb48le",
            Self::Rgba => "rgba",
        }
    }
}

/// What every decoding begins with. However much of a file is broken, what can be decoded is.
const DECODE: [&str; 5] = ["-v", "error", "-nostdin", "-max_error_rate", "1"];
/// One picture a frame, without sound or text.
const PICTURES: [&str; 6] = ["-map", "0:v:0", "-an", "-sn", "-fps_mode", "passthrough"];

fn piped(running: &mut Running) -> Result<ChildStdout, MediaError> {
    running.child.stdout.take().ok_or_else(|| io_error("no pipe to ffmpeg")(std::io::Error::other("closed")))
}

/// Streams the frames of a clip through ffmpeg; holds one frame at a time.
pub struct FrameReader {
    running: Running,
    out: ChildStdout,
    frame: Vec<u8>,
    delivered: u32,
    /// Frames that must come, where they were counted.
    expected: Option<u32>,
    name: String,
}

impl FrameReader {
    /// Starts to read `range` (first frame and the one after the last), or the whole clip.
    ///
    /// # Errors
    /// [`MediaError::ToolMissing`] when ffmpeg cannot be started.
    pub fn open(clip: &ClipInfo, range: Option<(u32, u32)>, kind: PixelKind) -> Result<Self, MediaError> {
        let count = match range {
            Some((from, to)) => to.min(clip.frames).saturating_sub(from),
            None => clip.frames,
        };
        Self::start(clip, range, "", count, kind)
    }

    /// Starts to read frames by rising number; all between the first and the last are decoded.
    pub(super) fn open_chosen(clip: &ClipInfo, frames: &[u32], kind: PixelKind) -> Result<Self, MediaError> {
        let (first, last) = (frames.first().copied().unwrap_or(0), frames.last().copied().unwrap_or(0));
        let each: Vec<String> = frames.iter().map(|f| format!("eq(n\\,{})", f - first)).collect();
        let count = frames.iter().filter(|f| **f < clip.frames).count() as u32;
        Self::start(clip, Some((first, last + 1)), &format!("select={},", each.join("+")), count, kind)
    }

    /// `only` is a filter for frames of the range.
    fn start(
        clip: &ClipInfo,
        range: Option<(u32, u32)>,
        only: &str,
        count: u32,
        kind: PixelKind,
    ) -> Result<Self, MediaError> {
        let mut command = tool::command("ffmpeg");
        command.args(DECODE);
        // In the middle of a long file decoding begins at the keyframe before.
        let begin = range.and_then(|(from, _)| clip.begin_s(from));
        let within = match (range, begin) {
            (Some((from, to)), Some(seconds)) => {
                command.args(["-ss", &format!("{seconds:.6}")]);
                Some((0, to.saturating_sub(from)))
            }
            (range, _) => range,
        };
        let (mut filters, mut format) = (clip.filters(within, only), vec!["-pix_fmt", kind.format()]);
        if kind == PixelKind::Grey && clip.luma.is_some() {
            // Nothing is computed and nothing rounded.
            let _ = write!(filters, ",format={},extractplanes=y", LUMA_FORMATS.join("|"));
            format.clear();
        }
        command.args(clip.source.input_arguments()).args(PICTURES).args(["-vf", &filters]).args(format);
        command.args(["-f", "rawvideo", "-"]).stdout(Stdio::piped());
        let mut running = Running::start("ffmpeg", &mut command)?;
        let out = piped(&mut running)?;
        let size = clip.width as usize * clip.height as usize * kind.bytes();
        let expected = clip.counted.then_some(count);
        Ok(Self { running, out, frame: vec![0; size], delivered: 0, expected, name: clip.name() })
    }

    /// The next frame, or `None` at the end. A file that is cut off ends where its frames end, unless more of them were
    /// counted before; that ffmpeg ends is the end only if it says so itself.
    ///
    /// # Errors
    /// [`MediaError::Died`] or [`MediaError::Short`] when frames are missing; [`MediaError::NoFrames`] when
    /// there is not even one.
    pub fn next_frame(&mut self) -> Result<Option<&[u8]>, MediaError> {
        if self.out.read_exact(&mut self.frame).is_ok() {
            self.delivered += 1;
            return Ok(Some(&self.frame));
        }
        if self.delivered > 0 && self.expected == Some(self.delivered) {
            return Ok(None);
        }
        let said = self.running.end()?;
        match self.expected {
            Some(expected) if self.delivered < expected => {
                Err(MediaError::Short { name: self.name.clone(), found: self.delivered, expected })
            }
            _ if self.delivered > 0 => Ok(None),
            _ => Err(no_frames(&self.name, said)),
        }
    }
}

fn no_frames(name: &str, said: Option<String>) -> MediaError {
    MediaError::NoFrames { name: name.to_owned(), detail: said.map_or_else(String::new, |s| format!(": {s}")) }
}

/// Decodes the whole clip once into JPEG files `000000.jpg`, ... of at most `max_width` px across; each appears under
/// its name when it is whole. `on_frame` hears the number so far and may stop it. Returns the number of frames.
///
/// # Errors
/// [`MediaError`] when ffmpeg is missing or ends early, the disk is full, a still is damaged, or not one frame
/// comes out.
pub fn write_proxies(
    clip: &ClipInfo,
    folder: &Path,
    max_width: u32,
    mut on_frame: impl FnMut(u32) -> bool,
) -> Result<u32, MediaError> {
    std::fs::create_dir_all(folder).map_err(io_error("the folder for preview frames could not be made"))?;
    let width = clip.width.min(max_width);
    let height = (f64::from(clip.height) * f64::from(width) / f64::from(clip.width)).round().max(2.0) as u32;
    let filters = format!("{},scale={width}:{height}:flags=area:out_range=pc,format=yuvj444p", clip.filters(None, ""));
    let mut command = tool::command("ffmpeg");
    command.args(DECODE).args(clip.source.input_arguments()).args(PICTURES).args(["-vf", &filters]);
    command.args(["-c:v", "mjpeg", "-q:v", "3", "-f", "image2pipe", "-"]).stdout(Stdio::piped());
    let mut running = Running::start("ffmpeg", &mut command)?;
    let mut out = BufReader::with_capacity(256 * 1024, piped(&mut running)?);
    let (mut count, mut picture) = (0u32, Vec::new());
    // Another program may be making the same previews.
    let partial = folder.join(format!("next-{}.part", std::process::id()));
    while next_jpeg(&mut out, &mut picture).map_err(io_error("ffmpeg's pictures could not be read"))? {
        let write = std::fs::write(&partial, &picture)
            .and_then(|()| std::fs::rename(&partial, folder.join(format!("{count:06}.jpg"))));
        if let Err(source) = write {
            let _ = std::fs::remove_file(&partial);
            return Err(match source.kind() {
                std::io::ErrorKind::StorageFull => MediaError::DiskFull { after: count },
                _ => io_error("a preview frame could not be stored")(source),
            });
        }
        count += 1;
        if !on_frame(count) {
            return Ok(count);
        }
    }
    let said = running.end()?;
    if count == 0 {
        return Err(no_frames(&clip.name(), said));
    }
    let expected = match &clip.source {
        Source::Sequence { count, .. } => Some(*count),
        Source::Video(_) => clip.counted.then_some(clip.frames),
    };
    match expected {
        Some(expected) if count < expected => Err(match damaged_stills(clip) {
            stills if stills.is_empty() => MediaError::Short { name: clip.name(), found: count, expected },
            stills => MediaError::DamagedStills { name: clip.name(), stills },
        }),
        _ => Ok(count),
    }
}

/// The stills of a sequence that do not decode, by the names under which they came.
fn damaged_stills(clip: &ClipInfo) -> Vec<String> {
    let Source::Sequence { folder, count, .. } = &clip.source else { return Vec::new() };
    let mut command = tool::command("ffmpeg");
    command.args(["-v", "info", "-nostats", "-nostdin", "-max_error_rate", "1"]).args(clip.source.input_arguments());
    command.args(PICTURES).args(["-vf", "showinfo", "-f", "null", "-"]);
    let Ok(output) = tool::output("ffmpeg", &mut command) else { return Vec::new() };
    // The time base of a sequence is one picture.
    let number = |line: &str| line.split_once(" pts:")?.1.split_whitespace().next()?.parse::<u32>().ok();
    let there: std::collections::BTreeSet<u32> =
        String::from_utf8_lossy(&output.stderr).lines().filter(|l| l.contains("showinfo")).filter_map(number).collect();
    let names = crate::clip::sequence::names_of(folder);
    let name = |i: u32| names.get(i as usize).cloned().unwrap_or_else(|| format!("picture {}", i + 1));
    (0..*count).filter(|i| !there.contains(i)).map(name).collect()
}

/// Reads one JPEG of several that follow one another (ITU-T T.81, annex B); `false` at their end, or where the last one
/// is cut off.
fn next_jpeg(from: &mut impl BufRead, into: &mut Vec<u8>) -> std::io::Result<bool> {
    into.clear();
    let mut after_mark = false;
    let mut skip = 0usize;
    /// The two bytes of a segment's length, as far as they are read.
    enum Length {
        None,
        Wanted,
        High(u8),
    }
    let mut length = Length::None;
    loop {
        let bytes = from.fill_buf()?;
        if bytes.is_empty() {
            return Ok(false);
        }
        let mut used = 0;
        let mut ended = false;
        for &byte in bytes {
            used += 1;
            match (skip, &length) {
                (1.., _) => skip -= 1,
                (0, Length::Wanted) => length = Length::High(byte),
                (0, Length::High(high)) => {
                    skip = usize::from(u16::from_be_bytes([*high, byte])).saturating_sub(2);
                    length = Length::None;
                }
                (0, Length::None) if !after_mark => after_mark = byte == 0xff,
                (0, Length::None) => match byte {
                    0xd9 => {
                        ended = true;
                        break;
                    }
                    // A fill byte comes before a mark; a stuffed byte, restarts and the start stand alone.
                    0xff => {}
                    0x00 | 0x01 | 0xd0..=0xd8 => after_mark = false,
                    _ => (after_mark, length) = (false, Length::Wanted),
                },
            }
        }
        into.extend_from_slice(&bytes[..used]);
        from.consume(used);
        if ended {
            return Ok(true);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn jpegs_are_told_apart_by_their_marks_however_they_arrive() {
        // A comment that holds an end mark, a stuffed byte and a restart do not end a picture.
        let first = [
            0xff, 0xd8, 0xff, 0xfe, 0, 6, 0xff, 0xd9, 1, 2, 0xff, 0xda, 0, 3, 9, 5, 0xff, 0, 0xff, 0xd0, 7, 0xff, 0xd9,
        ];
        let second = [0xff, 0xd8, 0xff, 0xff, 0xdb, 0, 2, 0xff, 0xda, 0, 2, 8, 0xff, 0xd9];
        let both = [&first[..], &second[..], &[0xff, 0xd8, 3][..]].concat();
        for size in 1..both.len() {
            let mut reader = BufReader::with_capacity(size, &both[..]);
            let mut picture = Vec::new();
            assert!(next_jpeg(&mut reader, &mut picture).unwrap() && picture == first, "by {size}");
            assert!(next_jpeg(&mut reader, &mut picture).unwrap() && picture == second, "by {size}");
            assert!(!next_jpeg(&mut reader, &mut picture).unwrap(), "a picture that is cut off is none");
        }
    }
}
