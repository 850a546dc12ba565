//! The desired state of a stack on an engine: names, labels, and the definition of each container.
//!
//! Pure; what is there now is not looked at ([`super::present`]), nor what has to be done ([`super::plan`]).

use std::collections::{BTreeMap, BTreeSet};

use crate::compose::load::{FileError, Loaded, StackInput};
use crate::compose::model::{FailureAction, Need, Network, Service, Stack};
use crate::container::STACK_LABEL;
use crate::definition::Definition;
use crate::jobs::Schedule;
use crate::own_labels::current;
use crate::plan::{NetworkSettings, VolumeSettings};
use crate::text::shown;

use super::build::DesiredBuild;
use super::labels;
use super::places::Places;

/// The most bytes of one config or secret.
pub const LARGEST_FILE: usize = 1024 * 1024;
/// The most containers of one stack.
pub const MOST_CONTAINERS: usize = 1000;

/// A network, as its engine knows it.
#[derive(Debug, Clone, PartialEq)]
pub struct DesiredNetwork {
    /// The name in the text.
    pub key: String,
    /// The name at the engine.
    pub name: String,
    /// It has to be there already.
    pub external: bool,
    /// How it is made.
    pub wish: NetworkSettings,
}

/// A volume, likewise.
#[derive(Debug, Clone, PartialEq)]
pub struct DesiredVolume {
    /// The name in the text.
    pub key: String,
    /// The name at the engine.
    pub name: String,
    /// It has to be there already.
    pub external: bool,
    /// How it is made.
    pub wish: VolumeSettings,
}

/// A config or a secret in a container.
#[derive(Clone, PartialEq, Eq)]
pub struct PlacedFile {
    /// Where it is inside.
    pub path: String,
    /// The number of its user.
    pub user: u32,
    /// The number of its group.
    pub group: u32,
    /// Its mode.
    pub mode: u32,
    /// What is in it. Never shown.
    pub content: Vec<u8>,
}

impl std::fmt::Debug for PlacedFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "PlacedFile({}, {} bytes)", self.path, self.content.len())
    }
}

/// One container.
#[derive(Debug, Clone, PartialEq)]
pub struct DesiredContainer {
    /// Its service.
    pub service: String,
    /// Its number among those of the service, from 1.
    pub number: u32,
    /// What it is to be.
    pub definition: Definition,
    /// It must be called so; otherwise one that is there keeps its name.
    pub has_fixed_name: bool,
    /// Configs and secrets.
    pub files: Vec<PlacedFile>,
    /// It runs to its end and is not started again.
    pub is_job: bool,
    /// The services it needs, in every way that the text says so.
    pub needs: BTreeMap<String, Need>,
    /// Services whose container it is bound to by its id: recreated together with it.
    pub bound_to: BTreeSet<String>,
    /// How many of its service are replaced at once; all when 0.
    pub at_once: u32,
    /// Seconds for which a new one is watched, where the text says.
    pub watch_seconds: Option<u32>,
    /// A new one is started before the old one is stopped.
    pub starts_first: bool,
    /// Seconds between two that are replaced.
    pub pause_seconds: u32,
    /// What is done when a change of it fails, where the text says.
    pub on_failure: Option<FailureAction>,
    /// How its image is built; fetched when absent.
    pub build: Option<DesiredBuild>,
    /// When it is run, where it has a schedule.
    pub schedule: Option<Schedule>,
    /// Seconds that a run of it may take.
    pub timeout_seconds: u32,
}

/// What a stack is to be on an engine.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Desired {
    /// Its name.
    pub name: String,
    /// Networks that its services are in, or that the text declares.
    pub networks: Vec<DesiredNetwork>,
    /// Volumes.
    pub volumes: Vec<DesiredVolume>,
    /// Containers; what others need comes before them.
    pub containers: Vec<DesiredContainer>,
    /// What is run by a schedule or manually, and not with the stack.
    pub jobs: Vec<DesiredContainer>,
}

/// What a stack is called and made of, to be carried to an engine.
pub struct StackDescription<'a> {
    /// Its text as it was read.
    pub loaded: &'a Loaded,
    /// What the text means.
    pub stack: &'a Stack,
    /// The stack's name.
    pub name: &'a str,
    /// Replica counts that override the files.
    pub scale: &'a BTreeMap<String, u32>,
    /// The files and variables that came with it.
    pub given: &'a StackInput<'a>,
    /// Stands for the content of configs and secrets without giving anything of it away.
    pub mark: &'a dyn Fn(&[&[u8]]) -> String,
}

/// Works out what a stack is to be on an engine.
///
/// # Errors
/// All that cannot be carried out, each at its place in the text.
pub fn desired(wish: &StackDescription<'_>) -> Result<Desired, Vec<FileError>> {
    let mut maker = Maker { wish, places: Places::new(wish.loaded), errors: Vec::new() };
    let desired = maker.whole();
    if maker.errors.is_empty() { Ok(desired) } else { Err(maker.errors) }
}

pub(super) struct Maker<'a> {
    pub(super) wish: &'a StackDescription<'a>,
    places: Places<'a>,
    pub(super) errors: Vec<FileError>,
}

impl Maker<'_> {
    /// Adds what cannot be carried out, at the place of the last of the keys.
    pub(super) fn cannot(&mut self, at: &[&str], sentence: impl Into<String>) {
        if self.errors.len() < crate::yaml::MOST_ERRORS {
            let error = self.places.error(at, sentence.into());
            self.errors.push(error);
        }
    }

    /// How many containers a service has.
    pub(super) fn replicas(&self, key: &str, service: &Service) -> u32 {
        self.wish.scale.get(key).copied().unwrap_or(service.replicas)
    }

    /// The name at the engine of what the text calls so.
    pub(super) fn engine_name(&self, key: &str, name: Option<&String>) -> String {
        name.cloned().unwrap_or_else(|| format!("{}_{key}", self.wish.name))
    }

    fn whole(&mut self) -> Desired {
        let stack = self.wish.stack;
        let used: BTreeSet<&str> = stack
            .services
            .values()
            .flat_map(|s| s.container.network.networks.iter().map(|n| n.name.as_str()))
            .collect();
        // The usual network is there only where somebody is in it.
        let networks = stack.networks.iter().filter(|(key, _)| *key != "default" || used.contains("default"));
        let networks = networks.map(|(key, network)| self.network(key, network)).collect();
        let volumes = stack.volumes.iter().map(|(key, volume)| {
            let mut labels = current(volume.labels.clone());
            labels.insert(STACK_LABEL.to_owned(), self.wish.name.to_owned());
            labels.insert(labels::VOLUME.to_owned(), key.clone());
            DesiredVolume {
                key: key.clone(),
                name: self.engine_name(key, volume.name.as_ref()),
                external: volume.external,
                wish: VolumeSettings {
                    driver: volume.driver.clone(),
                    options: volume.options.clone(),
                    labels,
                },
            }
        });
        let volumes: Vec<DesiredVolume> = volumes.collect();
        for service in self.wish.scale.keys().filter(|s| !stack.services.contains_key(*s)) {
            let sentence = format!("cannot scale '{}': no such service", shown(service, 60));
            self.cannot(&["services"], sentence);
        }
        let with_stack = stack.services.iter().filter(|(_, s)| s.schedule.is_none());
        let total: usize = with_stack.map(|(key, s)| self.replicas(key, s) as usize).sum();
        if total > MOST_CONTAINERS {
            let sentence = format!("the stack has {total} containers; the limit is {MOST_CONTAINERS}");
            self.cannot(&["services"], sentence);
            return Desired::default();
        }
        let (mut containers, mut jobs) = (Vec::new(), Vec::new());
        for service in order(stack) {
            let of_service = self.service(service, &volumes).into_iter();
            let (scheduled, with_stack): (Vec<_>, Vec<_>) = of_service.partition(|c| c.schedule.is_some());
            containers.extend(with_stack);
            jobs.extend(scheduled);
        }
        Desired { name: self.wish.name.to_owned(), networks, volumes, containers, jobs }
    }

    fn network(&mut self, key: &str, network: &Network) -> DesiredNetwork {
        let at = |attribute: &'static str| ["networks", key, attribute];
        if network.ranges.len() > 1 {
            self.cannot(
                &at("ipam"),
                "a network has one address range; keep the first, or create the network yourself and write 'external: true'",
            );
        }
        let range = network.ranges.first();
        if range.is_some_and(|r| r.range.is_some() || !r.taken.is_empty())
            || network.address_driver.as_deref().is_some_and(|d| d != "default")
            || !network.address_options.is_empty()
        {
            self.cannot(
                &at("ipam"),
                "'ipam' supports 'subnet' and 'gateway' only; remove the rest, or create the network yourself and write 'external: true'",
            );
        }
        if network.ipv4 == Some(false) {
            self.cannot(&at("enable_ipv4"), "networks without IPv4 are not supported; remove 'enable_ipv4'");
        }
        let mut labels = current(network.labels.clone());
        labels.insert(STACK_LABEL.to_owned(), self.wish.name.to_owned());
        labels.insert(labels::NETWORK.to_owned(), key.to_owned());
        DesiredNetwork {
            key: key.to_owned(),
            name: self.engine_name(key, network.name.as_ref()),
            external: network.external,
            wish: NetworkSettings {
                driver: network.driver.clone(),
                subnet: range.and_then(|r| r.subnet.clone()),
                gateway: range.and_then(|r| r.gateway.clone()),
                internal: network.internal,
                ipv6: network.ipv6 == Some(true),
                options: network.options.clone(),
                labels,
            },
        }
    }
}

/// All services that one needs, by whatever attribute.
pub(super) fn needs(service: &Service) -> BTreeMap<String, Need> {
    let mut all = service.needs.clone();
    let d = &service.container;
    let modes = [&d.network.mode, &d.rights.processes_of, &d.rights.memory_of];
    let bound = modes.into_iter().filter_map(|m| m.as_deref()?.strip_prefix("service:"));
    let from = service.volumes_from.iter().map(|m| m.of.as_str()).filter(|of| !of.starts_with("container:"));
    for name in bound.chain(from).chain(service.links.iter().map(|(to, _)| to.as_str())) {
        all.entry(name.to_owned()).or_default();
    }
    all
}

/// The services in an order in which each comes after all that it needs. (There are no circles; reading refuses them.)
fn order(stack: &Stack) -> Vec<&str> {
    let mut out: Vec<&str> = Vec::new();
    let mut placed: BTreeSet<&str> = BTreeSet::new();
    while out.len() < stack.services.len() {
        let ready: Vec<&str> = stack
            .services
            .iter()
            .filter(|(key, _)| !placed.contains(key.as_str()))
            .filter(|(_, s)| {
                needs(s).keys().all(|n| placed.contains(n.as_str()) || !stack.services.contains_key(n))
            })
            .map(|(key, _)| key.as_str())
            .collect();
        if ready.is_empty() {
            out.extend(stack.services.keys().map(String::as_str).filter(|k| !placed.contains(k)));
            break;
        }
        placed.extend(&ready);
        out.extend(ready);
    }
    out
}
