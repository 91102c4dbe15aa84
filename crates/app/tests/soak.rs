//! Random edits, jobs, looks, kills and full disks for a while: what was acknowledged is there afterwards, and nothing
//! is left behind. `make soak MINUTES=n`; three quarters of a minute of it run with the tests.
#![expect(clippy::unwrap_used, reason = "a test ends where something it needs is missing")]
#![allow(dead_code, reason = "the server's helpers are shared with other tests")]

#[path = "server/mod.rs"]
mod server;

use serde_json::{Value, json};
use server::Server;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

const JSON: [(&str, &str); 1] = [("content-type", "application/json")];
const FORM: [(&str, &str); 1] = [("content-type", "application/x-www-form-urlencoded")];
/// Room of the small disk, MB, and what a full one has left, bytes.
const DISK_MB: u32 = 160;
/// Between two edits of one writer, so that two minutes of them fit on the disk.
const EDIT_EVERY: Duration = Duration::from_millis(25);
const LEFT_WHEN_FULL: u64 = 40_000;

/// A generator of one's own, so that a run can be done again (Vigna, splitmix64).
struct Dice(u64);

impl Dice {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % n
    }
}

#[derive(Default)]
struct Counts {
    edits: AtomicU64,
    refused: AtomicU64,
    looks: AtomicU64,
    jobs: AtomicU64,
}

/// A small disk of its own, where the system lets us have one.
struct Disk(PathBuf);

impl Disk {
    fn new(at: &Path) -> Option<Self> {
        std::fs::create_dir_all(at).unwrap();
        let size = format!("size={DISK_MB}m");
        let mounted = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &size, "tmpfs"])
            .arg(at)
            .stderr(std::process::Stdio::null())
            .status();
        mounted.is_ok_and(|s| s.success()).then(|| Self(at.to_owned()))
    }

    /// Fills the disk but for a little.
    fn fill(&self) {
        let told = Command::new("df").args(["--output=avail", "-B1"]).arg(&self.0).output().unwrap().stdout;
        let free: u64 = String::from_utf8_lossy(&told).lines().last().unwrap().trim().parse().unwrap();
        let ballast = vec![1u8; usize::try_from(free.saturating_sub(LEFT_WHEN_FULL)).unwrap()];
        let _ = std::fs::write(self.0.join("ballast"), ballast);
    }

    fn clear(&self) {
        let _ = std::fs::remove_file(self.0.join("ballast"));
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// One shot whose masks' names count the edits: what was acknowledged last, and what was asked for and not answered.
struct Writer {
    shot: i64,
    acknowledged: String,
    open: Option<String>,
    next: u64,
}

impl Writer {
    fn name_in(state: &Value) -> String {
        state["masks"][0]["name"].as_str().unwrap_or_default().to_owned()
    }

    /// Makes one edit; `false` when the server is gone.
    fn edit(&mut self, server: &Server, counts: &Counts) -> bool {
        let Ok(answer) = server.try_ask("GET", &format!("/shots/{}/state", self.shot), &[], "") else { return false };
        let Ok(state) = serde_json::from_str::<Value>(&answer.body) else { return true };
        let name = format!("edit {}", self.next);
        self.next += 1;
        let mut mask = state["masks"][0].clone();
        mask["name"] = json!(name);
        mask["keys"][0]["outline"][0][0] = json!(self.next % 300);
        let body = json!({ "revision": state["revision"], "edit": { "edit": "change-mask", "mask": mask } });
        self.open = Some(name.clone());
        match server.try_ask("POST", &format!("/shots/{}/edit", self.shot), &JSON, &body.to_string()) {
            Ok(answer) if answer.status == 200 => {
                self.acknowledged = name;
                self.open = None;
                counts.edits.fetch_add(1, Ordering::Relaxed);
                true
            }
            // A full disk or a job's own edit in between: refused, and nothing was changed.
            Ok(_) => {
                self.open = None;
                counts.refused.fetch_add(1, Ordering::Relaxed);
                true
            }
            Err(_) => false,
        }
    }

    /// What is there must be what was acknowledged, or what was being asked for when the server was killed.
    fn check(&mut self, server: &Server) -> Result<(), String> {
        let answer = server.ask("GET", &format!("/shots/{}/state", self.shot), &[], "");
        let state: Value = serde_json::from_str(&answer.body)
            .map_err(|_| format!("shot {}: {} {}", self.shot, answer.status, answer.body))?;
        let there = Self::name_in(&state);
        if there != self.acknowledged && Some(&there) != self.open.as_ref() {
            return Err(format!(
                "shot {} is at {there:?}, acknowledged was {:?}, open {:?}",
                self.shot, self.acknowledged, self.open
            ));
        }
        self.acknowledged = there;
        self.open = None;
        Ok(())
    }
}

/// What is going on, and since when.
static NOW: Mutex<Option<(&str, Instant)>> = Mutex::new(None);
/// Nothing that goes on here takes so long, unless it never ends.
const NEVER_ENDS: Duration = Duration::from_secs(150);

fn now(what: &'static str) {
    *NOW.lock().unwrap() = Some((what, Instant::now()));
}

/// Ends the test where something never ends, and says what its programs were waiting for.
fn watch(data: &Path) {
    let mark = data.to_string_lossy().into_owned();
    std::thread::spawn(move || {
        loop {
            std::thread::sleep(Duration::from_secs(1));
            let Some((what, since)) = *NOW.lock().unwrap() else { return };
            if since.elapsed() < NEVER_ENDS {
                continue;
            }
            let mut told = format!("{what} never ended\n");
            let read = |path: PathBuf| std::fs::read_to_string(path).unwrap_or_default().replace('\0', " ");
            for process in std::fs::read_dir("/proc").unwrap().flatten() {
                let line = read(process.path().join("cmdline"));
                if !line.contains(&mark) && process.file_name() != *std::process::id().to_string() {
                    continue;
                }
                told.push_str(&format!("{line}\n"));
                for thread in std::fs::read_dir(process.path().join("task")).into_iter().flatten().flatten() {
                    let of = |file| read(thread.path().join(file));
                    told.push_str(&format!("  {} {} {}", of("comm").trim(), of("wchan"), of("syscall")));
                }
            }
            // Past the harness, which shows nothing of a test that does not end.
            let _ = std::io::stderr().write_all(told.as_bytes());
            std::process::exit(1);
        }
    });
}

/// Somebody who looks and starts things.
fn roam(server: &Server, dice: &mut Dice, counts: &Counts, shots: &[i64]) -> bool {
    let shot = shots[dice.below(shots.len() as u64) as usize];
    let frame = dice.below(70);
    let path = match dice.below(8) {
        0 => "/".to_owned(),
        1 => format!("/shots/{shot}"),
        2 => format!("/shots/{shot}/route"),
        3 => format!("/shots/{shot}/look?frame={frame}&density=300&spacing=20&threshold=0.03"),
        4 => "/room".to_owned(),
        _ => format!("/shots/{shot}/plate/{frame}"),
    };
    counts.looks.fetch_add(1, Ordering::Relaxed);
    let looked = server.try_ask("GET", &path, &[], "");
    if looked.as_ref().is_ok_and(|a| a.status == 500 && !a.body.contains("disk") && !a.body.contains("database")) {
        panic!("{path}: {}", looked.map(|a| a.body).unwrap_or_default());
    }
    if looked.is_ok() && dice.below(6) == 0 {
        let (path, body) = match dice.below(6) {
            0 => (format!("/jobs/{}/stop", dice.below(40)), String::new()),
            1 => ("/room/free".to_owned(), "what=previews".to_owned()),
            2 => (format!("/shots/{shot}/jobs/decode"), String::new()),
            3 => (format!("/shots/{shot}/jobs/solve"), String::new()),
            4 => (format!("/shots/{shot}/jobs/follow"), String::new()),
            _ => (format!("/shots/{shot}/jobs/track"), String::new()),
        };
        counts.jobs.fetch_add(1, Ordering::Relaxed);
        return server.try_ask("POST", &path, &FORM, &body).is_ok();
    }
    looked.is_ok()
}

fn decoders_of(data: &Path) -> usize {
    let mark = data.to_string_lossy().into_owned();
    let lines =
        std::fs::read_dir("/proc").unwrap().flatten().filter_map(|p| std::fs::read(p.path().join("cmdline")).ok());
    lines.filter(|l| l.starts_with(b"ffmpeg") && String::from_utf8_lossy(l).contains(&mark)).count()
}

/// The database is sound, and every file that lasts belongs to a row.
fn check_folder(data: &Path) -> Result<(), String> {
    let db = rusqlite::Connection::open(data.join("fennik.sqlite")).unwrap();
    let sound: String = db.query_row("PRAGMA integrity_check", [], |r| r.get(0)).map_err(|e| e.to_string())?;
    let strays: i64 =
        db.query_row("SELECT count(*) FROM pragma_foreign_key_check", [], |r| r.get(0)).map_err(|e| e.to_string())?;
    let rows = |sql: &str| -> Vec<String> {
        db.prepare(sql).unwrap().query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
    };
    let there = |folder: &str| -> Vec<String> {
        let names = std::fs::read_dir(data.join(folder)).into_iter().flatten().flatten();
        names.map(|e| e.file_name().to_string_lossy().into_owned()).collect()
    };
    let clips = rows("SELECT folder FROM clips");
    let lost: Vec<String> =
        rows("SELECT file FROM analyses").into_iter().filter(|f| !data.join("analyses").join(f).exists()).collect();
    let nobodys: Vec<String> = there("clips").into_iter().filter(|f| !clips.contains(f)).collect();
    let hanging = rows(
        "SELECT kind FROM jobs WHERE state = 'waiting' AND changed_ms < (SELECT max(changed_ms) FROM jobs) - 120000",
    );
    if sound != "ok" || strays > 0 || !lost.is_empty() || !nobodys.is_empty() || !hanging.is_empty() {
        return Err(format!(
            "database {sound}, {strays} stray rows, analyses without data {lost:?}, folders of nobody {nobodys:?}, \
                hanging jobs {hanging:?}"
        ));
    }
    Ok(())
}

/// A shot with one mask, from the command line.
fn add(data: &Path, clip: &Path, name: &str) -> i64 {
    let recipe = clip.with_file_name(format!("{name}.json"));
    let steps = json!({ "format": "fennik-recipe", "version": 1, "steps": [
        { "do": "take-in", "clip": clip.file_name().unwrap().to_str().unwrap(), "name": name },
        { "do": "mask", "name": "edit 0", "mode": "keep-out",
            "keys": [ { "frame": 0, "outline": [[0, 0], [90, 0], [90, 90]] } ] } ] });
    std::fs::write(&recipe, steps.to_string()).unwrap();
    let run =
        Command::new(env!("CARGO_BIN_EXE_fennik")).arg("apply").arg(&recipe).arg("--data").arg(data).output().unwrap();
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let shown =
        Command::new(env!("CARGO_BIN_EXE_fennik")).args(["show", name, "--json", "--data"]).arg(data).output().unwrap();
    serde_json::from_slice::<Value>(&shown.stdout).unwrap()["shot"].as_i64().unwrap()
}

#[test]
fn nothing_is_lost_whatever_happens() {
    let minutes: f64 = std::env::var("FENNIK_SOAK_MINUTES").ok().and_then(|m| m.parse().ok()).unwrap_or(0.75);
    let folder = tempfile::tempdir().unwrap();
    let disk = Disk::new(&folder.path().join("disk"));
    let data = folder.path().join("disk/data");
    let clip = folder.path().join("clip.mp4");
    let source = "testsrc2=size=320x180:rate=25";
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-f", "lavfi", "-i", source, "-frames:v", "70", "-pix_fmt", "yuv420p"])
        .arg(&clip)
        .status();
    assert!(made.unwrap().success());
    let shots: Vec<i64> = (0..3).map(|i| add(&data, &clip, &format!("shot {i}"))).collect();
    let mut writers: Vec<Writer> =
        shots.iter().map(|s| Writer { shot: *s, acknowledged: "edit 0".into(), open: None, next: 1 }).collect();
    // A full disk is complained of at every turn.
    server::QUIET.store(true, Ordering::Relaxed);
    let (counts, mut dice) = (Counts::default(), Dice(2026));
    watch(&data);
    let (began, mut rounds, mut kills, mut full, mut lost) = (Instant::now(), 0u32, 0u32, 0u32, Vec::new());
    while began.elapsed().as_secs_f64() < 60.0 * minutes {
        rounds += 1;
        now("a start of the server");
        let mut server = Server::over("serve", &data);
        now("the check of what is there");
        lost.extend(writers.iter_mut().filter_map(|w| w.check(&server).err()));
        lost.extend(check_folder(&data).err());
        let until = Instant::now() + Duration::from_millis(1500 + dice.below(3500));
        let fills = disk.as_ref().filter(|_| dice.below(3) == 0);
        let (over, seeds) = (AtomicBool::new(false), [dice.below(u64::MAX), dice.below(u64::MAX)]);
        now("a round");
        std::thread::scope(|scope| {
            let (server, counts, over, shots) = (&server, &counts, &over, &shots);
            for writer in &mut writers {
                scope.spawn(move || {
                    while !over.load(Ordering::Relaxed) && writer.edit(server, counts) {
                        std::thread::sleep(EDIT_EVERY);
                    }
                });
            }
            for seed in seeds {
                scope.spawn(move || {
                    let mut dice = Dice(seed);
                    while !over.load(Ordering::Relaxed) && roam(server, &mut dice, counts, shots) {}
                });
            }
            if let Some(disk) = fills {
                full += 1;
                std::thread::sleep(Duration::from_millis(400));
                disk.fill();
                std::thread::sleep(Duration::from_millis(900));
                disk.clear();
            }
            std::thread::sleep(until.saturating_duration_since(Instant::now()));
            // Most ends are kills in the middle of everything.
            if dice.below(4) == 0 {
                over.store(true, Ordering::Relaxed);
            } else {
                kills += 1;
                server.kill_now();
            }
        });
        now("an end of the server");
        if over.load(Ordering::Relaxed) {
            server.end();
        } else {
            server.kill();
        }
        let gone = Instant::now();
        while decoders_of(&data) > 0 {
            assert!(gone.elapsed() < Duration::from_secs(10), "a decoder outlived the program");
            std::thread::sleep(Duration::from_millis(10));
        }
    }
    *NOW.lock().unwrap() = None;
    let of = |n: &AtomicU64| n.load(Ordering::Relaxed);
    println!(
        "{rounds} rounds, {} edits, {} refused, {} looks, {} jobs asked for, {kills} kills, {full} full disks, {} lost",
        of(&counts.edits),
        of(&counts.refused),
        of(&counts.looks),
        of(&counts.jobs),
        lost.len()
    );
    assert!(lost.is_empty(), "{lost:#?}");
    assert!(of(&counts.edits) > 20 && kills > 0, "there was something to lose");
}
