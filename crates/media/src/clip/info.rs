//! What a clip is: where it comes from, its size, its rate.

use crate::clip::note::Note;
use crate::clip::rate::Rate;
use crate::clip::source::Source;
use fennik_core::colour::{Primaries, Transfer};
use serde::{Deserialize, Serialize};

/// What is known of a clip before its frames are decoded. Sizes are those of the upright picture
/// with square pixels: what all readers deliver.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ClipInfo {
    /// Where it is.
    pub source: Source,
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
    /// Constant frame rate.
    pub rate: Rate,
    /// Frames; an estimate until they have been decoded once.
    pub frames: u32,
    /// Whether it has sound.
    pub audio: bool,
    /// What was changed on the way in.
    pub notes: Vec<Note>,
    /// The focal length that the file tells, mm on a sensor of 36 x 24 mm.
    #[serde(default)]
    pub focal_35mm: Option<f64>,
    /// The scale of the brightness that comes with the coded pictures, where they have a plane of it, one byte a pixel.
    #[serde(default)]
    pub luma: Option<Levels>,
    /// What the file is called by whoever brought it, for messages.
    #[serde(default)]
    pub shown: Option<String>,
    /// Whether `frames` was counted by decoding, so that fewer mean a fault.
    #[serde(default)]
    pub counted: bool,
    /// Time of the first frame from the file's beginning, seconds, where the times of all others follow from it and
    /// from the rate: a reader can begin in the middle of the file.
    #[serde(default)]
    pub lead_s: Option<f64>,
    /// Frames from one at which decoding can begin to the next one, at most, where that is known.
    #[serde(default)]
    pub keys_apart: Option<u32>,
    /// More than eight bits a channel.
    #[serde(default)]
    pub deep: bool,
    /// The law between its code values and light, as the file names it; the usual one where it says nothing.
    #[serde(default)]
    pub transfer: Transfer,
    /// The primaries that they mix, as the file names them.
    #[serde(default)]
    pub primaries: Primaries,
    /// Whether its frames are made smaller quickly rather than carefully.
    #[serde(skip)]
    pub quick: bool,
}

/// What black and white are coded as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Levels {
    /// Black.
    pub black: u8,
    /// White.
    pub white: u8,
}

impl Levels {
    /// The whole of a byte.
    pub const FULL: Self = Self { black: 0, white: 255 };
    /// That of video (ITU-R BT.601 and BT.709).
    pub const VIDEO: Self = Self { black: 16, white: 235 };
}

impl ClipInfo {
    /// The scale of what [`crate::PixelKind::Grey`] reads.
    pub fn grey_levels(&self) -> Levels {
        self.luma.unwrap_or(Levels::FULL)
    }

    /// The same clip in smaller frames, `width` px across, made quickly.
    pub fn shrunk(&self, width: u32) -> Self {
        let share = f64::from(width) / f64::from(self.width.max(1));
        let height = ((f64::from(self.height) * share).round() as u32).max(1);
        Self { width, height, quick: true, ..self.clone() }
    }

    /// What messages call it.
    pub fn name(&self) -> String {
        self.shown.clone().unwrap_or_else(|| self.source.name())
    }

    /// The focal length that the file tells, px of the clip's size. Cameras round it and crop for video, so it is a
    /// place to begin and no more.
    pub fn focal_hint_px(&self) -> Option<f64> {
        self.focal_35mm.map(|mm| mm / 36.0 * f64::from(self.width.max(self.height)))
    }
}

/// Pixel formats, as ffmpeg names them, with a plane of brightness, one byte a pixel.
pub(crate) const LUMA_FORMATS: [&str; 6] = ["yuv420p", "yuv422p", "yuv444p", "yuvj420p", "yuvj422p", "yuvj444p"];

/// The scale of the brightness plane of a pixel format of ffmpeg's; `None` where there is none of one byte a pixel.
pub(crate) fn luma_levels(format: &str, range: Option<&str>) -> Option<Levels> {
    let full = format.starts_with("yuvj") || range == Some("pc");
    LUMA_FORMATS.contains(&format).then_some(if full { Levels::FULL } else { Levels::VIDEO })
}

impl ClipInfo {
    /// The filters that make every reader deliver the same upright, square, constant frames, cut to
    /// `range` (first frame and the one after the last).
    pub(crate) fn filters(&self, range: Option<(u32, u32)>, only: &str) -> String {
        let mut filters = Vec::new();
        if self.notes.contains(&Note::ConstantRate) {
            filters.push(format!("fps={}/{}", self.rate.frames, self.rate.seconds));
        }
        if let Some((from, to)) = range {
            filters.push(format!("trim=start_frame={from}:end_frame={to}"));
        }
        let by = if self.quick { "area" } else { "bicubic" };
        filters.push(format!("{only}scale={}:{}:flags={by}", self.width, self.height));
        filters.push("setsar=1".to_owned());
        filters.join(",")
    }

    /// Frames, by rising number, in lots of which each is decoded the quickest in one go, from its first on.
    pub(crate) fn passes(&self, frames: &[u32]) -> Vec<Vec<u32>> {
        let near = |a: u32, b: u32| self.lead_s.is_none() || b - a <= self.keys_apart.unwrap_or(1);
        frames.chunk_by(|a, b| near(*a, *b)).map(<[u32]>::to_vec).collect()
    }

    /// Where to begin in the file for a frame, seconds from its beginning: half a frame before it. `None` where only
    /// decoding from the start tells which frame is which.
    pub(crate) fn begin_s(&self, frame: u32) -> Option<f64> {
        let lead = self.lead_s.filter(|_| frame > 0)?;
        Some((lead + (f64::from(frame) - 0.5) / self.rate.per_second()).max(0.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_planes_of_one_byte_a_pixel_are_taken_as_they_are() {
        assert_eq!(luma_levels("yuv420p", None), Some(Levels::VIDEO));
        assert_eq!(luma_levels("yuv422p", Some("pc")), Some(Levels::FULL));
        assert_eq!(luma_levels("yuvj444p", None), Some(Levels::FULL));
        for other in ["yuv420p10le", "yuva420p", "rgb24", "gray", "nv12", "pal8"] {
            assert_eq!(luma_levels(other, None), None, "{other}");
        }
    }
}
