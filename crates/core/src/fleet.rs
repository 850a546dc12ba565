//! The fleet's state and the one way it changes: by observation.
//!
//! [`Fleet::apply`] takes what a host watcher saw and answers with what is different. It is never
//! told that something was asked for, only what an engine said.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};

use jiff::{SignedDuration, Timestamp};

use crate::container::{Container, Reason, Severity};
use crate::delta::{Change, Delta};
use crate::host::{EngineFacts, Host, LinkProblem, LinkState};
use crate::reason;

/// The span over which starts are counted to tell a restart loop.
pub const LOOP_WINDOW: SignedDuration = SignedDuration::from_mins(10);
/// The most starts that are remembered for one container.
const MAX_STARTS: usize = 32;

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

#[derive(Debug, Clone)]
struct HostEntry {
    host: Host,
    containers: BTreeMap<String, Container>,
    starts: HashMap<String, VecDeque<Timestamp>>,
}

/// All hosts and what runs on them, with a revision number.
#[derive(Debug, Clone, Default)]
pub struct Fleet {
    hosts: BTreeMap<String, HostEntry>,
    revision: u64,
}

/// One line of the attention list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attention {
    /// The host.
    pub host: String,
    /// The container's name; absent when it is about the host.
    pub container: Option<String>,
    /// Why.
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

    /// One container by its full id.
    pub fn container(&self, host: &str, id: &str) -> Option<&Container> {
        self.hosts.get(host)?.containers.get(id)
    }

    /// Takes in one observation made at `now`. Answers with the delta, or `None` when nothing that
    /// anyone could see is different. What concerns a host that is not in the fleet is ignored.
    pub fn apply(&mut self, observation: Observation, now: Timestamp) -> Option<Delta> {
        let changes = match observation {
            Observation::HostAdded { name, address, link } => self.add_host(name, address, link),
            Observation::HostRemoved { name } => {
                self.hosts.remove(&name).map(|_| vec![Change::HostGone { host: name }])
            }
            Observation::Listing { host, engine, containers } => {
                self.hosts.get_mut(&host).map(|entry| entry.listing(engine, containers, now))
            }
            Observation::Seen { container } => self.hosts.get_mut(&container.host).map(|entry| {
                let mut changes = entry.alive(now);
                changes.extend(entry.see(*container, now));
                changes
            }),
            Observation::Gone { host, id } => {
                self.hosts.get_mut(&host).map(|entry| entry.gone(&id).into_iter().collect())
            }
            Observation::Alive { host } => self.hosts.get_mut(&host).map(|entry| entry.alive(now)),
            Observation::Lost { host, problem } => self.hosts.get_mut(&host).map(|entry| entry.lost(problem)),
        };
        self.seal(changes.unwrap_or_default())
    }

    /// Lets time pass: starts fall out of the window in which they count. Call it now and then.
    pub fn tick(&mut self, now: Timestamp) -> Option<Delta> {
        let changes = self.hosts.values_mut().flat_map(|e| e.age(now)).collect();
        self.seal(changes)
    }

    fn seal(&mut self, changes: Vec<Change>) -> Option<Delta> {
        if changes.is_empty() {
            return None;
        }
        self.revision += 1;
        Some(Delta { revision: self.revision, changes })
    }

    fn add_host(&mut self, name: String, address: String, link: String) -> Option<Vec<Change>> {
        let host = Host {
            name: name.clone(),
            address,
            link,
            state: LinkState::Connecting,
            problem: None,
            last_seen: None,
            engine: None,
        };
        let mut changes = Vec::new();
        if self.hosts.remove(&name).is_some() {
            changes.push(Change::HostGone { host: name.clone() });
        }
        changes.push(Change::HostPut { host: Box::new(host.clone()) });
        self.hosts.insert(name, HostEntry { host, containers: BTreeMap::new(), starts: HashMap::new() });
        Some(changes)
    }

    /// What needs a person now, worst first.
    pub fn attention(&self) -> Vec<Attention> {
        let hosts = self.hosts().filter_map(|host| {
            let reason = host_reason(host)?;
            Some(Attention { host: host.name.clone(), container: None, reason })
        });
        let containers = self.containers().filter_map(|c| {
            let reason = c.attention.clone()?;
            Some(Attention { host: c.host.clone(), container: Some(c.name.clone()), reason })
        });
        let mut list: Vec<Attention> = hosts.chain(containers).collect();
        list.sort_by(|a, b| {
            let key = |x: &Attention| (reason::order(&x.reason), x.host.clone(), x.container.clone());
            key(a).cmp(&key(b))
        });
        list
    }
}

/// Why a host needs a person: its engine is out of reach.
pub fn host_reason(host: &Host) -> Option<Reason> {
    if host.state != LinkState::Stale {
        return None;
    }
    let problem = host.problem.as_ref()?;
    Some(Reason {
        severity: Severity::Trouble,
        code: "host-lost".to_owned(),
        sentence: problem.sentence.clone(),
        advice: problem.advice.clone(),
    })
}

impl HostEntry {
    fn listing(&mut self, engine: EngineFacts, containers: Vec<Container>, now: Timestamp) -> Vec<Change> {
        let mut changes = Vec::new();
        let engine_differs = self.host.engine.as_ref() != Some(&engine);
        self.host.engine = Some(engine);
        let woke = self.alive(now);
        if woke.is_empty() && engine_differs {
            changes.push(Change::HostPut { host: Box::new(self.host.clone()) });
        }
        changes.extend(woke);
        let present: HashSet<&str> = containers.iter().map(|c| c.id.as_str()).collect();
        let gone: Vec<String> =
            self.containers.keys().filter(|id| !present.contains(id.as_str())).cloned().collect();
        changes.extend(gone.iter().filter_map(|id| self.gone(id)));
        for container in containers {
            changes.extend(self.see(container, now));
        }
        changes
    }

    /// Notes that the engine answered; a change only when the link was not live before, because
    /// `last_seen` of a live host is "now" to everybody.
    fn alive(&mut self, now: Timestamp) -> Vec<Change> {
        self.host.last_seen = Some(now);
        if self.host.state == LinkState::Live {
            return Vec::new();
        }
        self.host.state = LinkState::Live;
        self.host.problem = None;
        vec![Change::HostPut { host: Box::new(self.host.clone()) }]
    }

    fn lost(&mut self, problem: LinkProblem) -> Vec<Change> {
        if self.host.state == LinkState::Stale && self.host.problem.as_ref() == Some(&problem) {
            return Vec::new();
        }
        self.host.state = LinkState::Stale;
        self.host.problem = Some(problem);
        vec![Change::HostPut { host: Box::new(self.host.clone()) }]
    }

    fn gone(&mut self, id: &str) -> Option<Change> {
        self.starts.remove(id);
        self.containers.remove(id)?;
        Some(Change::ContainerGone { host: self.host.name.clone(), id: id.to_owned() })
    }

    fn see(&mut self, mut container: Container, now: Timestamp) -> Option<Change> {
        container.host.clone_from(&self.host.name);
        let known = self.containers.get(&container.id);
        if known.is_none() {
            self.starts.extend(looping_before(&container, now).map(|starts| (container.id.clone(), starts)));
        }
        if let Some(started) = container.started
            && known.and_then(|k| k.started) != Some(started)
        {
            let starts = self.starts.entry(container.id.clone()).or_default();
            starts.push_back(started);
            if starts.len() > MAX_STARTS {
                starts.pop_front();
            }
        }
        container.recent_starts = recent(self.starts.get_mut(&container.id), now);
        container.attention = reason::judge(&container);
        if known == Some(&container) {
            return None;
        }
        self.containers.insert(container.id.clone(), container.clone());
        Some(Change::ContainerPut { container: Box::new(container) })
    }

    fn age(&mut self, now: Timestamp) -> Vec<Change> {
        let mut changes = Vec::new();
        for (id, starts) in &mut self.starts {
            let Some(container) = self.containers.get_mut(id) else { continue };
            let count = recent(Some(starts), now);
            if count != container.recent_starts {
                container.recent_starts = count;
                container.attention = reason::judge(container);
                changes.push(Change::ContainerPut { container: Box::new(container.clone()) });
            }
        }
        self.starts.retain(|_, starts| !starts.is_empty());
        changes
    }
}

/// An engine only tells the last end and how often it restarted. A container that is seen for the first
/// time, was restarted often and ended a moment ago is taken to be in a loop without waiting for more.
fn looping_before(container: &Container, now: Timestamp) -> Option<VecDeque<Timestamp>> {
    let ended = container.finished?;
    let often = container.restart_count >= u64::from(reason::LOOP_STARTS);
    let lately = now.duration_since(ended) <= LOOP_WINDOW && container.started.is_some_and(|s| s >= ended);
    (often && lately).then(|| std::iter::repeat_n(ended, reason::LOOP_STARTS as usize - 1).collect())
}

fn recent(starts: Option<&mut VecDeque<Timestamp>>, now: Timestamp) -> u32 {
    let Some(starts) = starts else { return 0 };
    starts.retain(|&start| now.duration_since(start) <= LOOP_WINDOW);
    u32::try_from(starts.len()).unwrap_or(u32::MAX)
}

#[cfg(test)]
#[path = "fleet_tests.rs"]
mod tests;
