//! Writes the audit log: who did what to which object, and the outcome. An entry about a change of the records is
//! written in that change's own transaction; all others are written here.

use gubernum_store::StoreError;

use crate::access::Identity;
use crate::clock::Clock;
use crate::storage::Db;

/// A handle to the audit log. Cheap to clone.
#[derive(Clone)]
pub(crate) struct AuditLog {
    db: Db,
    clock: Clock,
}

impl AuditLog {
    pub(crate) fn new(db: Db, clock: Clock) -> Self {
        Self { db, clock }
    }

    /// Writes what a member did.
    ///
    /// # Errors
    /// When the records refuse.
    pub(crate) async fn record(
        &self,
        who: &Identity,
        action: &'static str,
        object: impl Into<String>,
        outcome: impl Into<String>,
    ) -> Result<(), StoreError> {
        let (who, now) = (who.clone(), self.clock.now());
        let (object, outcome) = (object.into(), outcome.into());
        self.db.run(move |store| store.audit(who.entry(action, &object, &outcome), now)).await
    }

    /// Writes the outcome of something that is over: where that fails, the service's log says so.
    pub(crate) async fn note(
        &self,
        who: &Identity,
        action: &'static str,
        object: impl Into<String>,
        outcome: impl Into<String>,
    ) {
        if let Err(error) = self.record(who, action, object, outcome).await {
            tracing::error!("the audit log could not be written: {error}");
        }
    }
}
