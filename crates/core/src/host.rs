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
    #[error("the host name is {0} characters long, the most is {MAX_HOST_NAME}; choose a shorter one")]
    TooLong(usize),
    /// A character that would be ambiguous in a reference or an address.
    #[error(
        "the host name has {0:?} in it; use letters, digits, '.', '_' and '-', beginning with a letter or a digit"
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

/// How the link to a host's engine stands.
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

/// What stands in the way of reaching an engine; the codes are stable.
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

/// A link's trouble in words.
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

/// What the engine says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EngineFacts {
    /// `dockerd`, `podman` or what it calls itself.
    pub kind: String,
    /// The engine's version.
    pub version: String,
    /// The API version that is spoken with it.
    pub api_version: String,
    /// Its operating system, e.g. `linux`.
    pub os: String,
    /// Its processor architecture, e.g. `amd64`.
    pub architecture: String,
    /// The name that the machine gives itself.
    pub machine: String,
}

/// What the engine tells of its machine. What it does not tell is absent, never guessed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MachineFacts {
    /// Processors.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub processors: Option<u32>,
    /// Bytes of memory.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_total: Option<u64>,
    /// Bytes of memory that nothing uses, not even as a cache.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_free: Option<u64>,
    /// The operating system in words.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub system: Option<String>,
    /// The kernel's version.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub kernel: Option<String>,
    /// `1` or `2`: the kernel's way to account for what containers use.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub cgroup_version: Option<String>,
    /// How the engine stores layers, e.g. `overlay2`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub storage_driver: Option<String>,
    /// The folder that holds the engine's data.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub data_folder: Option<String>,
    /// When the machine started.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub booted: Option<Timestamp>,
    /// Milliseconds by which its clock is ahead of the service's; negative when it is behind.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub clock_ahead_ms: Option<i64>,
    /// What the engine warns of.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub warnings: Vec<String>,
}

/// How many things a host has.
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

/// One trouble that a link had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PastProblem {
    /// When it began.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// What it was.
    pub problem: LinkProblem,
}

/// One host of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Host {
    /// The name that the team gave it.
    pub name: String,
    /// Where its engine is, e.g. `unix:///run/docker.sock` or `tcp://192.0.2.5:2376`.
    pub address: String,
    /// `socket` or `tls`.
    pub link: String,
    /// How the link stands.
    pub state: LinkState,
    /// What stands in the way, while the link is not live.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<LinkProblem>,
    /// When the engine last answered.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub last_seen: Option<Timestamp>,
    /// What the engine says of itself, once it was reached.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub engine: Option<EngineFacts>,
    /// The address at which people reach what it publishes; a setting.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub ports_address: Option<String>,
    /// The groups that it is in; a setting. Grants can be on a group.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub groups: Vec<String>,
    /// What the engine tells of its machine.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub machine: MachineFacts,
    /// What its data takes on its disk.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub disk: Disk,
    /// How many images, volumes and networks it has.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub assets: AssetCounts,
    /// Grows whenever its images, volumes or networks change: whoever shows them asks again.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub assets_revision: u64,
    /// The last troubles of its link, newest first.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub past_problems: Vec<PastProblem>,
    /// Why it needs a person, if it does.
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
