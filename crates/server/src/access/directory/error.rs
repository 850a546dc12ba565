//! Errors of a directory: it cannot be queried, or its answer is not accepted.

use gubernum_core::text::shown;

/// The longest text of a directory that is passed on, in characters.
const LONGEST: usize = 200;

/// What went wrong with a directory. What somebody outside is told is less: `http` decides.
#[derive(Debug, Clone, thiserror::Error)]
pub(crate) enum DirectoryError {
    /// It took too long.
    #[error("the directory did not answer within 10 s; check its address and that it is up")]
    Silent,
    /// It could not be reached, or closed the connection.
    #[error("the directory cannot be reached: {0}")]
    Unreachable(String),
    /// It refused what the service asked.
    #[error("the directory refused access: {0}. Check the client secret, or the bind name and password")]
    Refused(String),
    /// What it said does not hold: a wrong issuer, audience, nonce, signature, algorithm or time.
    #[error("the directory's answer is not accepted: {0}")]
    Unacceptable(String),
    /// The settings cannot be used.
    #[error("invalid settings: {0}")]
    Settings(String),
    /// The records.
    #[error("{0}")]
    Store(String),
}

impl From<gubernum_store::StoreError> for DirectoryError {
    fn from(error: gubernum_store::StoreError) -> Self {
        Self::Store(error.to_string())
    }
}

/// An error with its causes, as one line.
pub(super) fn in_words(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(inner) = cause {
        let words = inner.to_string();
        if !text.contains(&words) {
            text.push_str(": ");
            text.push_str(&words);
        }
        cause = inner.source();
    }
    shown(&text, LONGEST)
}
