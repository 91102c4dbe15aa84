//! What ffprobe tells of a clip.

use crate::clip::info::{ClipInfo, luma_levels};
use crate::clip::note::Note;
use crate::clip::rate::Rate;
use crate::clip::source::Source;
use crate::clip::timing::{PacketTimes, constant_rate_of};
use crate::error::MediaError;
use crate::tool::{self, last_line};
use fennik_core::colour::{Primaries, Transfer};
use serde::Deserialize;

/// Frames that a packet may be shown for, on average: one that stands still for minutes is not worth a full disk.
const MOST_REPEATS: f64 = 20.0;

/// Largest side that is taken in, px.
const MAX_SIDE: u32 = 8192;
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
    color_primaries: Option<String>,
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
        keys_apart: times.keys_apart(),
        deep: video.pix_fmt.as_deref().is_some_and(is_deep),
        transfer: video.color_transfer.as_deref().and_then(Transfer::of_file).unwrap_or_default(),
        primaries: video.color_primaries.as_deref().and_then(Primaries::of_file).unwrap_or_default(),
        quick: false,
    })
}

/// Whether a pixel format of ffmpeg's has more than eight bits a channel.
fn is_deep(format: &str) -> bool {
    [
        "10le", "10be", "12le", "12be", "14le", "16le", "16be", "48le", "48be", "64le", "64be", "p010", "p012", "p016",
        "f32",
    ]
    .iter()
    .any(|end| format.contains(end))
}

/// A line for each packet of the picture: its time, seconds, and its flags.
fn packet_times(source: &Source) -> String {
    let mut command = tool::command("ffprobe");
    command.args(["-v", "error", "-select_streams", "v:0", "-show_entries", "packet=pts_time,flags", "-of", "csv=p=0"]);
    let output = tool::output("ffprobe", command.args(source.input_arguments()));
    output.map(|o| String::from_utf8_lossy(&o.stdout).into_owned()).unwrap_or_default()
}
