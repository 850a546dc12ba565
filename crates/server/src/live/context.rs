//! The shared context of live connections.

use std::sync::Arc;

use tokio_util::sync::CancellationToken;

use crate::access::{AccessContext, Budgets, Tally};
use crate::clock::Clock;
use crate::fleet::Hub;
use crate::jobs::Scheduler;
use crate::logs::LogsContext;
use crate::operations::Runner;
use crate::stacks::DriftWatch;
use crate::storage::Db;
use crate::team::Team;
use crate::usage::Uses;

/// The context of the live connection.
pub(crate) struct LiveContext {
    pub(crate) db: Db,
    /// Who hears when rights change.
    pub(crate) access: Arc<AccessContext>,
    pub(crate) clock: Clock,
    pub(crate) hub: Arc<Hub>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) drift: Arc<DriftWatch>,
    pub(crate) scheduler: Arc<Scheduler>,
    pub(crate) uses: Arc<Uses>,
    pub(crate) team: Arc<Team>,
    /// What was refused.
    pub(crate) tally: Arc<Tally>,
    pub(crate) logs: Arc<LogsContext>,
    /// What each member may keep open at once.
    pub(crate) budgets: Arc<Budgets>,
    pub(crate) end: CancellationToken,
}
