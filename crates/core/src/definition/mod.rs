//! What a container is to be: one definition for the form, the Compose text and the engine's call.
//!
//! Not here: reading and writing Compose text ([`compose`]), mistakes caught before ([`check`]), how an
//! engine is told (the engine crate).

pub mod check;
pub mod compose;
mod compose_read;
mod compose_write;
pub mod difference;
pub mod units;
pub mod variables;

#[cfg(test)]
pub(crate) mod arbitrary;
#[cfg(test)]
#[path = "properties_tests.rs"]
mod properties;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::mask::{MASK, Masker, arguments, looks_secret};

/// The longest text of one value.
pub const LONGEST_VALUE: usize = 32 * 1024;
/// The most entries of one list.
pub const MOST_ENTRIES: usize = 1000;

/// When an image is fetched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PullPolicy {
    /// Each time.
    Always,
    /// When the host does not have it.
    #[default]
    Missing,
    /// Never; it must be there.
    Never,
}

impl PullPolicy {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        match self {
            Self::Always => "always",
            Self::Missing => "missing",
            Self::Never => "never",
        }
    }
}

/// One environment variable.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct EnvironmentEntry {
    /// Its name.
    pub name: String,
    /// Its value; the mask when `hidden`.
    #[serde(default)]
    pub value: String,
    /// The value is not shown. Sent back so, it stays what it is in the container that is edited.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub hidden: bool,
}

/// A port that is published.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PortRule {
    /// The address on the host; all addresses when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The port on the host; a free one of the engine's choice when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_port: Option<u16>,
    /// The port inside.
    pub container_port: u16,
    /// `tcp`, `udp` or `sctp`.
    #[serde(default = "tcp")]
    pub protocol: String,
}

fn tcp() -> String {
    "tcp".to_owned()
}

/// What is mounted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum MountKind {
    /// A volume of the engine's.
    Volume,
    /// A folder or file of the host.
    Bind,
    /// Memory that is empty at each start.
    Tmpfs,
}

/// A folder to be made on the host before the first start.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewFolder {
    /// The number of the user it shall belong to.
    #[serde(default)]
    pub user: u32,
    /// The number of the group.
    #[serde(default)]
    pub group: u32,
    /// Its mode, e.g. `755` (octal digits); `755` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
}

/// One mount.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct MountRule {
    /// What is mounted.
    pub kind: MountKind,
    /// The volume's name (an anonymous one when absent) or the path on the host.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The path inside.
    pub target: String,
    /// Whether the container may only read it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// For a bind: make the folder when it is not there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub make: Option<NewFolder>,
    /// For a bind: how mounts spread, e.g. `rslave`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub propagation: Option<String>,
    /// For tmpfs: its most bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// For a volume that is made: its driver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// For a volume that is made: its driver's options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}

/// When the engine starts it again.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RestartRule {
    /// `no`, `always`, `unless-stopped` or `on-failure`; `no` when empty.
    #[serde(default)]
    pub policy: String,
    /// For `on-failure`: how often at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_tries: Option<u32>,
}

/// How it is found out whether it is well.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct HealthRule {
    /// No check, not even the image's.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub disabled: bool,
    /// `["CMD", "program", …]` or `["CMD-SHELL", "line"]`; the image's when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub test: Vec<String>,
    /// Milliseconds between two checks (30,000 when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_ms: Option<u64>,
    /// Milliseconds that one check may take (30,000 when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    /// Failures in a row that make it unhealthy (3 when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retries: Option<u32>,
    /// Milliseconds after the start in which failures do not count (0 when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_ms: Option<u64>,
}

/// A limit of the kernel for each process.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ProcessLimit {
    /// Its name, e.g. `nofile`.
    pub name: String,
    /// The soft limit.
    pub soft: i64,
    /// The hard limit.
    pub hard: i64,
}

/// How much it may use.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// Bytes of memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// Bytes of memory and swap together; -1 for endless swap.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_and_swap: Option<i64>,
    /// Bytes that it is pressed down to when the host runs short.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_reserved: Option<u64>,
    /// Bytes of `/dev/shm`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shared_memory: Option<u64>,
    /// Processors, e.g. 1.5.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processors: Option<f64>,
    /// Its weight against others when processors are short (1024 is usual).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_weight: Option<u32>,
    /// The processors it may run on, e.g. `0-2,4`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_set: Option<String>,
    /// Processes; -1 for no limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes: Option<i64>,
    /// The kernel's limits for each process.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub each_process: Vec<ProcessLimit>,
    /// -1000 to 1000: who is ended first when memory runs out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out_of_memory_score: Option<i32>,
}

/// A device of the host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DeviceRule {
    /// Its path on the host.
    pub host: String,
    /// Its path inside; the same when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// Of `r`, `w`, `m`; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permissions: Option<String>,
}

/// Graphics processors.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct GpuRule {
    /// How many; -1 for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<i64>,
    /// Or these.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ids: Vec<String>,
    /// The driver, e.g. `nvidia`; the engine's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
}

/// What it may do beyond the usual.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rights {
    /// Everything that the host's root may.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub privileged: bool,
    /// Its own files cannot be written.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// Capabilities added.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<String>,
    /// Capabilities taken away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub drop: Vec<String>,
    /// Devices.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<DeviceRule>,
    /// Graphics processors.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gpus: Option<GpuRule>,
    /// Security options, e.g. `no-new-privileges`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub security: Vec<String>,
    /// Further groups.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// Kernel settings of its own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub kernel: BTreeMap<String, String>,
    /// Whose processes it sees: its own when absent, `host` or `container:name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes_of: Option<String>,
    /// Whose memory it shares: `host`, `shareable`, `private`, `container:name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_of: Option<String>,
    /// `host` to do without the engine's mapping of users.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub users_of: Option<String>,
}

/// One network that it is in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct JoinedNetwork {
    /// Its name.
    pub name: String,
    /// Other names it answers to there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub aliases: Vec<String>,
    /// A fixed address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A fixed IPv6 address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv6: Option<String>,
}

/// How it is in the network.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkRule {
    /// `host`, `none` or `container:name`; with networks of its own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// The networks; the engine's usual one when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<JoinedNetwork>,
    /// Name servers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns: Vec<String>,
    /// Domains that are searched.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns_search: Vec<String>,
    /// Options of the resolver.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dns_options: Vec<String>,
    /// Further names as `name:address`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<String>,
    /// A fixed hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware_address: Option<String>,
}

/// Where its output goes.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LogRule {
    /// The engine's driver; its usual one when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// The driver's options, e.g. `max-size`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}

/// What a container is to be. Whatever is absent is the image's or the engine's.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Definition {
    /// The image with its tag or digest.
    pub image: String,
    /// The name; the target says it where one is deployed.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// When the image is fetched.
    #[serde(default)]
    pub pull: PullPolicy,
    /// The platform of the image, e.g. `linux/arm64`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// What is run before the command, in place of the image's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entrypoint: Option<Vec<String>>,
    /// The command, in place of the image's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<Vec<String>>,
    /// Its variables.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub environment: Vec<EnvironmentEntry>,
    /// `user` or `user:group`, by name or number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub working_folder: Option<String>,
    /// Its own host name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hostname: Option<String>,
    /// Its domain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub domain: Option<String>,
    /// Its labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// Published ports.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ports: Vec<PortRule>,
    /// Ports that are only said to be open, as `port/protocol`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
    /// Mounts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mounts: Vec<MountRule>,
    /// When it is started again.
    #[serde(default)]
    pub restart: RestartRule,
    /// Its health check; the image's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub health: Option<HealthRule>,
    /// Seconds between asking it to end and ending it by force (10 when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// The signal that asks it to end (SIGTERM when absent).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_signal: Option<String>,
    /// The engine takes it away when it ends.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub auto_remove: bool,
    /// A small first process that tends to orphans.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub init: Option<bool>,
    /// It has a terminal.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub terminal: bool,
    /// Its standard input stays open.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub input: bool,
    /// How much it may use.
    #[serde(default)]
    pub limits: Limits,
    /// What it may do.
    #[serde(default)]
    pub rights: Rights,
    /// Its network.
    #[serde(default)]
    pub network: NetworkRule,
    /// Its log.
    #[serde(default)]
    pub log: LogRule,
}

impl Definition {
    /// A definition of this image with everything else as the image and the engine have it.
    pub fn of(image: &str) -> Self {
        Self { image: image.to_owned(), ..Self::default() }
    }

    /// The same with the values of what looks like a secret hidden.
    #[must_use]
    pub fn masked(&self) -> Self {
        let mut masked = self.clone();
        for entry in &mut masked.environment {
            if looks_secret(&entry.name, &entry.value) {
                MASK.clone_into(&mut entry.value);
                entry.hidden = true;
            }
        }
        let mut masker = Masker::default();
        masker.learn(self.environment.iter().map(|e| (e.name.as_str(), e.value.as_str())));
        let words = |all: &mut Vec<String>| {
            *all = arguments(all).iter().map(|word| masker.text(word)).collect();
        };
        masked.command.as_mut().into_iter().chain(&mut masked.entrypoint).for_each(words);
        if let Some(health) = &mut masked.health {
            words(&mut health.test);
        }
        for (name, value) in &mut masked.labels {
            *value = if looks_secret(name, value) { MASK.to_owned() } else { masker.text(value) };
        }
        masked
    }

    /// Puts the values of `from` in place of hidden ones.
    ///
    /// # Errors
    /// The position and name of a hidden variable that `from` does not have.
    pub fn unmask(&mut self, from: Option<&Self>) -> Result<(), (usize, String)> {
        for (n, entry) in self.environment.iter_mut().enumerate().filter(|(_, e)| e.hidden) {
            let known = from.and_then(|f| f.environment.iter().find(|e| e.name == entry.name));
            let Some(known) = known.filter(|k| !k.hidden) else { return Err((n, entry.name.clone())) };
            entry.value.clone_from(&known.value);
            entry.hidden = false;
        }
        // What came back as it was shown means what it was.
        if let Some(from) = from {
            let shown = from.masked();
            if self.command == shown.command {
                self.command.clone_from(&from.command);
            }
            if self.entrypoint == shown.entrypoint {
                self.entrypoint.clone_from(&from.entrypoint);
            }
            if let (Some(own), Some(was), Some(known)) = (&mut self.health, &shown.health, &from.health)
                && own.test == was.test
            {
                own.test.clone_from(&known.test);
            }
            for (name, value) in &mut self.labels {
                if shown.labels.get(name) == Some(value)
                    && let Some(known) = from.labels.get(name)
                {
                    value.clone_from(known);
                }
            }
        }
        Ok(())
    }

    /// Milliseconds after which its health check has spoken at the latest: `None` without a check of its own.
    pub fn health_verdict_ms(&self) -> Option<u64> {
        let health = self.health.as_ref().filter(|h| !h.disabled && !h.test.is_empty())?;
        let once = health.interval_ms.unwrap_or(30_000) + health.timeout_ms.unwrap_or(30_000);
        Some(health.start_ms.unwrap_or(0) + once * u64::from(health.retries.unwrap_or(3).max(1) + 1))
    }
}
