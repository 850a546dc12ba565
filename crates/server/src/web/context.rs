//! The shared context of every route, and that of each capability, from which a handler takes its own.

use std::sync::Arc;

use axum::extract::FromRef;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::{AccessContext, Tally};
use crate::exec::ExecContext;
use crate::files::FilesContext;
use crate::fleet::FleetContext;
use crate::images::ImagesContext;
use crate::jobs::JobsContext;
use crate::live::LiveContext;
use crate::logs::LogsContext;
use crate::metrics::MetricsContext;
use crate::operations::OperationsContext;
use crate::sources::SourcesContext;
use crate::stacks::StacksContext;
use crate::storage::Db;
use crate::team::TeamContext;
use crate::timeline::{Integrity, TimelineContext};
use crate::usage::UsageContext;
use crate::web::{Names, Subnet, descriptors};

/// The router's own context.
pub(crate) struct WebContext {
    pub(crate) db: Db,
    pub(crate) integrity: Arc<Integrity>,
    /// Proxies whose word about the client's address is taken.
    pub(crate) trusted_proxies: Vec<Subnet>,
    /// The names under which the service may be asked for.
    pub(crate) names: Names,
    /// The console's address when a proxy is in front.
    pub(crate) public_url: Option<String>,
    /// Whether cookies may only travel over TLS.
    pub(crate) secure: bool,
    /// Whether browsers are told to use TLS only.
    pub(crate) strict_transport: bool,
    /// What was refused.
    pub(crate) tally: Arc<Tally>,
    pub(crate) end: CancellationToken,
}

/// The context of each capability. Nothing but the router holds all of them.
#[derive(Clone, FromRef)]
pub(crate) struct Contexts {
    pub(crate) access: Arc<AccessContext>,
    pub(crate) exec: Arc<ExecContext>,
    pub(crate) files: Arc<FilesContext>,
    pub(crate) fleet: Arc<FleetContext>,
    pub(crate) images: Arc<ImagesContext>,
    pub(crate) jobs: Arc<JobsContext>,
    pub(crate) live: Arc<LiveContext>,
    pub(crate) logs: Arc<LogsContext>,
    pub(crate) metrics: Arc<MetricsContext>,
    pub(crate) operations: Arc<OperationsContext>,
    pub(crate) sources: Arc<SourcesContext>,
    pub(crate) stacks: Arc<StacksContext>,
    pub(crate) team: Arc<TeamContext>,
    pub(crate) timeline: Arc<TimelineContext>,
    pub(crate) usage: Arc<UsageContext>,
    pub(crate) web: Arc<WebContext>,
}

/// Watches over the process's open files.
pub(crate) fn start(tasks: &TaskTracker, end: &CancellationToken) {
    tasks.spawn(descriptors::run(end.clone()));
}
