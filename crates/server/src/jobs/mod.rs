//! Jobs: services of stacks that run on a schedule. What a schedule means is computed in [`gubernum_core::jobs`]; a
//! run is an operation like any other, started by the [`scheduler`].

pub(crate) mod http;
mod scheduler;

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::storage::Db;

pub(crate) use scheduler::Scheduler;

/// The context of jobs.
pub(crate) struct JobsContext {
    pub(crate) db: Db,
    pub(crate) scheduler: Arc<Scheduler>,
}

/// Begins to run jobs at their times.
pub(crate) fn start(context: &JobsContext, tasks: &TaskTracker, end: &CancellationToken) {
    let (scheduler, end) = (context.scheduler.clone(), end.clone());
    tasks.spawn(async move { scheduler.run(end).await });
}
