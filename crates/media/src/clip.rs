//! What a clip is: where it comes from, its size, its rate.

use crate::sequence::Gathered;
use crate::{MediaError, io_error, tool};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// Largest side that is taken in, px.
const MAX_SIDE: u32 = 8192;
/// Containers that are opened. Playlists and scripts, which can name other files, are left out.
const CONTAINERS: &str = "mov,matroska,avi,mpegts,mpeg,mpegvideo,mxf,asf,flv,ogg,gif,h264,hevc,m4v,dv,yuv4mpegpipe,ivf,nut,image2,apng,av1,obu,vc1,rm,wav,mp3,flac,aac";

/// A frame rate as a fraction, frames per second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rate {
    /// Frames.
    pub frames: u32,
    /// Seconds.
    pub seconds: u32,
}

impl Rate {
    /// Frames per second as a number.
    pub fn per_second(self) -> f64 {
        f64::from(self.frames) / f64::from(self.seconds)
    }

    fn parse(text: &str) -> Option<Self> {
        let (a, b) = text.split_once('/')?;
        let (frames, seconds) = (a.parse().ok()?, b.parse().ok()?);
        let rate = Self { frames, seconds };
        (frames > 0 && seconds > 0 && (0.5..=480.0).contains(&rate.per_second())).then_some(rate)
    }
}

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
                arguments.extend(["-format_whitelist".into(), CONTAINERS.into(), "-i".into(), file(path)]);
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

/// Something that was changed on the way in, to be told to the person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Note {
    /// The picture was turned upright by the file's own rotation.
    Rotated(i32),
    /// Pixels were made square.
    SquarePixels,
    /// The rate varied; frames were dropped or repeated to make it constant.
    ConstantRate,
    /// More than eight bits a channel, or chroma finer than 4:2:0.
    FinePixels(String),
    /// The times of the frames cannot be believed; every frame is taken once.
    BrokenTimes,
    /// Numbers that are missing among the names of the stills.
    MissingNumbers(String),
    /// Stills of another size than the first were scaled to it.
    MixedSizes(String),
    /// Brighter than a screen shows.
    HighRange(String),
}

impl Note {
    /// For people.
    pub fn text(&self) -> String {
        match self {
            Self::Rotated(degrees) => format!("turned upright by the {degrees} degrees that the file asks for"),
            Self::SquarePixels => "pixels were not square; the picture was widened to make them so".to_owned(),
            Self::ConstantRate => {
                "the frame rate varies; frames were repeated or left out to make it constant".to_owned()
            }
            Self::FinePixels(format) => format!("{format} pictures; shown and delivered with 8 bits"),
            Self::BrokenTimes => {
                "the times of its frames jump; each frame is taken once, evenly spaced, and sound may not fit"
                    .to_owned()
            }
            Self::MissingNumbers(which) => {
                format!("numbers are missing among its pictures: {which}; the pictures there are follow one another")
            }
            Self::MixedSizes(which) => {
                format!("not all its pictures have one size: {which}; they are scaled to that of the first")
            }
            Self::HighRange(what) => format!("{what}: light beyond white is cut off at white"),
        }
    }
}

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

/// What a file says of itself beside its pictures.
type Tags = std::collections::HashMap<String, String>;

/// The focal length among tags, mm on a sensor of 36 x 24 mm: EXIF's `FocalLengthIn35mmFilm`, or whatever a camera
/// calls the same in a video's metadata.
fn focal_35mm(tags: &Tags) -> Option<f64> {
    let is_it = |key: &str| {
        let plain: String = key.to_ascii_lowercase().chars().filter(char::is_ascii_alphanumeric).collect();
        plain.contains("focallength") && plain.contains("35mm")
    };
    let number = |text: &str| {
        text.trim().trim_end_matches("mm").trim().parse::<f64>().ok().filter(|v| (4.0..2000.0).contains(v))
    };
    let mut found: Vec<(&String, f64)> =
        tags.iter().filter(|(k, _)| is_it(k)).filter_map(|(k, v)| Some((k, number(v)?))).collect();
    found.sort_by(|a, b| a.0.cmp(b.0));
    found.first().map(|f| f.1)
}

/// The tags of the first picture of a sequence.
fn picture_tags(source: &Source) -> Tags {
    let mut command = tool::command("ffprobe");
    command.args([
        "-v",
        "error",
        "-select_streams",
        "v:0",
        "-read_intervals",
        "%+#1",
        "-show_entries",
        "frame_tags",
        "-of",
        "json",
    ]);
    let output = tool::output("ffprobe", command.args(source.input_arguments()));
    let frames = output.ok().and_then(|o| serde_json::from_slice::<ProbedFrames>(&o.stdout).ok());
    frames.and_then(|f| f.frames.into_iter().next()).map(|f| f.tags).unwrap_or_default()
}

#[derive(Deserialize)]
struct ProbedFrames {
    #[serde(default)]
    frames: Vec<ProbedFrame>,
}

#[derive(Deserialize)]
struct ProbedFrame {
    #[serde(default)]
    tags: Tags,
}

#[derive(Deserialize)]
struct Probed {
    #[serde(default)]
    streams: Vec<Stream>,
    #[serde(default)]
    format: Format,
}

#[derive(Deserialize, Default)]
struct Format {
    format_name: Option<String>,
    start_time: Option<String>,
    duration: Option<String>,
    #[serde(default)]
    tags: Tags,
}

#[derive(Deserialize)]
struct Stream {
    codec_type: Option<String>,
    width: Option<u32>,
    height: Option<u32>,
    sample_aspect_ratio: Option<String>,
    r_frame_rate: Option<String>,
    avg_frame_rate: Option<String>,
    nb_read_packets: Option<String>,
    duration: Option<String>,
    pix_fmt: Option<String>,
    color_range: Option<String>,
    color_transfer: Option<String>,
    #[serde(default)]
    side_data_list: Vec<SideData>,
    #[serde(default)]
    tags: Tags,
    #[serde(default)]
    disposition: std::collections::HashMap<String, i32>,
}

#[derive(Deserialize)]
struct SideData {
    rotation: Option<f64>,
}

/// Reads what a clip says of itself.
///
/// # Errors
/// [`MediaError`] when ffprobe is missing, or there is no usable video in it.
pub fn probe(source: &Source) -> Result<ClipInfo, MediaError> {
    let mut command = tool::command("ffprobe");
    command.args(["-v", "error", "-count_packets", "-show_streams", "-show_format", "-of", "json"]);
    let output = tool::output("ffprobe", command.args(source.input_arguments()))?;
    if !output.status.success() {
        let why = last_line(&output.stderr).unwrap_or_else(|| "its format is not known".to_owned());
        return Err(MediaError::Unreadable { name: source.name(), why });
    }
    let tags = match source {
        Source::Sequence { .. } => picture_tags(source),
        Source::Video(_) => Tags::new(),
    };
    read_probe(source, &output.stdout, &packet_times(source), &tags)
}

/// Makes sense of what ffprobe told of a clip: its JSON, the lines of its packets' times, and the tags of a still.
///
/// # Errors
/// [`MediaError`] when there is no usable video in it.
pub fn read_probe(
    source: &Source,
    json: &[u8],
    packet_lines: &str,
    still_tags: &std::collections::HashMap<String, String>,
) -> Result<ClipInfo, MediaError> {
    let name = source.name();
    let probed: Probed =
        serde_json::from_slice(json).map_err(|e| MediaError::Unreadable { name: name.clone(), why: e.to_string() })?;
    let is_video =
        |s: &&Stream| s.codec_type.as_deref() == Some("video") && s.disposition.get("attached_pic") != Some(&1);
    let Some(video) = probed.streams.iter().find(is_video) else {
        let kinds: Vec<String> = probed.streams.iter().filter_map(|s| s.codec_type.clone()).collect();
        let found = if kinds.is_empty() { "nothing".to_owned() } else { kinds.join(", ") };
        return Err(MediaError::NoVideo { name, found });
    };
    let (mut width, mut height) = (video.width.unwrap_or(0), video.height.unwrap_or(0));
    let mut notes = Vec::new();
    if width < 2 || height < 2 || width > MAX_SIDE || height > MAX_SIDE {
        return Err(MediaError::Size { name, width, height, limit: MAX_SIDE });
    }
    if let Some((a, b)) = video.sample_aspect_ratio.as_deref().and_then(|r| r.split_once(':')) {
        if let (Ok(a), Ok(b)) = (a.parse::<f64>(), b.parse::<f64>()) {
            if a > 0.0 && b > 0.0 && (a / b - 1.0).abs() > 1e-3 {
                width = (f64::from(width) * a / b).round().clamp(2.0, f64::from(MAX_SIDE)) as u32;
                notes.push(Note::SquarePixels);
            }
        }
    }
    let turn = video.side_data_list.iter().find_map(|d| d.rotation).map_or(0, |r| r.round() as i32);
    if turn.rem_euclid(360) != 0 {
        notes.push(Note::Rotated(turn));
        if turn.rem_euclid(180) == 90 {
            std::mem::swap(&mut width, &mut height);
        }
    }
    let nominal = video.r_frame_rate.as_deref().and_then(Rate::parse);
    let average = video.avg_frame_rate.as_deref().and_then(Rate::parse);
    let packets = video.nb_read_packets.as_deref().and_then(|n| n.parse::<u32>().ok()).unwrap_or(0);
    let duration = video.duration.as_ref().or(probed.format.duration.as_ref()).and_then(|d| d.parse::<f64>().ok());
    let times = PacketTimes::read(packet_lines);
    let mut frames = packets;
    let rate = match (constant_rate_of(&times.sorted), nominal, average) {
        (Some(rate), _, _) => {
            let wanted = (duration.unwrap_or(0.0) * rate.per_second()).round();
            if (0.0..=MOST_REPEATS * f64::from(packets) + 1.0).contains(&wanted) {
                notes.push(Note::ConstantRate);
                frames = if duration.is_some() { wanted as u32 } else { packets };
            } else {
                notes.push(Note::BrokenTimes);
            }
            rate
        }
        (None, Some(n), _) => n,
        (None, None, Some(a)) => a,
        (None, None, None) => Rate { frames: 25, seconds: 1 },
    };
    if let Some(format) = video.pix_fmt.as_deref() {
        if format.contains("10")
            || format.contains("12")
            || format.contains("16")
            || format.contains("422")
            || format.contains("444")
        {
            notes.push(Note::FinePixels(format.to_owned()));
        }
    }
    match (source, video.color_transfer.as_deref()) {
        (_, Some("smpte2084")) => notes.push(Note::HighRange("pictures of high range (PQ)".to_owned())),
        (_, Some("arib-std-b67")) => notes.push(Note::HighRange("pictures of high range (HLG)".to_owned())),
        (Source::Sequence { extension, .. }, _) if extension == "exr" => {
            notes.push(Note::HighRange("EXR pictures, linear light".to_owned()))
        }
        _ => {}
    }
    let audio = probed.streams.iter().any(|s| s.codec_type.as_deref() == Some("audio"));
    let focal_35mm =
        focal_35mm(&probed.format.tags).or_else(|| focal_35mm(&video.tags)).or_else(|| focal_35mm(still_tags));
    let luma = video.pix_fmt.as_deref().and_then(|format| luma_levels(format, video.color_range.as_deref()));
    let indexed =
        probed.format.format_name.as_deref().is_some_and(|f| f.split(',').any(|f| matches!(f, "mov" | "matroska")));
    let begins = probed.format.start_time.as_deref().and_then(|t| t.parse::<f64>().ok()).unwrap_or(0.0);
    let even =
        matches!(source, Source::Video(_)) && indexed && times.all_shown && times.sorted.len() == packets as usize;
    let lead_s = times.even_from(rate).filter(|_| even && !notes.contains(&Note::ConstantRate)).map(|t| t - begins);
    Ok(ClipInfo {
        source: source.clone(),
        width,
        height,
        rate,
        frames,
        audio,
        notes,
        focal_35mm,
        luma,
        shown: None,
        counted: false,
        lead_s,
    })
}

/// Frames that a packet may be shown for, on average: one that stands still for minutes is not worth a full disk.
const MOST_REPEATS: f64 = 20.0;

/// The times at which the frames of a video are shown, as its packets tell.
struct PacketTimes {
    /// Seconds, rising.
    sorted: Vec<f64>,
    /// Whether every packet has a time and is shown.
    all_shown: bool,
}

impl PacketTimes {
    fn read(lines: &str) -> Self {
        let mut times = Self { sorted: Vec::new(), all_shown: true };
        for line in lines.lines().filter(|l| !l.trim().is_empty()) {
            let (time, flags) = line.split_once(',').unwrap_or((line, ""));
            match time.trim().parse::<f64>() {
                Ok(t) if t.is_finite() => times.sorted.push(t),
                _ => times.all_shown = false,
            }
            times.all_shown &= !flags.contains('D');
        }
        times.sorted.sort_by(f64::total_cmp);
        times
    }

    /// The first time, where all others keep to the rate.
    fn even_from(&self, rate: Rate) -> Option<f64> {
        let (first, step) = (*self.sorted.first()?, 1.0 / rate.per_second());
        let keeps = |(i, t): (usize, &f64)| (t - first - i as f64 * step).abs() < 0.25 * step;
        self.sorted.iter().enumerate().all(keeps).then_some(first)
    }
}

/// Pixel formats, as ffmpeg names them, with a plane of brightness, one byte a pixel.
pub(crate) const LUMA_FORMATS: [&str; 6] = ["yuv420p", "yuv422p", "yuv444p", "yuvj420p", "yuvj422p", "yuvj444p"];

/// The scale of the brightness plane of a pixel format of ffmpeg's; `None` where there is none of one byte a pixel.
fn luma_levels(format: &str, range: Option<&str>) -> Option<Levels> {
    let full = format.starts_with("yuvj") || range == Some("pc");
    LUMA_FORMATS.contains(&format).then_some(if full { Levels::FULL } else { Levels::VIDEO })
}

/// A line for each packet of the picture: its time, seconds, and its flags.
fn packet_times(source: &Source) -> String {
    let mut command = tool::command("ffprobe");
    command.args(["-v", "error", "-select_streams", "v:0", "-show_entries", "packet=pts_time,flags", "-of", "csv=p=0"]);
    let output = tool::output("ffprobe", command.args(source.input_arguments()));
    output.map(|o| String::from_utf8_lossy(&o.stdout).into_owned()).unwrap_or_default()
}

/// For a video whose frames do not come evenly (containers often claim a constant rate that the times of their frames
/// do not keep): the usual rate nearest to the middle distance of their times, seconds; `None` when they are even
/// (rounding of the container aside) or too few.
fn constant_rate_of(times: &[f64]) -> Option<Rate> {
    let steps: Vec<f64> = times.windows(2).map(|p| p[1] - p[0]).collect();
    let mut sorted = steps.clone();
    sorted.sort_by(f64::total_cmp);
    let middle = *sorted.get(sorted.len() / 2).filter(|_| steps.len() >= 4)?;
    let odd = steps.iter().filter(|s| (*s - middle).abs() > 0.25 * middle).count();
    if middle <= 0.0 || odd * 50 < steps.len() {
        return None;
    }
    Some(constant_rate(Rate { frames: (1000.0 / middle).round().clamp(500.0, 480_000.0) as u32, seconds: 1000 }))
}

/// The usual rate nearest to an average one, or the average itself.
fn constant_rate(average: Rate) -> Rate {
    let usual = [(24000, 1001), (24, 1), (25, 1), (30000, 1001), (30, 1), (50, 1), (60000, 1001), (60, 1)];
    usual
        .into_iter()
        .map(|(frames, seconds)| Rate { frames, seconds })
        .find(|r| (r.per_second() / average.per_second() - 1.0).abs() < 0.03)
        .unwrap_or(average)
}

/// The last line that ffmpeg wrote, without its prefix and without paths.
pub(crate) fn last_line(stderr: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(stderr);
    let line = text.lines().rev().find(|l| !l.trim().is_empty())?;
    let plain = line.rsplit(": ").next().unwrap_or(line).trim();
    Some(plain.trim_end_matches('.').to_owned())
}

impl ClipInfo {
    /// The filters that make every reader deliver the same upright, square, constant frames, cut to
    /// `range` (first frame and the one after the last).
    pub(crate) fn filters(&self, range: Option<(u32, u32)>) -> String {
        let mut filters = Vec::new();
        if self.notes.contains(&Note::ConstantRate) {
            filters.push(format!("fps={}/{}", self.rate.frames, self.rate.seconds));
        }
        if let Some((from, to)) = range {
            filters.push(format!("trim=start_frame={from}:end_frame={to}"));
        }
        filters.push(format!("scale={}:{}:flags=bicubic", self.width, self.height));
        filters.push("setsar=1".to_owned());
        filters.join(",")
    }

    /// Where to begin in the file for a frame, seconds from its beginning: half a frame before it. `None` where only
    /// decoding from the start tells which frame is which.
    pub(crate) fn begin_s(&self, frame: u32) -> Option<f64> {
        let lead = self.lead_s.filter(|_| frame > 0)?;
        Some((lead + (f64::from(frame) - 0.5) / self.rate.per_second()).max(0.0))
    }

    /// Reads a file's metadata from a path: a video file, or a folder of stills.
    ///
    /// # Errors
    /// As [`probe`], and when a folder holds no stills.
    pub fn open(path: &Path, scratch: &Path) -> Result<Self, MediaError> {
        let absolute = path.canonicalize().map_err(io_error(format!("{} cannot be opened", path.display())))?;
        let shown = absolute.file_name().map(|n| n.to_string_lossy().into_owned());
        if absolute.is_dir() {
            let unreadable = |e: crate::SequenceError| MediaError::Unreadable {
                name: path.display().to_string(),
                why: e.to_string(),
            };
            let Gathered { source, notes } =
                crate::sequence::gather_folder(&absolute, scratch, Rate { frames: 25, seconds: 1 })
                    .map_err(unreadable)?;
            let mut info = probe(&source)?;
            info.notes.extend(notes);
            return Ok(Self { shown, ..info });
        }
        Ok(Self { shown, ..probe(&Source::Video(absolute))? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_are_read_as_fractions() {
        assert_eq!(Rate::parse("30000/1001"), Some(Rate { frames: 30000, seconds: 1001 }));
        for bad in ["0/0", "25", "1/0", "90000/1", "a/b"] {
            assert_eq!(Rate::parse(bad), None, "{bad}");
        }
        let even: Vec<f64> = (0..50).map(|i| (f64::from(i) * 33.3667).round() / 1000.0).collect();
        assert_eq!(constant_rate_of(&even), None, "rounded to milliseconds");
        let uneven: Vec<f64> =
            (0..50).map(|i| f64::from(i) * 0.04 + if i > 30 { 0.1 * f64::from(i - 30) } else { 0.0 }).collect();
        assert_eq!(constant_rate_of(&uneven), Some(Rate { frames: 25, seconds: 1 }));
        assert_eq!(constant_rate(Rate { frames: 2983, seconds: 100 }), Rate { frames: 30000, seconds: 1001 });
        assert_eq!(constant_rate(Rate { frames: 12, seconds: 1 }), Rate { frames: 12, seconds: 1 });
    }

    #[test]
    fn only_planes_of_one_byte_a_pixel_are_taken_as_they_are() {
        assert_eq!(luma_levels("yuv420p", None), Some(Levels::VIDEO));
        assert_eq!(luma_levels("yuv422p", Some("pc")), Some(Levels::FULL));
        assert_eq!(luma_levels("yuvj444p", None), Some(Levels::FULL));
        for other in ["yuv420p10le", "yuva420p", "rgb24", "gray", "nv12", "pal8"] {
            assert_eq!(luma_levels(other, None), None, "{other}");
        }
    }

    #[test]
    fn a_name_stays_a_name() {
        let arguments = Source::Video(PathBuf::from("-i http:evil")).input_arguments();
        assert_eq!(arguments.last().unwrap(), "file:-i http:evil");
    }
}
