//! An entry of the audit log. How entries are chained is the store's work.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// One entry of the audit log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AuditEntry {
    /// Its number.
    pub id: u64,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// Who; a member's name, or `-` before anybody was known.
    pub member: String,
    /// From which address.
    pub address: String,
    /// What, e.g. `sign-in` or `restart`.
    pub action: String,
    /// On what.
    pub object: String,
    /// What came of it.
    pub outcome: String,
    /// By which session or token, such as `session 12` or `token nightly`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub via: String,
    /// SHA-256 over this entry and the hash before it, in hex.
    pub hash: String,
}
