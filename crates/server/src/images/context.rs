//! The shared context of registries, builds and image archives.

use std::sync::Arc;

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::fleet::{Hub, Links};
use crate::images::{DigestChecks, Registries, digest_checks, update_checks};
use crate::storage::Db;
use crate::timeline::AuditLog;

/// The context of images.
pub(crate) struct ImagesContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) audit: AuditLog,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) registries: Arc<Registries>,
    /// Whether registries still have what nothing uses.
    pub(crate) backing: Arc<DigestChecks>,
    /// Whether registries may have link-local or unspecified addresses.
    pub(crate) allow_link_local: bool,
    pub(crate) tasks: TaskTracker,
    pub(crate) end: CancellationToken,
}

/// Asks registries now and then what is newer, and whether they still have what could be let go.
pub(crate) fn start(context: &Arc<ImagesContext>) {
    context.tasks.spawn(update_checks::run(context.clone()));
    context.tasks.spawn(digest_checks::run(context.clone()));
}
