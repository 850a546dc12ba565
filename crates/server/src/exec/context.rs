//! The shared context of terminals and one-off commands.

use std::sync::Arc;

use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::Guards;
use crate::clock::Clock;
use crate::exec::{Terminals, one_offs};
use crate::fleet::{Hub, Links};
use crate::images::Registries;
use crate::operations::Runner;
use crate::storage::Db;
use crate::timeline::AuditLog;

/// The context of programs inside containers.
pub(crate) struct ExecContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) audit: AuditLog,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) guards: Guards,
    pub(crate) registries: Arc<Registries>,
    pub(crate) terminals: Terminals,
    /// Places for commands in containers of their own.
    pub(crate) one_offs: Arc<Semaphore>,
    pub(crate) tasks: TaskTracker,
    pub(crate) end: CancellationToken,
}

/// Removes containers of one-off commands that were left behind.
pub(crate) fn start(context: &Arc<ExecContext>) {
    context.tasks.spawn(one_offs::sweep(context.clone()));
}
