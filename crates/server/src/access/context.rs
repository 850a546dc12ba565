//! What sign-in, sessions and tokens work with, and who looks after what ends.

use std::sync::Arc;

use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::refusals::Refusals;
use crate::access::second_factor::Begun;
use crate::access::{Leases, RightsInUse, Throttle, Tickets, passwords};
use crate::clock::Clock;
use crate::storage::Db;

/// The context of access.
pub(crate) struct AccessContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) throttle: Throttle,
    /// What is open in the name of each session and token.
    pub(crate) leases: Leases,
    /// Tickets for downloads by link.
    pub(crate) tickets: Tickets,
    /// What the credentials in use allow.
    pub(crate) rights: RightsInUse,
    /// Second factors that are being set up.
    pub(super) begun_factors: Begun,
    /// What was refused lately.
    pub(super) refusals: Refusals,
    /// The code that makes the first member; gone once used.
    pub(crate) claim_code: Mutex<Option<String>>,
    /// Whether cookies may only travel over TLS.
    pub(crate) secure: bool,
}

impl AccessContext {
    pub(crate) fn new(db: Db, clock: Clock, claim_code: Option<String>, secure: bool) -> Arc<Self> {
        Arc::new(Self {
            db,
            clock,
            throttle: Throttle::default(),
            leases: Leases::default(),
            tickets: Tickets::default(),
            rights: RightsInUse::default(),
            refusals: Refusals::default(),
            begun_factors: Begun::default(),
            claim_code: Mutex::new(claim_code),
            secure,
        })
    }
}

/// Ends what is open when the session or token that opened it ends, and gives memory back that no sign-in needs.
pub(crate) fn start(context: &Arc<AccessContext>, tasks: &TaskTracker, end: &CancellationToken) {
    let (context, ending) = (context.clone(), end.clone());
    tasks.spawn(async move { context.leases.run(&context.clock, &ending).await });
    let ending = end.clone();
    tasks.spawn(async move {
        ending.run_until_cancelled(passwords::give_back_buffers()).await;
    });
}
