//! The command line: the same engine as the pages.

mod accuracy;
mod add;
mod bench;
mod bench_bundle;
mod output;
mod serve;
mod solve;

use clap::{Parser, Subcommand};
use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;

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
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("{text:?} is no range of frames; write first:last, as in 10:149");
        let (a, b) = text.split_once(':').ok_or_else(wrong)?;
        let first = if a.is_empty() { 0 } else { a.parse().map_err(|_| wrong())? };
        let last = if b.is_empty() { None } else { Some(b.parse().map_err(|_| wrong())?) };
        if last.is_some_and(|l| l < first) {
            return Err(format!("the range {text} ends before it begins"));
        }
        Ok(Self { first, last })
    }
}

/// Shows how far something is, on one line that is written over.
fn show(line: &str) {
    print!("\r{line:<70}");
    let _ = std::io::stdout().flush();
}

/// Peak resident memory of this process, MB; 0 where the system does not tell.
fn peak_mb() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:"));
    line.and_then(|l| l.trim().trim_end_matches(" kB").trim().parse::<f64>().ok()).map_or(0.0, |kb| kb / 1024.0)
}

/// A folder for this run's own files, removed at the end.
pub struct Scratch(PathBuf);

impl Scratch {
    /// Makes a fresh folder.
    pub fn new() -> Result<Self, String> {
        let path = std::env::temp_dir().join(format!("fennik-{}", ulid::Ulid::generate()));
        std::fs::create_dir_all(&path).map_err(|e| format!("no scratch folder could be made at {}: {e}", path.display()))?;
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
