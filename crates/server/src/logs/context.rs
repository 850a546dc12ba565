//! The shared context of log readers and keepers.

use std::sync::Arc;

use gubernum_store::segments::Segments;
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::Budgets;
use crate::clock::Clock;
use crate::fleet::{Hub, Links};
use crate::logs::{Followers, Rules, keeper};
use crate::storage::Db;

/// How many kept logs are read at once.
pub(crate) const KEPT_READS: usize = 8;

/// The context of logs.
pub(crate) struct LogsContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    /// Kept lines and the rules for them.
    pub(crate) segments: Segments,
    pub(crate) rules: Rules,
    /// Places for reading kept lines: each takes a thread and unpacks blocks.
    pub(crate) kept_reads: Arc<Semaphore>,
    /// Who follows which log.
    pub(crate) followers: Arc<Followers>,
    /// What each member may keep open at once.
    pub(crate) budgets: Arc<Budgets>,
    /// The runtime on which streams run.
    pub(crate) streams: tokio::runtime::Handle,
    pub(crate) end: CancellationToken,
}

/// Keeps the lines that rules want kept.
pub(crate) fn start(context: &Arc<LogsContext>, tasks: &TaskTracker) {
    tasks.spawn(keeper::run(context.clone()));
}
