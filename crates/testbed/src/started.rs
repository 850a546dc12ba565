//! The product itself as a process: `gubernum serve` or `gubernum demo`, started as a user would and
//! driven from outside.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use serde_json::Value;
use tempfile::TempDir;

use crate::BedError;
use crate::process::Running;

/// A running `gubernum` that has said that it is ready.
pub struct Started {
    process: Running,
    binary: PathBuf,
    ready: Value,
    _folder: TempDir,
}

impl Started {
    /// Starts the service, on a free port of loopback unless `more` says otherwise.
    ///
    /// # Errors
    /// When it does not come up; with the end of its log.
    pub fn serve(binary: &Path, data_dir: &Path, more: &[&str]) -> Result<Self, BedError> {
        let data_dir = data_dir.as_os_str();
        let listen: &[&str] = if more.contains(&"--listen") { &[] } else { &["--listen", "127.0.0.1:0"] };
        let fixed = ["serve", "--ready-json"].iter().chain(listen).chain(more).map(OsStr::new);
        Self::start(binary, fixed.chain([OsStr::new("--data-dir"), data_dir]))
    }

    /// Starts the demo on a free port of loopback.
    ///
    /// # Errors
    /// When it does not come up; with the end of its log.
    pub fn demo(binary: &Path, more: &[&str]) -> Result<Self, BedError> {
        let fixed = ["demo", "--ready-json", "--listen", "127.0.0.1:0"];
        Self::start(binary, fixed.iter().chain(more).map(OsStr::new))
    }

    fn start<'a>(binary: &Path, arguments: impl Iterator<Item = &'a OsStr>) -> Result<Self, BedError> {
        let folder = tempfile::tempdir()?;
        let log = folder.path().join("log");
        let mut command = Command::new(binary);
        command.args(arguments);
        for name in ["GUBERNUM_URL", "GUBERNUM_TOKEN", "GUBERNUM_CONFIG"] {
            command.env_remove(name);
        }
        let mut process = Running::start(command, &log, Duration::from_secs(15))?;
        let mut ready = Value::Null;
        process.wait_until("gubernum", 60, || {
            let text = std::fs::read_to_string(&log).unwrap_or_default();
            let line = text.lines().find(|l| l.starts_with("{\"") && l.contains("\"url\""));
            ready = line.and_then(|l| serde_json::from_str(l).ok()).unwrap_or_default();
            !ready.is_null()
        })?;
        Ok(Self { process, binary: binary.to_owned(), ready, _folder: folder })
    }

    /// Its address.
    pub fn url(&self) -> &str {
        self.text("url")
    }

    /// A text of the line that said that it is ready; empty when nothing has that name.
    pub fn text(&self, name: &str) -> &str {
        self.ready[name].as_str().unwrap_or_default()
    }

    /// The program.
    pub fn binary(&self) -> &Path {
        &self.binary
    }

    /// Its process id.
    pub fn id(&self) -> u32 {
        self.process.id()
    }

    /// All of its log.
    pub fn log(&self) -> String {
        self.process.log()
    }

    /// The end of its log.
    pub fn log_end(&self) -> String {
        self.process.log_end()
    }

    /// Ends it at once, as a crash would (SIGKILL), and waits for that.
    pub fn kill(&mut self) {
        self.process.signal("KILL");
        while self.process.is_alive() {
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Asks it to end (SIGTERM) and waits for that.
    pub fn end(&mut self) {
        self.process.end();
    }
}
