//! What a member is signed in with, as it is listed: sessions of browsers and API tokens. Secrets are no part of it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::rights::Bound;

/// A signed-in session.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Session {
    /// Its number.
    pub id: u64,
    /// Whose it is.
    pub member: String,
    /// When it began.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it ends by itself.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub expires: Timestamp,
    /// The address that it was opened from.
    pub address: String,
    /// It is the one that asks.
    pub current: bool,
}

/// An API token, without its text.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Token {
    /// Its number.
    pub id: u64,
    /// What it is for.
    pub name: String,
    /// Whose it is.
    pub member: String,
    /// When it was made.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub expires: Option<Timestamp>,
    /// When it was last used, to the minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub last_used: Option<Timestamp>,
    /// What it is cut down to; it may what its member may when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bounds: Option<Vec<Bound>>,
    /// The networks that it is good from, such as `192.0.2.0/24`; from anywhere when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<String>,
}
