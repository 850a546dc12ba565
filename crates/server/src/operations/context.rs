//! The shared context of operations.

use std::sync::Arc;

use crate::access::Guards;
use crate::clock::Clock;
use crate::fleet::Links;
use crate::images::DigestChecks;
use crate::operations::Runner;
use crate::storage::Db;
use crate::timeline::AuditLog;

/// The context of changes.
pub(crate) struct OperationsContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) audit: AuditLog,
    pub(crate) links: Arc<Links>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) guards: Guards,
    /// Whoever looks what could go wants to know what registries still have.
    pub(crate) backing: Arc<DigestChecks>,
}
