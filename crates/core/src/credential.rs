//! Credentials of a member, as they are listed: browser sessions and API tokens, without their secrets.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::rights::Bound;

/// A session.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Session {
    /// Its number.
    pub id: u64,
    /// The member.
    pub member: String,
    /// When it began.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it ends by itself.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub expires: Timestamp,
    /// The client's address.
    pub address: String,
    /// The caller's own session.
    pub current: bool,
}

/// An API token, without its secret.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Token {
    /// Its number.
    pub id: u64,
    /// What it is for.
    pub name: String,
    /// The member.
    pub member: String,
    /// When it was created.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it expires.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub expires: Option<Timestamp>,
    /// When it was last used, to the minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub last_used: Option<Timestamp>,
    /// Restrictions; all of the member's rights when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bounds: Option<Vec<Bound>>,
    /// Networks it is accepted from, such as `192.0.2.0/24`; any when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<String>,
}
