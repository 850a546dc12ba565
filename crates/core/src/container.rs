//! What the fleet knows of one container, in one shape for every engine.
//!
//! Not here: how it is learnt (the engine crate) and why it needs attention ([`crate::reason`]).

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Labels that tools following the Compose Specification put on the containers of a stack.
pub const STACK_LABEL: &str = "com.docker.compose.project";
/// The label naming the service inside its stack.
pub const SERVICE_LABEL: &str = "com.docker.compose.service";

/// The state of a container.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr, strum::VariantArray)]
#[strum(serialize_all = "lowercase")]
pub enum State {
    /// Made, never started.
    Created,
    /// Its process runs.
    Running,
    /// Its process is frozen.
    Paused,
    /// It ended and the engine is about to start it again.
    Restarting,
    /// The engine is removing it.
    Removing,
    /// It ended.
    Exited,
    /// The engine failed half-way and cannot continue with it.
    Dead,
    /// The engine used a word that we do not know.
    Unknown,
}

impl State {
    /// All of them.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// Reads the engine's word; podman's own words are folded into the common ones.
    pub fn from_engine(word: &str) -> Self {
        match word.to_ascii_lowercase().as_str() {
            "created" | "configured" | "initialized" => Self::Created,
            "running" | "stopping" => Self::Running,
            "paused" => Self::Paused,
            "restarting" => Self::Restarting,
            "removing" => Self::Removing,
            "exited" | "stopped" => Self::Exited,
            "dead" => Self::Dead,
            _ => Self::Unknown,
        }
    }

    /// The word shown to people and used by the API.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// Whether it holds a live process, so that removing it would end something.
    pub fn is_alive(self) -> bool {
        matches!(self, Self::Running | Self::Paused | Self::Restarting)
    }
}

/// Health status.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum Health {
    /// It has no health check.
    #[default]
    None,
    /// The check has not decided yet.
    Starting,
    /// The check passes.
    Healthy,
    /// The check fails.
    Unhealthy,
}

impl Health {
    /// Reads the engine's word; anything unknown counts as having no check.
    pub fn from_engine(word: &str) -> Self {
        match word.to_ascii_lowercase().as_str() {
            "starting" => Self::Starting,
            "healthy" => Self::Healthy,
            "unhealthy" => Self::Unhealthy,
            _ => Self::None,
        }
    }

    /// The word shown to people and used by the API.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// A port of a container, published or only exposed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Port {
    /// The host address; absent when not published.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub address: Option<String>,
    /// The host port; absent when not published.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub host_port: Option<u16>,
    /// The container port.
    pub container_port: u16,
    /// `tcp`, `udp` or `sctp`.
    pub protocol: String,
}

/// One mount of a container.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Mount {
    /// `bind`, `volume`, `tmpfs` or another mount type of the engine.
    pub kind: String,
    /// The volume's name, or the path on the host.
    pub source: String,
    /// The path in the container.
    pub target: String,
    /// Whether it is read-only.
    pub read_only: bool,
    /// For a volume: anonymous, used by this container only.
    pub anonymous: bool,
}

/// How a container is attached to one network.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Attachment {
    /// The network's name.
    pub network: String,
    /// Its address there, while it runs.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub address: Option<String>,
    /// Its IPv6 address there, while it runs.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub ipv6: Option<String>,
    /// Network aliases.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub aliases: Vec<String>,
}

/// Why a container or host needs attention, and how urgently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Reason {
    /// How urgent it is.
    pub severity: Severity,
    /// The rank in the attention list: lowest first, then by host and container. See [`crate::reason::rank`].
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required))]
    pub rank: u16,
    /// The container that causes it, as `host/name`, if known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub because: Option<String>,
    /// A stable code, such as `restart-loop`.
    pub code: String,
    /// One sentence with the evidence in it.
    pub sentence: String,
    /// What to try.
    pub advice: String,
    /// The evidence, one line each: exit codes, the engine's messages, log lines.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub evidence: Vec<String>,
}

/// How urgently something needs attention; worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr, strum::VariantArray)]
#[strum(serialize_all = "lowercase")]
pub enum Severity {
    /// Something does not do its work.
    Trouble,
    /// Something may soon not do its work.
    Warning,
    /// Nothing is wrong, but something could be better.
    Notice,
}

impl Severity {
    /// All of them, the worst first.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word used by the API.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// The label of a container that was made for one command and is removed after it.
pub const ONE_OFF_LABEL: &str = "gubernum.run-once";

/// The role of a container that an operation holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RoleKind {
    /// Made beside the container that it is to replace.
    Next,
    /// Replaced and kept until its successor is known to be well.
    Previous,
    /// Made for one command.
    OneOff,
}

/// The role of a container that an operation holds. It is listed only with its operation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ContainerRole {
    /// The role.
    pub kind: RoleKind,
    /// The name of the container it replaces or backs up.
    pub of: String,
    /// The operation that holds it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub operation: Option<u64>,
}

/// What the fleet knows of one container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Container {
    /// The host.
    pub host: String,
    /// Its name, without a leading slash.
    pub name: String,
    /// The full container id.
    pub id: String,
    /// The image reference it was created with.
    pub image: String,
    /// The digest of the image's configuration.
    pub image_id: String,
    /// The command it runs, joined with spaces.
    pub command: String,
    /// The state.
    pub state: State,
    /// Health status.
    pub health: Health,
    /// The exit code, once exited.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub exit_code: Option<i64>,
    /// Killed: out of memory.
    pub out_of_memory: bool,
    /// The engine's error when the start failed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub error: Option<String>,
    /// The last output of a failing health check, shortened.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub health_output: Option<String>,
    /// Restarts by the restart policy.
    pub restart_count: u64,
    /// Observed starts in the last ten minutes.
    pub recent_starts: u32,
    /// `no`, `always`, `on-failure` or `unless-stopped`.
    pub restart_policy: String,
    /// The stack, from labels.
    #[serde(default)]
    pub stack: Option<String>,
    /// The service of the stack, from labels.
    #[serde(default)]
    pub service: Option<String>,
    /// Ports.
    pub ports: Vec<Port>,
    /// Mounts.
    pub mounts: Vec<Mount>,
    /// Connected networks.
    pub networks: Vec<String>,
    /// Addresses and aliases in those networks.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub attachments: Vec<Attachment>,
    /// The image's architecture, where known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub architecture: Option<String>,
    /// Memory limit in bytes.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_limit: Option<u64>,
    /// The last log lines, fetched after a failure or a failing health check.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub last_lines: Vec<String>,
    /// Consecutive failed health checks.
    #[serde(default)]
    pub failing_checks: u32,
    /// Whether the last exit was requested through the engine; absent when the exit was not observed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub asked_to_end: Option<bool>,
    /// Labels.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// Whether a TTY is allocated, which merges the output streams.
    pub terminal: bool,
    /// When it was created.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it last started.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub started: Option<Timestamp>,
    /// When it last exited.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub finished: Option<Timestamp>,
    /// A newer image is available for the reference it was created with.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub newer_image: bool,
    /// The role while an operation holds it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub role: Option<Box<ContainerRole>>,
    /// Gubernum itself runs in this container.
    pub is_self: bool,
    /// Why it needs attention, if it does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub attention: Option<Reason>,
}

impl Container {
    /// `host/name`, the way people and the client write it.
    pub fn reference(&self) -> String {
        format!("{}/{}", self.host, self.name)
    }

    /// The reference that outlasts an operation: that of the container which it stands for.
    pub fn lasting_reference(&self) -> String {
        match &self.role {
            Some(role) => format!("{}/{}", self.host, role.of),
            None => self.reference(),
        }
    }

    /// An empty running container, the base for tests and simulations of the model.
    pub fn blank(host: &str, name: &str, id: &str) -> Self {
        Self {
            host: host.to_owned(),
            name: name.to_owned(),
            id: id.to_owned(),
            image: String::new(),
            image_id: String::new(),
            command: String::new(),
            state: State::Running,
            health: Health::None,
            exit_code: None,
            out_of_memory: false,
            error: None,
            health_output: None,
            restart_count: 0,
            recent_starts: 0,
            restart_policy: "no".to_owned(),
            stack: None,
            service: None,
            ports: Vec::new(),
            mounts: Vec::new(),
            networks: Vec::new(),
            attachments: Vec::new(),
            architecture: None,
            memory_limit: None,
            last_lines: Vec::new(),
            failing_checks: 0,
            asked_to_end: None,
            labels: BTreeMap::new(),
            terminal: false,
            created: Timestamp::UNIX_EPOCH,
            started: None,
            finished: None,
            newer_image: false,
            role: None,
            is_self: false,
            attention: None,
        }
    }
}

#[cfg(test)]
#[path = "container_tests.rs"]
mod tests;
