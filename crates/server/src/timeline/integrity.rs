//! Verifies the audit log at the start and every few hours, and counts damaged records. Problems are in the attention
//! list and in the details of `/readyz`.

use std::time::Duration;

use gubernum_core::container::{Reason, Severity};
use gubernum_store::Store;
use gubernum_store::audit::AuditVerdict;
use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;

use crate::storage::Db;

/// How often the audit log is looked through.
const EVERY: Duration = Duration::from_secs(6 * 3600);

/// Whether the records are whole, as far as was looked.
pub(crate) struct Integrity {
    db: Db,
    /// What the last look through the audit log found altered.
    audit_fault: Mutex<Option<String>>,
}

impl Integrity {
    pub(crate) fn new(db: Db) -> Self {
        Self { db, audit_fault: Mutex::default() }
    }

    /// Looks for as long as the service runs.
    pub(crate) async fn run(&self, end: &CancellationToken) {
        let looking = async {
            loop {
                self.look().await;
                tokio::time::sleep(EVERY).await;
            }
        };
        end.run_until_cancelled(looking).await;
    }

    async fn look(&self) {
        let fault = match self.db.run(Store::verify_audit).await {
            Ok(AuditVerdict::Whole(_)) => None,
            Ok(AuditVerdict::Altered { why, .. }) => Some(why),
            Err(error) => Some(format!("The audit log cannot be read: {error}.")),
        };
        if let Some(why) = &fault {
            tracing::error!("{why}");
        }
        *self.audit_fault.lock() = fault;
    }

    /// What is wrong with the service's own records, worst first.
    pub(crate) fn reasons(&self) -> Vec<Reason> {
        let mut found = Vec::new();
        if let Some(why) = self.audit_fault.lock().clone() {
            found.push(Reason {
                severity: Severity::Trouble,
                rank: 0,
                because: None,
                code: "audit-altered".to_owned(),
                sentence: why,
                advice: "Compare with a backup: somebody with access to the data folder changed records. Run 'gubernum audit verify' for the place.".to_owned(),
                evidence: Vec::new(),
            });
        }
        let damaged = gubernum_store::damage::found();
        if !damaged.is_empty() {
            found.push(Reason {
                severity: Severity::Warning,
                rank: 100,
                because: None,
                code: "records-damaged".to_owned(),
                sentence: format!("Damaged records: {} cannot be read and are left out.", damaged.len()),
                advice: "Restore them from a backup; the evidence names them.".to_owned(),
                evidence: damaged,
            });
        }
        found
    }
}
