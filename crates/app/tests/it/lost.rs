//! What once lost or mixed up people's work. Each test tells the fault that it failed with.

use super::web::Server;
use super::{clip, fennik, pattern, text};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const FORM: [(&str, &str); 1] = [("content-type", "application/x-www-form-urlencoded")];

/// The one row of a query on the data folder's database.
fn row<T: rusqlite::types::FromSql>(data: &Path, sql: &str) -> T {
    let db = rusqlite::Connection::open(data.join("fennik.sqlite")).unwrap();
    db.query_row(sql, [], |r| r.get(0)).unwrap()
}

fn change(data: &Path, sql: &str) {
    rusqlite::Connection::open(data.join("fennik.sqlite")).unwrap().execute_batch(sql).unwrap();
}

fn names_in(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

/// Processes whose command line holds a text.
fn running(with: &str) -> usize {
    let lines =
        std::fs::read_dir("/proc").unwrap().flatten().filter_map(|p| std::fs::read(p.path().join("cmdline")).ok());
    lines.filter(|l| l.starts_with(b"ffmpeg") && String::from_utf8_lossy(l).contains(with)).count()
}

fn until(what: &str, good: impl Fn() -> bool) {
    let began = Instant::now();
    while !good() {
        assert!(began.elapsed() < Duration::from_secs(60), "{what} never came");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Fault: the next clip got the number of a shot that was deleted, and with it its solve, its pictures and its video.
#[test]
fn a_deleted_shot_leaves_nothing_to_the_next_and_can_be_brought_back() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let server = Server::plain(&data);
    server.ask("POST", "/shots/2/jobs/deliver", &FORM, "");
    std::fs::create_dir_all(data.join("delivered")).unwrap();
    assert_eq!(server.ask("POST", "/shots/2/delete", &FORM, "").status, 200);
    assert_eq!(
        (server.get("/shots/2").status, server.get("/shots/2/video.mp4").status, server.get("/shots/2/state").status),
        (404, 404, 404)
    );
    for kind in ["track", "deliver"] {
        assert_eq!(
            server.ask("POST", &format!("/shots/2/jobs/{kind}"), &FORM, "").status,
            404,
            "no job for what is gone"
        );
    }
    assert!(server.get("/").body.contains("Varrick quay, finished” is deleted"));
    assert_eq!(server.ask("POST", "/shots/2/restore", &FORM, "").status, 200);
    assert!(server.get("/shots/2/state").body.contains("VARRICK"), "it is back as it was");
    server.ask("POST", "/shots/2/delete", &FORM, "");
    assert!(server.get("/room").body.contains("Free the deleted shots"));
    assert_eq!(server.ask("POST", "/room/free", &FORM, "what=deleted").status, 200);
    assert_eq!(server.ask("POST", "/shots/2/restore", &FORM, "").status, 404);
    assert_eq!(names_in(&data.join("analyses")).len(), 0, "its files are gone");
    // A video that was being made is taken away by its job as that ends.
    until("the begun video is gone", || names_in(&data.join("delivered")).is_empty());
    let video = clip(folder.path());
    let run = fennik(&["add", text(&video), "--data", text(&data)]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    assert!(String::from_utf8_lossy(&run.stdout).contains("shot 3"), "{}", String::from_utf8_lossy(&run.stdout));
    let next = server.state_of(3);
    assert!(next["solve"].is_null() && next["tracks"].is_null() && next["inserts"] == json!([]));
}

/// Fault: a job that still ran for a deleted shot put its tracks to use in the next one.
#[test]
fn a_job_of_a_deleted_shot_ends_and_keeps_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let server = Server::plain(&data);
    assert_eq!(server.ask("POST", "/shots/1/jobs/track", &FORM, "").status, 200);
    until("the tracker", || row::<String>(&data, "SELECT state FROM jobs WHERE kind = 'track'") == "running");
    server.ask("POST", "/shots/1/delete", &FORM, "");
    until("the end of the job", || row::<String>(&data, "SELECT state FROM jobs WHERE kind = 'track'") == "stopped");
    assert_eq!(row::<i64>(&data, "SELECT count(*) FROM analyses WHERE shot_id = 1"), 0);
}

/// Fault: an analysis that cannot be read locked its shot, and a document that cannot be read took the list with it.
#[test]
fn what_cannot_be_read_is_told_and_everything_else_can_be_reached() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let mut server = Server::plain(&data);
    server.end();
    for name in names_in(&data.join("analyses")) {
        std::fs::write(data.join("analyses").join(name), b"FNKTRK\0\x01 and so on").unwrap();
    }
    let server = Server::plain(&data);
    let page = server.get("/shots/2");
    assert!(
        page.status == 200 && page.body.contains("cannot be read") && page.body.contains("run the tracking again"),
        "{}",
        page.body
    );
    assert!(page.body.contains("id=\"start-track\"") && page.body.contains("id=\"undo\""));
    let state = server.state();
    assert!(
        state["solve"].is_null() && state["tracks"].is_null() && state["inserts"][0]["content"]["text"] == "VARRICK"
    );
    assert!(server.get("/").body.contains("Varrick quay, untouched"));
    let head: i64 = row(&data, "SELECT head FROM shots WHERE id = 2");
    change(&data, &format!("UPDATE revisions SET document = '{{\"trim\":1}}' WHERE id = {head}"));
    let list = server.get("/");
    assert!(
        list.status == 200 && list.body.contains("cannot be read") && list.body.contains("Varrick quay, untouched")
    );
    let broken = server.get("/shots/2");
    assert!(broken.status == 200 && broken.body.contains("Go back to the state before"), "{}", broken.body);
    assert_eq!(server.ask("POST", "/shots/2/step-back", &FORM, &format!("revision={head}")).status, 303);
    assert_eq!(server.get("/shots/2/state").status, 200);
}

/// Fault: raw edits could put analyses of other shots to use and mirror the world.
#[test]
fn only_edits_that_a_person_can_make_are_taken() {
    let server = Server::start();
    let before = server.state();
    let turn = |scale: f64, mirror: f64| json!([scale, 0, 0, 0, scale, 0, 0, 0, scale * mirror]);
    let datum = |rotation: Value, scale: Value| {
        json!({ "edit": "datum", "datum": { "world_from_solve":
        { "scale": scale, "rotation": rotation, "translation": [0, 0, 0] }, "floor": null, "known_distance_m": null } })
    };
    for edit in [
        json!({ "edit": "use-tracks", "analysis": 1 }),
        json!({ "edit": "use-solve", "analysis": 2, "new_from_old": null, "fit": null, "outline": [] }),
        datum(turn(1.0, -1.0), json!(1)),
        datum(turn(3.0, 1.0), json!(1)),
        datum(turn(1.0, 1.0), json!(-2)),
        json!({ "edit": "trim", "range": { "first": 0, "last": 250 } }),
    ] {
        let answer = server.post("/shots/2/edit", &json!({ "revision": before["revision"], "edit": edit }));
        assert_eq!(answer.status, 422, "{edit}: {}", answer.body);
        assert_eq!(server.state(), before);
    }
}

/// Fault: a panic in a job stopped its queue until the next start.
#[test]
fn a_damaged_track_run_fails_its_job_and_the_queue_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let mut server = Server::plain(&data);
    server.end();
    let file: String = row(&data, "SELECT file FROM analyses WHERE kind = 'tracks'");
    let path = data.join("analyses").join(file);
    let mut bytes = std::fs::read(&path).unwrap();
    // The first track's first frame, behind magic, four words of header and the number of tracks.
    let at = 8 + 4 * 4 + 4 + 4;
    bytes[at..at + 4].copy_from_slice(&4_000_000_000u32.to_le_bytes());
    std::fs::write(&path, bytes).unwrap();
    let server = Server::plain(&data);
    let ended = |shot: i64, reason: &str| {
        server.ask("POST", &format!("/shots/{shot}/jobs/solve"), &FORM, "");
        let said = || {
            row::<String>(
                &data,
                &format!("SELECT state || ': ' || message FROM jobs WHERE kind = 'solve' AND shot_id = {shot}"),
            )
        };
        until("the end of the job", || said().starts_with("failed"));
        assert!(said().contains(reason), "{}", said());
    };
    ended(2, "a track passes the last frame");
    ended(1, "there are no tracks of this trim yet");
}

/// Fault: of twenty who started one job at once, two got one each.
#[test]
fn of_many_starts_of_one_job_there_is_one() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let server = Server::plain(&data);
    std::thread::scope(|scope| {
        for _ in 0..20 {
            scope.spawn(|| assert_eq!(server.ask("POST", "/shots/1/jobs/track", &FORM, "").status, 200));
        }
    });
    assert_eq!(row::<i64>(&data, "SELECT count(*) FROM jobs WHERE kind = 'track'"), 1);
    server.ask("POST", "/shots/1/delete", &FORM, "");
}

/// Fault: a frame that nobody was decoding was waited for, for twenty seconds.
#[test]
fn a_plate_that_nobody_is_making_is_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let server = Server::plain(&data);
    until("the previews", || row::<i64>(&data, "SELECT proxies FROM clips") == 1);
    // The job that made them ends a moment after the last is there; until then they are not freed.
    until("their end", || {
        assert_eq!(server.ask("POST", "/room/free", &FORM, "what=previews").status, 200);
        row::<i64>(&data, "SELECT proxies FROM clips") == 0
    });
    assert_eq!(server.get("/shots/1/plate/0").status, 200, "the first stays for the list");
    let began = Instant::now();
    assert_eq!(server.get("/shots/1/plate/200").status, 422);
    assert!(began.elapsed() < Duration::from_secs(5), "{:?}", began.elapsed());
    server.get("/shots/1");
    until("the previews again", || row::<i64>(&data, "SELECT proxies FROM clips") == 1);
    assert_eq!(server.get("/shots/1/plate/200").status, 200);
}

/// Fault: a finished video was read whole before its first byte was sent.
#[test]
fn a_video_is_sent_in_parts() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let server = Server::plain(&data);
    assert!(server.get("/shots/2/video.mp4").body.contains("no rendered video"));
    std::fs::create_dir_all(data.join("delivered")).unwrap();
    let file = std::fs::File::create(data.join("delivered/2.mp4")).unwrap();
    // As large as memory would notice, and empty, so that it takes no room.
    file.set_len(3_000_000_000).unwrap();
    let part = server.ask("GET", "/shots/2/video.mp4", &[("range", "bytes=2999999990-2999999999")], "");
    assert_eq!((part.status, part.body.len()), (206, 10));
    let before = server.memory_kb();
    let mut streams: Vec<_> = (0..4).map(|_| server.begin("/shots/2/video.mp4")).collect();
    let mut taken = vec![0u8; 1 << 20];
    for _ in 0..60 {
        for stream in &mut streams {
            std::io::Read::read_exact(stream, &mut taken).unwrap();
        }
    }
    let grown = server.memory_kb().saturating_sub(before);
    assert!(grown < 200_000, "{grown} kB more in memory");
}

/// Fault: the decoder outlived a killed program and wrote into the folder beside the next one.
#[test]
fn the_decoder_ends_with_a_killed_program() {
    let folder = tempfile::tempdir().unwrap();
    let long = long_clip(folder.path());
    let mark = folder.path().file_name().unwrap().to_string_lossy().into_owned();
    for signal in ["-9", "-15"] {
        let data = folder.path().join(format!("data{signal}"));
        let mut child = Command::new(env!("CARGO_BIN_EXE_fennik"))
            .args(["add", text(&long), "--data", text(&data)])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        until("the decoder", || running(&mark) > 0 && data.join("fennik.sqlite").exists());
        std::thread::sleep(Duration::from_millis(300));
        assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
        child.wait().unwrap();
        until("the end of the decoder", || running(&mark) == 0);
        if signal == "-15" {
            assert_eq!(row::<i64>(&data, "SELECT count(*) FROM shots"), 0, "what was stopped leaves no shot");
            assert_eq!(names_in(&data.join("clips")).len(), 0);
        }
    }
}

fn long_clip(folder: &Path) -> PathBuf {
    let path = folder.join("long.mp4");
    pattern("1280x720", 1000, &["-preset", "ultrafast", "-pix_fmt", "yuv420p"], &path);
    path
}

/// Fault: a second server over the same folder marked the work of the first as interrupted; `demo --reset` deleted what
/// was not its own, also under a running server.
#[test]
fn a_folder_has_one_server_and_a_reset_takes_only_its_own() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let refused = |command: &[&str], reason: &str| {
        let run = fennik(&[command, &["--data", text(&data), "--port", "0"]].concat());
        let said = String::from_utf8_lossy(&run.stderr).into_owned();
        assert!(!run.status.success() && said.contains(reason), "{command:?}: {said}");
    };
    let mut server = Server::plain(&data);
    server.ask("POST", "/shots/1/jobs/track", &FORM, "");
    refused(&["serve"], "already serves");
    refused(&["demo", "--reset"], "already serves");
    assert_ne!(row::<String>(&data, "SELECT state FROM jobs WHERE kind = 'track'"), "interrupted");
    server.end();
    std::fs::write(data.join("notes.txt"), "mine").unwrap();
    let mut server = Server::over_with(&["demo", "--plain", "--reset"], &data);
    assert_eq!(server.state_of(1)["tracks"], Value::Null);
    assert_eq!(std::fs::read_to_string(data.join("notes.txt")).unwrap(), "mine");
    server.end();
    std::fs::remove_file(data.join("fennik-demo")).unwrap();
    refused(&["demo", "--reset"], "not marked as a demo");
    assert!(data.join("fennik.sqlite").exists());
    let other = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = other.local_addr().unwrap().port().to_string();
    let taken = fennik(&["serve", "--data", text(&folder.path().join("other")), "--port", &port]);
    assert!(
        !taken.status.success() && !folder.path().join("other/fennik.sqlite").exists(),
        "the port comes before anything is made"
    );
}

/// Fault: `demo --reset` refused to begin a demo project anew that was interrupted while it was made. Nothing in it goes
/// without that.
#[test]
fn a_half_made_demo_project_is_begun_anew_when_that_is_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let (data, mark) = (folder.path().join("data"), folder.path().join("data/fennik-demo"));
    let own = folder.path().join("own.mp4");
    pattern("160x90", 5, &["-pix_fmt", "yuv420p"], &own);
    let has_own = || row::<u32>(&data, "SELECT count(*) FROM clips WHERE name = 'own.mp4'") == 1;
    let mut making = std::process::Command::new(env!("CARGO_BIN_EXE_fennik"))
        .args(["demo", "--port", "0", "--data", text(&data)])
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let begun = || std::fs::read_dir(data.join("clips")).is_ok_and(|mut clips| clips.next().is_some());
    assert!((0..600).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        begun()
    }));
    making.kill().unwrap();
    making.wait().unwrap();
    let being_made = std::fs::read(&mark).unwrap();
    assert!(fennik(&["add", text(&own), "--data", text(&data)]).status.success());
    Server::plain(&data).end();
    assert!(has_own() && std::fs::read(&mark).unwrap() == being_made, "it stays as it is");
    Server::over_with(&["demo", "--plain", "--reset"], &data).end();
    assert!(!has_own() && row::<u32>(&data, "SELECT count(*) FROM shots") == 2);
    assert_ne!(std::fs::read(&mark).unwrap(), being_made);
}

/// Fault: `add A.mp4 B.mp4` took two videos for pictures of one sequence and refused both.
#[test]
fn several_clips_come_in_at_once_and_what_is_none_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let (data, mixed) = (folder.path().join("data"), folder.path().join("mixed"));
    std::fs::create_dir(&mixed).unwrap();
    for (name, size) in [("a.mp4", "320x180"), ("b.mov", "160x90")] {
        pattern(size, 6, &["-pix_fmt", "yuv420p"], &mixed.join(name));
    }
    pattern("64x48", 4, &[], &mixed.join("still %d.png"));
    std::fs::write(mixed.join("notes.txt"), "no clip").unwrap();
    std::fs::write(mixed.join(".hidden"), "nothing").unwrap();
    let run = fennik(&["add", text(&mixed), "--data", text(&data)]);
    let (said, left) =
        (String::from_utf8_lossy(&run.stdout).into_owned(), String::from_utf8_lossy(&run.stderr).into_owned());
    assert!(run.status.success(), "{left}");
    for shot in ["\"a\": 320x180 px, 6 frames", "\"b\": 160x90 px, 6 frames", "\"still 1\": 64x48 px, 4 frames"] {
        assert!(said.contains(shot), "{shot} is missing: {said}");
    }
    assert!(left.contains("not taken: notes.txt") && !left.contains("hidden"), "{left}");
    let run = fennik(&["add", text(&mixed.join("a.mp4")), text(&mixed.join("b.mov")), "--data", text(&data)]);
    assert!(
        run.status.success() && String::from_utf8_lossy(&run.stdout).contains("shot 5"),
        "{}",
        String::from_utf8_lossy(&run.stderr)
    );
    // What is not there takes nothing else with it, but for the pictures of its own sequence, whose frames would shift.
    let gone = mixed.join("gone.mov");
    let run = fennik(&["add", text(&gone), text(&mixed.join("a.mp4")), "--data", text(&data)]);
    let (said, left) =
        (String::from_utf8_lossy(&run.stdout).into_owned(), String::from_utf8_lossy(&run.stderr).into_owned());
    assert!(run.status.success() && said.contains("\"a\": 320x180 px"), "{said} {left}");
    assert!(left.contains("not taken: gone.mov") && left.contains("cannot be opened"), "{left}");
    let stills = [mixed.join("still 1.png"), mixed.join("still 9.png"), mixed.join("still 2.png")];
    let run = fennik(&["add", text(&stills[0]), text(&stills[1]), text(&stills[2]), "--data", text(&data)]);
    assert!(
        !run.status.success() && String::from_utf8_lossy(&run.stderr).contains("still 9.png"),
        "{}",
        String::from_utf8_lossy(&run.stderr)
    );
    // Two series in a folder are two clips.
    let two = folder.path().join("two");
    std::fs::create_dir(&two).unwrap();
    for (name, size) in [("day %02d.png", "64x48"), ("night %02d.png", "80x60")] {
        pattern(size, 3, &[], &two.join(name));
    }
    let run = fennik(&["add", text(&two), "--data", text(&data)]);
    let said = String::from_utf8_lossy(&run.stdout).into_owned();
    assert!(
        said.contains("64x48 px, 3 frames") && said.contains("80x60 px, 3 frames"),
        "{said} {}",
        String::from_utf8_lossy(&run.stderr)
    );
    // A still that is damaged is named by the name it came under.
    std::fs::write(mixed.join("still 3.png"), "no picture").unwrap();
    let run =
        fennik(&["add", text(&mixed.join("still 1.png")), text(&mixed.join("still 3.png")), "--data", text(&data)]);
    assert!(
        !run.status.success() && String::from_utf8_lossy(&run.stderr).contains("still 3.png"),
        "{}",
        String::from_utf8_lossy(&run.stderr)
    );
}

/// Fault: a flood of listeners used up all descriptors.
#[test]
fn listeners_are_bounded() {
    let server = Server::start();
    let mut held: Vec<_> = (0..100).map(|_| server.begin("/events")).collect();
    let statuses: Vec<u16> = held.iter_mut().map(super::web::status_of).collect();
    assert_eq!(statuses.iter().filter(|s| **s == 200).count(), 64, "{statuses:?}");
    assert!(statuses.iter().all(|s| matches!(s, 200 | 503)));
    server.wait_for(|html| html.contains("Varrick"), "/");
}

/// Fault: a floor was said to be found and drawn dashed where there was none, and accepting it failed.
#[test]
fn no_floor_is_offered_where_none_stands_out() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let mut server = Server::plain(&data);
    server.end();
    let file: String = row(&data, "SELECT file FROM analyses WHERE kind = 'solve'");
    let path = data.join("analyses").join(file);
    let mut solve: Value = serde_json::from_slice(&std::fs::read(&path).unwrap()).unwrap();
    solve["points"].as_array_mut().unwrap().truncate(2);
    std::fs::write(&path, solve.to_string()).unwrap();
    // Back to before the floor was laid.
    change(
        &data,
        "UPDATE shots SET head = (SELECT id FROM revisions WHERE shot_id = 2 AND label = 'new solve') WHERE id = 2",
    );
    let server = Server::plain(&data);
    let page = server.get("/shots/2").body;
    assert!(page.contains("No floor found: too few points have a depth") && !page.contains("id=\"take-datum\""));
    assert_eq!(server.get("/shots/2/proposal").body, "null");
}

/// Fault: a camera to which nothing could be carried over was put to use all the same, and what was placed lay
/// anywhere.
#[test]
fn what_cannot_come_along_is_said_beforehand_and_the_camera_in_use_stays() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let server = Server::plain(&data);
    assert!(!server.get("/shots/2/route").body.contains("id=\"beforehand\""));
    let settings = format!("revision={}&focal=&motion=nodal&lens=auto&readout=&centre=", server.state()["revision"]);
    assert!(
        server.ask("POST", "/shots/2/solve-settings", &FORM, &settings).body.contains("nothing can be carried over")
    );
    // A kept camera that turns on the spot, with as many points as the other.
    let file: String = row(&data, "SELECT file FROM analyses WHERE kind = 'solve'");
    let mut solve: Value = serde_json::from_slice(&std::fs::read(data.join("analyses").join(&file)).unwrap()).unwrap();
    solve["motion"] = json!("nodal");
    std::fs::write(data.join("analyses/turning.bin"), solve.to_string()).unwrap();
    change(
        &data,
        "INSERT INTO analyses (shot_id, kind, settings, file, source, trim_first, trim_last, created_ms) VALUES (2, \
            'solve', '{}', 'turning.bin', 1, 0, 249, 0)",
    );
    let turning: i64 = row(&data, "SELECT max(id) FROM analyses");
    let before = server.state();
    let with = |more: &str| format!("revision={}&analysis={turning}{more}", before["revision"]);
    let refused = server.ask("POST", "/shots/2/use-solve", &FORM, &with(""));
    assert!(refused.status == 422 && refused.body.contains("directions give no depths"), "{}", refused.body);
    assert_eq!(server.state(), before);
    let compared: Value = serde_json::from_str(&server.get(&format!("/shots/2/solves/{turning}")).body).unwrap();
    assert!(compared["apart"].as_str().unwrap().contains("directions give no depths") && compared["carried"].is_null());
    assert_eq!(server.ask("POST", "/shots/2/use-solve", &FORM, &with("&anyway=true")).status, 200);
    assert_eq!(server.state()["solve"], json!(turning));
}
