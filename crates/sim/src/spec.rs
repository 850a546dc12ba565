//! The settings of a simulated container, parsed from the engine API's body.

use std::collections::BTreeMap;

use serde::Deserialize;
use serde_json::Value;

use crate::program::{PROGRAM_LABEL, Program};

/// A published or inner port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PortSpec {
    /// The host's port, if published.
    pub host: Option<u16>,
    /// The inner port.
    pub container: u16,
    /// `tcp` or `udp`.
    pub protocol: String,
}

/// A mount.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VolumeSpec {
    /// The volume's name, or a host path when it begins with `/`; made up when empty.
    pub source: String,
    /// The path inside.
    pub target: String,
    /// Whether it may only be read.
    pub read_only: bool,
}

/// How the health check goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HealthPlan {
    /// Milliseconds between two checks.
    pub interval: u64,
    /// The check from which on it fails; never when `None`.
    pub fails_from: Option<u32>,
    /// What a failing check prints.
    pub output: String,
}

/// All settings of a container.
#[derive(Debug, Clone)]
pub struct ContainerSpec {
    /// Its name.
    pub name: String,
    /// Its image.
    pub image: String,
    /// Its command.
    pub command: Vec<String>,
    /// `NAME=value` pairs.
    pub environment: Vec<String>,
    /// Labels.
    pub labels: BTreeMap<String, String>,
    /// Whether it has a terminal.
    pub terminal: bool,
    /// Ports.
    pub ports: Vec<PortSpec>,
    /// Mounts.
    pub volumes: Vec<VolumeSpec>,
    /// The network.
    pub network: String,
    /// The restart policy's name.
    pub restart_policy: String,
    /// The health check.
    pub health: Option<HealthPlan>,
    /// The grace period in seconds.
    pub stop_timeout: Option<u32>,
    /// Its memory limit in bytes.
    pub memory_limit: Option<u64>,
    /// What it does.
    pub program: Program,
}

impl ContainerSpec {
    /// A container that idles.
    pub fn new(name: &str, image: &str) -> Self {
        Self {
            name: name.to_owned(),
            image: image.to_owned(),
            command: vec!["/app/run".to_owned()],
            environment: Vec::new(),
            labels: BTreeMap::new(),
            terminal: false,
            ports: Vec::new(),
            volumes: Vec::new(),
            network: "bridge".to_owned(),
            restart_policy: "no".to_owned(),
            health: None,
            stop_timeout: None,
            memory_limit: None,
            program: Program::idle(),
        }
    }

    /// Reads the body of the engine API's create call, with what the image brings filled in.
    pub(crate) fn from_api(name: &str, body: &Value) -> Result<Self, String> {
        let create = Create::deserialize(body).map_err(|e| format!("invalid JSON: {e}"))?;
        let labels = create.labels.unwrap_or_default();
        let command: Vec<String> =
            create.entrypoint.into_iter().flatten().chain(create.cmd.into_iter().flatten()).collect();
        let environment = create.env.unwrap_or_default();
        let program = match labels.get(PROGRAM_LABEL) {
            Some(json) => serde_json::from_str(json).map_err(|e| format!("bad program: {e}"))?,
            None => Program::of_command(&command, &environment),
        };
        let host = create.host_config.unwrap_or_default();
        let health = create.healthcheck.map(|h| HealthPlan {
            interval: h.interval / 1_000_000,
            fails_from: h.test.iter().any(|t| t.contains("false")).then_some(0),
            output: "bad\n".to_owned(),
        });
        Ok(Self {
            command,
            environment,
            terminal: create.tty,
            volumes: mounts(&host, create.volumes.unwrap_or_default().into_keys()),
            ports: host.port_bindings.unwrap_or_default().iter().flat_map(|(k, v)| bindings(k, v)).collect(),
            network: host
                .network_mode
                .filter(|m| !m.is_empty() && m != "default")
                .unwrap_or_else(|| "bridge".to_owned()),
            restart_policy: host
                .restart_policy
                .map(|p| p.name)
                .filter(|n| !n.is_empty())
                .unwrap_or_else(|| "no".to_owned()),
            health,
            memory_limit: host.memory.filter(|&m| m > 0),
            stop_timeout: create.stop_timeout,
            labels,
            program,
            ..Self::new(name, &create.image)
        })
    }
}

/// What is mounted: what the host configuration says, then the image's volumes that nothing else takes the place of.
fn mounts(host: &HostConfig, anonymous: impl Iterator<Item = String>) -> Vec<VolumeSpec> {
    let mut found: Vec<VolumeSpec> = Vec::new();
    for text in host.binds.iter().flatten() {
        let mut parts = text.split(':');
        if let (Some(source), Some(target)) = (parts.next(), parts.next()) {
            let read_only = parts.next().is_some_and(|o| o.split(',').any(|o| o == "ro"));
            found.push(VolumeSpec { source: source.to_owned(), target: target.to_owned(), read_only });
        }
    }
    for m in host.mounts.iter().flatten().filter(|m| m["Type"] != "tmpfs") {
        found.push(VolumeSpec {
            source: m["Source"].as_str().unwrap_or_default().to_owned(),
            target: m["Target"].as_str().unwrap_or_default().to_owned(),
            read_only: m["ReadOnly"].as_bool().unwrap_or(false),
        });
    }
    for target in anonymous {
        if !found.iter().any(|v| v.target == target) {
            found.push(VolumeSpec { source: String::new(), target, read_only: false });
        }
    }
    found
}

fn bindings(key: &str, bindings: &Value) -> Vec<PortSpec> {
    let (port, protocol) = key.split_once('/').unwrap_or((key, "tcp"));
    let Ok(container) = port.parse() else { return Vec::new() };
    let each = bindings.as_array().map(Vec::as_slice).unwrap_or_default();
    each.iter()
        .map(|b| PortSpec {
            host: b["HostPort"].as_str().and_then(|p| p.parse().ok()),
            container,
            protocol: protocol.to_owned(),
        })
        .collect()
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Create {
    image: String,
    entrypoint: Option<Vec<String>>,
    cmd: Option<Vec<String>>,
    env: Option<Vec<String>>,
    labels: Option<BTreeMap<String, String>>,
    #[serde(default)]
    tty: bool,
    volumes: Option<BTreeMap<String, Value>>,
    healthcheck: Option<Healthcheck>,
    stop_timeout: Option<u32>,
    host_config: Option<HostConfig>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Healthcheck {
    #[serde(default)]
    test: Vec<String>,
    #[serde(default)]
    interval: u64,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "PascalCase")]
struct HostConfig {
    port_bindings: Option<BTreeMap<String, Value>>,
    network_mode: Option<String>,
    binds: Option<Vec<String>>,
    mounts: Option<Vec<Value>>,
    restart_policy: Option<Policy>,
    memory: Option<u64>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Policy {
    name: String,
}
