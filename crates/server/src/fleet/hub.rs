//! The fleet's state in the service: one place that takes observations, and notifies subscribers of changes.
//!
//! Records are kept as JSON beside the state, so that a listing of thousands is a matter of joining
//! texts. A subscriber that falls behind is not waited for: it sees that it lagged and takes a snapshot.

use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use gubernum_core::container::Container;
use gubernum_core::delta::{Change, Delta, DeltaLog};
use gubernum_core::fleet::{Fleet, Observation, ReaderState};
use gubernum_core::rights::Access;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use tokio::sync::broadcast;

use super::fresh::FreshFleet;

/// How many changes are held for those who come back after a break. Each is a whole record of some kilobytes, and whoever
/// missed more is served as well by a snapshot.
const HELD_CHANGES: usize = 2000;
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

struct HubState {
    fleet: Fleet,
    log: DeltaLog,
    /// In the order of the fleet's own containers, so that both are walked side by side.
    json: BTreeMap<String, BTreeMap<String, Arc<str>>>,
    json_size: usize,
}

/// The most views that are cached until the fleet changes.
const MOST_VIEWS: usize = 64;

/// Holds the fleet.
pub struct Hub {
    held: RwLock<HubState>,
    sender: broadcast::Sender<Arc<Published>>,
    epoch: String,
    own_container: Option<String>,
    /// The whole listing at one revision: it is asked for more often than it changes.
    listing: Mutex<(u64, Bytes)>,
    /// What those who do not see everything saw last, by their access.
    views: Mutex<Vec<(Arc<Access>, Fleet)>>,
}

/// What a subscriber needs to begin.
pub enum InitialState {
    /// It can continue from where it stood, with these deltas first.
    Resumed(Vec<Arc<Delta>>),
    /// The whole fleet.
    Fresh(FreshFleet),
}

impl Hub {
    /// An empty fleet. `own_container` is the id of the container that the service runs in.
    pub fn new(epoch: String, own_container: Option<String>) -> Self {
        let held = HubState {
            fleet: Fleet::new(),
            log: DeltaLog::new(HELD_CHANGES),
            json: BTreeMap::new(),
            json_size: 0,
        };
        let (sender, _) = broadcast::channel(SUBSCRIBER_LAG);
        let listing = Mutex::new((0, Bytes::from_static(b"[]")));
        Self { held: RwLock::new(held), sender, epoch, own_container, listing, views: Mutex::default() }
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

    fn publish(&self, held: &mut HubState, delta: Option<Delta>) {
        let Some(delta) = delta else { return };
        for change in &delta.changes {
            match change {
                Change::ContainerPut { container } => {
                    let json: Arc<str> = serde_json::to_string(container).unwrap_or_default().into();
                    held.json_size += json.len();
                    let of_host = held.json.entry(container.host.clone()).or_default();
                    let before = of_host.insert(container.id.clone(), json);
                    held.json_size -= before.map_or(0, |b| b.len());
                }
                Change::ContainerGone { host, id } => {
                    let gone = held.json.get_mut(host).and_then(|of_host| of_host.remove(id));
                    held.json_size -= gone.map_or(0, |g| g.len());
                }
                Change::HostGone { host } => {
                    let gone = held.json.remove(host).unwrap_or_default();
                    held.json_size -= gone.values().map(|j| j.len()).sum::<usize>();
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

    /// The fleet as it is now, to be worked on for longer than a look. Cheap: nothing is copied until a host changes.
    pub fn snapshot(&self) -> Fleet {
        self.held.read().fleet.clone()
    }

    /// The fleet as somebody with this access sees it now.
    pub(super) fn seen_by(&self, access: &Arc<Access>) -> Fleet {
        let whole = self.snapshot();
        let known = {
            let views = self.views.lock();
            let known = views.iter().find(|(of, _)| Arc::ptr_eq(of, access));
            known.filter(|(_, view)| view.revision() == whole.revision()).map(|(_, view)| view.clone())
        };
        if let Some(view) = known {
            return view;
        }
        let view = whole.seen_by(access);
        let mut views = self.views.lock();
        views.retain(|(of, _)| !Arc::ptr_eq(of, access));
        if views.len() >= MOST_VIEWS {
            views.remove(0);
        }
        views.push((access.clone(), view.clone()));
        view
    }

    /// The beginning of a reader who does not see everything, with what it was told by it. Its deltas have numbers of their own.
    pub(crate) fn begin_seen_by(&self, access: &Arc<Access>, reader: u64) -> (FreshFleet, ReaderState) {
        let view = self.seen_by(access);
        let told = ReaderState::of(&view);
        let hosts = view.hosts().map(json).collect();
        let containers = view.containers().map(json).collect();
        let epoch = format!("{}-{reader}", self.epoch);
        (FreshFleet::new(epoch, told.revision(), hosts, containers), told)
    }

    /// What tells one state of the fleet from every other, for conditional requests.
    pub(crate) fn tag(&self) -> String {
        format!("{}-{}", self.epoch, self.held.read().fleet.revision())
    }

    /// All containers as a JSON array.
    pub fn listing(&self) -> Bytes {
        let held = self.held.read();
        let mut listing = self.listing.lock();
        if listing.0 != held.fleet.revision() {
            *listing = (held.fleet.revision(), Bytes::from(array(&held, |_| true)));
        }
        listing.1.clone()
    }

    /// The containers that `wanted` picks, as a JSON array.
    pub fn containers_json(&self, wanted: impl Fn(&Container) -> bool) -> String {
        array(&self.held.read(), wanted)
    }

    /// Hears of changes from now on; begin with [`Hub::begin`] afterwards so that nothing is missed.
    pub fn subscribe(&self) -> broadcast::Receiver<Arc<Published>> {
        self.sender.subscribe()
    }

    /// What somebody needs who is at `since` (epoch and revision), and the revision after it.
    pub fn begin(&self, since: Option<&(String, u64)>) -> (InitialState, u64) {
        let held = self.held.read();
        let revision = held.fleet.revision();
        if let Some((epoch, from)) = since
            && *epoch == self.epoch
            && let Some(deltas) = held.log.since(*from, revision)
        {
            return (InitialState::Resumed(deltas), revision);
        }
        let hosts = held.fleet.hosts().map(json).collect();
        let containers = held.json.values().flat_map(|of_host| of_host.values().cloned()).collect();
        (InitialState::Fresh(FreshFleet::new(self.epoch.clone(), revision, hosts, containers)), revision)
    }
}

fn json(record: impl serde::Serialize) -> Arc<str> {
    serde_json::to_string(&record).unwrap_or_default().into()
}

fn array(held: &HubState, wanted: impl Fn(&Container) -> bool) -> String {
    // Room for the records, a comma after each and the brackets.
    let mut out = String::with_capacity(held.json_size + held.fleet.containers().count() + 2);
    out.push('[');
    join(held, wanted, &mut out);
    out.push(']');
    out
}

fn join(held: &HubState, wanted: impl Fn(&Container) -> bool, out: &mut String) {
    let mut first = true;
    for (host, texts) in &held.json {
        for (container, json) in held.fleet.containers_of(host).zip(texts.values()) {
            if !wanted(container) {
                continue;
            }
            if !first {
                out.push(',');
            }
            first = false;
            out.push_str(json);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hub() -> Hub {
        let hub = Hub::new("e1".into(), Some("me".into()));
        let added = Observation::HostAdded {
            name: "packhouse".into(),
            address: "unix:///x".into(),
            link: "socket".into(),
            ports_address: None,
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
        assert_eq!(hub.listing(), "[]");
        see(&hub, "me");
        see(&hub, "gone");
        see(&hub, "a");
        hub.observe(Observation::Gone { host: "packhouse".into(), id: "gone".into() }, Timestamp::UNIX_EPOCH);
        assert_eq!(hub.listing(), hub.containers_json(|_| true));
        let one: Vec<Container> = serde_json::from_str(&hub.containers_json(|c| c.id == "me")).unwrap();
        assert_eq!(one[0].id, "me");
        let all: Vec<Container> = serde_json::from_str(&hub.containers_json(|_| true)).unwrap();
        assert_eq!(all, hub.look(|f| f.containers().cloned().collect::<Vec<_>>()));
        assert!(all.iter().find(|c| c.id == "me").unwrap().is_self);
        let InitialState::Fresh(fleet) = hub.begin(None).0 else { panic!("fresh") };
        let snapshot: gubernum_api::views::FleetSnapshot = serde_json::from_str(&fleet.json()).unwrap();
        assert_eq!((snapshot.containers.len(), snapshot.hosts.len(), snapshot.epoch.as_str()), (2, 1, "e1"));
    }

    #[test]
    fn a_reader_resumes_only_within_the_epoch() {
        let hub = hub();
        see(&hub, "a");
        let (_, revision) = hub.begin(None);
        see(&hub, "b");
        let resumed = hub.begin(Some(&("e1".into(), revision))).0;
        assert!(matches!(resumed, InitialState::Resumed(deltas) if deltas.len() == 1));
        assert!(matches!(hub.begin(Some(&("e0".into(), revision))).0, InitialState::Fresh(_)));
    }
}
