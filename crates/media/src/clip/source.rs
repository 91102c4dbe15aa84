//! Where frames come from.

use crate::clip::rate::Rate;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// Containers that are opened. Playlists and scripts, which can name other files, are left out.
const CONTAINERS: [&str; 28] = [
    "mov",
    "matroska",
    "avi",
    "mpegts",
    "mpeg",
    "mpegvideo",
    "mxf",
    "asf",
    "flv",
    "ogg",
    "gif",
    "h264",
    "hevc",
    "m4v",
    "dv",
    "yuv4mpegpipe",
    "ivf",
    "nut",
    "image2",
    "apng",
    "av1",
    "obu",
    "vc1",
    "rm",
    "wav",
    "mp3",
    "flac",
    "aac",
];

/// Where frames come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Source {
    /// A video file.
    Video(PathBuf),
    /// Stills named 000000.ext, 000001.ext, ... in a folder.
    Sequence {
        /// The folder.
        folder: PathBuf,
        /// Without the dot.
        extension: String,
        /// How many.
        count: u32,
        /// Frames a second.
        rate: Rate,
    },
}

impl Source {
    /// The same source under another folder, for stored clips whose data folder may move.
    pub fn rebased(&self, root: &Path) -> Self {
        match self {
            Self::Video(path) => Self::Video(root.join(path)),
            Self::Sequence { folder, extension, count, rate } => {
                Self::Sequence { folder: root.join(folder), extension: extension.clone(), count: *count, rate: *rate }
            }
        }
    }

    /// ffmpeg's or ffprobe's options that name this input.
    pub(crate) fn input_arguments(&self) -> Vec<std::ffi::OsString> {
        let mut arguments: Vec<std::ffi::OsString> = vec!["-protocol_whitelist".into(), "file,pipe".into()];
        let file = |p: &Path| {
            // The prefix keeps names that look like options or protocols what they are: names.
            let mut name = std::ffi::OsString::from("file:");
            name.push(p);
            name
        };
        match self {
            Self::Video(path) => {
                arguments.extend(["-format_whitelist".into(), CONTAINERS.join(",").into(), "-i".into(), file(path)]);
            }
            Self::Sequence { folder, extension, rate, .. } => {
                if extension == "exr" {
                    // Linear light to display values.
                    arguments.extend(["-apply_trc".into(), "iec61966_2_1".into()]);
                }
                let text = format!("{}/{}", rate.frames, rate.seconds);
                arguments.extend([
                    "-f".into(),
                    "image2".into(),
                    "-framerate".into(),
                    text.into(),
                    "-start_number".into(),
                    "0".into(),
                ]);
                // A per cent sign in the folder's name would count as a pattern.
                let escaped = PathBuf::from(folder.to_string_lossy().replace('%', "%%"));
                arguments.extend(["-i".into(), file(&escaped.join(format!("%06d.{extension}")))]);
            }
        }
        arguments
    }

    pub(crate) fn name(&self) -> String {
        let path = match self {
            Self::Video(path) => path,
            Self::Sequence { folder, .. } => folder,
        };
        path.file_name().map_or_else(|| "the clip".to_owned(), |n| n.to_string_lossy().into_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_stays_a_name() {
        let arguments = Source::Video(PathBuf::from("-i http:evil")).input_arguments();
        assert_eq!(arguments.last().unwrap(), "file:-i http:evil");
    }
}
