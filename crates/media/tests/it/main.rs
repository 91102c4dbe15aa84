//! Real files through the real ffmpeg.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

mod faults;
mod others;

use fennik_media::{
    ClipInfo, FrameReader, Gathered, MediaError, Note, PixelKind, Rate, Source, VideoColour, VideoWriter,
    gather_folder, probe, unpack_zip, write_proxies,
};
use std::path::Path;
use std::process::Command;

fn ffmpeg(arguments: &[&str], out: &Path) {
    let status = Command::new("ffmpeg")
        .args(["-v", "error", "-y"])
        .args(arguments)
        .arg(out)
        .status()
        .expect("ffmpeg is installed");
    assert!(status.success(), "{arguments:?}");
}

fn open(path: &Path) -> Result<ClipInfo, MediaError> {
    ClipInfo::open(path, &path.with_extension("scratch"))
}

fn count(clip: &ClipInfo, range: Option<(u32, u32)>) -> u32 {
    let mut reader = FrameReader::open(clip, range, PixelKind::Grey).unwrap();
    let mut n = 0;
    while reader.next_frame().unwrap().is_some() {
        n += 1;
    }
    n
}

const BARS: [&str; 4] = ["-f", "lavfi", "-i", "testsrc=size=322x182:rate=25:duration=1"];

#[test]
fn odd_sizes_rotation_and_wide_pixels_come_out_upright_and_square() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("odd ' \"né\" 写真.mkv");
    ffmpeg(&[&BARS[..], &["-vf", "crop=321:181", "-pix_fmt", "yuv444p10le", "-c:v", "ffv1"]].concat(), &path);
    let clip = open(&path).unwrap();
    assert_eq!((clip.width, clip.height, clip.frames, count(&clip, None)), (321, 181, 25, 25));
    assert!(clip.notes.iter().any(|n| matches!(n, Note::FinePixels(_))), "{:?}", clip.notes);

    let plain = folder.path().join("plain.mp4");
    ffmpeg(&[&BARS[..], &["-pix_fmt", "yuv420p"]].concat(), &plain);
    let turned = folder.path().join("turned.mp4");
    let status = Command::new("ffmpeg")
        .args(["-v", "error", "-y", "-i"])
        .arg(&plain)
        .args(["-c", "copy", "-metadata:s:v:0", "rotate=90"])
        .arg(&turned)
        .status()
        .unwrap();
    assert!(status.success());
    let clip = open(&turned).unwrap();
    assert_eq!((clip.width, clip.height, count(&clip, None)), (182, 322, 25), "{:?}", clip.notes);

    let wide = folder.path().join("wide.mp4");
    ffmpeg(&[&BARS[..], &["-vf", "setsar=2", "-pix_fmt", "yuv422p", "-c:v", "libx264"]].concat(), &wide);
    let clip = open(&wide).unwrap();
    assert_eq!((clip.width, clip.height, count(&clip, None)), (644, 182, 25));
    assert!(clip.notes.contains(&Note::SquarePixels));
}

#[test]
fn a_focal_length_in_the_file_is_a_place_to_begin() {
    let folder = tempfile::tempdir().unwrap();
    let said = folder.path().join("said.mp4");
    let tagged = |tag: &str, out: &Path| {
        ffmpeg(
            &[&BARS[..], &["-vf", "crop=320:180", "-movflags", "use_metadata_tags", "-metadata", tag]].concat(),
            out,
        );
    };
    tagged("camera.focal_length.35mm_equivalent=27", &said);
    let clip = open(&said).unwrap();
    assert_eq!((clip.focal_35mm, clip.focal_hint_px()), (Some(27.0), Some(240.0)));
    let silent = folder.path().join("silent.mp4");
    tagged("focal=long", &silent);
    assert_eq!(open(&silent).unwrap().focal_hint_px(), None);
    // A JPEG with one EXIF entry: FocalLengthIn35mmFilm, 50.
    let photos = folder.path().join("photos");
    std::fs::create_dir(&photos).unwrap();
    let plain = folder.path().join("plain.jpg");
    ffmpeg(&[&BARS[..], &["-frames:v", "1"]].concat(), &plain);
    let bytes = std::fs::read(&plain).unwrap();
    let mut tiff = b"II*\0\x08\0\0\0".to_vec();
    tiff.extend([1, 0, 0x69, 0x87, 4, 0, 1, 0, 0, 0, 26, 0, 0, 0, 0, 0, 0, 0]);
    tiff.extend([1, 0, 0x05, 0xa4, 3, 0, 1, 0, 0, 0, 50, 0, 0, 0, 0, 0, 0, 0]);
    let mut exif = b"Exif\0\0".to_vec();
    exif.extend(tiff);
    let mut marked = bytes[..2].to_vec();
    marked.extend([0xff, 0xe1]);
    marked.extend(u16::try_from(exif.len() + 2).unwrap().to_be_bytes());
    marked.extend(exif);
    marked.extend(&bytes[2..]);
    (0..3).for_each(|i| std::fs::write(photos.join(format!("p{i}.jpg")), &marked).unwrap());
    let clip = open(&photos).unwrap();
    assert_eq!(clip.focal_35mm, Some(50.0));
}

#[test]
fn a_varying_rate_is_made_constant_and_said_so() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("varying.mkv");
    // Every frame of the second half stays twice as long.
    let stretch = "setpts=if(lt(N\\,12)\\,N\\,12+2*(N-12))/25/TB";
    ffmpeg(&[&BARS[..], &["-vf", stretch, "-fps_mode", "vfr", "-c:v", "ffv1"]].concat(), &path);
    let clip = open(&path).unwrap();
    assert!(clip.notes.contains(&Note::ConstantRate), "{clip:?}");
    let seconds = f64::from(count(&clip, None)) / clip.rate.per_second();
    assert!((seconds - 1.5).abs() < 0.12, "{seconds} s at {:?}", clip.rate);
}

#[test]
fn a_trim_reads_just_its_frames() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.mp4");
    ffmpeg(&[&BARS[..], &["-pix_fmt", "yuv420p"]].concat(), &path);
    let clip = open(&path).unwrap();
    assert_eq!(count(&clip, Some((5, 9))), 4);
    assert_eq!(count(&clip, Some((20, u32::MAX))), 5);
    let frame =
        |range| FrameReader::open(&clip, range, PixelKind::Grey).unwrap().next_frame().unwrap().unwrap().to_vec();
    let mut reader = FrameReader::open(&clip, None, PixelKind::Grey).unwrap();
    let all: Vec<Vec<u8>> = (0..8).map(|_| reader.next_frame().unwrap().unwrap().to_vec()).collect();
    assert_eq!(frame(Some((7, 8))), all[7]);
}

#[test]
fn the_brightness_plane_as_it_is_coded_is_what_a_conversion_gives() {
    let folder = tempfile::tempdir().unwrap();
    for (name, arguments) in [
        ("video", &["-pix_fmt", "yuv420p"][..]),
        ("full", &["-pix_fmt", "yuvj420p"]),
        ("half", &["-pix_fmt", "yuv422p", "-c:v", "ffv1"]),
        ("wide", &["-pix_fmt", "yuv420p", "-vf", "setsar=4/3"]),
    ] {
        let path = folder.path().join(format!("{name}.mkv"));
        ffmpeg(&[&BARS[..], arguments].concat(), &path);
        let clip = open(&path).unwrap();
        let levels = clip.luma.expect(name);
        let converted = ClipInfo { luma: None, ..clip.clone() };
        let read = |clip: &ClipInfo| {
            FrameReader::open(clip, Some((3, 4)), PixelKind::Grey).unwrap().next_frame().unwrap().unwrap().to_vec()
        };
        let (plane, grey) = (read(&clip), read(&converted));
        let gain = 255.0 / (f64::from(levels.white) - f64::from(levels.black));
        let off = |(coded, whole): (&u8, &u8)| {
            ((gain * (f64::from(*coded) - f64::from(levels.black))).clamp(0.0, 255.0) - f64::from(*whole)).abs()
        };
        let worst = plane.iter().zip(&grey).map(off).fold(0.0, f64::max);
        assert!(plane.len() == grey.len() && worst < 1.5, "{name}: {worst}");
        assert!(grey.iter().max() > Some(&220) && grey.iter().min() < Some(&30), "{name} has light and dark");
    }
}

#[test]
fn broken_empty_and_soundonly_files_are_named() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    std::fs::write(path("text.mp4"), "no clip").unwrap();
    assert!(matches!(open(&path("text.mp4")), Err(MediaError::Unreadable { .. })));
    std::fs::write(path("empty.mp4"), "").unwrap();
    assert!(open(&path("empty.mp4")).is_err());
    ffmpeg(&["-f", "lavfi", "-i", "sine=duration=1"], &path("sound.wav"));
    assert!(matches!(open(&path("sound.wav")), Err(MediaError::NoVideo { .. })));
    assert!(matches!(open(&path("none.mp4")), Err(MediaError::Io { .. })));
    std::fs::write(path("list.m3u8"), "#EXTM3U\n#EXTINF:1,\n/etc/hostname\n").unwrap();
    assert!(open(&path("list.m3u8")).is_err(), "playlists can name other files");

    ffmpeg(&[&BARS[..], &["-pix_fmt", "yuv420p", "-f", "mpegts"]].concat(), &path("whole.ts"));
    let bytes = std::fs::read(path("whole.ts")).unwrap();
    std::fs::write(path("cut.ts"), &bytes[..bytes.len() / 2]).unwrap();
    let clip = open(&path("cut.ts")).unwrap();
    assert!((1..25).contains(&count(&clip, None)), "what is there of a cut-off file is used");
}

/// Every file below a folder, by its path from there.
fn files_below(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(at) = folders.pop() {
        for entry in std::fs::read_dir(at).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else {
                found.push(path.strip_prefix(folder).unwrap().to_string_lossy().into_owned());
            }
        }
    }
    found.sort();
    found
}

#[test]
fn stills_come_in_the_order_of_their_numbers_from_a_folder_or_a_zip() {
    let folder = tempfile::tempdir().unwrap();
    for extension in ["png", "tif", "exr", "jpg"] {
        let stills = folder.path().join(extension);
        std::fs::create_dir(&stills).unwrap();
        for (i, grey) in [(2, "0x404040"), (10, "0xc0c0c0")] {
            let source = format!("color=c={grey}:size=64x48:rate=25:duration=0.04");
            let pixels = if extension == "exr" { "gbrpf32le" } else { "rgb24" };
            let pixels = if extension == "jpg" { "yuvj444p" } else { pixels };
            ffmpeg(
                &["-f", "lavfi", "-i", &source, "-pix_fmt", pixels, "-frames:v", "1", "-update", "1"],
                &stills.join(format!("still {i}.{extension}")),
            );
        }
        let rate = Rate { frames: 25, seconds: 1 };
        let Gathered { source, .. } =
            gather_folder(&stills, &folder.path().join(format!("out 100% {extension}")), rate).unwrap();
        let clip = probe(&source).unwrap();
        let mut reader = FrameReader::open(&clip, None, PixelKind::Grey).unwrap();
        let first = reader.next_frame().unwrap().unwrap()[100];
        let second = reader.next_frame().unwrap().unwrap()[100];
        assert!(second > first.saturating_add(60), "{extension}: {first} then {second}");
        assert!(reader.next_frame().unwrap().is_none());
    }
    let archive = folder.path().join("stills.zip");
    let mut zip = zip::ZipWriter::new(std::fs::File::create(&archive).unwrap());
    for name in ["../../evil 2.png", "/evil-of-fennik-3.png", "a/1.png", "__MACOSX/x.png", "notes.txt"] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        std::io::copy(&mut std::fs::File::open(folder.path().join("png/still 2.png")).unwrap(), &mut zip).unwrap();
    }
    zip.finish().unwrap();
    let target = folder.path().join("deep/er/unpacked");
    let Gathered { source, .. } = unpack_zip(&archive, &target, Rate { frames: 25, seconds: 1 }).unwrap();
    assert!(matches!(source, Source::Sequence { count: 3, .. }), "{source:?}");
    // Wherever its names would lead from the target, nothing is written but the three pictures and their names.
    assert_eq!(
        files_below(&folder.path().join("deep")),
        ["000000.png", "000001.png", "000002.png", "names.txt"].map(|n| format!("er/unpacked/{n}"))
    );
    assert!(!Path::new("/evil-of-fennik-3.png").exists());
    std::fs::write(&archive, "PK broken").unwrap();
    assert!(unpack_zip(&archive, &target, Rate { frames: 25, seconds: 1 }).is_err());
}

#[test]
fn what_is_written_reads_back_even_with_odd_sides() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("in.mkv");
    ffmpeg(&[&BARS[..], &["-vf", "crop=321:181", "-c:v", "ffv1"]].concat(), &path);
    let clip = open(&path).unwrap();
    let target = folder.path().join("out.mp4");
    let mut writer = VideoWriter::create(&target, &clip, VideoColour::default(), None).unwrap();
    let mut reader = FrameReader::open(&clip, None, PixelKind::Rgb).unwrap();
    while let Some(frame) = reader.next_frame().unwrap() {
        let frame = frame.to_vec();
        writer.push(&frame).unwrap();
    }
    assert!(!target.exists(), "the file appears when it is whole");
    writer.finish().unwrap();
    let written = open(&target).unwrap();
    assert_eq!((written.width, written.height, count(&written, None)), (322, 182, 25));
    let mean = |clip: &ClipInfo| {
        let mut reader = FrameReader::open(clip, Some((10, 11)), PixelKind::Rgb).unwrap();
        let bytes = reader.next_frame().unwrap().unwrap().to_vec();
        bytes.iter().map(|&b| f64::from(b)).sum::<f64>() / bytes.len() as f64
    };
    assert!((mean(&clip) - mean(&written)).abs() < 2.0, "colours: {} {}", mean(&clip), mean(&written));
    assert!(matches!(
        VideoWriter::create(&folder.path().join("no/such/place.mp4"), &clip, VideoColour::default(), None).and_then(
            |mut w| {
                (0..200).try_for_each(|_| w.push(&vec![0; 321 * 181 * 3]))?;
                w.finish()
            }
        ),
        Err(MediaError::Encode { .. })
    ));
}

#[test]
fn preview_frames_are_counted_and_small() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.mp4");
    ffmpeg(&[&BARS[..], &["-pix_fmt", "yuv420p"]].concat(), &path);
    let clip = open(&path).unwrap();
    let out = folder.path().join("proxies 50%");
    assert_eq!(write_proxies(&clip, &out, 160, |_| true).unwrap(), 25);
    let first = image::open(out.join("000000.jpg")).unwrap();
    assert_eq!(first.width(), 160);
}
