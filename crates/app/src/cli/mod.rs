//! The command line: the same engine as the pages.

mod accuracy;
mod add;
mod apply;
mod belongs;
mod bench;
mod bench_bundle;
mod bench_inserts;
mod carry;
mod error;
mod output;
mod serve;
mod solve;

use crate::engine::OpenShot;
use crate::web;
use clap::{Parser, Subcommand};
use error::{ArgumentError, CliError};
use fennik_store::{ShotId, Store};
use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Track a clip's camera and anchor titles to its scene.
#[derive(Parser)]
#[command(name = "fennik", version, about)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serve the pages on 127.0.0.1.
    Serve(serve::ServeArguments),
    /// Serve the demo project.
    Demo(serve::DemoArguments),
    /// Take a clip into a data folder.
    Add(add::AddArguments),
    /// Do the steps of a recipe: a shot without a page.
    Apply(apply::ApplyArguments),
    /// Print what there is in a shot.
    Show(apply::ShowArguments),
    /// Track and solve a clip and write the camera file.
    Solve(solve::SolveArguments),
    /// Render a shot with its inserts to a video file.
    Render(output::RenderArguments),
    /// Write a shot's camera or scene to a file.
    Export(output::ExportArguments),
    /// Solve clips with known cameras and print how far off each solve is.
    Accuracy(accuracy::AccuracyArguments),
    /// Time tracking, solving and rendering on the demo clip.
    Bench(bench::BenchArguments),
}

/// Parses the arguments and runs the command.
pub fn run() -> ExitCode {
    let outcome = match Arguments::parse().command {
        Command::Serve(arguments) => serve::run(&arguments),
        Command::Demo(arguments) => serve::run_demo(&arguments),
        Command::Add(arguments) => add::run(&arguments),
        Command::Apply(arguments) => apply::run(&arguments),
        Command::Show(arguments) => apply::show(&arguments),
        Command::Solve(arguments) => solve::run(&arguments),
        Command::Render(arguments) => output::render(&arguments),
        Command::Export(arguments) => output::export(&arguments),
        Command::Accuracy(arguments) => accuracy::run(&arguments),
        Command::Bench(arguments) => bench::run(&arguments),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("fennik: {message}");
            ExitCode::FAILURE
        }
    }
}

/// A range of frames, as typed: `A:B`, first and last, either may be left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrimArgument {
    /// First frame.
    pub first: u32,
    /// Last frame, if not the end.
    pub last: Option<u32>,
}

impl std::str::FromStr for TrimArgument {
    type Err = ArgumentError;

    fn from_str(text: &str) -> Result<Self, ArgumentError> {
        let wrong = || ArgumentError::NoTrim(text.to_owned());
        let (a, b) = text.split_once(':').ok_or_else(wrong)?;
        let first = if a.is_empty() { 0 } else { a.parse().map_err(|_| wrong())? };
        let last = if b.is_empty() { None } else { Some(b.parse().map_err(|_| wrong())?) };
        if last.is_some_and(|l| l < first) {
            return Err(ArgumentError::EmptyTrim(text.to_owned()));
        }
        Ok(Self { first, last })
    }
}

/// Letters of a line of progress on a terminal.
const LINE: usize = 78;

/// Shows how far something is: on a terminal in one line that is written over, elsewhere in a line every ten per cent.
struct Progress {
    terminal: bool,
    /// What was shown last, and at which tenth.
    shown: Option<(String, u32)>,
}

impl Default for Progress {
    fn default() -> Self {
        Self { terminal: std::io::stdout().is_terminal(), shown: None }
    }
}

impl Progress {
    /// Tells frames.
    fn frames(&mut self, what: &str, done: u32, total: u32) {
        let percent = (100 * u64::from(done) / u64::from(total.max(1))).min(100) as u32;
        self.tell(what, percent, &format!("{what}: frame {done} of {total}"));
    }

    /// Tells parts of a whole.
    fn percent(&mut self, what: &str, percent: u32) {
        self.tell(what, percent, &format!("{what}: {percent} %"));
    }

    /// Tells something without a measure.
    fn line(&mut self, line: &str) {
        self.tell(line, 0, line);
    }

    fn tell(&mut self, what: &str, percent: u32, line: &str) {
        let tenth = percent / 10;
        let new = self.shown.as_ref().is_none_or(|(w, t)| w != what || *t != tenth);
        if self.terminal {
            // A line that wraps could not be written over.
            let short: String = line.chars().take(LINE).collect();
            print!("\r{short:<LINE$}");
            let _ = std::io::stdout().flush();
        } else if new {
            println!("{line}");
        }
        if new {
            self.shown = Some((what.to_owned(), tenth));
        }
    }

    /// Ends the line that was written over.
    fn end(&mut self) {
        if self.terminal && self.shown.take().is_some() {
            println!();
        }
    }
}

/// Hears that the program is to end (Ctrl+C, SIGTERM), so that work can be put away before it does.
struct Stopper(Arc<AtomicBool>);

impl Stopper {
    fn new() -> Result<Self, CliError> {
        let asked = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT] {
            // Asked twice, it ends at once.
            let twice = signal_hook::flag::register_conditional_shutdown(signal, 130, asked.clone());
            twice.and_then(|_| signal_hook::flag::register(signal, asked.clone())).map_err(CliError::Signals)?;
        }
        Ok(Self(asked))
    }

    fn asked(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// Opens a data folder, or the usual one; made when it is not there.
fn open_store(data: Option<&PathBuf>) -> Result<Store, CliError> {
    Ok(Store::open(&data.cloned().unwrap_or_else(web::default_data_folder))?)
}

/// Opens a data folder that is there.
fn open_shots(data: Option<&PathBuf>) -> Result<Store, CliError> {
    let data = data.cloned().unwrap_or_else(web::default_data_folder);
    if !data.join("fennik.sqlite").exists() {
        return Err(CliError::NoShots { folder: data });
    }
    Ok(Store::open(&data)?)
}

/// A shot by its name or number.
fn find_shot(store: &Store, shot: &str) -> Result<ShotId, CliError> {
    let shots = store.shots()?;
    let wanted = shots.iter().find(|s| s.name == shot).map(|s| s.id).or_else(|| shot.parse().ok().map(ShotId));
    wanted.filter(|id| shots.iter().any(|s| s.id == *id)).ok_or_else(|| {
        let all = shots.iter().map(|s| format!("{} {:?}", s.id.0, s.name)).collect();
        CliError::NoShot { shot: shot.to_owned(), all }
    })
}

/// Opens a shot that is there.
fn open_existing(data: Option<&PathBuf>, shot: &str) -> Result<(Store, OpenShot), CliError> {
    let store = open_shots(data)?;
    let id = find_shot(&store, shot)?;
    let shot = OpenShot::load(&store, id)?;
    Ok((store, shot))
}

/// Peak resident memory of this process, MB; 0 where the system does not tell.
fn peak_mb() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:"));
    line.and_then(|l| l.trim().trim_end_matches(" kB").trim().parse::<f64>().ok()).map_or(0.0, |kb| kb / 1024.0)
}

/// Processor time that this process has taken, ms; 0 where the system does not tell.
fn processor_ms() -> f64 {
    // After the name, which may hold anything: user and system time are the 12th and 13th, in hundredths of a second.
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let after = stat.rsplit(')').next().unwrap_or_default();
    after.split_whitespace().skip(11).take(2).filter_map(|v| v.parse::<f64>().ok()).map(|ticks| 10.0 * ticks).sum()
}

/// A folder for this run's own files, removed at the end.
pub struct Scratch(PathBuf);

impl Scratch {
    /// Makes a fresh folder.
    pub fn new() -> Result<Self, CliError> {
        let path = std::env::temp_dir().join(format!("fennik-{}", ulid::Ulid::generate()));
        std::fs::create_dir_all(&path).map_err(|why| CliError::Unwritten { path: path.clone(), why })?;
        Ok(Self(path))
    }

    /// Where it is.
    pub fn path(&self) -> &std::path::Path {
        &self.0
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_and_wrong_ones_refused() {
        assert_eq!("3:9".parse(), Ok(TrimArgument { first: 3, last: Some(9) }));
        assert_eq!(":".parse(), Ok(TrimArgument { first: 0, last: None }));
        for bad in ["7", "9:3", "a:b", "-1:4"] {
            assert!(bad.parse::<TrimArgument>().is_err(), "{bad}");
        }
    }
}
