//! The shared context of the fleet's routes.

use std::sync::Arc;
use std::time::Duration;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::fleet::{Hub, Links};
use crate::jobs::Scheduler;
use crate::stacks::DriftWatch;
use crate::storage::Db;
use crate::team::Team;
use crate::timeline::{AuditLog, Integrity};

/// How often the fleet is told that time passes.
const TICK: Duration = Duration::from_secs(30);

/// The context of the fleet.
pub(crate) struct FleetContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) audit: AuditLog,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    /// What is wrong with the records heads the attention list.
    pub(crate) integrity: Arc<Integrity>,
    /// Stacks that are not as they were applied are in the attention list too.
    pub(crate) drift: Arc<DriftWatch>,
    pub(crate) scheduler: Arc<Scheduler>,
    /// Whose notes are in the attention list.
    pub(crate) team: Arc<Team>,
    /// Whether hosts may have link-local or unspecified addresses.
    pub(crate) allow_link_local: bool,
}

/// Tells the fleet that time passes: some reasons for attention come and go with it.
pub(crate) fn start(context: &Arc<FleetContext>, tasks: &TaskTracker, end: &CancellationToken) {
    let (context, end) = (context.clone(), end.clone());
    tasks.spawn(async move {
        let ticking = async {
            loop {
                tokio::time::sleep(TICK).await;
                context.hub.tick(context.clock.now());
            }
        };
        end.run_until_cancelled(ticking).await;
    });
}
