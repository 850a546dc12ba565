//! Failures and exit codes. The codes are documented in the README and stay as they are.

use std::io::Write;

use gubernum_client::ClientError;

/// Tells something beside the answer, on standard error.
pub(crate) fn note(text: &str) {
    let _ = writeln!(std::io::stderr(), "{}", gubernum_core::text::shown(text, 400));
}

/// Success.
pub(crate) const FINE: u8 = 0;
/// Something failed that has no code of its own.
pub(crate) const FAILED: u8 = 1;
/// The command line is invalid (clap's own code).
const USAGE: u8 = 2;
/// A reference is not found or ambiguous.
const NOT_FOUND: u8 = 3;
/// Some targets of an operation failed, others succeeded.
pub(crate) const SOME_FAILED: u8 = 4;
/// All targets of an operation failed.
pub(crate) const ALL_FAILED: u8 = 5;
/// Not signed in, or refused.
const NOT_ALLOWED: u8 = 6;
/// The service cannot be reached.
const UNREACHABLE: u8 = 7;
/// Ended by Ctrl-C.
pub(crate) const INTERRUPTED: u8 = 130;

/// Shown at the end of the help.
pub(crate) const HELP: &str = "Exit codes:
  0  success
  1  failed
  2  invalid command line
  3  reference not found or ambiguous
  4  some targets failed, others did not
  5  all targets failed, or a tested connection does not work
  6  not signed in, or refused
  7  the service cannot be reached

'shell', 'attach' and 'run-once' return the exit code of what ran.";

/// A command that failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Failure {
    #[error(transparent)]
    Client(#[from] ClientError),
    #[error("{0}")]
    Said(String),
    #[error("{0}")]
    Usage(String),
    #[error("{0}")]
    NotSignedIn(String),
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

impl Failure {
    pub(crate) fn code(&self) -> u8 {
        match self {
            Self::Client(ClientError::Problem(problem)) => match problem.status {
                401 | 403 | 429 => NOT_ALLOWED,
                404 => NOT_FOUND,
                409 if problem.word() == "ambiguous" => NOT_FOUND,
                400 | 413 | 415 | 422 => USAGE,
                _ => FAILED,
            },
            Self::Client(ClientError::Unreachable { .. }) => UNREACHABLE,
            Self::Client(ClientError::Address(_)) | Self::Usage(_) => USAGE,
            Self::NotSignedIn(_) => NOT_ALLOWED,
            // The reader of our output has gone: `gubernum list containers | head`.
            Self::Io(e) if e.kind() == std::io::ErrorKind::BrokenPipe => FINE,
            Self::Client(_) | Self::Said(_) | Self::Io(_) => FAILED,
        }
    }

    pub(crate) fn tell(&self) {
        if matches!(self, Self::Io(e) if e.kind() == std::io::ErrorKind::BrokenPipe) {
            return;
        }
        let text = self.to_string();
        // Nothing can be done when even this cannot be written.
        let _ = writeln!(std::io::stderr(), "gubernum: {text}");
    }
}

impl From<String> for Failure {
    fn from(text: String) -> Self {
        Self::Said(text)
    }
}
