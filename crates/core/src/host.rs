//! What the fleet knows of one host and of the link to its engine.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::assets::Disk;
use crate::container::Reason;

/// The longest allowed host name.
pub const MAX_HOST_NAME: usize = 63;

/// Why a host's name was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HostNameError {
    /// Nothing was given.
    #[error("a host needs a name; give it one such as 'packhouse'")]
    Empty,
    /// Longer than [`MAX_HOST_NAME`].
    #[error("the host name has {0} characters; the limit is {MAX_HOST_NAME}")]
    TooLong(usize),
    /// A character that would be ambiguous in a reference or an address.
    #[error(
        "the host name has {0:?} in it; use letters, digits, '.', '_' and '-', starting with a letter or a digit"
    )]
    Character(char),
}

/// Checks a name for a host: it becomes the first part of references and of addresses.
///
/// # Errors
/// When it is empty, too long or has a character other than letters, digits, `.`, `_`, `-`.
pub fn check_host_name(name: &str) -> Result<(), HostNameError> {
    let length = name.chars().count();
    if length == 0 {
        return Err(HostNameError::Empty);
    }
    if length > MAX_HOST_NAME {
        return Err(HostNameError::TooLong(length));
    }
    for (i, c) in name.chars().enumerate() {
        let inner = c.is_ascii_alphanumeric() || (i > 0 && matches!(c, '.' | '_' | '-'));
        if !inner {
            return Err(HostNameError::Character(c));
        }
    }
    Ok(())
}

/// The state of the link to a host's engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum LinkState {
    /// Not reached yet since the service started or the host was added.
    Connecting,
    /// What is shown is what the engine says now.
    Live,
    /// The engine does not answer; what is shown is as old as `last_seen`.
    Stale,
}

/// Why an engine cannot be reached; the codes are stable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LinkFault {
    /// The socket's file does not exist.
    SocketMissing,
    /// The socket may not be opened by the account that runs the service.
    PermissionDenied,
    /// Nothing listens there.
    Refused,
    /// The address cannot be looked up.
    NameNotFound,
    /// No route to that address.
    Unreachable,
    /// The engine's certificate is not signed by the given authority, or not for this address.
    TlsNotTrusted,
    /// The engine's certificate is out of its time.
    TlsExpired,
    /// The engine does not accept our certificate, or TLS failed otherwise.
    TlsFailed,
    /// No answer in time.
    TimedOut,
    /// The engine only speaks an older API.
    ApiTooOld,
    /// Something answers, but it is not a container engine.
    NotAnEngine,
    /// The engine answered with an error or closed the connection.
    Failed,
}

/// A connection error.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LinkProblem {
    /// The stable code.
    pub code: LinkFault,
    /// What failed and why, in one sentence.
    pub sentence: String,
    /// What to do.
    pub advice: String,
}

/// Engine information.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EngineFacts {
    /// `dockerd`, `podman` or another engine's name.
    pub kind: String,
    /// The engine's version.
    pub version: String,
    /// The negotiated API version.
    pub api_version: String,
    /// Operating system, such as `linux`.
    pub os: String,
    /// Architecture, such as `amd64`.
    pub architecture: String,
    /// The machine's hostname.
    pub machine: String,
}

/// Machine information. Absent values are not reported by the engine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MachineFacts {
    /// Processors.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub processors: Option<u32>,
    /// Bytes of memory.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_total: Option<u64>,
    /// Free memory in bytes, without caches.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_free: Option<u64>,
    /// The operating system's name.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub system: Option<String>,
    /// Kernel version.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub kernel: Option<String>,
    /// cgroup version, `1` or `2`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub cgroup_version: Option<String>,
    /// Storage driver, such as `overlay2`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub storage_driver: Option<String>,
    /// The engine's data directory.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub data_folder: Option<String>,
    /// When the machine started.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub booted: Option<Timestamp>,
    /// Clock difference to the service in milliseconds; negative when behind.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub clock_ahead_ms: Option<i64>,
    /// The engine's warnings.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub warnings: Vec<String>,
}

/// Image, volume and network counts of a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AssetCounts {
    /// Images.
    pub images: u32,
    /// Volumes.
    pub volumes: u32,
    /// Networks.
    pub networks: u32,
}

/// A past connection error.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PastProblem {
    /// When it began.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// The error.
    pub problem: LinkProblem,
}

/// One host of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Host {
    /// The host's name in the fleet.
    pub name: String,
    /// The engine's address, such as `unix:///run/docker.sock` or `tcp://192.0.2.5:2376`.
    pub address: String,
    /// `socket` or `tls`.
    pub link: String,
    /// The link's state.
    pub state: LinkState,
    /// Why the link is not live.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<LinkProblem>,
    /// When the engine last answered.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub last_seen: Option<Timestamp>,
    /// Engine information, once it was reached.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub engine: Option<EngineFacts>,
    /// Address for published ports; a setting.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub ports_address: Option<String>,
    /// Host groups; a setting. Grants can be scoped to a group.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub groups: Vec<String>,
    /// Machine information.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub machine: MachineFacts,
    /// Disk usage of the engine's data.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub disk: Disk,
    /// Image, volume and network counts.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub assets: AssetCounts,
    /// Increases whenever images, volumes or networks change; clients then fetch them again.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub assets_revision: u64,
    /// Recent connection errors, newest first.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub past_problems: Vec<PastProblem>,
    /// Why it needs attention, if it does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub attention: Option<Reason>,
}

impl Host {
    /// A host that was just added, the base for tests and simulations of the model.
    pub fn blank(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            address: String::new(),
            link: "socket".to_owned(),
            state: LinkState::Connecting,
            problem: None,
            last_seen: None,
            engine: None,
            ports_address: None,
            groups: Vec::new(),
            machine: MachineFacts::default(),
            disk: Disk::default(),
            assets: AssetCounts::default(),
            assets_revision: 0,
            past_problems: Vec::new(),
            attention: None,
        }
    }
}

#[cfg(test)]
#[path = "host_tests.rs"]
mod tests;
