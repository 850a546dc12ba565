//! Why a change is refused. What happens to an accepted one is an outcome of its targets and no error.
//!
//! How these reach a caller over HTTP is in `http::errors`.

use gubernum_core::compose::report::FileNote;
use gubernum_core::plan::RequestError;
use gubernum_core::reference::ReferenceError;
use gubernum_engine::EngineError;
use gubernum_store::StoreError;

use super::MOST_RUNNING;
use super::queue::MOST_WAITING;
use crate::access::GuardError;
use crate::fleet::FleetError;

/// A change that is refused as a whole, before anything is written.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OperationError {
    /// A field of the request is invalid here.
    #[error("{sentence}")]
    Invalid {
        /// Its place, as a JSON pointer.
        field: String,
        /// What is wrong with it.
        sentence: String,
    },
    /// A stack's text cannot be read or carried out; every error at its place.
    #[error("{}", all_in_words(.0))]
    Text(Vec<FileNote>),
    /// Fields that do not go with this kind of change.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// A reference that is not found or ambiguous.
    #[error("{source}")]
    Reference {
        /// Which of the targets.
        at: usize,
        /// Why.
        source: ReferenceError,
    },
    /// Something that the request names is not there.
    #[error("{sentence}")]
    NotFound {
        /// Where it is named, if in a field.
        field: Option<String>,
        /// What is not there.
        sentence: String,
    },
    /// The host of the one target is not there or cannot be asked.
    #[error(transparent)]
    Fleet(#[from] FleetError),
    /// The caller may not.
    #[error("{0}")]
    NotAllowed(String),
    /// It is dangerous, and the team asks for more than the right.
    #[error(transparent)]
    GuardError(#[from] GuardError),
    /// What is to be changed is frozen.
    #[error("{0}")]
    Frozen(String),
    /// The plans are not those of the preview.
    #[error("the preview is out of date: {0}. Check the new preview")]
    ChangedSincePreview(String),
    /// All places are taken.
    #[error("the limit of {MOST_RUNNING} running operations is reached; wait until one has ended")]
    TooMany,
    /// The queue is full.
    #[error("the limit of {MOST_WAITING} queued operations is reached; try again later")]
    TooManyWait,
    /// A retry of what is still under way.
    #[error("operation {0} is still running")]
    NotOver(u64),
    /// A retry of what went well.
    #[error("all targets of operation {0} succeeded; nothing to retry")]
    NothingToRetry(u64),
    /// The engine failed or refused while the plan was made.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Planning itself was interrupted.
    #[error("planning failed: {0}")]
    Planner(#[from] tokio::task::JoinError),
}

impl OperationError {
    /// A field that is invalid, by its JSON pointer.
    pub(crate) fn invalid(field: impl Into<String>, sentence: impl Into<String>) -> Self {
        Self::Invalid { field: field.into(), sentence: sentence.into() }
    }
}

/// The most errors of a text that are named in one sentence.
const MOST_NAMED: usize = 10;

fn all_in_words(notes: &[FileNote]) -> String {
    let words = |n: &FileNote| format!("{}, line {}, column {}: {}", n.file, n.line, n.column, n.sentence);
    let mut told: Vec<String> = notes.iter().take(MOST_NAMED).map(words).collect();
    if notes.len() > MOST_NAMED {
        told.push(format!("and {} more errors", notes.len() - MOST_NAMED));
    }
    told.join("; ")
}
