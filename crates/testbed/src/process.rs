//! Child processes that end with their owner, and commands that must succeed.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::BedError;

/// A running program. It is asked to end, and after a while ended, when dropped.
pub struct Running {
    child: Child,
    log: PathBuf,
    grace: Duration,
}

impl Running {
    /// Starts a program with its output in `log`.
    ///
    /// # Errors
    /// When it is not installed or cannot be started.
    pub fn start(mut command: Command, log: &Path, grace: Duration) -> Result<Self, BedError> {
        let output = std::fs::File::create(log)?;
        command.stdin(Stdio::null()).stdout(output.try_clone()?).stderr(output);
        let name = command.get_program().to_string_lossy().into_owned();
        let child = command.spawn().map_err(|e| match e.kind() {
            std::io::ErrorKind::NotFound => BedError::Missing(name),
            _ => e.into(),
        })?;
        Ok(Self { child, log: log.to_owned(), grace })
    }

    /// The process id.
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Sends a signal by name, e.g. `KILL`.
    pub fn signal(&self, name: &str) {
        let _ = Command::new("kill").arg(format!("-{name}")).arg(self.child.id().to_string()).status();
    }

    /// Whether it still runs.
    pub fn is_alive(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(None))
    }

    /// All that it wrote.
    pub fn log(&self) -> String {
        std::fs::read_to_string(&self.log).unwrap_or_default()
    }

    /// The end of its log.
    pub fn log_end(&self) -> String {
        let text = std::fs::read_to_string(&self.log).unwrap_or_default();
        let lines: Vec<&str> = text.lines().rev().take(12).collect();
        lines.into_iter().rev().collect::<Vec<_>>().join("\n")
    }

    /// Waits until `ready` holds.
    ///
    /// # Errors
    /// When it ends or takes longer than `seconds`.
    pub fn wait_until(
        &mut self,
        what: &str,
        seconds: u64,
        mut ready: impl FnMut() -> bool,
    ) -> Result<(), BedError> {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(seconds) && self.is_alive() {
            if ready() {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(30));
        }
        Err(BedError::Slow { what: what.to_owned(), seconds, detail: self.log_end() })
    }

    /// Ends it now and waits for that.
    pub fn end(&mut self) {
        if !self.is_alive() {
            return;
        }
        self.signal("TERM");
        let begun = Instant::now();
        while begun.elapsed() < self.grace {
            if !self.is_alive() {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.end();
    }
}

/// Runs a command to its end and gives what it printed.
///
/// # Errors
/// When it is missing or fails, with what it said.
pub fn run(program: &str, arguments: &[&str]) -> Result<String, BedError> {
    let mut command = Command::new(program);
    command.args(arguments);
    finished(command)
}

/// Runs a prepared command to its end and gives what it printed.
///
/// # Errors
/// When it is missing or fails, with what it said.
pub fn finished(mut command: Command) -> Result<String, BedError> {
    let output = command.stdin(Stdio::null()).output().map_err(|e| match e.kind() {
        std::io::ErrorKind::NotFound => {
            BedError::Missing(command.get_program().to_string_lossy().into_owned())
        }
        _ => e.into(),
    })?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    let words = std::iter::once(command.get_program()).chain(command.get_args());
    Err(BedError::Command {
        command: words.map(|w| w.to_string_lossy()).collect::<Vec<_>>().join(" "),
        detail: String::from_utf8_lossy(&output.stderr).trim().to_owned(),
    })
}
