//! Errors between a client and the service.

use gubernum_api::Problem;

/// A failure of a call.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// The service answered with a problem.
    #[error("{}", .0.detail)]
    Problem(Box<Problem>),
    /// The service could not be reached.
    #[error("the service at {url} cannot be reached: {detail}; is it running, and is the address right?")]
    Unreachable {
        /// Its address.
        url: String,
        /// Why.
        detail: String,
    },
    /// The address is invalid.
    #[error("'{0}' is not an address of the service; write it like 'https://gubernum.example:7310'")]
    Address(String),
    /// The answer is invalid.
    #[error("the answer of {url} cannot be understood ({detail}); is it Gubernum, and of the same version?")]
    Unreadable {
        /// Its address.
        url: String,
        /// Where reading stopped.
        detail: String,
    },
    /// The connection was interrupted.
    #[error("the connection to the service was interrupted: {0}")]
    Broken(String),
}

impl ClientError {
    /// The problem's kind, e.g. `not-found`, when the service answered with one.
    pub fn kind(&self) -> Option<&str> {
        match self {
            Self::Problem(problem) => Some(problem.word()),
            _ => None,
        }
    }
}

/// The innermost cause, which says most.
pub(crate) fn root(error: &dyn std::error::Error) -> String {
    let mut last = error;
    while let Some(next) = last.source() {
        last = next;
    }
    last.to_string()
}
