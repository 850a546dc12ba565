//! Stacks and definitions as files: read, checked, saved as revisions, and compared with what runs. The model and its
//! rules are `gubernum_core`'s; every change is an operation.

mod context;
mod drift_watch;
pub(crate) mod http;

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

pub(crate) use context::StacksContext;
pub(crate) use drift_watch::DriftWatch;

/// Begins to watch the stacks that were deployed here.
pub(crate) fn start(context: &StacksContext, tasks: &TaskTracker, end: &CancellationToken) {
    let (drift, end): (Arc<DriftWatch>, _) = (context.drift.clone(), end.clone());
    tasks.spawn(async move { drift.run(end).await });
}
