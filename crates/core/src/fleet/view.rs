//! The one filter between the fleet and a member: grants in, view out. Lists, searches, counts, logs, previews and
//! live deltas all take what they show from a fleet filtered here; nothing filters by itself.
//!
//! A host that is seen as a whole is passed on as it is. Of one on which only some things are seen, those things are left,
//! and of the host itself no more than that it is there.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::{Fleet, HostEntry};
use crate::assets::{AssetKind, Assets, bare_id};
use crate::container::Container;
use crate::delta::{Change, Delta};
use crate::host::{AssetCounts, Host};
use crate::reason;
use crate::rights::{Access, Place, Right, Rights};

impl Fleet {
    /// The fleet as somebody with this access sees it: what they do not see is not there.
    #[must_use]
    pub fn seen_by(&self, access: &Access) -> Self {
        if access.sees_all() {
            return self.clone();
        }
        let hosts =
            self.hosts.iter().filter_map(|(name, entry)| Some((name.clone(), entry.seen_by(access)?)));
        Self { hosts: hosts.collect(), newest: self.newest.clone(), revision: self.revision }
    }

    /// The groups that a host is in.
    pub fn groups_of(&self, host: &str) -> &[String] {
        self.hosts.get(host).map_or(&[], |entry| &entry.host.groups)
    }

    /// What is allowed on a host itself; none when no host has that name.
    pub fn rights_on_host(&self, access: &Access, host: &str) -> Rights {
        self.hosts.get(host).map_or(Rights::NONE, |e| access.at(&Place::host(host, &e.host.groups)))
    }

    /// What is allowed on a container.
    pub fn rights_on(&self, access: &Access, container: &Container) -> Rights {
        access.at(&Place::container(container, self.groups_of(&container.host)))
    }

    /// What is allowed on a stack of a host: its text, its revisions, its jobs.
    pub fn rights_on_stack(&self, access: &Access, host: &str, stack: &str) -> Rights {
        access.at(&Place::stack(host, self.groups_of(host), stack))
    }

    /// What is allowed on something that a host holds. What is not there (yet) is judged as the host itself; what has
    /// no label that a grant is on may be seen through a container that uses it, which allows nothing else.
    pub fn rights_on_asset(&self, access: &Access, host: &str, kind: AssetKind, key: &str) -> Rights {
        let Some(entry) = self.hosts.get(host) else { return Rights::NONE };
        let labels = entry.labels_of(kind, key);
        match labels {
            Some(labels) => access.at(&Place::labelled(host, &entry.host.groups, labels)),
            None => access.at(&Place::host(host, &entry.host.groups)),
        }
    }
}

impl HostEntry {
    fn labels_of(&self, kind: AssetKind, key: &str) -> Option<&BTreeMap<String, String>> {
        let assets = &self.assets;
        match kind {
            AssetKind::Image => {
                let is_it = |i: &&crate::assets::Image| i.id == key || i.tags.iter().any(|t| t == key);
                assets.images.iter().find(is_it).map(|i| &i.labels)
            }
            AssetKind::Volume => assets.volumes.iter().find(|v| v.name == key).map(|v| &v.labels),
            AssetKind::Network => {
                assets.networks.iter().find(|n| n.id == key || n.name == key).map(|n| &n.labels)
            }
        }
    }

    /// The host as somebody sees it; `None` when nothing of it is seen.
    fn seen_by(self: &Arc<Self>, access: &Access) -> Option<Arc<Self>> {
        let groups = &self.host.groups;
        if access.at(&Place::host(&self.host.name, groups)).has(Right::See) {
            return Some(self.clone());
        }
        let is_seen = |c: &Container| access.at(&Place::container(c, groups)).has(Right::See);
        let pick = |all: &BTreeMap<String, Container>| -> BTreeMap<String, Container> {
            all.iter().filter(|(_, c)| is_seen(c)).map(|(id, c)| (id.clone(), c.clone())).collect()
        };
        let (mut containers, aside) = (pick(&self.containers), pick(&self.aside));
        let assets = self.assets_seen_by(access, containers.values().chain(aside.values()));
        let held = containers.len() + aside.len() + assets.volumes.len() + assets.networks.len();
        if held == 0 && !access.names(&Place::host(&self.host.name, groups)) {
            return None;
        }
        let names: BTreeSet<String> = containers.values().map(Container::reference).collect();
        let host = reduced(&self.host, &assets);
        for c in containers.values_mut() {
            let cause = c.attention.as_ref().and_then(|reason| reason.because.as_ref());
            if cause.is_some_and(|cause| !names.contains(cause)) {
                // What it follows from is not there for this member, so it is judged by itself.
                c.attention = reason::judge(c, &host);
            }
        }
        let keys = |kind: AssetKind, key: &str| match kind {
            AssetKind::Image => assets.images.iter().any(|i| i.id == key),
            AssetKind::Volume => assets.volumes.iter().any(|v| v.name == key),
            AssetKind::Network => assets.networks.iter().any(|n| n.id == key),
        };
        let unused: BTreeMap<_, _> = self
            .unused
            .iter()
            .filter(|((kind, key), _)| keys(*kind, key))
            .map(|(key, since)| (key.clone(), *since))
            .collect();
        Some(Arc::new(Self {
            host,
            containers,
            aside,
            unused,
            assets,
            newest: self.newest.clone(),
            // What follows serves observation, which a view never meets, or names what may not be seen.
            roles: BTreeMap::new(),
            starts: HashMap::new(),
            last_users: HashMap::new(),
            asked_to_end: HashMap::new(),
            out_of_memory: HashMap::new(),
            start_errors: HashMap::new(),
        }))
    }

    fn assets_seen_by<'a>(
        &self,
        access: &Access,
        users: impl Iterator<Item = &'a Container> + Clone,
    ) -> Assets {
        let place = |labels: &BTreeMap<String, String>| {
            access.at(&Place::labelled(&self.host.name, &self.host.groups, labels)).has(Right::See)
        };
        let images: BTreeSet<&str> = users.clone().map(|c| bare_id(&c.image_id)).collect();
        let mounts = users.clone().flat_map(|c| &c.mounts).filter(|m| m.kind == "volume");
        let volumes: BTreeSet<&str> = mounts.map(|m| m.source.as_str()).collect();
        let networks: BTreeSet<&str> = users.clone().flat_map(|c| &c.networks).map(String::as_str).collect();
        let assets = &self.assets;
        Assets {
            // An image with somebody's label is not theirs: labels of images come from whoever built them.
            images: assets.images.iter().filter(|i| images.contains(i.id.as_str())).cloned().collect(),
            volumes: assets
                .volumes
                .iter()
                .filter(|v| volumes.contains(v.name.as_str()) || place(&v.labels))
                .cloned()
                .collect(),
            networks: assets
                .networks
                .iter()
                .filter(|n| networks.contains(n.name.as_str()) || place(&n.labels))
                .cloned()
                .collect(),
            written: users.filter_map(|c| Some((c.id.clone(), *assets.written.get(&c.id)?))).collect(),
        }
    }
}

/// What is seen of a host of which only some things are seen.
fn reduced(host: &Host, assets: &Assets) -> Host {
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let mut hasher = std::hash::DefaultHasher::new();
    for image in &assets.images {
        (&image.id, &image.tags).hash(&mut hasher);
    }
    for volume in &assets.volumes {
        (&volume.name, volume.size).hash(&mut hasher);
    }
    for network in &assets.networks {
        (&network.id, &network.name).hash(&mut hasher);
    }
    Host {
        link: host.link.clone(),
        state: host.state,
        last_seen: host.last_seen,
        engine: host.engine.clone(),
        ports_address: host.ports_address.clone(),
        assets: AssetCounts {
            images: count(assets.images.len()),
            volumes: count(assets.volumes.len()),
            networks: count(assets.networks.len()),
        },
        // A count of changes would tell how busy the rest of the host is. It fits a number of JSON.
        assets_revision: hasher.finish() >> 12,
        ..Host::blank(&host.name)
    }
}

/// What one reader was told of the fleet so far: turns its deltas into those that the reader may see.
#[derive(Debug, Default)]
pub struct ReaderState {
    hosts: BTreeMap<String, (Host, BTreeSet<String>)>,
    revision: u64,
}

impl ReaderState {
    /// A reader who has been told a view from its beginning.
    pub fn of(view: &Fleet) -> Self {
        let hosts = view.hosts.iter().map(|(name, entry)| {
            (name.clone(), (entry.host.clone(), entry.containers.keys().cloned().collect()))
        });
        Self { hosts: hosts.collect(), revision: 1 }
    }

    /// How many deltas the reader has had, and 1 for the beginning. The fleet's own revision would tell how much happens that
    /// the reader does not see.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// What a delta of the fleet is to the reader; `None` when nothing. `fleet` is the whole fleet at that delta or later.
    pub fn next(&mut self, delta: &Delta, fleet: &Fleet, access: &Access) -> Option<Delta> {
        let mut touched: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        let mut changes = Vec::new();
        for change in &delta.changes {
            match change {
                Change::HostPut { host } => touched.entry(&host.name).or_default(),
                Change::HostGone { host } => {
                    // It may be back in the same breath, with nothing on it.
                    let known = self.hosts.remove(host);
                    changes.extend(known.map(|_| Change::HostGone { host: host.clone() }));
                    touched.entry(host).or_default()
                }
                Change::ContainerPut { container } => {
                    let of_host = touched.entry(&container.host).or_default();
                    of_host.insert(&container.id);
                    of_host
                }
                Change::ContainerGone { host, id } => {
                    let of_host = touched.entry(host).or_default();
                    of_host.insert(id);
                    of_host
                }
            };
        }
        changes.extend(touched.into_iter().flat_map(|(host, ids)| self.of_host(host, &ids, fleet, access)));
        if changes.is_empty() {
            return None;
        }
        self.revision += 1;
        Some(Delta { revision: self.revision, changes })
    }

    fn of_host(&mut self, host: &str, ids: &BTreeSet<&str>, fleet: &Fleet, access: &Access) -> Vec<Change> {
        let Some(view) = fleet.hosts.get(host).and_then(|entry| entry.seen_by(access)) else {
            let known = self.hosts.remove(host);
            return known.map(|_| Change::HostGone { host: host.to_owned() }).into_iter().collect();
        };
        let mut changes = Vec::new();
        let is_new = !self.hosts.contains_key(host);
        let (known, told) =
            self.hosts.entry(host.to_owned()).or_insert_with(|| (view.host.clone(), BTreeSet::new()));
        if is_new || *known != view.host {
            known.clone_from(&view.host);
            changes.push(Change::HostPut { host: Box::new(view.host.clone()) });
        }
        let all: BTreeSet<&str> =
            if is_new { view.containers.keys().map(String::as_str).collect() } else { ids.clone() };
        for id in all {
            match view.containers.get(id) {
                Some(container) => {
                    told.insert(id.to_owned());
                    changes.push(Change::ContainerPut { container: Box::new(container.clone()) });
                }
                None if told.remove(id) => {
                    changes.push(Change::ContainerGone { host: host.to_owned(), id: id.to_owned() });
                }
                None => {}
            }
        }
        changes
    }
}

#[cfg(test)]
#[path = "../fleet_view_tests.rs"]
mod tests;
