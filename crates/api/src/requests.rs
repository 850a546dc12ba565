//! What clients send.

use gubernum_core::plan::{Kind, Request};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Claims a fresh service: makes its first member.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Claim {
    /// The code printed where the service was started.
    pub code: String,
    /// The new member's name.
    pub member: String,
    /// The new member's password.
    pub password: String,
}

/// Signs in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The member's name.
    pub member: String,
    /// The password.
    pub password: String,
}

/// Makes an API token for the member who asks.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    pub name: String,
    /// Days until it ends; it does not end by itself when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in_days: Option<u32>,
}

/// Certificates and key of a mutual TLS link.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TlsFiles {
    /// The authority that signed the engine's certificate, as PEM.
    pub ca: String,
    /// Our certificate, as PEM.
    pub certificate: String,
    /// The key of our certificate, as PEM. It is sealed at rest and never shown again.
    pub key: String,
}

impl std::fmt::Debug for TlsFiles {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TlsFiles(…)")
    }
}

/// Adds a host.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewHost {
    /// The name to give it.
    pub name: String,
    /// Its engine's address: `unix:///path` or `tcp://host:port`.
    pub address: String,
    /// For `tcp://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsFiles>,
}

/// Tries an address without adding it, or the link of a host that is in the fleet.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestHost {
    /// A host of the fleet; then nothing else is given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// An address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// For `tcp://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsFiles>,
}

/// Asks for a change, or for its preview.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOperation {
    /// What to do.
    pub kind: Kind,
    /// References, e.g. `packhouse/frost-api` or `*/frost-*`.
    pub targets: Vec<String>,
    /// For `stop` and `restart`: seconds between asking and forcing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// For `kill`: the signal, `SIGKILL` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal: Option<String>,
    /// For `remove`: end it first if it runs.
    #[serde(default)]
    pub force: bool,
    /// For `remove`: take its anonymous volumes away too.
    #[serde(default)]
    pub volumes: bool,
}

impl NewOperation {
    /// The request without its targets.
    pub fn request(&self) -> Request {
        Request {
            kind: self.kind,
            grace_seconds: self.grace_seconds,
            signal: self.signal.clone(),
            force: self.force,
            volumes: self.volumes,
        }
    }

    /// A request of this kind with every setting at its default.
    pub fn new(kind: Kind, targets: Vec<String>) -> Self {
        Self { kind, targets, grace_seconds: None, signal: None, force: false, volumes: false }
    }
}

/// Asks to see the value of a masked variable.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reveal {
    /// The variable's name.
    pub variable: String,
}
