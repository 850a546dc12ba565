//! Refusals of this capability as problem details.

use crate::access::{BudgetKind, GuardError, OverBudget};
use crate::web::ApiError;

impl From<OverBudget> for ApiError {
    fn from(error: OverBudget) -> Self {
        let (kind, title) = match error.0 {
            BudgetKind::Connection => ("too-many-connections", "Too many live connections"),
            BudgetKind::Log | BudgetKind::Buffered | BudgetKind::Tail => ("too-many-logs", "Too many logs"),
        };
        Self::new(kind, title, 429, error.to_string())
    }
}

impl From<GuardError> for ApiError {
    fn from(error: GuardError) -> Self {
        let sentence = error.to_string();
        match error {
            GuardError::StepUp(_) => Self::new("step-up-needed", "Step up first", 403, sentence),
            GuardError::Token(_) | GuardError::ByItself(_) => {
                Self::new("not-allowed", "Not allowed", 403, sentence)
            }
            GuardError::Waits { .. } => Self::new("approval-needed", "Approval needed", 403, sentence),
            GuardError::Refused(_) => Self::new("approval-refused", "Approval refused", 403, sentence),
            GuardError::Store(error) => error.into(),
        }
    }
}
