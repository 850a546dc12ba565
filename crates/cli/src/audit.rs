//! `gubernum audit verify`: checks the audit log of a data folder, while the service runs or not.

use std::path::Path;

use gubernum_store::audit::AuditVerdict;

use crate::arguments_serve::Passphrase;
use crate::exit::{ALL_FAILED, FINE, Failure};
use crate::serve::open_store;
use crate::table::say;

pub(crate) fn verify(data_dir: &Path, passphrase: &Passphrase) -> Result<u8, Failure> {
    if !data_dir.join("gubernum.db").exists() {
        let text = format!("{} is not a data folder: it has no gubernum.db", data_dir.display());
        return Err(Failure::Said(text));
    }
    let store = open_store(data_dir, passphrase.file.as_deref())?;
    match store.verify_audit().map_err(|e| Failure::Said(e.to_string()))? {
        AuditVerdict::Whole(entries) => {
            say(&format!("The audit log is intact: {entries} entries, none altered, removed or cut off."))?;
            Ok(FINE)
        }
        AuditVerdict::Altered { entry, why } => {
            say(&format!("{why} Entries up to {} are intact.", entry.saturating_sub(1)))?;
            Ok(ALL_FAILED)
        }
    }
}
