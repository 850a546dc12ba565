//! Refusals of this capability as problem details.

use crate::logs::LogError;
use crate::web::ApiError;

impl From<LogError> for ApiError {
    fn from(error: LogError) -> Self {
        let sentence = error.to_string();
        match error {
            LogError::Invalid { field, .. } => Self::invalid(field, sentence),
            LogError::Reference { field, source } => Self::from(source).at(field),
            LogError::NotAllowed(_) => Self::new("not-allowed", "Not allowed", 403, sentence),
            LogError::Fleet(error) => error.into(),
            LogError::HostBusy(_) => Self::new("too-many-logs", "Too many logs", 429, sentence),
            LogError::OverBudget(error) => error.into(),
            LogError::Engine(error) => error.into(),
        }
    }
}
