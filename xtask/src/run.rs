//! Runs commands: each is shown before it runs, timed, and listed at the end.

use std::io::{BufRead, BufReader, Write};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A chore that failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ChoreError {
    #[error("'{0}' failed; its output above tells why")]
    Failed(String),
    #[error("'{program}' is missing; {remedy}")]
    Missing { program: String, remedy: String },
    #[error("the structure of the sources does not hold:\n{0}")]
    Structure(String),
    #[error("phrases that xtask/phrases.txt rules out:\n{0}")]
    Phrases(String),
    #[error("openapi.json is not what the service describes; run 'cargo xtask openapi' and commit the file")]
    StaleDescription,
    #[error("no test noticed {missed} of {} changes; see target/mutants/mutants.out/missed.txt", caught + missed)]
    Mutants { caught: u64, missed: u64 },
    #[error("'{program}' cannot be run: {source}")]
    Io { program: String, source: std::io::Error },
}

/// What has been run.
#[derive(Default)]
pub(crate) struct Chore {
    done: Vec<(String, Duration, bool)>,
    failures: Vec<String>,
}

/// The most lines of failed tests that are reported once more.
const MOST_FAILURE_LINES: usize = 300;

/// What the output of tests says of those that failed.
#[derive(Default)]
struct Failures {
    inside: bool,
    lines: Vec<String>,
    /// The beginning of what each test says that fails: its lists may be long.
    heads: Vec<String>,
    /// How many lines of the present one are still wanted.
    head: usize,
}

/// The most lines that are kept of one test, and of all; and the most characters of a line.
const HEAD_LINES: usize = 3;
const MOST_HEAD_LINES: usize = 60;
const LONGEST_HEAD: usize = 400;

impl Failures {
    fn note(&mut self, line: &str) {
        if self.inside && line.starts_with("thread '") && line.contains(" panicked at ") {
            self.head = HEAD_LINES;
        }
        if self.head > 0 && self.heads.len() < MOST_HEAD_LINES {
            self.head -= 1;
            self.heads.push(line.chars().take(LONGEST_HEAD).collect());
        }
        match line {
            "failures:" => self.inside = true,
            line if line.starts_with("test result:") => self.inside = false,
            line if self.inside && self.lines.len() < MOST_FAILURE_LINES => self.lines.push(line.to_owned()),
            _ => {}
        }
    }
}

/// The project's folder.
pub(crate) fn root() -> PathBuf {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    here.parent().unwrap_or(here).to_owned()
}

/// Where to find what is missing.
fn remedy(program: &str) -> String {
    match program {
        "npm" | "node" => {
            "install Node.js 20 or later with npm, e.g. 'apt-get install nodejs npm'".to_owned()
        }
        "apt-get" => {
            "the packages are Debian's; on another system install them by hand (see CONTRIBUTING.md)"
                .to_owned()
        }
        other => format!("install it with 'apt-get install {other}', or run 'cargo xtask setup'"),
    }
}

pub(crate) fn say(text: &str) {
    // A closed pipe ends the chore by its commands failing.
    let _ = writeln!(std::io::stdout(), "{text}");
}

pub(crate) fn say_error(text: &str) {
    let _ = writeln!(std::io::stderr(), "xtask: {text}");
}

impl Chore {
    /// Runs a command in the project's folder.
    pub(crate) fn run(&mut self, command: &mut Command) -> Result<(), ChoreError> {
        self.run_with(command, |_| ())
    }

    /// The same, with something to do while it runs.
    fn run_with(
        &mut self,
        command: &mut Command,
        meanwhile: impl FnOnce(&mut Child),
    ) -> Result<(), ChoreError> {
        let program = command.get_program().to_string_lossy().into_owned();
        let arguments: Vec<String> = command.get_args().map(|a| a.to_string_lossy().into_owned()).collect();
        let shown = format!("{program} {}", arguments.join(" "));
        say(&format!("\n=== {shown}"));
        let begun = Instant::now();
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => {
                ChoreError::Missing { remedy: remedy(&program), program: program.clone() }
            }
            _ => ChoreError::Io { program: program.clone(), source },
        };
        let mut child = command.spawn().map_err(failed)?;
        meanwhile(&mut child);
        let status = child.wait().map_err(failed)?;
        self.done.push((shown.clone(), begun.elapsed(), status.success()));
        if status.success() { Ok(()) } else { Err(ChoreError::Failed(shown)) }
    }

    pub(crate) fn cargo(&mut self, arguments: &[&str]) -> Result<(), ChoreError> {
        let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".to_owned());
        self.run(Command::new(cargo).args(arguments).current_dir(root()))
    }

    /// Runs tests. What fails among them is reported once more at the very end, where it is looked for: the output of what
    /// passes would hide it.
    pub(crate) fn tests(&mut self, arguments: &[&str]) -> Result<(), ChoreError> {
        let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".to_owned());
        let mut command = Command::new(cargo);
        // What a test says of its failure is worth more than where in the runtime it said it.
        command.args(arguments).current_dir(root()).stdout(Stdio::piped()).env("RUST_BACKTRACE", "0");
        let mut failures = Failures::default();
        let ended = self.run_with(&mut command, |child| {
            let Some(output) = child.stdout.take() else { return };
            for line in BufReader::new(output).split(b'\n').map_while(Result::ok) {
                let line = String::from_utf8_lossy(&line);
                say(&line);
                failures.note(&line);
            }
        });
        self.failures = failures.lines;
        self.failures.extend(failures.heads);
        ended
    }

    pub(crate) fn npm(&mut self, arguments: &[&str]) -> Result<(), ChoreError> {
        let folder = root().join("console");
        // A component's install script reports to its maker; it is forbidden and told to be quiet.
        self.run(
            Command::new("npm").args(arguments).current_dir(folder).env("IBM_TELEMETRY_DISABLED", "true"),
        )
    }

    pub(crate) fn program(&mut self, program: &Path, arguments: &[&str]) -> Result<(), ChoreError> {
        self.run(Command::new(program).args(arguments).current_dir(root()))
    }

    /// Runs Python with the packages of a folder.
    pub(crate) fn python(&mut self, arguments: &[&str], library: &str) -> Result<(), ChoreError> {
        self.run(Command::new("python3").args(arguments).current_dir(root()).env("PYTHONPATH", library))
    }

    /// Becomes another program, so that signals reach it.
    pub(crate) fn hand_over(&mut self, program: &Path, arguments: &[&str]) -> Result<(), ChoreError> {
        let source = Command::new(program).args(arguments).exec();
        Err(ChoreError::Io { program: program.display().to_string(), source })
    }

    /// Lists what was run.
    pub(crate) fn report(&self) {
        if self.done.is_empty() {
            return;
        }
        if !self.failures.is_empty() {
            say("\n=== what failed, once more");
            self.failures.iter().for_each(|line| say(line));
        }
        say("\n=== what was run");
        for (shown, took, fine) in &self.done {
            say(&format!(
                "{:>7.1} s  {}  {shown}",
                took.as_secs_f64(),
                if *fine { "ok    " } else { "FAILED" }
            ));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_failed_is_found_between_what_passed() {
        let output = "running 2 tests\ntest a ... ok\n\nsuccesses:\n\n---- a stdout ----\nfine\n\nfailures:\n\n\
                      ---- b stdout ----\nbroken\n\nfailures:\n    b\n\ntest result: FAILED. 1 passed\n\ndone";
        let mut failures = Failures::default();
        output.lines().for_each(|line| failures.note(line));
        let told: Vec<&str> = failures.lines.iter().map(|l| l.trim()).filter(|l| !l.is_empty()).collect();
        assert_eq!(told, ["---- b stdout ----", "broken", "b"]);
    }
}
