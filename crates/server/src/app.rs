//! What every handler shares.

use std::sync::Arc;

use gubernum_store::segments::Segments;
use parking_lot::Mutex;
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::Budgets;
use crate::access::Leases;
use crate::access::Throttle;
use crate::clock::Clock;
use crate::exec::Terminals;
use crate::files::Uploads;
use crate::fleet::Hub;
use crate::fleet::Links;
use crate::images::Backing;
use crate::images::Registries;
use crate::logs::Followers;
use crate::logs::Rules;
use crate::operations::Runner;
use crate::storage::Db;
use crate::usage::Uses;
use crate::web::Names;
use crate::web::Subnet;
use crate::web::Tickets;

/// How many kept logs are read at once.
pub(crate) const KEPT_READS: usize = 8;
pub(crate) struct Shared {
    pub(crate) db: Db,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) registries: Arc<Registries>,
    /// Whether registries still have what nothing uses.
    pub(crate) backing: Backing,
    pub(crate) terminals: Terminals,
    /// Places for commands in containers of their own.
    pub(crate) one_offs: Arc<Semaphore>,
    /// Files whose sending broke off.
    pub(crate) uploads: Uploads,
    pub(crate) throttle: Throttle,
    /// What is open in the name of each session and token.
    pub(crate) leases: Leases,
    /// Tickets for downloads by link.
    pub(crate) tickets: Tickets,
    /// What each member may keep open at once.
    pub(crate) budgets: Arc<Budgets>,
    /// Proxies whose word about the client's address is taken.
    pub(crate) trusted_proxies: Vec<Subnet>,
    /// Who may read metrics without a token.
    pub(crate) metrics_from: Vec<Subnet>,
    /// The names under which the service may be asked for.
    pub(crate) names: Names,
    /// Whether hosts and registries may have link-local or unspecified addresses.
    pub(crate) allow_link_local: bool,
    /// Whether browsers are told to use TLS only.
    pub(crate) strict_transport: bool,
    /// What the last look through the audit log found altered.
    pub(crate) audit_fault: Mutex<Option<String>>,
    pub(crate) clock: Clock,
    /// What is used now, and its history.
    pub(crate) uses: Arc<Uses>,
    /// Kept log lines and the rules for them.
    pub(crate) segments: Segments,
    pub(crate) rules: Rules,
    /// Places for reading kept lines: each takes a thread and unpacks blocks.
    pub(crate) kept_reads: Arc<Semaphore>,
    /// Who follows which log.
    pub(crate) followers: Arc<Followers>,
    /// The code that makes the first member; gone once used.
    pub(crate) claim_code: Mutex<Option<String>>,
    /// Whether cookies may only travel over TLS.
    pub(crate) secure: bool,
    /// The console's address when a proxy stands in front.
    pub(crate) public_url: Option<String>,
    /// The runtime on which streams run.
    pub(crate) streams: tokio::runtime::Handle,
    pub(crate) end: CancellationToken,
    pub(crate) tasks: TaskTracker,
}

/// A handle to the shared parts. Cheap to clone.
#[derive(Clone)]
pub(crate) struct App(pub(crate) Arc<Shared>);

impl std::ops::Deref for App {
    type Target = Shared;

    fn deref(&self) -> &Shared {
        &self.0
    }
}
