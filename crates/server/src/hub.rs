//! The fleet's state as the service holds it: one place that takes observations, and everybody who
//! wants to hear of changes.
//!
//! Records are kept as JSON beside the state, so that a listing of thousands is a matter of joining
//! texts. A subscriber that falls behind is not waited for: it sees that it lagged and takes a snapshot.

use std::collections::HashMap;
use std::fmt::Write as _;
use std::sync::Arc;

use gubernum_core::delta::{Change, Delta, DeltaLog};
use gubernum_core::fleet::{Fleet, Observation};
use jiff::Timestamp;
use parking_lot::RwLock;
use tokio::sync::broadcast;

/// How many changes are held for those who come back after a break.
const HELD_CHANGES: usize = 20_000;
/// How many deltas a subscriber may lag behind.
const SUBSCRIBER_LAG: usize = 1024;

/// A delta with its JSON, written once for all subscribers.
#[derive(Debug)]
pub struct Published {
    /// The delta.
    pub delta: Arc<Delta>,
    /// The same as JSON.
    pub json: String,
}

struct Held {
    fleet: Fleet,
    log: DeltaLog,
    json: HashMap<String, HashMap<String, Arc<str>>>,
}

/// Holds the fleet.
pub struct Hub {
    held: RwLock<Held>,
    sender: broadcast::Sender<Arc<Published>>,
    epoch: String,
    own_container: Option<String>,
}

/// What a subscriber needs to begin.
pub enum Beginning {
    /// It can go on from where it stood, with these deltas first.
    Resumed(Vec<Arc<Delta>>),
    /// The whole fleet as the JSON of a `FleetSnapshot`.
    Fresh(String),
}

impl Hub {
    /// An empty fleet. `own_container` is the id of the container that the service runs in.
    pub fn new(epoch: String, own_container: Option<String>) -> Self {
        let held = Held { fleet: Fleet::new(), log: DeltaLog::new(HELD_CHANGES), json: HashMap::new() };
        let (sender, _) = broadcast::channel(SUBSCRIBER_LAG);
        Self { held: RwLock::new(held), sender, epoch, own_container }
    }

    /// Takes in an observation and tells everybody what is different.
    pub fn observe(&self, mut observation: Observation, now: Timestamp) {
        if let Some(own) = &self.own_container {
            match &mut observation {
                Observation::Listing { containers, .. } => {
                    containers.iter_mut().for_each(|c| c.is_self = c.id == *own);
                }
                Observation::Seen { container } => container.is_self = container.id == *own,
                _ => {}
            }
        }
        let mut held = self.held.write();
        let delta = held.fleet.apply(observation, now);
        self.publish(&mut held, delta);
    }

    /// Lets time pass in the fleet.
    pub fn tick(&self, now: Timestamp) {
        let mut held = self.held.write();
        let delta = held.fleet.tick(now);
        self.publish(&mut held, delta);
    }

    fn publish(&self, held: &mut Held, delta: Option<Delta>) {
        let Some(delta) = delta else { return };
        for change in &delta.changes {
            match change {
                Change::ContainerPut { container } => {
                    let json: Arc<str> = serde_json::to_string(container).unwrap_or_default().into();
                    held.json.entry(container.host.clone()).or_default().insert(container.id.clone(), json);
                }
                Change::ContainerGone { host, id } => {
                    if let Some(of_host) = held.json.get_mut(host) {
                        of_host.remove(id);
                    }
                }
                Change::HostGone { host } => {
                    held.json.remove(host);
                }
                Change::HostPut { .. } => {}
            }
        }
        let delta = Arc::new(delta);
        held.log.push(delta.clone());
        if self.sender.receiver_count() > 0 {
            let json = serde_json::to_string(&*delta).unwrap_or_default();
            // Nobody may be left; that is no failure.
            let _ = self.sender.send(Arc::new(Published { delta, json }));
        }
    }

    /// Looks at the fleet. Keep it short: observations wait meanwhile.
    pub fn look<T>(&self, look: impl FnOnce(&Fleet) -> T) -> T {
        look(&self.held.read().fleet)
    }

    /// The containers that `wanted` picks, as a JSON array.
    pub fn containers_json(&self, wanted: impl Fn(&gubernum_core::container::Container) -> bool) -> String {
        let held = self.held.read();
        let mut out = String::with_capacity(held.fleet.containers().count() * 700 + 2);
        out.push('[');
        join(&held, wanted, &mut out);
        out.push(']');
        out
    }

    /// Hears of changes from now on; begin with [`Hub::begin`] afterwards so that nothing is missed.
    pub fn subscribe(&self) -> broadcast::Receiver<Arc<Published>> {
        self.sender.subscribe()
    }

    /// What somebody needs who stands at `since` (epoch and revision), and the revision after it.
    pub fn begin(&self, since: Option<&(String, u64)>) -> (Beginning, u64) {
        let held = self.held.read();
        let revision = held.fleet.revision();
        if let Some((epoch, from)) = since
            && *epoch == self.epoch
            && let Some(deltas) = held.log.since(*from, revision)
        {
            return (Beginning::Resumed(deltas), revision);
        }
        let hosts: Vec<_> = held.fleet.hosts().collect();
        let hosts = serde_json::to_string(&hosts).unwrap_or_default();
        let mut out = String::new();
        // Only texts that are JSON already are put together.
        let _ =
            write!(out, r#"{{"epoch":"{}","revision":{revision},"hosts":{hosts},"containers":["#, self.epoch);
        join(&held, |_| true, &mut out);
        out.push_str("]}");
        (Beginning::Fresh(out), revision)
    }
}

fn join(held: &Held, wanted: impl Fn(&gubernum_core::container::Container) -> bool, out: &mut String) {
    let mut first = true;
    for container in held.fleet.containers().filter(|c| wanted(c)) {
        let Some(json) = held.json.get(&container.host).and_then(|h| h.get(&container.id)) else { continue };
        if !first {
            out.push(',');
        }
        first = false;
        out.push_str(json);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_core::container::Container;

    fn hub() -> Hub {
        let hub = Hub::new("e1".into(), Some("me".into()));
        let added = Observation::HostAdded {
            name: "packhouse".into(),
            address: "unix:///x".into(),
            link: "socket".into(),
        };
        hub.observe(added, Timestamp::UNIX_EPOCH);
        hub
    }

    fn see(hub: &Hub, id: &str) {
        let container = Box::new(Container::blank("packhouse", id, id));
        hub.observe(Observation::Seen { container }, Timestamp::UNIX_EPOCH);
    }

    #[test]
    fn the_joined_json_is_the_fleet() {
        let hub = hub();
        see(&hub, "a");
        see(&hub, "me");
        let all: Vec<Container> = serde_json::from_str(&hub.containers_json(|_| true)).unwrap();
        assert_eq!(all, hub.look(|f| f.containers().cloned().collect::<Vec<_>>()));
        assert!(all.iter().find(|c| c.id == "me").unwrap().is_self);
        let Beginning::Fresh(json) = hub.begin(None).0 else { panic!("fresh") };
        let snapshot: gubernum_api::views::FleetSnapshot = serde_json::from_str(&json).unwrap();
        assert_eq!((snapshot.containers.len(), snapshot.hosts.len(), snapshot.epoch.as_str()), (2, 1, "e1"));
    }

    #[test]
    fn a_reader_resumes_only_within_the_epoch() {
        let hub = hub();
        see(&hub, "a");
        let (_, revision) = hub.begin(None);
        see(&hub, "b");
        let resumed = hub.begin(Some(&("e1".into(), revision))).0;
        assert!(matches!(resumed, Beginning::Resumed(deltas) if deltas.len() == 1));
        assert!(matches!(hub.begin(Some(&("e0".into(), revision))).0, Beginning::Fresh(_)));
    }
}
