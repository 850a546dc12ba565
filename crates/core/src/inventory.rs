//! The fleet's images, volumes, networks, stacks and ports as lists: their users, hosts and times.
//!
//! Pure views over [`Fleet`]; nothing here is kept. The records are in [`crate::assets`] and
//! [`crate::container`].

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::assets::{AssetKind, Image, Network, Volume, bare_id};
use crate::container::{Container, Health, State};
use crate::fleet::Fleet;

/// The label that marks a container as one run of a service that is not meant to stay.
const ONE_OFF_LABEL: &str = "com.docker.compose.oneoff";

/// One image on one host, with its users.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ImageCopy {
    /// The host.
    pub host: String,
    /// The image.
    #[serde(flatten)]
    pub image: Image,
    /// References of the containers made from it.
    pub used_by: Vec<String>,
    /// Unused since, as far as observed; absent while in use.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub unused_since: Option<Timestamp>,
}

/// One image over all hosts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ImageRow {
    /// The digest of its configuration.
    pub id: String,
    /// All tags on any host.
    pub tags: Vec<String>,
    /// Size of all layers on one host, in bytes.
    pub size: u64,
    /// When it was built.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// Architecture.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub architecture: Option<String>,
    /// Untagged on every host: left over from a pull or a build.
    pub untagged: bool,
    /// The image on each host.
    pub copies: Vec<ImageCopy>,
}

/// How a container uses a volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VolumeUser {
    /// The container.
    pub container: String,
    /// The path in the container.
    pub target: String,
    /// Whether it is read-only.
    pub read_only: bool,
    /// Whether the container is running.
    pub running: bool,
}

/// One volume with its users.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VolumeRow {
    /// The host.
    pub host: String,
    /// The volume.
    #[serde(flatten)]
    pub volume: Volume,
    /// Containers that mount it.
    pub used_by: Vec<VolumeUser>,
    /// Unused since, as far as observed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub unused_since: Option<Timestamp>,
}

/// A container in a network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NetworkMember {
    /// The container.
    pub container: String,
    /// Its address there, while it runs.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub address: Option<String>,
    /// Its IPv6 address there.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub ipv6: Option<String>,
    /// Network aliases.
    pub aliases: Vec<String>,
}

/// One network with its members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NetworkRow {
    /// The host.
    pub host: String,
    /// The network.
    #[serde(flatten)]
    pub network: Network,
    /// Connected containers.
    pub members: Vec<NetworkMember>,
    /// Built-in network of the engine.
    pub built_in: bool,
    /// Unused since, as far as observed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub unused_since: Option<Timestamp>,
}

/// One service of a stack.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServiceRow {
    /// Its name.
    pub name: String,
    /// Containers that should be up: without one-offs and those that exited successfully and are not restarted.
    pub wanted: u32,
    /// Running containers.
    pub running: u32,
    /// Healthy containers.
    pub healthy: u32,
    /// Unhealthy containers.
    pub unhealthy: u32,
    /// Containers that need attention.
    pub troubled: u32,
    /// Images.
    pub images: Vec<String>,
    /// Published ports as `host:port`.
    pub ports: Vec<String>,
    /// Hosts.
    pub hosts: Vec<String>,
    /// References of the containers.
    pub containers: Vec<String>,
}

/// A stack over all hosts, from container labels.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StackRow {
    /// Its name.
    pub name: String,
    /// Over all services.
    pub wanted: u32,
    /// Over all services.
    pub running: u32,
    /// How many need attention, over all services.
    pub troubled: u32,
    /// Hosts.
    pub hosts: Vec<String>,
    /// Compose files, from labels.
    pub files: Vec<String>,
    /// Services.
    pub services: Vec<ServiceRow>,
}

/// A published port of a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PortRow {
    /// The host.
    pub host: String,
    /// The host address; absent if not reported, as with host networking.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub address: Option<String>,
    /// The host port.
    pub port: u16,
    /// `tcp`, `udp` or `sctp`.
    pub protocol: String,
    /// Reference of the container behind it.
    pub container: String,
    /// The container port.
    pub container_port: u16,
    /// Listening now; otherwise reserved by a stopped container.
    pub listening: bool,
    /// Host networking: the port that the image exposes.
    pub host_network: bool,
    /// Another container claims the same port.
    pub clash: bool,
    /// The URL for a browser, for TCP ports of hosts with an address for published ports.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub url: Option<String>,
}

/// All images, the largest first.
pub fn images(fleet: &Fleet) -> Vec<ImageRow> {
    let mut rows: BTreeMap<String, ImageRow> = BTreeMap::new();
    for host in fleet.hosts() {
        let mut users: BTreeMap<&str, Vec<String>> = BTreeMap::new();
        for c in fleet.users_of(&host.name) {
            let of_image = users.entry(bare_id(&c.image_id)).or_default();
            let reference = c.lasting_reference();
            if !of_image.contains(&reference) {
                of_image.push(reference);
            }
        }
        for image in fleet.assets_of(&host.name).map_or(&[][..], |a| &a.images) {
            let row = rows.entry(image.id.clone()).or_insert_with(|| ImageRow {
                id: image.id.clone(),
                tags: Vec::new(),
                size: image.size,
                created: image.created,
                architecture: image.architecture.clone(),
                untagged: true,
                copies: Vec::new(),
            });
            for tag in &image.tags {
                if !row.tags.contains(tag) {
                    row.tags.push(tag.clone());
                }
            }
            row.untagged &= image.tags.is_empty();
            row.architecture = row.architecture.take().or_else(|| image.architecture.clone());
            let mut used_by = users.get(image.id.as_str()).cloned().unwrap_or_default();
            used_by.sort();
            let unused_since = fleet.unused_since(&host.name, AssetKind::Image, &image.id);
            row.copies.push(ImageCopy {
                host: host.name.clone(),
                image: image.clone(),
                used_by,
                unused_since,
            });
        }
    }
    let mut rows: Vec<ImageRow> = rows.into_values().collect();
    for row in &mut rows {
        row.tags.sort();
    }
    rows.sort_by(|a, b| b.size.cmp(&a.size).then_with(|| a.id.cmp(&b.id)));
    rows
}

/// All volumes by host and name.
pub fn volumes(fleet: &Fleet) -> Vec<VolumeRow> {
    let mut rows = Vec::new();
    for host in fleet.hosts() {
        let mut users: BTreeMap<&str, Vec<VolumeUser>> = BTreeMap::new();
        for c in fleet.users_of(&host.name) {
            for mount in c.mounts.iter().filter(|m| m.kind == "volume") {
                users.entry(&mount.source).or_default().push(VolumeUser {
                    container: c.lasting_reference(),
                    target: mount.target.clone(),
                    read_only: mount.read_only,
                    running: c.state.is_alive(),
                });
            }
        }
        for volume in fleet.assets_of(&host.name).map_or(&[][..], |a| &a.volumes) {
            rows.push(VolumeRow {
                host: host.name.clone(),
                used_by: users.remove(volume.name.as_str()).unwrap_or_default(),
                unused_since: fleet.unused_since(&host.name, AssetKind::Volume, &volume.name),
                volume: volume.clone(),
            });
        }
    }
    rows.sort_by(|a, b| (&a.host, &a.volume.name).cmp(&(&b.host, &b.volume.name)));
    rows
}

/// All networks by host and name.
pub fn networks(fleet: &Fleet) -> Vec<NetworkRow> {
    let mut rows = Vec::new();
    for host in fleet.hosts() {
        let mut members: BTreeMap<&str, Vec<NetworkMember>> = BTreeMap::new();
        for c in fleet.users_of(&host.name) {
            for name in &c.networks {
                let found = c.attachments.iter().find(|a| a.network == *name);
                members.entry(name).or_default().push(NetworkMember {
                    container: c.lasting_reference(),
                    address: found.and_then(|a| a.address.clone()),
                    ipv6: found.and_then(|a| a.ipv6.clone()),
                    aliases: found.map(|a| a.aliases.clone()).unwrap_or_default(),
                });
            }
        }
        for network in fleet.assets_of(&host.name).map_or(&[][..], |a| &a.networks) {
            rows.push(NetworkRow {
                host: host.name.clone(),
                members: members.get(network.name.as_str()).cloned().unwrap_or_default(),
                built_in: network.is_built_in(),
                unused_since: fleet.unused_since(&host.name, AssetKind::Network, &network.id),
                network: network.clone(),
            });
        }
    }
    rows.sort_by(|a, b| (&a.host, &a.network.name).cmp(&(&b.host, &b.network.name)));
    rows
}

/// Whether a container should be up.
fn is_wanted(c: &Container) -> bool {
    if c.labels.get(ONE_OFF_LABEL).is_some_and(|v| v.eq_ignore_ascii_case("true")) {
        return false;
    }
    let done = c.state == State::Exited && c.exit_code == Some(0);
    !(done && matches!(c.restart_policy.as_str(), "no" | "on-failure"))
}

/// All stacks by name.
pub fn stacks(fleet: &Fleet) -> Vec<StackRow> {
    let mut stacks: BTreeMap<&str, BTreeMap<&str, Vec<&Container>>> = BTreeMap::new();
    for c in fleet.containers() {
        if let Some(stack) = &c.stack {
            let service = c.service.as_deref().unwrap_or(&c.name);
            stacks.entry(stack).or_default().entry(service).or_default().push(c);
        }
    }
    stacks.into_iter().map(|(name, services)| stack_row(name, services)).collect()
}

fn stack_row(name: &str, services: BTreeMap<&str, Vec<&Container>>) -> StackRow {
    let (mut hosts, mut files) = (BTreeSet::new(), BTreeSet::new());
    for c in services.values().flatten() {
        hosts.insert(c.host.clone());
        files.extend(c.labels.get("com.docker.compose.project.config_files").cloned());
    }
    let services: Vec<ServiceRow> = services.into_iter().map(|(n, all)| service_row(n, &all)).collect();
    let sum = |of: fn(&ServiceRow) -> u32| services.iter().map(of).sum();
    StackRow {
        name: name.to_owned(),
        wanted: sum(|s| s.wanted),
        running: sum(|s| s.running),
        troubled: sum(|s| s.troubled),
        hosts: hosts.into_iter().collect(),
        files: files.into_iter().collect(),
        services,
    }
}

fn service_row(name: &str, all: &[&Container]) -> ServiceRow {
    let count = |fits: fn(&Container) -> bool| {
        u32::try_from(all.iter().filter(|c| fits(c)).count()).unwrap_or(u32::MAX)
    };
    let set = |of: fn(&Container) -> Vec<String>| {
        all.iter().flat_map(|c| of(c)).collect::<BTreeSet<_>>().into_iter().collect()
    };
    ServiceRow {
        name: name.to_owned(),
        wanted: count(is_wanted),
        running: count(crate::figures::is_up),
        healthy: count(|c| c.state == State::Running && c.health == Health::Healthy),
        unhealthy: count(|c| c.state == State::Running && c.health == Health::Unhealthy),
        troubled: count(crate::figures::needs_attention),
        images: set(|c| vec![c.image.clone()]),
        ports: set(|c| c.ports.iter().filter_map(|p| Some(format!("{}:{}", c.host, p.host_port?))).collect()),
        hosts: set(|c| vec![c.host.clone()]),
        containers: set(|c| vec![c.reference()]),
    }
}

/// What listens where, by host and port.
pub fn ports(fleet: &Fleet) -> Vec<PortRow> {
    let mut rows: Vec<PortRow> = Vec::new();
    for c in fleet.containers() {
        let host_network = c.networks.iter().any(|n| n == "host");
        let public = fleet.host(&c.host).and_then(|h| h.ports_address.clone());
        for p in &c.ports {
            let port = match (p.host_port, host_network) {
                (Some(port), _) => port,
                (None, true) => p.container_port,
                (None, false) => continue,
            };
            let listening = c.state == State::Running || c.state == State::Paused;
            let url = public
                .as_deref()
                .filter(|_| p.protocol == "tcp")
                .map(|to| address_of(to, p.address.as_deref(), port));
            rows.push(PortRow {
                host: c.host.clone(),
                address: p.address.clone(),
                port,
                protocol: p.protocol.clone(),
                container: c.reference(),
                container_port: p.container_port,
                listening,
                host_network: p.host_port.is_none(),
                clash: false,
                url,
            });
        }
    }
    rows.sort_by(|a, b| {
        (&a.host, a.port, &a.protocol, &a.address).cmp(&(&b.host, b.port, &b.protocol, &b.address))
    });
    mark_clashes(&mut rows);
    rows
}

fn mark_clashes(rows: &mut [PortRow]) {
    let every = |a: &Option<String>| a.as_deref().is_none_or(|a| matches!(a, "0.0.0.0" | "::"));
    for i in 0..rows.len() {
        for j in i + 1..rows.len() {
            let (a, b) = (&rows[i], &rows[j]);
            if (&a.host, a.port) != (&b.host, b.port) {
                break;
            }
            let meets = every(&a.address) || every(&b.address) || a.address == b.address;
            if a.protocol == b.protocol && a.container != b.container && meets {
                rows[i].clash = true;
                rows[j].clash = true;
            }
        }
    }
}

/// Where a browser finds a port: on the host's address for published ports, unless it listens on loopback only.
fn address_of(public: &str, address: Option<&str>, port: u16) -> String {
    let on = match address {
        Some(loopback) if loopback.starts_with("127.") || loopback == "::1" => loopback,
        _ => public,
    };
    let scheme = if port == 443 || port == 8443 { "https" } else { "http" };
    let on = if on.contains(':') && !on.starts_with('[') { format!("[{on}]") } else { on.to_owned() };
    match port {
        80 | 443 => format!("{scheme}://{on}/"),
        _ => format!("{scheme}://{on}:{port}/"),
    }
}

#[cfg(test)]
#[path = "inventory_tests.rs"]
mod tests;
