//! Gathers what only the host and the registry know of a definition before it is checked: its host paths, ports held
//! by other programs, and the platforms of its image.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use gubernum_core::container::Container;
use gubernum_core::definition::check::{CheckContext, Finding, PathEntry, check};
use gubernum_core::definition::{Definition, MountKind, PullPolicy};
use gubernum_engine::{Endpoint, Engine};
use moka::sync::Cache;

use crate::fleet::Hub;
use crate::fleet::Links;
use crate::images::Registries;

/// How long an answer about a path is good while somebody fills in a form.
const FRESH: Duration = Duration::from_secs(10);
/// The most paths that are remembered.
const MOST_PATHS: u64 = 2000;
/// How long the host may take to tell of its paths; then nothing is said of them.
const PATHS_TIMEOUT: Duration = Duration::from_secs(8);

/// Finds the errors of definitions.
pub(super) struct DefinitionChecker {
    hub: Arc<Hub>,
    links: Arc<Links>,
    registries: Arc<Registries>,
    /// Whether the service runs in a container, where it cannot tell which ports its machine has.
    in_container: bool,
    /// What there is at paths that were asked for lately, by host and path.
    paths: Cache<(String, String), PathEntry>,
}

impl DefinitionChecker {
    pub(super) fn new(
        hub: Arc<Hub>,
        links: Arc<Links>,
        registries: Arc<Registries>,
        in_container: bool,
    ) -> Self {
        let paths = Cache::builder().max_capacity(MOST_PATHS).time_to_live(FRESH);
        let paths = paths.support_invalidation_closures().build();
        Self { hub, links, registries, in_container, paths }
    }

    /// Forgets what was heard of a host's paths: something was made there.
    pub(super) fn forget_paths(&self, host: &str) {
        let host = host.to_owned();
        // Refused only by a cache that was built without support for it.
        let _ = self.paths.invalidate_entries_if(move |(of, _), _| *of == host);
    }

    /// The errors of a definition for a host.
    pub(super) async fn check(
        &self,
        host: &str,
        engine: &Engine,
        definition: &Definition,
        replaces: Option<&Container>,
    ) -> Vec<Finding> {
        let paths = self.paths_of(host, engine, definition, replaces).await;
        let foreign_ports = self.foreign_ports(host, engine, definition, replaces);
        let (architectures, image_problem) = self.image_facts(host, definition).await;
        self.hub.look(|fleet| {
            let context = CheckContext {
                host: fleet.host(host),
                containers: fleet.containers_of(host).collect(),
                // Before the first look at them nothing is known; no engine is without any network or image.
                assets: fleet.assets_of(host).filter(|a| !a.networks.is_empty() || !a.images.is_empty()),
                replaces: replaces.map(|c| c.id.as_str()),
                paths,
                foreign_ports,
                architectures,
                image_problem,
            };
            check(definition, &context)
        })
    }

    async fn paths_of(
        &self,
        host: &str,
        engine: &Engine,
        definition: &Definition,
        replaces: Option<&Container>,
    ) -> BTreeMap<String, PathEntry> {
        let known = |path: &str| replaces.is_some_and(|c| c.mounts.iter().any(|m| m.source == path));
        let wanted: BTreeSet<String> = definition
            .mounts
            .iter()
            .filter(|m| m.kind == MountKind::Bind)
            .filter_map(|m| m.source.clone())
            .filter(|p| p.starts_with('/') && !p.split('/').any(|x| x == "..") && !known(p))
            .collect();
        let mut found = BTreeMap::new();
        let mut ask = Vec::new();
        for path in wanted {
            match self.paths.get(&(host.to_owned(), path.clone())) {
                Some(what) => drop(found.insert(path, what)),
                None => ask.push(path),
            }
        }
        if ask.is_empty() {
            return found;
        }
        match tokio::time::timeout(PATHS_TIMEOUT, engine.at_paths(&ask)).await {
            Ok(Ok(answers)) => {
                for (path, what) in ask.into_iter().zip(answers) {
                    self.paths.insert((host.to_owned(), path.clone()), what);
                    found.insert(path, what);
                }
            }
            Ok(Err(error)) => tracing::warn!(%host, "its paths cannot be checked: {error}"),
            Err(_) => tracing::warn!(%host, "paths on the host cannot be checked: the engine timed out"),
        }
        found
    }

    /// Ports of the definition that a program which is no container listens on. It can be told of a host that is
    /// this machine: there one tries to listen.
    fn foreign_ports(
        &self,
        host: &str,
        engine: &Engine,
        definition: &Definition,
        replaces: Option<&Container>,
    ) -> BTreeSet<(u16, String)> {
        let mut found = BTreeSet::new();
        let local = matches!(self.links.get(host).map(|l| l.endpoint), Some(Endpoint::Unix(_)));
        // An engine on a socket may still have a network that is not this machine's: then its name is another too.
        let here = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        let its_name = engine.facts().machine.as_str();
        if !local || self.in_container || its_name.is_empty() || its_name != here.trim() {
            return found;
        }
        let held: BTreeSet<(u16, String)> = self.hub.look(|fleet| {
            let ports = fleet.containers().flat_map(|c| &c.ports);
            ports.filter_map(|p| Some((p.host_port?, p.protocol.clone()))).collect()
        });
        let own = |port: u16| replaces.is_some_and(|c| c.ports.iter().any(|p| p.host_port == Some(port)));
        for p in &definition.ports {
            let Some(port) = p.host_port.filter(|p| *p > 0) else { continue };
            if held.contains(&(port, p.protocol.clone())) || own(port) {
                continue;
            }
            let ip = p
                .address
                .as_deref()
                .and_then(|a| a.parse().ok())
                .unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED));
            let address = SocketAddr::new(ip, port);
            let outcome = match p.protocol.as_str() {
                "tcp" => std::net::TcpListener::bind(address).map(drop),
                "udp" => std::net::UdpSocket::bind(address).map(drop),
                _ => Ok(()),
            };
            if outcome.is_err_and(|e| e.kind() == std::io::ErrorKind::AddrInUse) {
                found.insert((port, p.protocol.clone()));
            }
        }
        found
    }

    /// What the registry says of an image that the host does not have, or that is to be fetched.
    async fn image_facts(
        &self,
        host: &str,
        definition: &Definition,
    ) -> (Option<Vec<String>>, Option<String>) {
        let here = self.hub.look(|fleet| {
            let images = fleet.assets_of(host).map_or(&[][..], |a| &a.images);
            images
                .iter()
                .any(|i| i.tags.iter().any(|t| gubernum_core::image_name::same(t, &definition.image)))
        });
        let asked = match definition.pull {
            PullPolicy::Always => true,
            PullPolicy::Missing => !here,
            PullPolicy::Never => false,
        };
        if !asked || definition.image.starts_with("sha256:") {
            return (None, None);
        }
        match self.registries.meaning(&definition.image, false).await {
            Ok(meaning) => (Some(meaning.architectures), None),
            // The host may reach what the service does not: only a clear answer counts.
            Err(error @ crate::images::RegistryError::Missing { .. }) => (None, Some(error.to_string())),
            Err(_) => (None, None),
        }
    }
}
