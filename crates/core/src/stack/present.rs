//! The present state of a stack on a host, made comparable with the desired one.
//!
//! Engines tell some things in other words than they were told, tools put labels of their own beside the common ones, and
//! data has to stay where it is: what differs for such reasons alone is no difference.

use std::collections::BTreeMap;

use crate::assets::{Assets, bare_id};
use crate::container::{Container, State};
use crate::definition::check::Finding;
use crate::definition::{Definition, MountKind};
use crate::image_name::same;

use super::desired::DesiredContainer;
use super::labels;

/// A container of the stack that is there.
#[derive(Debug, Clone)]
pub struct PresentContainer {
    /// What the fleet knows of it.
    pub container: Container,
    /// Its settings.
    pub definition: Definition,
}

impl PresentContainer {
    /// The service that it belongs to.
    pub fn service(&self) -> &str {
        self.container.service.as_deref().unwrap_or_default()
    }

    /// Its number in the service; one without a number is the first.
    pub fn number(&self) -> u32 {
        self.container.labels.get(labels::NUMBER).and_then(|n| n.parse().ok()).unwrap_or(1)
    }

    /// Whether it was run manually beside those of its service.
    pub fn is_one_off(&self) -> bool {
        self.container.labels.get(labels::ONE_OFF).is_some_and(|v| v.eq_ignore_ascii_case("true"))
    }

    /// Whether it has come to a good end.
    pub fn is_done(&self) -> bool {
        self.container.state == State::Exited && self.container.exit_code == Some(0)
    }
}

/// What is on a host.
#[derive(Debug, Clone, Default)]
pub struct Present<'a> {
    /// The host.
    pub host: &'a str,
    /// The stack's containers.
    pub containers: Vec<PresentContainer>,
    /// Ids and names of all containers of the host.
    pub names: BTreeMap<String, String>,
    /// Images, volumes and networks.
    pub assets: Assets,
    /// Whether the engine can change limits and restart policy of what runs.
    pub changes_in_place: bool,
    /// Errors that were found in what a container is to be, by its name.
    pub findings: BTreeMap<String, Vec<Finding>>,
}

impl Present<'_> {
    /// The id of the image that a name means on the host.
    pub fn image_id(&self, image: &str) -> Option<&str> {
        let named =
            self.assets.images.iter().find(|i| {
                i.tags.iter().chain(&i.digests).any(|tag| same(tag, image)) || bare_id(image) == i.id
            });
        named.map(|i| i.id.as_str())
    }

    /// Whether the host has the image of this name.
    pub fn has_image(&self, image: &str) -> bool {
        self.image_id(image).is_some()
    }

    /// Which container is the one that is wanted. Where several say that they are, as after a change that was not finished by
    /// hand, the one that has the name.
    pub fn position(&self, wanted: &DesiredContainer) -> Option<usize> {
        let is_it = |c: &PresentContainer| {
            c.service() == wanted.service && c.number() == wanted.number && !c.is_one_off()
        };
        let all = self.containers.iter().enumerate().filter(|(_, c)| is_it(c));
        let by_name = |c: &PresentContainer| {
            let name = &c.container.name;
            (*name != wanted.definition.name, name.len())
        };
        all.min_by_key(|(_, c)| by_name(c)).map(|(n, _)| n)
    }
}

/// What a container is to be and what it is, so that only what matters differs.
pub(super) fn comparable(
    wanted: &DesiredContainer,
    present: &PresentContainer,
    host: &Present<'_>,
) -> (Definition, Definition) {
    let mut next = wanted.definition.clone();
    let mut current = present.definition.clone();
    if !wanted.has_fixed_name {
        next.name.clone_from(&current.name);
    }
    if same(&current.image, &next.image) {
        current.image.clone_from(&next.image);
    }
    current.platform = current.platform.or_else(|| next.platform.clone());
    keep_anonymous_volumes(&mut next, &current);
    as_it_was_told(&mut current, &next);
    without_defaults(&mut current, &next);
    for mode in [&mut current.network.mode, &mut current.rights.processes_of, &mut current.rights.memory_of] {
        let Some(id) = mode.as_deref().and_then(|m| m.strip_prefix("container:")) else { continue };
        if let Some(name) = host.names.get(id) {
            *mode = Some(format!("container:{name}"));
        }
    }
    // What tools put beside the labels that all have in common says nothing of what runs.
    current.labels.retain(|label, _| !label.starts_with(labels::COMMON));
    for (label, value) in next.labels.iter().filter(|(label, _)| label.starts_with(labels::COMMON)) {
        current.labels.insert(label.clone(), value.clone());
    }
    if let Some(set) = next.labels.get(labels::SET) {
        current.labels.entry(labels::SET.to_owned()).or_insert_with(|| set.clone());
    }
    (current, next)
}

/// An anonymous volume that is there stays, with its data.
pub(crate) fn keep_anonymous_volumes(next: &mut Definition, current: &Definition) {
    let is_anonymous = |source: &str| source.len() == 64 && source.bytes().all(|b| b.is_ascii_hexdigit());
    let there = current.mounts.iter().filter(|m| m.kind == MountKind::Volume);
    for mount in there.filter(|m| m.source.as_deref().is_some_and(is_anonymous)) {
        match next.mounts.iter_mut().find(|m| m.target == mount.target) {
            Some(wanted) if wanted.kind == MountKind::Volume && wanted.source.is_none() => {
                wanted.source.clone_from(&mount.source);
            }
            Some(_) => {}
            // The image asks for it.
            None => next.mounts.push(mount.clone()),
        }
    }
}

/// Puts what engines do not tell back, or in the order in which it was told to them.
fn as_it_was_told(current: &mut Definition, next: &Definition) {
    for mount in &mut current.mounts {
        let wanted = next.mounts.iter().find(|m| m.target == mount.target && m.source == mount.source);
        if let Some(wanted) = wanted {
            mount.make.clone_from(&wanted.make);
            if mount.kind == MountKind::Volume {
                mount.driver.clone_from(&wanted.driver);
                mount.options.clone_from(&wanted.options);
                mount.labels.clone_from(&wanted.labels);
            }
        }
    }
    in_order_of(&mut current.ports, &next.ports);
    in_order_of(&mut current.open, &next.open);
    let place = |name: &str| next.network.networks.iter().position(|n| n.name == name);
    current.network.networks.sort_by_key(|n| place(&n.name).unwrap_or(usize::MAX));
    for joined in &mut current.network.networks {
        if let Some(wanted) = next.network.networks.iter().find(|n| n.name == joined.name) {
            in_order_of(&mut joined.aliases, &wanted.aliases);
        }
    }
}

/// Takes out what engines fill in by themselves where the text says nothing.
fn without_defaults(current: &mut Definition, next: &Definition) {
    if next.limits.each_process.is_empty() && !current.labels.contains_key(labels::SET) {
        // podman has limits of its own in its settings.
        current.limits.each_process.clear();
    }
    if let (Some(current), Some(next)) = (&mut current.health, &next.health) {
        for (current, next, usual) in [
            (&mut current.interval_ms, next.interval_ms, 30_000),
            (&mut current.timeout_ms, next.timeout_ms, 30_000),
        ] {
            if next.is_none() && *current == Some(usual) {
                *current = None;
            }
        }
        if next.retries.is_none() && current.retries == Some(3) {
            current.retries = None;
        }
    }
}

fn in_order_of<T: PartialEq>(list: &mut [T], model: &[T]) {
    list.sort_by_key(|item| model.iter().position(|other| other == item).unwrap_or(usize::MAX));
}
