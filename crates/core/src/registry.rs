//! A configured registry. Querying one is the service's work.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A configured registry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Registry {
    /// Its address, e.g. `registry.tarnvalley.example:5000`.
    pub address: String,
    /// The account.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub account: Option<String>,
    /// Whether a secret is set. Sealed at rest and never shown.
    pub has_secret: bool,
    /// Whether a CA certificate is set.
    pub has_ca: bool,
    /// Connect without TLS.
    pub plain_http: bool,
    /// Who set it.
    pub member: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub added: Timestamp,
}

/// Sets a registry. It is tested before it is saved.
#[derive(Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewRegistry {
    /// Its address, without `https://`.
    pub address: String,
    /// The account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// The account's secret: a password or a token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// CA certificate in PEM, if not signed by a CA the system trusts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
    /// HTTP without TLS; anyone on the network path can read and alter the traffic.
    #[serde(default)]
    pub plain_http: bool,
}

impl std::fmt::Debug for NewRegistry {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "NewRegistry({})", self.address)
    }
}
