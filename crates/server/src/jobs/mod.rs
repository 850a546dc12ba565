//! Jobs: services of stacks that are run at their times. What a schedule asks for is worked out in [`gubernum_core::jobs`]; a run
//! is an operation like any other. [`scheduler`] has them run and knows the state of each.

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
