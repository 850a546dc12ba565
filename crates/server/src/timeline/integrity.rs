//! Looks through the audit log at the start and every few hours, and through what records were found damaged. What is
//! found stands in the attention list and in the details of `/readyz`.

use std::time::Duration;

use gubernum_core::container::{Reason, Severity};
use gubernum_store::Store;
use gubernum_store::audit::AuditVerdict;

use crate::app::App;

/// How often the audit log is looked through.
const EVERY: Duration = Duration::from_secs(6 * 3600);

/// Looks for as long as the service runs.
pub(crate) async fn run(app: App) {
    let end = app.end.clone();
    let looking = async {
        loop {
            look(&app).await;
            tokio::time::sleep(EVERY).await;
        }
    };
    end.run_until_cancelled(looking).await;
}

async fn look(app: &App) {
    let fault = match app.db.run(Store::verify_audit).await {
        Ok(AuditVerdict::Whole(_)) => None,
        Ok(AuditVerdict::Altered { why, .. }) => Some(why),
        Err(error) => Some(format!("The audit log cannot be read: {error}.")),
    };
    if let Some(why) = &fault {
        tracing::error!("{why}");
    }
    *app.audit_fault.lock() = fault;
}

/// What is wrong with the service itself, worst first.
pub(crate) fn reasons(app: &App) -> Vec<Reason> {
    let mut found = Vec::new();
    if let Some(why) = app.audit_fault.lock().clone() {
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
