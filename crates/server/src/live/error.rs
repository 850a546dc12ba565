//! Why a subscription is refused; the connection stays open.

use gubernum_core::reference::ReferenceError;

use crate::access::OverBudget;
use crate::logs::LogError;

/// A subscription that is refused.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LiveError {
    /// A field of the wish is invalid.
    #[error("{sentence}")]
    Invalid {
        /// Its place, as a JSON pointer.
        field: &'static str,
        /// What is wrong with it.
        sentence: String,
    },
    /// A reference that is not found or ambiguous.
    #[error("{source}")]
    Reference {
        /// Its place, as a JSON pointer.
        field: &'static str,
        /// Why.
        source: ReferenceError,
    },
    /// The member has as many open as may be.
    #[error(transparent)]
    OverBudget(#[from] OverBudget),
    /// The log is not opened.
    #[error(transparent)]
    Log(#[from] LogError),
}
