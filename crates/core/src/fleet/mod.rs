//! The fleet's state and the one way it changes: by observation.
//!
//! [`Fleet::apply`] takes what a host watcher saw and answers with what is different. It is never
//! told that something was requested, only what an engine said.

mod entry;
mod view;

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};

use crate::assets::{AssetKind, Assets, Disk};
use crate::container::{Container, ContainerRole, Reason};
use crate::delta::{Change, Delta};
use crate::host::{EngineFacts, Host, LinkProblem, MachineFacts};
pub use view::ReaderState;

/// The span over which starts are counted to tell a restart loop.
pub const LOOP_WINDOW: SignedDuration = SignedDuration::from_mins(10);

/// Something a host watcher saw or the registry of hosts decided.
#[derive(Debug, Clone)]
pub enum Observation {
    /// A host was added to the fleet, or its address changed.
    HostAdded {
        /// Its name.
        name: String,
        /// Its address.
        address: String,
        /// `socket` or `tls`.
        link: String,
        /// The address at which people reach what it publishes.
        ports_address: Option<String>,
    },
    /// A setting of a host was changed.
    HostSet {
        /// Its name.
        name: String,
        /// The address at which people reach what it publishes.
        ports_address: Option<String>,
    },
    /// The groups of a host were set.
    Grouped {
        /// Its name.
        name: String,
        /// The groups that it is in.
        groups: Vec<String>,
    },
    /// What the engine reports about its machine and its disk.
    Machine {
        /// The host.
        host: String,
        /// Its machine.
        machine: Box<MachineFacts>,
        /// Its disk.
        disk: Disk,
    },
    /// All images, volumes and networks of a host.
    Holds {
        /// The host.
        host: String,
        /// What it holds.
        assets: Box<Assets>,
    },
    /// The last lines of a container's log, looked at because it needs a person.
    LastLines {
        /// The host.
        host: String,
        /// The container's id.
        id: String,
        /// The lines, oldest first.
        lines: Vec<String>,
    },
    /// Somebody asked a container to end, over the engine's API.
    AskedToEnd {
        /// The host.
        host: String,
        /// The container's id.
        id: String,
    },
    /// The engine told that the kernel was out of memory for a container. Its record may not say so: when the container's
    /// end was faster, engines forget it.
    OutOfMemory {
        /// The host.
        host: String,
        /// The container's id.
        id: String,
        /// When, by the engine's clock.
        time: Timestamp,
    },
    /// The engine refused to start a container; it may not keep why.
    StartFailed {
        /// The host.
        host: String,
        /// The container's id.
        id: String,
        /// The engine's words.
        error: String,
    },
    /// Since when things of a host have had no user, as was seen before the service started.
    UnusedBefore {
        /// The host.
        host: String,
        /// Kind, key, time and last user.
        known: Vec<UnusedObject>,
    },
    /// What the names of images mean at their registries now, in place of what was known: name to digest.
    Newest {
        /// Names as containers were made with.
        digests: Arc<HashMap<String, String>>,
    },
    /// A host was taken out of the fleet.
    HostRemoved {
        /// Its name.
        name: String,
    },
    /// The engine answered with a whole listing: what is not in it is gone.
    Listing {
        /// The host.
        host: String,
        /// What the engine says of itself.
        engine: EngineFacts,
        /// All its containers.
        containers: Vec<Container>,
    },
    /// One container as it is now.
    Seen {
        /// The container; its `host` says where.
        container: Box<Container>,
    },
    /// One container is gone.
    Gone {
        /// The host.
        host: String,
        /// Its id.
        id: String,
    },
    /// An operation begins to hold the containers of these names: they have a role until it releases them.
    RolesAssigned {
        /// The host.
        host: String,
        /// Names with the roles they stand for.
        names: Vec<(String, ContainerRole)>,
    },
    /// An operation is over: what is left of its containers is like any other.
    RolesReleased {
        /// The host.
        host: String,
        /// The operation.
        operation: u64,
    },
    /// The engine is still there, though nothing happened.
    Alive {
        /// The host.
        host: String,
    },
    /// The engine does not answer any more.
    Lost {
        /// The host.
        host: String,
        /// Why, in words.
        problem: LinkProblem,
    },
}

/// Something without a user: its kind and key, since when, and who used it last.
pub type UnusedObject = (AssetKind, String, Timestamp, Option<String>);

#[derive(Debug, Clone)]
struct HostEntry {
    host: Host,
    containers: BTreeMap<String, Container>,
    /// Containers with a role, which only their operations show.
    aside: BTreeMap<String, Container>,
    /// The roles that operations give, by the container's name.
    roles: BTreeMap<String, ContainerRole>,
    starts: HashMap<String, VecDeque<Timestamp>>,
    assets: Assets,
    /// Since when things have had no user.
    unused: BTreeMap<(AssetKind, String), Timestamp>,
    /// The containers that used them last.
    last_users: HashMap<(AssetKind, String), String>,
    /// What the names of images mean at their registries.
    newest: Arc<HashMap<String, String>>,
    asked_to_end: HashMap<String, Timestamp>,
    /// When the kernel was last out of memory for a container, by the engine's clock.
    out_of_memory: HashMap<String, Timestamp>,
    /// Why the last start failed, with when the container had last started before.
    start_errors: HashMap<String, (String, Option<Timestamp>)>,
}

/// All hosts and what runs on them, with a revision number.
#[derive(Debug, Clone, Default)]
pub struct Fleet {
    /// Each behind a counter: a copy of the fleet is cheap, and a change copies one host at most.
    hosts: BTreeMap<String, Arc<HostEntry>>,
    newest: Arc<HashMap<String, String>>,
    revision: u64,
}

/// One line of the attention list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attention {
    /// The host.
    pub host: String,
    /// The container's name; absent when the item is about the host.
    pub container: Option<String>,
    /// The reason.
    pub reason: Reason,
}

impl Fleet {
    /// An empty fleet at revision 0.
    pub fn new() -> Self {
        Self::default()
    }

    /// The revision after the last change.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// All hosts by name.
    pub fn hosts(&self) -> impl Iterator<Item = &Host> + Clone {
        self.hosts.values().map(|e| &e.host)
    }

    /// One host.
    pub fn host(&self, name: &str) -> Option<&Host> {
        self.hosts.get(name).map(|e| &e.host)
    }

    /// All containers, by host and then by id.
    pub fn containers(&self) -> impl Iterator<Item = &Container> + Clone {
        self.hosts.values().flat_map(|e| e.containers.values())
    }

    /// The containers of one host.
    pub fn containers_of(&self, host: &str) -> impl Iterator<Item = &Container> {
        self.hosts.get(host).into_iter().flat_map(|e| e.containers.values())
    }

    /// The containers of one host that have a role.
    pub fn aside_of(&self, host: &str) -> impl Iterator<Item = &Container> {
        self.hosts.get(host).into_iter().flat_map(|e| e.aside.values())
    }

    /// All containers of one host that use what it holds: those with a role too.
    pub fn users_of(&self, host: &str) -> impl Iterator<Item = &Container> {
        self.containers_of(host).chain(self.aside_of(host))
    }

    /// The container of this name.
    pub fn named(&self, host: &str, name: &str) -> Option<&Container> {
        self.containers_of(host).find(|c| c.name == name)
    }

    /// One container by its full id.
    pub fn container(&self, host: &str, id: &str) -> Option<&Container> {
        self.hosts.get(host)?.containers.get(id)
    }

    /// What a host holds besides its containers.
    pub fn assets_of(&self, host: &str) -> Option<&Assets> {
        self.hosts.get(host).map(|e| &e.assets)
    }

    /// Since when a thing has had no user, as far as was seen; `None` while it has one.
    pub fn unused_since(&self, host: &str, kind: AssetKind, key: &str) -> Option<Timestamp> {
        self.hosts.get(host)?.unused.get(&(kind, key.to_owned())).copied()
    }

    /// The container that used a thing last, as far as was seen; `None` while it has a user.
    pub fn last_user(&self, host: &str, kind: AssetKind, key: &str) -> Option<String> {
        let entry = self.hosts.get(host)?;
        let key = (kind, key.to_owned());
        entry.unused.get(&key)?;
        entry.last_users.get(&key).cloned()
    }

    /// All things of a host that have no user, with since when and who used them last.
    pub fn unused_of(&self, host: &str) -> Vec<UnusedObject> {
        let entry = self.hosts.get(host);
        entry
            .into_iter()
            .flat_map(|e| {
                e.unused.iter().map(|(key, t)| (key.0, key.1.clone(), *t, e.last_users.get(key).cloned()))
            })
            .collect()
    }

    /// Takes in one observation made at `now`. Answers with the delta, or `None` when nothing that
    /// anyone could see is different. What concerns a host that is not in the fleet is ignored.
    pub fn apply(&mut self, observation: Observation, now: Timestamp) -> Option<Delta> {
        let changes = match observation {
            Observation::HostAdded { name, address, link, ports_address } => {
                self.add_host(name, address, link, ports_address)
            }
            Observation::HostSet { name, ports_address } => self.entry(&name).map(|entry| {
                entry.host.ports_address = ports_address;
                vec![entry.put()]
            }),
            Observation::Grouped { name, groups } => self.entry(&name).map(|entry| {
                entry.host.groups = groups;
                vec![entry.put()]
            }),
            Observation::Machine { host, machine, disk } => {
                self.entry(&host).map(|entry| entry.machine(*machine, disk))
            }
            Observation::Holds { host, assets } => self.entry(&host).map(|entry| entry.holds(*assets, now)),
            Observation::LastLines { host, id, lines } => {
                self.entry(&host).map(|entry| entry.last_lines(&id, lines).into_iter().collect())
            }
            Observation::AskedToEnd { host, id } => {
                self.entry(&host).map(|entry| entry.asked_to_end(id, now).into_iter().collect())
            }
            Observation::OutOfMemory { host, id, time } => {
                self.entry(&host).map(|entry| entry.out_of_memory(id, time, now).into_iter().collect())
            }
            Observation::StartFailed { host, id, error } => {
                self.entry(&host).map(|entry| entry.start_failed(&id, error, now).into_iter().collect())
            }
            Observation::UnusedBefore { host, known } => self.entry(&host).map(|entry| {
                for (kind, key, since, user) in known {
                    entry.last_users.extend(user.map(|u| ((kind, key.clone()), u)));
                    entry.unused.insert((kind, key), since);
                }
                Vec::new()
            }),
            Observation::Newest { digests } => {
                self.newest = digests.clone();
                Some(
                    self.hosts
                        .values_mut()
                        .flat_map(|entry| Arc::make_mut(entry).newest(digests.clone()))
                        .collect(),
                )
            }
            Observation::HostRemoved { name } => {
                self.hosts.remove(&name).map(|_| vec![Change::HostGone { host: name }])
            }
            Observation::Listing { host, engine, containers } => {
                self.entry(&host).map(|entry| entry.listing(engine, containers, now))
            }
            Observation::Seen { container } => self.entry(&container.host).map(|entry| {
                let mut changes = entry.alive(now);
                changes.extend(entry.see(*container, now, true));
                changes
            }),
            Observation::Gone { host, id } => {
                self.entry(&host).map(|entry| entry.gone(&id).into_iter().collect())
            }
            Observation::RolesAssigned { host, names } => {
                self.entry(&host).map(|entry| entry.hold(names, now))
            }
            Observation::RolesReleased { host, operation } => {
                self.entry(&host).map(|entry| entry.release(operation, now))
            }
            Observation::Alive { host } => self.entry(&host).map(|entry| entry.alive(now)),
            Observation::Lost { host, problem } => self.entry(&host).map(|entry| entry.lost(problem, now)),
        };
        let mut changes = changes.unwrap_or_default();
        changes.extend(self.related(&changes));
        self.seal(changes)
    }

    /// What follows for the siblings of containers that have changed.
    fn related(&mut self, changes: &[Change]) -> Vec<Change> {
        let hosts: BTreeSet<String> = changes
            .iter()
            .filter_map(|change| match change {
                Change::ContainerPut { container } => Some(container.host.clone()),
                Change::ContainerGone { host, .. } => Some(host.clone()),
                _ => None,
            })
            .collect();
        hosts.iter().filter_map(|host| self.entry(host).map(HostEntry::relate)).flatten().collect()
    }

    /// Lets time pass: starts fall out of the window in which they count. Call it now and then.
    pub fn tick(&mut self, now: Timestamp) -> Option<Delta> {
        let changes = self.hosts.values_mut().flat_map(|e| Arc::make_mut(e).age(now)).collect();
        self.seal(changes)
    }

    fn entry(&mut self, host: &str) -> Option<&mut HostEntry> {
        self.hosts.get_mut(host).map(Arc::make_mut)
    }

    fn seal(&mut self, changes: Vec<Change>) -> Option<Delta> {
        if changes.is_empty() {
            return None;
        }
        self.revision += 1;
        Some(Delta { revision: self.revision, changes })
    }

    fn add_host(
        &mut self,
        name: String,
        address: String,
        link: String,
        ports_address: Option<String>,
    ) -> Option<Vec<Change>> {
        let host = Host { address, link, ports_address, ..Host::blank(&name) };
        let mut changes = Vec::new();
        if self.hosts.remove(&name).is_some() {
            changes.push(Change::HostGone { host: name.clone() });
        }
        changes.push(Change::HostPut { host: Box::new(host.clone()) });
        let entry = HostEntry {
            host,
            containers: BTreeMap::new(),
            aside: BTreeMap::new(),
            roles: BTreeMap::new(),
            starts: HashMap::new(),
            assets: Assets::default(),
            unused: BTreeMap::new(),
            last_users: HashMap::new(),
            newest: self.newest.clone(),
            asked_to_end: HashMap::new(),
            out_of_memory: HashMap::new(),
            start_errors: HashMap::new(),
        };
        self.hosts.insert(name, Arc::new(entry));
        Some(changes)
    }

    /// The attention list, worst first.
    pub fn attention(&self) -> Vec<Attention> {
        let hosts = self.hosts().filter_map(|host| {
            let reason = host.attention.clone()?;
            Some(Attention { host: host.name.clone(), container: None, reason })
        });
        let containers = self.containers().filter_map(|c| {
            let reason = c.attention.clone()?;
            Some(Attention { host: c.host.clone(), container: Some(c.name.clone()), reason })
        });
        let mut list: Vec<Attention> = hosts.chain(containers).collect();
        list.sort_by(|a, b| {
            let key = |x: &Attention| (x.reason.rank, x.host.clone(), x.container.clone());
            key(a).cmp(&key(b))
        });
        list
    }
}

#[cfg(test)]
#[path = "../fleet_tests.rs"]
mod tests;

#[cfg(test)]
#[path = "../fleet_properties_tests.rs"]
mod properties;
