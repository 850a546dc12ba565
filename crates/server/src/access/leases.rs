//! Leases: whatever is open for a session or token ends with it: terminals, logs, transfers, builds, live
//! connections.
//!
//! Each credential that is in use has a lease. Ending the credential cancels the lease at once; one that expires is
//! cancelled within a second. Bodies hold theirs in `web::authenticate`, sockets in their handlers.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;

use crate::clock::Clock;

/// How often it is looked whether a credential has expired.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// The right of a credential to keep something open. Cheap to clone.
#[derive(Debug, Clone)]
pub(crate) struct Lease(Arc<CancellationToken>);

impl Lease {
    /// Waits until the credential has ended.
    pub(crate) async fn ended(&self) {
        self.0.cancelled().await;
    }

    /// Does something for as long as the credential is good; `None` when it ended first.
    pub(crate) async fn while_good<T>(&self, work: impl Future<Output = T>) -> Option<T> {
        self.0.run_until_cancelled(work).await
    }

    /// The same as a future of its own, for bodies.
    pub(crate) fn end(&self) -> impl Future<Output = ()> + Send + 'static {
        let token = (*self.0).clone();
        async move { token.cancelled_owned().await }
    }
}

type LeaseState = (Arc<CancellationToken>, Option<Timestamp>);

/// All leases, by the credential's number.
#[derive(Default)]
pub(crate) struct Leases(Mutex<HashMap<i64, LeaseState>>);

impl Leases {
    /// The lease of a credential that has just been shown to be good.
    pub(crate) fn lease(&self, credential: i64, expires: Option<Timestamp>) -> Lease {
        let mut all = self.0.lock();
        let (token, known) = all.entry(credential).or_default();
        *known = expires;
        Lease(token.clone())
    }

    /// Ends everything that a credential keeps open.
    pub(crate) fn end(&self, credential: i64) {
        if let Some((token, _)) = self.0.lock().remove(&credential) {
            token.cancel();
        }
    }

    /// Ends what has expired, for as long as the service runs.
    pub(crate) async fn run(&self, clock: &Clock, end: &CancellationToken) {
        let watching = async {
            loop {
                tokio::time::sleep(LOOK_EVERY).await;
                let now = clock.now();
                self.0.lock().retain(|_, (token, expires)| {
                    if expires.is_some_and(|at| at <= now) {
                        token.cancel();
                        return false;
                    }
                    // One that nobody holds is made again when it is needed.
                    Arc::strong_count(token) > 1
                });
            }
        };
        end.run_until_cancelled(watching).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_a_credential_keeps_open_ends_with_it_and_nothing_else() {
        let leases = Leases::default();
        let (one, same, other) = (leases.lease(1, None), leases.lease(1, None), leases.lease(2, None));
        leases.end(1);
        one.ended().await;
        same.ended().await;
        assert_eq!(other.while_good(async { 7 }).await, Some(7));
        assert_eq!(leases.lease(1, None).while_good(async { 7 }).await, Some(7), "a new sign-in is another");
    }
}
