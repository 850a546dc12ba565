//! How the service keeps its records: the key that seals secrets, and the audit log sent elsewhere.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What came of a change of keys.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SealRotated {
    /// How many secrets were sealed anew.
    pub sealed: u64,
}

/// How messages travel.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SyslogTransport {
    /// TLS (RFC 5425).
    #[default]
    Tls,
    /// TCP that anybody on the way can read (RFC 6587, with counted octets).
    Tcp,
}

/// Where the audit log is sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SyslogSettings {
    /// The collector's name or address.
    pub host: String,
    /// Its port; 6514 for TLS and 601 for TCP when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// How messages travel.
    #[serde(default)]
    pub transport: SyslogTransport,
    /// The certificates, in PEM, one of which must have signed the collector's; needed for TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
}

/// Where the audit log is sent, and how that goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SyslogState {
    /// Where; nowhere when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settings: Option<SyslogSettings>,
    /// Entries that have not gone yet.
    pub waiting: u64,
    /// When one went last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub sent: Option<Timestamp>,
    /// Why it does not go now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}
