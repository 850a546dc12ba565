//! Git sources: stacks whose files are in a Git repository, checked at intervals or by a signed webhook. A new commit
//! waits for approval or is applied without; from there on it is an operation like any other.
//!
//! [`git`] reads repositories, [`follower`] looks at them and decides what becomes of a change.

mod follower;
mod git;
pub(crate) mod http;

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::timeline::AuditLog;

pub(crate) use follower::{Follower, SourceError};
pub(crate) use git::Git;

/// The context of sources.
pub(crate) struct SourcesContext {
    pub(crate) follower: Arc<Follower>,
    pub(crate) audit: AuditLog,
}

/// Begins to look at the repositories.
pub(crate) fn start(context: &SourcesContext, tasks: &TaskTracker, end: &CancellationToken) {
    let (follower, end) = (context.follower.clone(), end.clone());
    tasks.spawn(async move { follower.run(end).await });
}
