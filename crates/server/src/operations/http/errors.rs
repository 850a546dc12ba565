//! Refusals of changes as problem details.

use crate::operations::OperationError;
use crate::web::ApiError;

impl From<OperationError> for ApiError {
    fn from(error: OperationError) -> Self {
        let sentence = error.to_string();
        match error {
            OperationError::Invalid { field, .. } => Self::invalid(field, sentence),
            OperationError::Text(errors) => {
                let mut refused = Self::invalid("/files", sentence);
                refused.problem.errors = errors;
                refused
            }
            OperationError::Request(error) => error.into(),
            OperationError::Reference { at, source } => Self::from(source).at(format!("/targets/{at}")),
            OperationError::NotFound { field: Some(field), .. } => Self::not_found(sentence).at(field),
            OperationError::NotFound { field: None, .. } => Self::not_found(sentence),
            OperationError::Fleet(error) => error.into(),
            OperationError::ChangedSincePreview(_) => {
                Self::new("changed-since-preview", "Changed since the preview", 409, sentence).at("/digest")
            }
            OperationError::NotAllowed(_) => Self::new("not-allowed", "Not allowed", 403, sentence),
            OperationError::GuardError(error) => error.into(),
            OperationError::Frozen(_) => Self::new("frozen", "Frozen", 409, sentence),
            OperationError::TooManyWait => Self::new("too-many-wait", "The queue is full", 429, sentence),
            OperationError::TooMany => Self::new("too-many-operations", "Too many operations", 429, sentence),
            OperationError::NotOver(_) => Self::new("not-over", "Operation is still running", 409, sentence),
            OperationError::NothingToRetry(_) => {
                Self::new("nothing-to-retry", "Nothing to retry", 409, sentence)
            }
            OperationError::Engine(error) => error.into(),
            OperationError::Store(error) => error.into(),
            OperationError::Planner(_) => Self::new("internal", "Internal error", 500, sentence),
        }
    }
}
