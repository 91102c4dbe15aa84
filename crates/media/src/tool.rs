//! ffmpeg and ffprobe as child processes that end with this one.

use crate::error::MediaError;
use std::io::Read;
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::thread::JoinHandle;

/// Asks the system to end a program when the thread that started it ends (util-linux; prctl's `PR_SET_PDEATHSIG`), so
/// that it outlives this program in no case, a kill included.
const ENDS_WITH_US: &str = "/usr/bin/setpriv";

/// Bytes kept of what a tool complains: a broken file can complain without end.
const MOST_COMPLAINTS: u64 = 64 * 1024;

/// A tool, to be given its arguments.
pub(crate) fn command(tool: &'static str) -> Command {
    let mut command = if Path::new(ENDS_WITH_US).exists() {
        let mut with = Command::new(ENDS_WITH_US);
        with.args(["--pdeathsig", "KILL", "--", tool]);
        with
    } else {
        Command::new(tool)
    };
    command.stdin(Stdio::null());
    command
}

/// Whether setpriv could not find the tool: it was started, but there was nothing to start.
fn is_missing(status: ExitStatus, said: &[u8]) -> bool {
    status.code() == Some(127) && String::from_utf8_lossy(said).contains("setpriv")
}

fn missing(tool: &'static str) -> MediaError {
    MediaError::ToolMissing { tool, source: std::io::Error::new(std::io::ErrorKind::NotFound, "it is not installed") }
}

/// Runs a tool to its end.
pub(crate) fn output(tool: &'static str, command: &mut Command) -> Result<std::process::Output, MediaError> {
    let output = command.output().map_err(|source| MediaError::ToolMissing { tool, source })?;
    if is_missing(output.status, &output.stderr) { Err(missing(tool)) } else { Ok(output) }
}

/// A tool at work.
pub(crate) struct Running {
    pub(crate) child: Child,
    tool: &'static str,
    complaints: Option<JoinHandle<Vec<u8>>>,
}

impl Running {
    /// Starts it; what it complains of is gathered.
    pub(crate) fn start(tool: &'static str, command: &mut Command) -> Result<Self, MediaError> {
        let mut child =
            command.stderr(Stdio::piped()).spawn().map_err(|source| MediaError::ToolMissing { tool, source })?;
        let complaints = child.stderr.take().map(|mut stderr| {
            std::thread::spawn(move || {
                let mut kept = Vec::new();
                let _ = stderr.by_ref().take(MOST_COMPLAINTS).read_to_end(&mut kept);
                // A full pipe would hold the tool up.
                let _ = std::io::copy(&mut stderr, &mut std::io::sink());
                kept
            })
        });
        Ok(Self { child, tool, complaints })
    }

    /// Waits for its end. `Err` says why it did not end well: what it said last, or the signal that ended it.
    pub(crate) fn end(&mut self) -> Result<Option<String>, MediaError> {
        let status = self.child.wait();
        let said = self.complaints.take().and_then(|c| c.join().ok()).unwrap_or_default();
        match status {
            Ok(status) if status.success() => Ok(last_line(&said)),
            Ok(status) if is_missing(status, &said) => Err(missing(self.tool)),
            Ok(status) => Err(MediaError::Died { tool: self.tool, why: why(status, &said) }),
            Err(source) => Err(MediaError::Io { what: format!("{} did not end", self.tool), source }),
        }
    }
}

fn why(status: ExitStatus, said: &[u8]) -> String {
    use std::os::unix::process::ExitStatusExt;
    match (status.signal(), last_line(said)) {
        (Some(signal), _) => format!("signal {signal} ended it"),
        (None, Some(line)) => line,
        (None, None) => status.to_string(),
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The last line that ffmpeg wrote, without its prefix and without paths.
pub(crate) fn last_line(stderr: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(stderr);
    let line = text.lines().rev().find(|l| !l.trim().is_empty())?;
    let plain = line.rsplit(": ").next().unwrap_or(line).trim();
    Some(plain.trim_end_matches('.').to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::process::ExitStatusExt;
    use std::time::{Duration, Instant};

    /// Fault: a decoder that was writing nothing just then went on beside the next start of the program.
    #[test]
    fn a_tool_that_writes_nothing_ends_with_the_thread_that_started_it() {
        let starting = std::thread::spawn(|| {
            let child = command("sleep").arg("60").spawn().unwrap();
            // Only from when it is the tool itself does it end with this thread.
            let name = || std::fs::read_to_string(format!("/proc/{}/comm", child.id())).unwrap_or_default();
            while name().trim() != "sleep" {
                std::thread::sleep(Duration::from_millis(5));
            }
            child
        });
        let mut child = starting.join().unwrap();
        let began = Instant::now();
        let ended = loop {
            if let Some(ended) = child.try_wait().unwrap() {
                break ended;
            }
            assert!(began.elapsed() < Duration::from_secs(20), "it goes on");
            std::thread::sleep(Duration::from_millis(10));
        };
        assert_eq!(ended.signal(), Some(9), "{ended}");
    }
}
