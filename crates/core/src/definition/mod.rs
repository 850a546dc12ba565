//! The definition of a container: the same for the form, the Compose file and the engine's call.
//!
//! Not here: reading and writing Compose text ([`compose`]), errors caught before ([`check`]), how an
//! engine is told (the engine crate).

pub mod check;
pub mod clone;
pub mod compose;
mod compose_read;
mod compose_write;
pub mod difference;
mod limits;
mod mounts;
mod network;
mod rights;
mod running;
pub mod units;
pub mod variables;

#[cfg(test)]
pub(crate) mod arbitrary;
#[cfg(test)]
#[path = "properties_tests.rs"]
mod properties;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub use limits::{BlockDeviceRate, BlockDeviceWeight, BlockLimits, Limits, ProcessLimit};
pub use mounts::{MountKind, MountRule, NewFolder};
pub use network::{NetworkConnection, NetworkRule, PortRule};
pub use rights::{DeviceRule, GpuRule, Rights};
pub use running::{EnvironmentEntry, HealthRule, LogRule, PullPolicy, RestartRule};

use crate::mask::{MASK, Masker, arguments, looks_secret};

/// The longest text of one value.
pub const LONGEST_VALUE: usize = 32 * 1024;
/// The most entries of one list.
pub const MOST_ENTRIES: usize = 1000;

/// A container's settings. Absent settings are the image's or the engine's.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Definition {
    /// The image with its tag or digest.
    pub image: String,
    /// The name; taken from the target when deploying.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// Pull policy.
    #[serde(default)]
    pub pull: PullPolicy,
    /// Platform, such as `linux/arm64`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// Entrypoint, instead of the image's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entrypoint: Option<Vec<String>>,
    /// Command, instead of the image's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<Vec<String>>,
    /// Environment variables.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub environment: Vec<EnvironmentEntry>,
    /// `user` or `user:group`, by name or number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Working directory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub working_folder: Option<String>,
    /// Hostname.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hostname: Option<String>,
    /// Domain name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub domain: Option<String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// OCI annotations.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub annotations: BTreeMap<String, String>,
    /// Published ports.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ports: Vec<PortRule>,
    /// Exposed ports, as `port/protocol`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
    /// Mounts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mounts: Vec<MountRule>,
    /// Restart policy.
    #[serde(default)]
    pub restart: RestartRule,
    /// Health check; the image's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub health: Option<HealthRule>,
    /// Stop grace period in seconds, before it is killed; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Stop signal; SIGTERM when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_signal: Option<String>,
    /// Remove the container when it exits.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub auto_remove: bool,
    /// An init process that reaps orphans.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub init: Option<bool>,
    /// Allocate a TTY.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub terminal: bool,
    /// Keep standard input open.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub input: bool,
    /// Resource limits.
    #[serde(default)]
    pub limits: Limits,
    /// Privileges and namespaces.
    #[serde(default)]
    pub rights: Rights,
    /// Network settings.
    #[serde(default)]
    pub network: NetworkRule,
    /// Log driver and options.
    #[serde(default)]
    pub log: LogRule,
    /// The OCI runtime, by the engine's name for it; the engine's default when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runtime: Option<String>,
    /// Storage driver options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub storage: BTreeMap<String, String>,
}

impl Definition {
    /// A definition of this image with everything else as the image and the engine have it.
    pub fn for_image(image: &str) -> Self {
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
