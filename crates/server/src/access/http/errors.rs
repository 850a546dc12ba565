//! What is refused here as problem details.

use crate::access::{BudgetKind, OverBudget};
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
