//! What every handler shares.

use std::sync::Arc;

use parking_lot::Mutex;
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::auth::throttle::Throttle;
use crate::clock::Clock;
use crate::db::Db;
use crate::hub::Hub;
use crate::links::Links;
use crate::runner::Runner;

/// How many live connections there may be.
pub(crate) const MOST_LIVE: usize = 500;

pub(crate) struct Shared {
    pub(crate) db: Db,
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) throttle: Throttle,
    pub(crate) clock: Clock,
    /// The code that makes the first member; gone once used.
    pub(crate) claim_code: Mutex<Option<String>>,
    /// Whether cookies may only travel over TLS.
    pub(crate) secure: bool,
    /// The console's address when a proxy stands in front.
    pub(crate) public_url: Option<String>,
    /// The runtime on which streams run.
    pub(crate) streams: tokio::runtime::Handle,
    pub(crate) live_places: Arc<Semaphore>,
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
