//! What an object needs on the destination host, as a stack's file would say it, so that the same planner creates it
//! ([`crate::stack::plan_stack`]), with the volumes whose data is copied.

use std::collections::BTreeMap;

use crate::assets::{Assets, Network, Volume};
use crate::container::STACK_LABEL;
use crate::definition::clone::clone_of;
use crate::definition::{Definition, MountKind, PullPolicy};
use crate::plan::request::MoveRequest;
use crate::plan::{NetworkSettings, VolumeSettings};
use crate::stack::desired::{DesiredNetwork, DesiredVolume};
use crate::stack::present::keep_anonymous_volumes;
use crate::stack::{Desired, DesiredContainer, PlacedFile, Present, PresentContainer, labels};

use super::ports::exchanged;

/// Names there with names here.
pub type Copies = BTreeMap<String, String>;

/// What one container needs there. `moves` keeps what only one can have; a copy goes without its place in a stack, its fixed
/// addresses and the names of its anonymous volumes.
pub fn of_container(
    request: &MoveRequest,
    moves: bool,
    original: &PresentContainer,
    files: Vec<PlacedFile>,
    assets: &Assets,
) -> (Desired, Copies) {
    let of = &original.definition;
    let mut definition = of.clone();
    if !moves {
        definition = Definition { mounts: of.mounts.clone(), ..clone_of(of) };
    }
    definition.name = request.new_name().to_owned();
    definition.ports = exchanged(&definition.ports, &request.ports);
    definition.pull = if request.pull { PullPolicy::Always } else { PullPolicy::Missing };
    let networks = networks(&definition, assets);
    let mut desired = Desired {
        networks,
        containers: vec![DesiredContainer {
            service: String::new(),
            number: 1,
            definition,
            has_fixed_name: true,
            files,
            is_job: false,
            needs: BTreeMap::new(),
            bound_to: Default::default(),
            at_once: 0,
            watch_seconds: None,
            starts_first: false,
            pause_seconds: 0,
            on_failure: None,
            build: None,
            schedule: None,
            timeout_seconds: 0,
        }],
        ..Desired::default()
    };
    let mut copies = Copies::new();
    for container in &mut desired.containers {
        for mount in container.definition.mounts.iter_mut().filter(|m| m.kind == MountKind::Volume) {
            let Some(source) = mount.source.clone() else { continue };
            let Some(volume) = assets.volumes.iter().find(|v| v.name == source) else { continue };
            let name =
                if moves || !is_anonymous(&source) { source.clone() } else { another_name(&source, request) };
            mount.source = Some(name.clone());
            if copies.insert(name.clone(), source).is_none() {
                desired.volumes.push(like(volume, name));
            }
        }
    }
    (desired, copies)
}

/// What one volume needs there.
pub fn of_volume(request: &MoveRequest, volume: &Volume) -> (Desired, Copies) {
    let name = request.new_name().to_owned();
    let copies = [(name.clone(), volume.name.clone())].into();
    (Desired { volumes: vec![like(volume, name)], ..Desired::default() }, copies)
}

/// Adds the anonymous volumes of a stack's containers to what its text means there, and gives the volumes whose data goes along.
/// Those that the text says to be there already do not.
pub fn of_stack(request: &MoveRequest, moves: bool, desired: &mut Desired, original: &Present<'_>) -> Copies {
    let assets = &original.assets;
    let stack = request.origin().1;
    let mut copies = Copies::new();
    for volume in desired.volumes.iter().filter(|v| !v.external) {
        let is_it = |v: &&Volume| {
            v.labels.get(STACK_LABEL).is_some_and(|of| of == stack)
                && v.labels.get(labels::VOLUME).is_some_and(|key| *key == volume.key)
        };
        let usual = [volume.name.clone(), format!("{stack}_{}", volume.key)];
        let here = assets
            .volumes
            .iter()
            .find(is_it)
            .or_else(|| assets.volumes.iter().find(|v| usual.contains(&v.name)));
        if let Some(here) = here {
            copies.insert(volume.name.clone(), here.name.clone());
        }
    }
    let mut volumes = Vec::new();
    for container in &mut desired.containers {
        let Some(there) = original.position(container).and_then(|at| original.containers.get(at)) else {
            continue;
        };
        keep_anonymous_volumes(&mut container.definition, &there.definition);
        for mount in container.definition.mounts.iter_mut().filter(|m| m.kind == MountKind::Volume) {
            let Some(source) = mount.source.clone().filter(|s| is_anonymous(s)) else { continue };
            let Some(volume) = assets.volumes.iter().find(|v| v.name == source) else { continue };
            let name = if moves { source.clone() } else { another_name(&source, request) };
            mount.source = Some(name.clone());
            copies.insert(name.clone(), source);
            volumes.push(like(volume, name));
        }
    }
    desired.volumes.extend(volumes);
    copies
}

/// What a stack's files declare as existing is copied along where it does not exist: networks are made like here, volumes get the data.
/// What is there is used as it is.
pub fn bring_external(desired: &mut Desired, here: &Assets, there: &Assets, copies: &mut Copies) {
    for network in desired.networks.iter_mut().filter(|n| n.external) {
        let found = here.networks.iter().find(|n| n.name == network.name && !n.is_built_in());
        if let Some(found) = found.filter(|n| there.networks.iter().all(|t| t.name != n.name)) {
            network.external = false;
            network.wish = network_like(found, false);
        }
    }
    for volume in desired.volumes.iter_mut().filter(|v| v.external) {
        let found = here.volumes.iter().find(|v| v.name == volume.name);
        if let Some(found) = found.filter(|v| there.volumes.iter().all(|t| t.name != v.name)) {
            copies.insert(found.name.clone(), found.name.clone());
            *volume = DesiredVolume { key: volume.key.clone(), ..like(found, found.name.clone()) };
        }
    }
}

/// The networks that a container is in, to be made like here where they are not there. The addresses are the other engine's
/// choice, unless the container has a fixed one.
fn networks(definition: &Definition, assets: &Assets) -> Vec<DesiredNetwork> {
    let joined = definition.network.networks.iter();
    let made = joined.filter_map(|j| {
        let here = assets.networks.iter().find(|n| n.name == j.name && !n.is_built_in())?;
        let is_fixed = j.address.is_some() || j.ipv6.is_some();
        let wish = network_like(here, is_fixed);
        Some(DesiredNetwork { key: here.name.clone(), name: here.name.clone(), external: false, wish })
    });
    made.collect()
}

fn network_like(network: &Network, with_addresses: bool) -> NetworkSettings {
    let range = network.subnets.first().filter(|_| with_addresses);
    NetworkSettings {
        driver: Some(network.driver.clone()),
        subnet: range.map(|r| r.subnet.clone()),
        gateway: range.and_then(|r| r.gateway.clone()),
        internal: network.internal,
        ipv6: network.ipv6,
        // What one engine fills in another may not know.
        options: BTreeMap::new(),
        labels: network.labels.clone(),
    }
}

fn like(volume: &Volume, name: String) -> DesiredVolume {
    let wish = VolumeSettings {
        driver: (volume.driver != "local").then(|| volume.driver.clone()),
        options: volume.options.clone(),
        labels: volume.labels.clone(),
    };
    DesiredVolume { key: name.clone(), name, external: false, wish }
}

/// The name of a volume that an engine made up.
fn is_anonymous(source: &str) -> bool {
    source.len() == 64 && source.bytes().all(|b| b.is_ascii_hexdigit())
}

/// A made-up name for the copy of an anonymous volume: the same for the same request, so that a preview holds.
fn another_name(source: &str, request: &MoveRequest) -> String {
    let salt = format!("{source} {} {}", request.to, request.new_name());
    blake3::hash(salt.as_bytes()).to_hex().to_string()
}
