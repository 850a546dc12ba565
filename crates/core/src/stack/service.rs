//! The containers of one service, as definitions for the engine.
//!
//! Names of the stack become names at the engine; what cannot be carried out is reported at its place. Configs and secrets are
//! in [`super::files`].

use std::collections::BTreeSet;

use super::desired::{DesiredContainer, DesiredVolume, Maker, PlacedFile, needs};
use super::labels::{self, FilesMark};
use crate::compose::model::{Condition, Service};
use crate::container::{SERVICE_LABEL, STACK_LABEL};
use crate::definition::{Definition, MountKind, MountRule, PortRule, PullPolicy, RestartRule};
use crate::jobs::USUAL_TIMEOUT_SECONDS;
use crate::own_labels::current;
use crate::plan::MAX_WATCH_SECONDS;
use crate::text::shown;

impl Maker<'_> {
    /// The containers of a service.
    pub(super) fn service(&mut self, key: &str, volumes: &[DesiredVolume]) -> Vec<DesiredContainer> {
        let Some(service) = self.wish.stack.services.get(key) else { return Vec::new() };
        self.not_carried_out(key, service);
        let build = self.build(key, service);
        let needs = needs(service);
        let files = self.files(key, service);
        let mut definition = service.container.clone();
        let bound_to = self.bind_names(&mut definition);
        self.mounts(key, service, &mut definition, volumes);
        self.networks(key, service, &mut definition);
        self.labels(key, service, &files, &mut definition);
        if let Some(build) = &build {
            definition.image.clone_from(&build.image);
            definition.pull = PullPolicy::Never;
        }
        if service.update.pause_ms.is_some_and(|ms| ms > u64::from(MAX_WATCH_SECONDS) * 1000) {
            self.cannot(&["services", key, "deploy", "update_config"], "'delay' must be at most 1 h");
        }
        let starts_first = self.starts_first(key, service);
        let is_job = service.is_job || self.is_waited_for(key);
        if is_job && service.is_job && definition.restart == RestartRule::default() {
            definition.restart = RestartRule { policy: String::new(), most_tries: None };
        }
        let replicas = self.replicas(key, service);
        if replicas > 1 && service.has_fixed_name {
            let sentence = format!(
                "'{}' has {replicas} replicas, which cannot share one 'container_name'; remove it",
                shown(key, 60)
            );
            self.cannot(&["services", key, "container_name"], sentence);
        }
        let fixed_ports = definition.ports.iter().any(|p| p.host_port.is_some() && p.host_port_to.is_none());
        if fixed_ports && replicas > 1 {
            let sentence = format!(
                "'{}' has {} replicas, which cannot share one host port; write a range such as '8000-8010:80', or leave out the host port",
                shown(key, 60),
                replicas
            );
            self.cannot(&["services", key, "ports"], sentence);
        }
        let one = |number: u32| {
            let mut definition = definition.clone();
            if !service.has_fixed_name {
                definition.name = format!("{}-{key}-{number}", self.wish.name);
            }
            definition.labels = current(definition.labels);
            definition.labels.insert(labels::NUMBER.to_owned(), number.to_string());
            DesiredContainer {
                service: key.to_owned(),
                number,
                definition,
                has_fixed_name: service.has_fixed_name,
                files: files.clone(),
                is_job,
                needs: needs.clone(),
                bound_to: bound_to.clone(),
                at_once: service.update.at_once.unwrap_or(1),
                watch_seconds: service
                    .update
                    .watch_ms
                    .map(|ms| u32::try_from(ms.div_ceil(1000)).unwrap_or(u32::MAX)),
                starts_first,
                pause_seconds: service
                    .update
                    .pause_ms
                    .map_or(0, |ms| u32::try_from(ms.div_ceil(1000)).unwrap_or(u32::MAX)),
                on_failure: service.update.on_failure,
                build: build.clone(),
                schedule: service.schedule.clone(),
                timeout_seconds: service
                    .schedule
                    .as_ref()
                    .map_or(USUAL_TIMEOUT_SECONDS, |s| s.timeout_seconds),
            }
        };
        (1..=replicas).map(one).collect()
    }

    /// What of a service would be left out in silence otherwise.
    fn not_carried_out(&mut self, key: &str, service: &Service) {
        let at = |attribute: &'static str| ["services", key, attribute];
        if service.fetched_again_after_ms.is_some() {
            self.cannot(
                &at("pull_policy"),
                "pulling at intervals is not supported; write 'always' or 'missing'",
            );
        }
    }

    /// Whether a new container runs beside the old one before that is stopped. Both cannot have the same port of the host.
    fn starts_first(&mut self, key: &str, service: &Service) -> bool {
        if service.update.starts_first != Some(true) {
            return false;
        }
        let has_fixed = |p: &PortRule| p.host_port.is_some() && p.host_port_to.is_none();
        if service.container.ports.iter().any(has_fixed)
            || service.container.network.mode.as_deref() == Some("host")
        {
            self.cannot(
                &["services", key, "deploy", "update_config"],
                "with 'start-first' the old and the new container run side by side and would need the same host port; remove 'order' or the host port",
            );
        }
        if service.container.network.networks.iter().any(|n| n.address.is_some() || n.ipv6.is_some()) {
            self.cannot(
                &["services", key, "deploy", "update_config"],
                "with 'start-first' the old and the new container run side by side and would need the same address; remove 'order' or the address",
            );
        }
        true
    }

    /// Names of services where engines want those of containers.
    fn bind_names(&self, definition: &mut Definition) -> BTreeSet<String> {
        let mut bound = BTreeSet::new();
        let rights = &mut definition.rights;
        for mode in [&mut definition.network.mode, &mut rights.processes_of, &mut rights.memory_of] {
            let Some(service) = mode.as_deref().and_then(|m| m.strip_prefix("service:")).map(str::to_owned)
            else {
                continue;
            };
            *mode = Some(format!("container:{}", self.first_container(&service)));
            bound.insert(service);
        }
        bound
    }

    /// The name of a service's first container.
    fn first_container(&self, service: &str) -> String {
        match self.wish.stack.services.get(service) {
            Some(of) if of.has_fixed_name => of.container.name.clone(),
            _ => format!("{}-{service}-1", self.wish.name),
        }
    }

    /// Whether another service waits for its end.
    fn is_waited_for(&self, key: &str) -> bool {
        let ends = |s: &Service| {
            s.needs.get(key).is_some_and(|n| n.condition == Condition::ServiceCompletedSuccessfully)
        };
        self.wish.stack.services.values().any(ends)
    }

    fn mounts(&mut self, key: &str, service: &Service, d: &mut Definition, volumes: &[DesiredVolume]) {
        let at = ["services", key, "volumes"];
        for from in &service.volumes_from {
            let Some(of) = self.wish.stack.services.get(&from.of) else {
                self.cannot(
                    &["services", key, "volumes_from"],
                    "mounts of a container outside the stack cannot be shared; list the volumes under 'volumes'",
                );
                continue;
            };
            for mount in &of.container.mounts {
                if mount.kind == MountKind::Volume && mount.source.is_none() {
                    let sentence = format!(
                        "the volume at '{}' of '{}' is anonymous and cannot be shared; name it",
                        shown(&mount.target, 80),
                        shown(&from.of, 60)
                    );
                    self.cannot(&["services", key, "volumes_from"], sentence);
                }
                if !d.mounts.iter().any(|m| m.target == mount.target) {
                    d.mounts
                        .push(MountRule { read_only: mount.read_only || from.read_only, ..mount.clone() });
                }
            }
        }
        for mount in &mut d.mounts {
            let Some(source) = mount.source.clone() else { continue };
            match mount.kind {
                MountKind::Volume => {
                    if let Some(volume) = volumes.iter().find(|v| v.key == source) {
                        mount.source = Some(volume.name.clone());
                        // Made for the whole stack, not with this container.
                        mount.driver = None;
                        mount.options.clear();
                        mount.labels.clear();
                    }
                }
                MountKind::Bind if !source.starts_with('/') => {
                    let sentence = format!(
                        "'{}' is relative to the stack's folder, which is in Gubernum and not on the host; write an absolute path on the host, or use a config",
                        shown(&source, 100)
                    );
                    self.cannot(&at, sentence);
                }
                _ => {}
            }
        }
    }

    fn networks(&mut self, key: &str, service: &Service, d: &mut Definition) {
        // Who links to this one under another name finds it by that name in their common networks.
        let others = self.wish.stack.services.values().flat_map(|s| &s.links);
        let linked: BTreeSet<String> =
            others.filter(|(to, name)| to == key && name != key).map(|(_, name)| name.clone()).collect();
        for joined in &mut d.network.networks {
            let network = self.wish.stack.networks.get(&joined.name);
            let aliases = std::iter::once(key.to_owned()).chain(linked.iter().cloned());
            for alias in aliases {
                if !joined.aliases.contains(&alias) {
                    joined.aliases.push(alias);
                }
            }
            joined.name = self.engine_name(&joined.name, network.and_then(|n| n.name.as_ref()));
            if joined.address.is_some() && service.replicas > 1 {
                self.cannot(
                    &["services", key, "networks"],
                    "replicas cannot share a fixed address; remove it, or scale to 1",
                );
            }
        }
    }

    fn labels(&mut self, key: &str, service: &Service, files: &[PlacedFile], d: &mut Definition) {
        let needs: Vec<String> = service
            .needs
            .iter()
            .map(|(name, need)| {
                let condition: &str = need.condition.into();
                format!("{name}:{condition}:{}", need.restart)
            })
            .collect();
        let own = [
            (STACK_LABEL, self.wish.name.to_owned()),
            (SERVICE_LABEL, key.to_owned()),
            (labels::ONE_OFF, "False".to_owned()),
            (labels::DEPENDS_ON, needs.join(",")),
        ];
        for (label, value) in own.into_iter().filter(|(_, value)| !value.is_empty()) {
            d.labels.insert(label.to_owned(), value);
        }
        self.hooks(key, service, d);
        if !d.limits.each_process.is_empty() {
            d.labels.insert(labels::SET.to_owned(), "ulimits".to_owned());
        }
        if !files.is_empty() {
            let contents: Vec<&[u8]> = files.iter().map(|f| f.content.as_slice()).collect();
            let modes: Vec<String> =
                files.iter().map(|f| format!("{} {} {} {:o}", f.path, f.user, f.group, f.mode)).collect();
            let all: Vec<&[u8]> = contents.into_iter().chain(modes.iter().map(|m| m.as_bytes())).collect();
            let mark = FilesMark {
                mark: (self.wish.mark)(&all),
                paths: files.iter().map(|f| f.path.clone()).collect(),
            };
            d.labels.insert(labels::FILES.to_owned(), mark.text());
        }
    }
}
