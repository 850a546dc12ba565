//! The shared context of the timeline.

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::storage::Db;
use crate::timeline::recorder::Writer;
use crate::timeline::{Integrity, Syslog};

/// The timeline's context.
pub(crate) struct TimelineContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    /// What sends the audit log elsewhere.
    pub(crate) syslog: Arc<Syslog>,
}

/// Resumes a change of keys that an earlier run left in the middle.
async fn resume_rotation(db: Db) {
    match db.run(|store| Ok(store.resume_rotation())).await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => tracing::error!("a key rotation could not be finished: {error}"),
        Err(error) => tracing::error!("a key rotation could not be finished: {error}"),
    }
}

/// Writes what is recorded, and looks through the audit log now and then.
pub(crate) fn start(
    context: &Arc<TimelineContext>,
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
    let (syslog, ending) = (context.syslog.clone(), end.clone());
    tasks.spawn(async move {
        ending.run_until_cancelled(syslog.run()).await;
    });
    let (db, ending) = (context.db.clone(), end.clone());
    tasks.spawn(async move {
        ending.run_until_cancelled(resume_rotation(db)).await;
    });
}
