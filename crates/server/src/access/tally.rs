//! Counts of refusals since the service started, by problem type, for metrics.

use std::collections::BTreeMap;

use parking_lot::Mutex;

/// Kinds come from the code; nobody outside makes up more of them.
const MOST_KINDS: usize = 300;

/// Counts refusals.
#[derive(Default)]
pub(crate) struct Tally(Mutex<BTreeMap<String, u64>>);

/// The kind of the problem that an answer tells.
#[derive(Debug, Clone)]
pub(crate) struct ProblemType(pub(crate) String);

impl Tally {
    /// Counts one.
    pub(crate) fn count(&self, kind: &str) {
        let mut all = self.0.lock();
        if let Some(count) = all.get_mut(kind) {
            *count += 1;
        } else if all.len() < MOST_KINDS {
            all.insert(kind.to_owned(), 1);
        }
    }

    /// All of them.
    pub(crate) fn all(&self) -> BTreeMap<String, u64> {
        self.0.lock().clone()
    }
}
