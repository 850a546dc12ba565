//! The part of an operation that a member sees.

use crate::journal::{Operation, Target};
use crate::plan::Request;

/// An operation as somebody sees it who sees only some of its targets; `None` when it is not there for them. What is done as a
/// whole is seen as a whole or not at all.
pub fn operation_seen(mut operation: Operation, sees: impl Fn(&Target) -> bool) -> Option<Operation> {
    let all = operation.targets.len();
    if operation.request.kind().is_whole() {
        let is_seen = all > 0 && operation.targets.iter().all(sees);
        return is_seen.then_some(operation);
    }
    operation.targets.retain(sees);
    if operation.targets.is_empty() {
        return None;
    }
    if operation.targets.len() < all {
        // What was written may name what is not seen.
        let named = |t: &Target| format!("{}/{}", t.host, t.name);
        operation.references = operation.targets.iter().map(named).collect();
        if let Request::Tidy(tidy) = &mut operation.request {
            let targets = &operation.targets;
            tidy.pieces.retain(|p| {
                targets
                    .iter()
                    .any(|t| t.host == p.host && t.object == p.object && (t.id == p.id || t.name == p.id))
            });
        }
    }
    Some(operation)
}
