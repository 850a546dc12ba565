//! The shared context of definitions and stacks.

use std::sync::Arc;

use crate::fleet::Links;
use crate::jobs::Scheduler;
use crate::operations::Runner;
use crate::stacks::DriftWatch;
use crate::storage::Db;
use crate::timeline::AuditLog;

/// The context of definitions.
pub(crate) struct StacksContext {
    pub(crate) db: Db,
    pub(crate) audit: AuditLog,
    pub(crate) links: Arc<Links>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) drift: Arc<DriftWatch>,
    pub(crate) scheduler: Arc<Scheduler>,
}
