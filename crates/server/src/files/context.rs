//! The shared context of files in containers and volumes.

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::files::{Uploads, http};
use crate::fleet::{Hub, Links};
use crate::storage::Db;
use crate::timeline::AuditLog;

/// The context of files.
pub(crate) struct FilesContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) audit: AuditLog,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    /// Files whose upload was interrupted.
    pub(crate) uploads: Uploads,
    pub(crate) tasks: TaskTracker,
    pub(crate) end: CancellationToken,
}

/// Removes half-sent files that nobody resumes.
pub(crate) fn start(context: &Arc<FilesContext>) {
    context.tasks.spawn(http::upload::sweep(context.clone()));
}
