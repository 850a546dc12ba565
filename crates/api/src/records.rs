//! The service's records: rotation of the seal key, and the syslog export of the audit log.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The outcome of a key rotation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SealRotated {
    /// Number of secrets sealed with the new key.
    pub sealed: u64,
}

/// The transport of syslog messages.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SyslogTransport {
    /// TLS (RFC 5425).
    #[default]
    Tls,
    /// TCP that anybody on the way can read (RFC 6587, with counted octets).
    Tcp,
}

/// Syslog export settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SyslogSettings {
    /// The collector's name or address.
    pub host: String,
    /// Its port; 6514 for TLS and 601 for TCP when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The transport.
    #[serde(default)]
    pub transport: SyslogTransport,
    /// CA certificates for the collector, in PEM; required for TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
}

/// The state of the syslog export.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SyslogState {
    /// The settings; absent when off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settings: Option<SyslogSettings>,
    /// Entries not sent yet.
    pub waiting: u64,
    /// When an entry was last sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub sent: Option<Timestamp>,
    /// Why sending fails.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}
