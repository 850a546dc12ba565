//! Refusals of this capability as problem details.

use crate::access::{BudgetKind, HeldBack, OverBudget};
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

impl From<HeldBack> for ApiError {
    fn from(error: HeldBack) -> Self {
        let sentence = error.to_string();
        match error {
            HeldBack::StepUp(_) => Self::new("step-up-needed", "Step up first", 403, sentence),
            HeldBack::Token(_) | HeldBack::ByItself(_) => {
                Self::new("not-allowed", "Not allowed", 403, sentence)
            }
            HeldBack::Waits { .. } => Self::new("approval-needed", "Approval needed", 403, sentence),
            HeldBack::Refused(_) => Self::new("approval-refused", "Approval refused", 403, sentence),
            HeldBack::Store(error) => error.into(),
        }
    }
}
