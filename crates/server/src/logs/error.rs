//! Why a log cannot be opened. Errors after that are reported between its lines.

use gubernum_core::reference::ReferenceError;
use gubernum_engine::EngineError;

use crate::access::OverBudget;
use crate::fleet::FleetError;

/// A log that is not opened.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LogError {
    /// A field is invalid.
    #[error("{sentence}")]
    Invalid {
        /// The field, as its caller names it.
        field: String,
        /// What is wrong with it.
        sentence: String,
    },
    /// A reference that is not found or ambiguous.
    #[error("{source}")]
    Reference {
        /// The field, as its caller names it.
        field: String,
        /// Why.
        source: ReferenceError,
    },
    /// The caller may not read it.
    #[error("{0}")]
    NotAllowed(String),
    /// The container or its host.
    #[error(transparent)]
    Fleet(#[from] FleetError),
    /// As many logs as may be read from one host are being read.
    #[error("too many logs of '{0}' are being read; close some and try again")]
    HostBusy(String),
    /// The member has as many open as may be.
    #[error(transparent)]
    OverBudget(#[from] OverBudget),
    /// The engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl LogError {
    /// A field that is invalid.
    pub(crate) fn invalid(field: impl Into<String>, sentence: impl Into<String>) -> Self {
        Self::Invalid { field: field.into(), sentence: sentence.into() }
    }
}
