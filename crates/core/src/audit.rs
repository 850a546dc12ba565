//! An entry of the audit log. How entries are chained is the store's work.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// One entry of the audit log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AuditEntry {
    /// Its number.
    pub id: u64,
    /// The time.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// The member, or `-` before sign-in.
    pub member: String,
    /// The client's address.
    pub address: String,
    /// The action, such as `sign-in` or `restart`.
    pub action: String,
    /// The object.
    pub object: String,
    /// The outcome.
    pub outcome: String,
    /// The session or token used, such as `session 12` or `token nightly`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub via: String,
    /// SHA-256 over this entry and the hash before it, in hex.
    pub hash: String,
}
