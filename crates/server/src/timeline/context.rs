//! What the routes of the timeline work with.

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::storage::Db;
use crate::timeline::Integrity;
use crate::timeline::recorder::Writer;

/// The timeline's context.
pub(crate) struct TimelineContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
}

/// Writes what is recorded, and looks through the audit log now and then.
pub(crate) fn start(
    integrity: &Arc<Integrity>,
    writer: Writer,
    tasks: &TaskTracker,
    end: &CancellationToken,
) {
    let (integrity, ending) = (integrity.clone(), end.clone());
    tasks.spawn(async move { integrity.run(&ending).await });
    let ending = end.clone();
    tasks.spawn(async move {
        ending.run_until_cancelled(writer.run()).await;
    });
}
