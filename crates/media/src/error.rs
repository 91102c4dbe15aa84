//! What can go wrong with a clip.

/// What can go wrong with a clip. Each text says what was found and what to do.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MediaError {
    /// ffmpeg or ffprobe is not there.
    #[error("{tool} could not be started: {source}. Install ffmpeg (on Debian: apt-get install ffmpeg)")]
    ToolMissing {
        /// Which program.
        tool: &'static str,
        /// The cause.
        source: std::io::Error,
    },
    /// The file cannot be read as a clip.
    #[error("“{name}” cannot be read as a clip: {why}. Try to convert it to MP4 or to a sequence of PNG files")]
    Unreadable {
        /// The file's name.
        name: String,
        /// What ffmpeg said.
        why: String,
    },
    /// No picture in it.
    #[error("“{name}” holds no video, only {found}. Choose a file with a picture")]
    NoVideo {
        /// The file's name.
        name: String,
        /// What it holds.
        found: String,
    },
    /// The picture is too large or has no size.
    #[error("“{name}” is {width}x{height} px; sizes from 2x2 to {limit}x{limit} can be used")]
    Size {
        /// The file's name.
        name: String,
        /// Pixels across.
        width: u32,
        /// Pixels down.
        height: u32,
        /// Largest side.
        limit: u32,
    },
    /// Not one frame could be decoded.
    #[error("“{name}” has no frame that can be decoded{detail}. The file may be cut off; copy it again")]
    NoFrames {
        /// The file's name.
        name: String,
        /// What ffmpeg said, after a colon.
        detail: String,
    },
    /// A tool ended before its work was done.
    #[error("{tool} ended early ({why}); what was there before is kept. Try again")]
    Died {
        /// Which program.
        tool: &'static str,
        /// How it ended.
        why: String,
    },
    /// Fewer frames than the clip is known to have.
    #[error(
        "“{name}” gave {found} of {expected} frames; what was there before is kept. The file may have changed; take \
            it in again"
    )]
    Short {
        /// The file's name.
        name: String,
        /// Frames that came.
        found: u32,
        /// Frames that there are.
        expected: u32,
    },
    /// Stills that cannot be decoded.
    #[error("{} of “{name}” cannot be decoded: {}. Replace {} and take the pictures in again", count(stills.len()),
        listed(stills), if stills.len() == 1 { "it" } else { "them" })]
    DamagedStills {
        /// The sequence's name.
        name: String,
        /// The stills, as their files were named.
        stills: Vec<String>,
    },
    /// Encoding went wrong.
    #[error("the video could not be written: {why}. Check the space on the disk")]
    Encode {
        /// What ffmpeg said.
        why: String,
    },
    /// No room for what is decoded.
    #[error("the disk is full: preview frames stop after frame {after}. Make room on the disk and decode again")]
    DiskFull {
        /// Frames that could be stored.
        after: u32,
    },
    /// Files and pipes.
    #[error("{what}: {source}")]
    Io {
        /// What was being done.
        what: String,
        /// The cause.
        source: std::io::Error,
    },
}

fn count(n: usize) -> String {
    if n == 1 { "one picture".to_owned() } else { format!("{n} pictures") }
}

/// The first few of some names.
pub(crate) fn listed(names: &[String]) -> String {
    let shown: Vec<&str> = names.iter().take(5).map(String::as_str).collect();
    let more =
        if names.len() > shown.len() { format!(" and {} more", names.len() - shown.len()) } else { String::new() };
    format!("{}{more}", shown.join(", "))
}

pub(crate) fn io_error(what: impl Into<String>) -> impl FnOnce(std::io::Error) -> MediaError {
    let what = what.into();
    move |source| MediaError::Io { what, source }
}
