//! The shared context of sign-in, sessions and tokens.

use std::sync::Arc;

use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::directory::{Directories, refresh_all};
use crate::access::guard::{Guards, StepTimers};
use crate::access::rate_limit::RateLimit;
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
    /// How fast each credential may ask.
    pub(crate) rate_limit: RateLimit,
    /// What is open in the name of each session and token.
    pub(crate) leases: Leases,
    /// Tickets for downloads by link.
    pub(crate) tickets: Tickets,
    /// What the credentials in use allow.
    pub(crate) rights: RightsInUse,
    /// Directories through which members sign in.
    pub(crate) directories: Directories,
    /// Second factors that are being set up.
    pub(super) begun_factors: Begun,
    /// What holds dangerous changes back.
    pub(crate) guards: Guards,
    /// When sessions that stepped up are as before.
    pub(super) steps: StepTimers,
    /// What was refused lately.
    pub(super) refusals: Refusals,
    /// The code that makes the first member; gone once used.
    pub(crate) claim_code: Mutex<Option<String>>,
    /// Whether cookies may only travel over TLS.
    pub(crate) secure: bool,
}

impl AccessContext {
    pub(crate) fn new(db: Db, clock: Clock, claim_code: Option<String>, secure: bool) -> Arc<Self> {
        let directories = Directories::new(clock.clone());
        Arc::new(Self {
            directories,
            guards: Guards::new(db.clone(), clock.clone()),
            steps: StepTimers::default(),
            db,
            clock,
            throttle: Throttle::default(),
            rate_limit: RateLimit::default(),
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
    let (leasing, ending) = (context.clone(), end.clone());
    tasks.spawn(async move { leasing.leases.run(&leasing.clock, &ending).await });
    tasks.spawn(refresh_all(context.clone(), end.clone()));
    let ending = end.clone();
    tasks.spawn(async move {
        ending.run_until_cancelled(passwords::give_back_buffers()).await;
    });
}
