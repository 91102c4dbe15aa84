//! A server of one's own, asked directly.

use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether what servers complain of is not shown.
pub(crate) static QUIET: AtomicBool = AtomicBool::new(false);

/// A server over a fresh data folder with the plain project, ended with the test.
pub(crate) struct Server {
    child: Child,
    address: String,
    pub(crate) folder: Option<tempfile::TempDir>,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub(crate) struct Answer {
    pub(crate) status: u16,
    pub(crate) body: String,
}

impl Server {
    pub(crate) fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().to_owned();
        let mut server = Self::plain(&path);
        server.folder = Some(folder);
        server
    }

    /// A server over a data folder of one's own, which holds the plain project.
    pub(crate) fn plain(data: &std::path::Path) -> Self {
        Self::over_with(&["demo", "--plain"], data)
    }

    /// A server over a data folder of one's own.
    pub(crate) fn over(command: &str, data: &std::path::Path) -> Self {
        Self::over_with(&[command], data)
    }

    /// The same with more words on the command line.
    pub(crate) fn over_with(command: &[&str], data: &std::path::Path) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_fennik"))
            .args(command)
            .args(["--port", "0", "--data", data.to_str().unwrap()])
            .stdout(Stdio::piped())
            .stderr(if QUIET.load(Ordering::Relaxed) { Stdio::null() } else { Stdio::inherit() })
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().trim_start_matches("Fennik is at http://").trim_end_matches('/').to_owned();
        Self { child, address, folder: None }
    }

    /// Begins to ask for something, and reads nothing yet.
    pub(crate) fn begin(&self, path: &str) -> TcpStream {
        let mut stream = TcpStream::connect(&self.address).unwrap();
        write!(stream, "GET {path} HTTP/1.1\r\nhost: {}\r\n\r\n", self.address).unwrap();
        stream
    }

    /// Memory that the server holds, kB.
    pub(crate) fn memory_kb(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap();
        line.trim().trim_end_matches(" kB").trim().parse().unwrap()
    }

    /// Kills the server outright, without waiting for its end.
    pub(crate) fn kill_now(&self) {
        let _ = Command::new("kill").args(["-9", &self.child.id().to_string()]).status();
    }

    /// Kills the server outright.
    pub(crate) fn kill(&mut self) {
        let _ = self.child.kill();
        self.child.wait().unwrap();
    }

    /// Asks the server to end, as a terminal would, and waits until it has, for a minute at most.
    pub(crate) fn end(&mut self) {
        assert!(Command::new("kill").arg(self.child.id().to_string()).status().unwrap().success());
        for _ in 0..600 {
            if let Some(status) = self.child.try_wait().unwrap() {
                assert!(status.success());
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        panic!("the server does not end");
    }

    /// Asks again until the answer is as wished; fails after two minutes.
    pub(crate) fn wait_for(&self, good: impl Fn(&str) -> bool, path: &str) {
        for _ in 0..600 {
            if good(&self.get(path).body) {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(200));
        }
        panic!("{path} never came to be as wished: {}", self.get(path).body);
    }

    pub(crate) fn ask(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &str) -> Answer {
        self.try_ask(method, path, headers, body).unwrap()
    }

    /// The same for a server that may be killed in the middle of it.
    pub(crate) fn try_ask(
        &self,
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: &str,
    ) -> std::io::Result<Answer> {
        let mut stream = TcpStream::connect(&self.address)?;
        stream.set_read_timeout(Some(std::time::Duration::from_secs(120)))?;
        let host = headers.iter().find(|h| h.0 == "host").map_or(self.address.as_str(), |h| h.1);
        let mut request = format!(
            "{method} {path} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\ncontent-length: {}\r\n",
            body.len()
        );
        for (name, value) in headers.iter().filter(|h| h.0 != "host") {
            request.push_str(&format!("{name}: {value}\r\n"));
        }
        write!(stream, "{request}\r\n{body}")?;
        let mut bytes = Vec::new();
        stream.read_to_end(&mut bytes)?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let broken = || std::io::Error::other("the answer broke off");
        let (head, body) = text.split_once("\r\n\r\n").ok_or_else(broken)?;
        let status = head.split(' ').nth(1).and_then(|s| s.parse().ok()).ok_or_else(broken)?;
        Ok(Answer { status, body: body.to_owned() })
    }

    pub(crate) fn get(&self, path: &str) -> Answer {
        self.ask("GET", path, &[], "")
    }

    pub(crate) fn post(&self, path: &str, body: &Value) -> Answer {
        self.ask("POST", path, &[("content-type", "application/json")], &body.to_string())
    }

    pub(crate) fn state(&self) -> Value {
        self.state_of(2)
    }

    pub(crate) fn state_of(&self, shot: i64) -> Value {
        serde_json::from_str(&self.get(&format!("/shots/{shot}/state")).body).unwrap()
    }
}

/// The status of an answer that has begun.
pub(crate) fn status_of(stream: &mut TcpStream) -> u16 {
    let mut head = [0; 12];
    stream.read_exact(&mut head).unwrap();
    String::from_utf8_lossy(&head[9..12]).parse().unwrap()
}
