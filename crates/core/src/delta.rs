//! Recent changes of the fleet, so that a reader who was disconnected can catch up.
//!
//! Bounded: when what a reader missed is no longer held, it is told to take a fresh snapshot.

use std::collections::VecDeque;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::container::Container;
use crate::host::Host;

/// One change of one object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "change", rename_all = "kebab-case")]
pub enum Change {
    /// A host is new or different.
    HostPut {
        /// The host's current state.
        host: Box<Host>,
    },
    /// A host and its containers were removed from the fleet.
    HostGone {
        /// Its name.
        host: String,
    },
    /// A container is new or different.
    ContainerPut {
        /// As it is now.
        container: Box<Container>,
    },
    /// A container is gone.
    ContainerGone {
        /// Its host.
        host: String,
        /// Its id.
        id: String,
    },
}

/// The changes that led to one revision of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Delta {
    /// The revision after the changes; revisions count up by one.
    pub revision: u64,
    /// The changes, in order.
    pub changes: Vec<Change>,
}

/// The last deltas, up to a number of changes.
#[derive(Debug)]
pub struct DeltaLog {
    deltas: VecDeque<Arc<Delta>>,
    held: usize,
    most: usize,
}

impl DeltaLog {
    /// A log that holds at most `most` changes.
    pub fn new(most: usize) -> Self {
        Self { deltas: VecDeque::new(), held: 0, most }
    }

    /// Adds a delta and lets go of the oldest beyond the limit.
    pub fn push(&mut self, delta: Arc<Delta>) {
        self.held += delta.changes.len();
        self.deltas.push_back(delta);
        while self.held > self.most {
            let Some(oldest) = self.deltas.pop_front() else { break };
            self.held -= oldest.changes.len();
        }
    }

    /// What came after `revision`, given that the fleet is at `current`; `None` when part of it is
    /// no longer held (or `revision` is from the future), so that a snapshot is needed.
    pub fn since(&self, revision: u64, current: u64) -> Option<Vec<Arc<Delta>>> {
        if revision == current {
            return Some(Vec::new());
        }
        let first = self.deltas.front()?.revision;
        if revision > current || revision + 1 < first {
            return None;
        }
        Some(self.deltas.iter().filter(|d| d.revision > revision).cloned().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn delta(revision: u64) -> Arc<Delta> {
        Arc::new(Delta { revision, changes: vec![Change::HostGone { host: revision.to_string() }] })
    }

    #[test]
    fn holds_the_last_and_says_when_too_little() {
        let mut log = DeltaLog::new(3);
        assert_eq!(log.since(0, 0).map(|d| d.len()), Some(0));
        for revision in 1..=5 {
            log.push(delta(revision));
        }
        assert_eq!(log.since(5, 5).map(|d| d.len()), Some(0));
        assert_eq!(log.since(2, 5).map(|d| d.iter().map(|d| d.revision).collect()), Some(vec![3, 4, 5]));
        assert_eq!(log.since(1, 5), None);
        assert_eq!(log.since(9, 5), None);
    }
}
