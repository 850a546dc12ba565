//! Refusals of this capability as problem details.

use crate::exec::TerminalError;
use crate::web::ApiError;

impl From<TerminalError> for ApiError {
    fn from(error: TerminalError) -> Self {
        let sentence = error.to_string();
        match error {
            TerminalError::TooMany => Self::new("too-many-terminals", "Too many terminals", 429, sentence),
            TerminalError::Attached => Self::invalid("/attach", sentence),
            TerminalError::NotRunning(_) => {
                Self::new("not-running", "The container is not running", 409, sentence)
            }
            TerminalError::NoShell(_) => Self::new("no-shell", "No shell", 409, sentence),
            TerminalError::Fleet(error) => error.into(),
            TerminalError::Random(_) => Self::new("internal", "Internal error", 500, sentence),
            TerminalError::Engine(error) => error.into(),
        }
    }
}
