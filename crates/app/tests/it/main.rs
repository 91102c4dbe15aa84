//! The command line on real clips.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]

mod add;
mod analysis;
mod arranged;
mod belongs;
mod carried;
mod demo;
mod ending;
mod error_texts;
mod forms;
mod kinds;
mod lost;
mod placed;
mod recipe;
#[path = "../server/mod.rs"]
#[allow(dead_code, reason = "the soak uses the rest")]
mod server;
mod web;

use fennik_demo::truth::Truth;
use fennik_media::CameraDocument;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// Runs a command to its end. One that would go on for ever (a server that should have been refused) is ended after
/// some minutes, so that the test fails rather than hangs.
fn fennik(arguments: &[&str]) -> Output {
    Command::new("timeout").args(["300", env!("CARGO_BIN_EXE_fennik")]).args(arguments).output().unwrap()
}

fn ffmpeg(arguments: &[&str]) {
    assert!(
        Command::new("ffmpeg").args(["-v", "error", "-y"]).args(arguments).status().unwrap().success(),
        "{arguments:?}"
    );
}

/// Makes a clip, or pictures, of so many frames of a moving pattern.
fn pattern(size: &str, frames: u32, more: &[&str], out: &Path) {
    let (source, frames) = (format!("testsrc2=size={size}:rate=25"), frames.to_string());
    ffmpeg(&[&["-f", "lavfi", "-i", &source, "-frames:v", &frames], more, &[text(out)]].concat());
}

fn clip(folder: &Path) -> PathBuf {
    let path = folder.join("the quay's clip.mp4");
    std::fs::write(&path, fennik_demo::QUAY_CLIP).unwrap();
    path
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

#[test]
fn the_demo_clip_is_solved_to_its_own_truth() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("camera.json");
    let run = fennik(&["solve", text(&clip(folder.path())), "--trim", "20:109", "--out", text(&out)]);
    let said = String::from_utf8_lossy(&run.stdout).into_owned();
    assert!(run.status.success() && said.contains("frame 90 of 90") && said.contains("px RMS"), "{said}");
    let camera: CameraDocument = serde_json::from_slice(&std::fs::read(&out).unwrap()).unwrap();
    assert_eq!((camera.frames.len(), camera.frames[0].frame, camera.frames[0].source_frame), (90, 0, 20));
    let truth: Truth = serde_json::from_slice(fennik_demo::QUAY_TRUTH).unwrap();
    let focal = camera.frames[0].focal_length_px / truth.frames[0].focal_length_px;
    assert!((focal - 1.0).abs() < 0.01, "focal length off by {:.2} %", 100.0 * (focal - 1.0));
    let seen: Vec<_> = truth
        .sightings()
        .into_iter()
        .map(|p| p.into_iter().filter(|(f, _)| (20..110).contains(f)).map(|(f, px)| (f - 20, px)).collect())
        .collect();
    let lock =
        fennik_core::check::lock_error(&seen, |f| camera.frames.get(f as usize).map(fennik_media::CameraFrame::camera))
            .unwrap();
    assert!(lock.median_px < 0.1 && lock.p95_px < 0.2, "{lock:?}");
}

#[test]
fn clips_without_a_camera_are_declined_with_their_reason() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clip(folder.path());
    let made = |name: &str, arguments: &[&str]| {
        let path = folder.path().join(name);
        ffmpeg(&[arguments, &[text(&path)]].concat());
        path
    };
    let input = ["-i", text(&clip)];
    let still = made(
        "still.mp4",
        &[&input[..], &["-vf", "select=eq(n\\,0),loop=40:1,setpts=N/25/TB", "-frames:v", "40", "-an"]].concat(),
    );
    let black = made("black.mp4", &["-f", "lavfi", "-i", "color=black:size=640x360:rate=25:duration=1.2"]);
    // Two stretches of the clip that show nothing in common, one of them turned.
    const TWO_VIEWS: &str = "[0:v]trim=end_frame=20,setpts=N/25/TB[a];\
        [0:v]trim=start_frame=150:end_frame=170,setpts=N/25/TB,transpose=1,scale=1280:720,setsar=1[b];\
        [a]setsar=1[c];[c][b]concat=n=2:v=1";
    let cut = made("cut.mp4", &[&input[..], &["-filter_complex", TWO_VIEWS, "-an"]].concat());
    let out = folder.path().join("camera.json");
    for (path, trim, reason) in [
        (&still, ":", "camera stood still"),
        (&black, ":", "points could be followed"),
        (&cut, ":", "hard cut"),
        (&clip, "0:1", "2 frames"),
        (&folder.path().join("none.mp4"), ":", "cannot be opened"),
    ] {
        let run = fennik(&["solve", text(path), "--trim", trim, "--out", text(&out)]);
        let said = String::from_utf8_lossy(&run.stderr).into_owned();
        assert!(!run.status.success() && said.contains(reason), "{}: {said}", path.display());
        assert!(!out.exists(), "no camera is handed out");
    }
}

#[test]
fn a_masked_area_has_no_points() {
    let folder = tempfile::tempdir().unwrap();
    let masks = folder.path().join("masks.json");
    std::fs::write(
        &masks,
        r#"{ "masks": [ { "mode": "keep-out",
            "keys": [ { "frame": 0, "outline": [[0,0],[640,0],[640,720],[0,720]] } ] } ] }"#,
    )
    .unwrap();
    let (out, tracks) = (folder.path().join("camera.json"), folder.path().join("tracks.bin"));
    let run = fennik(&[
        "solve",
        text(&clip(folder.path())),
        "--trim",
        "0:59",
        "--masks",
        text(&masks),
        "--out",
        text(&out),
        "--tracks-out",
        text(&tracks),
    ]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let set = fennik_core::track::TrackSet::from_bytes(&std::fs::read(&tracks).unwrap()).unwrap();
    assert!(set.tracks.len() > 100 && set.tracks.iter().flat_map(|t| t.sightings()).all(|(_, p)| p[0] > 640.0));
    std::fs::write(&masks, "{}").unwrap();
    let run = fennik(&["solve", text(&clip(folder.path())), "--masks", text(&masks), "--out", text(&out)]);
    assert!(!run.status.success() && String::from_utf8_lossy(&run.stderr).contains("masks file"));
}

#[test]
fn accuracy_is_measured_on_the_clips_that_are_named() {
    let folder = tempfile::tempdir().unwrap();
    let made = folder.path().join("made");
    let run = fennik(&["accuracy", "--only", "demo", "--made", text(&made)]);
    let table = String::from_utf8_lossy(&run.stdout).into_owned();
    assert!(run.status.success() && table.contains("| demo | 250/250 |"), "{table}");
    assert_eq!(std::fs::read_dir(&made).unwrap().count(), 0, "nothing else is filmed");
    let run = fennik(&["accuracy", "--only", "demo,moon", "--made", text(&made)]);
    assert!(
        !run.status.success()
            && String::from_utf8_lossy(&run.stderr).contains("no clip moon; there are demo, nodal-pan")
    );
}

#[test]
fn a_shot_is_named_or_the_shots_are_listed() {
    let folder = tempfile::tempdir().unwrap();
    let missing =
        fennik(&["export", "1", "--format", "gltf", "--out", "/dev/null", "--data", text(&folder.path().join("none"))]);
    assert!(!missing.status.success() && String::from_utf8_lossy(&missing.stderr).contains("holds no shots"));
}
