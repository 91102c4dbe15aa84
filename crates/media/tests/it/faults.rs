//! What goes wrong outside: a decoder that dies, damaged stills, times that jump, odd paths. Each of these passed for
//! something else once.

use super::{BARS, count, ffmpeg, open};
use fennik_media::{
    ChosenFrames, ClipInfo, FrameReader, MediaError, Note, PixelKind, Rate, SequenceError, VideoColour, VideoWriter,
    gather_folder, probe, write_proxies,
};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

/// Kills whatever runs with this file among its arguments.
fn kill_tool_at(file: &Path) -> usize {
    let wanted = file.to_string_lossy().into_owned();
    let processes = std::fs::read_dir("/proc").unwrap().flatten();
    let runs = |p: &PathBuf| {
        std::fs::read(p.join("cmdline"))
            .is_ok_and(|c| String::from_utf8_lossy(&c).contains(&wanted) && c.starts_with(b"ffmpeg"))
    };
    let pids = processes
        .map(|e| e.path())
        .filter(runs)
        .filter_map(|p| p.file_name().map(|n| n.to_string_lossy().into_owned()));
    pids.filter(|pid| Command::new("kill").args(["-9", pid]).status().is_ok_and(|s| s.success())).count()
}

/// A clip that takes a while to decode.
fn long_clip(folder: &Path) -> ClipInfo {
    let path = folder.join("long.mp4");
    ffmpeg(
        &[
            "-f",
            "lavfi",
            "-i",
            "testsrc2=size=640x360:rate=25:duration=40",
            "-preset",
            "ultrafast",
            "-pix_fmt",
            "yuv420p",
        ],
        &path,
    );
    open(&path).unwrap()
}

/// Fault: when ffmpeg died, the frames so far passed for the whole clip.
#[test]
fn a_decoder_that_dies_is_no_end_of_the_clip() {
    let folder = tempfile::tempdir().unwrap();
    let clip = long_clip(folder.path());
    let mut reader = FrameReader::open(&clip, None, PixelKind::Rgb).unwrap();
    reader.next_frame().unwrap();
    assert_eq!(kill_tool_at(&folder.path().join("long.mp4")), 1);
    let end = loop {
        match reader.next_frame() {
            Ok(Some(_)) => {}
            other => break other.map(|f| f.is_some()),
        }
    };
    assert!(matches!(&end, Err(MediaError::Died { why, .. }) if why.contains("signal 9")), "{end:?}");

    let (previews, path) = (folder.path().join("previews"), folder.path().join("long.mp4"));
    let mut killed = 0;
    let end = write_proxies(&clip, &previews, 160, |n| {
        if n == 3 {
            killed = kill_tool_at(&path);
        }
        true
    });
    assert!(killed == 1 && matches!(end, Err(MediaError::Died { .. })), "{end:?}");

    let target = folder.path().join("out.mp4");
    std::fs::write(&target, "what was there before").unwrap();
    let mut writer = VideoWriter::create(&target, &clip, VideoColour::default(), None).unwrap();
    writer.push(&vec![9; 640 * 360 * 3]).unwrap();
    std::thread::sleep(Duration::from_millis(200));
    assert_eq!(kill_tool_at(&folder.path().join("out.part.mp4")), 1);
    let end = writer.finish();
    assert!(matches!(end, Err(MediaError::Encode { .. })), "{end:?}");
    assert_eq!(std::fs::read_to_string(&target).unwrap(), "what was there before");
}

/// Fault: a clip that lost frames after they were counted ended early without a word.
#[test]
fn fewer_frames_than_were_counted_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.mp4");
    ffmpeg(&[&BARS[..], &["-pix_fmt", "yuv420p"]].concat(), &path);
    let clip = ClipInfo { counted: true, frames: 30, shown: Some("the bars.mov".into()), ..open(&path).unwrap() };
    let mut reader = FrameReader::open(&clip, Some((20, 28)), PixelKind::Grey).unwrap();
    let end = loop {
        match reader.next_frame() {
            Ok(Some(_)) => {}
            other => break other.map(|f| f.is_some()),
        }
    };
    assert!(
        matches!(&end, Err(MediaError::Short { name, found: 5, expected: 8 }) if name == "the bars.mov"),
        "{end:?}"
    );
    assert!(matches!(
        write_proxies(&clip, &folder.path().join("p"), 64, |_| true),
        Err(MediaError::Short { found: 25, .. })
    ));
}

/// Fault: a look at a late frame decoded all frames before it.
#[test]
fn a_reader_begins_in_the_middle_and_gives_the_same_frames() {
    let folder = tempfile::tempdir().unwrap();
    let moving = ["-f", "lavfi", "-i", "testsrc2=size=320x180:rate=30000/1001:duration=5"];
    for (name, arguments) in [
        ("plain.mp4", &["-pix_fmt", "yuv420p", "-g", "30", "-bf", "3"][..]),
        ("late.mp4", &["-pix_fmt", "yuv420p", "-g", "25", "-bf", "2", "-output_ts_offset", "3.2"]),
        ("open.mkv", &["-pix_fmt", "yuv420p", "-g", "20", "-x264-params", "open-gop=1"]),
        ("each.mov", &["-c:v", "mjpeg", "-q:v", "3"]),
        ("sound.mp4", &["-f", "lavfi", "-i", "sine=duration=5", "-c:a", "aac", "-pix_fmt", "yuv420p"]),
    ] {
        let path = folder.path().join(name);
        ffmpeg(&[&moving[..], arguments].concat(), &path);
        let clip = open(&path).unwrap();
        assert!(clip.lead_s.is_some(), "{name}: {clip:?}");
        let from_start = ClipInfo { lead_s: None, ..clip.clone() };
        for (first, end) in [(1, 3), (29, 32), (60, 62), (107, 110), (148, 400)] {
            let read = |clip: &ClipInfo| {
                let mut reader = FrameReader::open(clip, Some((first, end)), PixelKind::Grey).unwrap();
                let mut all = Vec::new();
                while let Some(frame) = reader.next_frame().unwrap() {
                    all.push(frame.to_vec());
                }
                all
            };
            assert!(read(&clip) == read(&from_start), "{name}, frames {first} to {end}");
        }
    }
}

/// Fault: each of a few frames was decoded from the keyframe before it, and all between them as often.
#[test]
fn chosen_frames_are_the_same_whether_they_are_decoded_in_one_go_or_in_several() {
    let folder = tempfile::tempdir().unwrap();
    let moving = ["-f", "lavfi", "-i", "testsrc2=size=320x180:rate=25:duration=5", "-pix_fmt", "yuv420p"];
    let whole = [0, 3, 4, 47, 61, 62, 124];
    for (name, keys, passes) in [("seldom.mp4", "250", 1), ("often.mp4", "12", 4), ("raw.h264", "12", 1)] {
        let path = folder.path().join(name);
        ffmpeg(&[&moving[..], &["-g", keys, "-keyint_min", keys, "-sc_threshold", "0"]].concat(), &path);
        let clip = open(&path).unwrap();
        assert_eq!((clip.frames, clip.lead_s.is_some()), (125, !name.ends_with("h264")), "{name}");
        for clip in [clip.clone(), ClipInfo { counted: true, ..clip.clone() }, ClipInfo { keys_apart: None, ..clip }] {
            let mut chosen = ChosenFrames::new(&clip, whole.into_iter().rev().chain([47]), PixelKind::Grey);
            if clip.keys_apart.is_some() {
                assert_eq!(chosen.passes(), passes, "{name}");
            }
            for frame in whole {
                let (number, bytes) = chosen.next_frame().unwrap().expect("as many as were chosen");
                let mut alone = FrameReader::open(&clip, Some((frame, frame + 1)), PixelKind::Grey).unwrap();
                assert_eq!(number, frame);
                assert!(alone.next_frame().unwrap() == Some(bytes), "{name}, frame {frame}");
            }
            assert!(chosen.next_frame().unwrap().is_none());
        }
        let short = ClipInfo { frames: 200, counted: true, ..open(&path).unwrap() };
        let mut chosen = ChosenFrames::new(&short, [100, 199], PixelKind::Grey);
        let ends = [chosen.next_frame().map(|f| f.is_some()), chosen.next_frame().map(|f| f.is_some())];
        assert!(ends.iter().any(|end| matches!(end, Err(MediaError::Short { .. } | MediaError::NoFrames { .. }))));
    }
}

/// Fault: a small file with a gap in its times asked for millions of frames and filled the disk.
#[test]
fn a_gap_in_the_times_asks_for_no_more_frames_than_there_are_packets_for() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("gap.mkv");
    let gap = "setpts=if(lt(N\\,8)\\,N\\,N+2500000)/25/TB";
    ffmpeg(
        &[
            "-f",
            "lavfi",
            "-i",
            "testsrc2=size=160x90:rate=25",
            "-frames:v",
            "16",
            "-vf",
            gap,
            "-fps_mode",
            "passthrough",
            "-c:v",
            "ffv1",
        ],
        &path,
    );
    let clip = open(&path).unwrap();
    assert!(clip.frames == 16 && clip.notes.contains(&Note::BrokenTimes), "{clip:?}");
    assert_eq!(count(&clip, None), 16);
    assert_eq!(write_proxies(&clip, &folder.path().join("p"), 64, |n| n < 100).unwrap(), 16);
}

fn stills(folder: &Path, names: &[&str]) {
    std::fs::create_dir_all(folder).unwrap();
    for (i, name) in names.iter().enumerate() {
        let source = format!("color=c=0x{:02x}4060:size=64x48:rate=25:duration=0.04", 20 * i);
        let more: &[&str] = if name.ends_with("exr") { &["-pix_fmt", "gbrpf32le"] } else { &[] };
        ffmpeg(
            &[&["-f", "lavfi", "-i", &source, "-frames:v", "1", "-update", "1"][..], more].concat(),
            &folder.join(name),
        );
    }
}

const RATE: Rate = Rate { frames: 25, seconds: 1 };

/// Fault: a damaged still was left out without a word, and later frames moved up.
#[test]
fn a_damaged_still_is_named() {
    let folder = tempfile::tempdir().unwrap();
    for extension in ["png", "jpg", "tif", "exr"] {
        let (first, bad, last) = (format!("s 1.{extension}"), format!("s 2.{extension}"), format!("s 3.{extension}"));
        let from = folder.path().join(extension);
        stills(&from, &[&first, &bad, &last]);
        assert!(gather_folder(&from, &folder.path().join(format!("whole {extension}")), RATE).is_ok(), "{extension}");
        let bytes = std::fs::read(from.join(&bad)).unwrap();
        for damaged in [&bytes[..bytes.len() / 2], b"notes", b""] {
            // A link that an earlier gathering made must not be written through.
            std::fs::remove_file(from.join(&bad)).unwrap();
            std::fs::write(from.join(&bad), damaged).unwrap();
            let end = gather_folder(&from, &folder.path().join("out"), RATE);
            assert!(
                matches!(&end, Err(SequenceError::Damaged { name, more: 0, .. }) if *name == bad),
                "{extension}, {} bytes: {end:?}",
                damaged.len()
            );
        }
    }
    // What looks whole from outside and does not decode is named when it is decoded.
    let from = folder.path().join("inside");
    stills(&from, &["s 1.jpg", "s 2.jpg", "s 3.jpg"]);
    let target = folder.path().join("gathered");
    let gathered = gather_folder(&from, &target, RATE).unwrap();
    let mut bytes = std::fs::read(target.join("000001.jpg")).unwrap();
    let scan = bytes.windows(2).position(|w| w == [0xff, 0xc4]).unwrap();
    bytes[scan + 4..scan + 30].fill(0xff);
    std::fs::remove_file(target.join("000001.jpg")).unwrap();
    std::fs::write(target.join("000001.jpg"), bytes).unwrap();
    let clip = probe(&gathered.source).unwrap();
    let end = write_proxies(&clip, &folder.path().join("p"), 64, |_| true);
    assert!(matches!(&end, Err(MediaError::DamagedStills { stills, .. }) if *stills == ["s 2.jpg"]), "{end:?}");
}

#[test]
fn gaps_in_the_numbers_sizes_that_differ_and_high_range_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let from = folder.path().join("gaps");
    stills(&from, &["s 1.png", "s 2.png", "s 3.png", "s 6.png", "s 7.png"]);
    let other = ["-f", "lavfi", "-i", "color=size=32x48:rate=25:duration=0.04", "-frames:v", "1", "-update", "1"];
    ffmpeg(&other, &from.join("s 8.png"));
    let notes = gather_folder(&from, &folder.path().join("a"), RATE).unwrap().notes;
    let texts: Vec<String> = notes.iter().map(Note::text).collect();
    assert!(texts.len() == 2 && texts[0].contains("4 to 5") && texts[1].contains("s 8.png is 32x48"), "{texts:?}");
    let from = folder.path().join("high");
    stills(&from, &["h 1.exr", "h 2.exr"]);
    let clip = probe(&gather_folder(&from, &folder.path().join("b"), RATE).unwrap().source).unwrap();
    assert!(clip.notes.iter().any(|n| matches!(n, Note::HighRange(_))), "{clip:?}");
    let pq = folder.path().join("pq.mkv");
    ffmpeg(&[&BARS[..], &["-pix_fmt", "yuv420p10le", "-color_trc", "smpte2084", "-c:v", "ffv1"]].concat(), &pq);
    assert!(open(&pq).unwrap().notes.iter().any(|n| n.text().contains("PQ")));
}

/// Fault: an output path that began with a dash or held a colon was taken for an option or a protocol.
#[test]
fn a_video_goes_where_it_is_told_whatever_the_path_looks_like() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.mkv");
    ffmpeg(&[&BARS[..], &["-c:v", "ffv1"]].concat(), &path);
    let clip = open(&path).unwrap();
    for name in ["-y.mp4", "http:x.mp4", "50%d.mp4", "é “q”.mp4"] {
        let target = folder.path().join(name);
        let mut writer = VideoWriter::create(&target, &clip, VideoColour::default(), None).unwrap();
        writer.push(&vec![9; 322 * 182 * 3]).unwrap();
        writer.finish().unwrap();
        assert_eq!(count(&open(&target).unwrap(), None), 1, "{name}");
    }
    // Where a bare name is given, nothing stands before the dash.
    let here = std::env::current_dir().unwrap();
    std::env::set_current_dir(folder.path()).unwrap();
    let ended = VideoWriter::create(Path::new("-n.mp4"), &clip, VideoColour::default(), None).and_then(|mut w| {
        w.push(&vec![9; 322 * 182 * 3])?;
        w.finish()
    });
    std::env::set_current_dir(here).unwrap();
    assert!(ended.is_ok() && folder.path().join("-n.mp4").exists(), "{ended:?}");
}
