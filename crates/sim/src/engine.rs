//! The state of one simulated engine: its containers and its events.
//!
//! Transitions are in `life`, answers in `answers`, HTTP in `routes`.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use jiff::Timestamp;
use parking_lot::Mutex;
use serde_json::{Value, json};
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

use crate::holdings::Holdings;
use crate::logbook::LogBook;
use crate::spec::ContainerSpec;

/// How many past events are kept, as dockerd does.
pub(crate) const EVENTS_KEPT: usize = 256;

/// A container's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub(crate) enum Status {
    Created,
    Running,
    Paused,
    Restarting,
    Exited,
}

impl Status {
    pub(crate) fn word(self) -> &'static str {
        self.into()
    }

    pub(crate) fn alive(self) -> bool {
        matches!(self, Self::Running | Self::Paused | Self::Restarting)
    }
}

pub(crate) struct SimContainer {
    pub(crate) id: String,
    pub(crate) spec: ContainerSpec,
    /// The id of the image it was made from: its name may mean another by now.
    pub(crate) image: String,
    /// What it was made with over the API, as it was sent; null when it was made from outside.
    pub(crate) body: Value,
    /// Its networks with what was wished for each.
    pub(crate) networks: BTreeMap<String, Value>,
    pub(crate) created: Timestamp,
    pub(crate) status: Status,
    pub(crate) started: Option<Timestamp>,
    pub(crate) finished: Option<Timestamp>,
    pub(crate) exit_code: i64,
    pub(crate) out_of_memory: bool,
    pub(crate) error: String,
    pub(crate) restart_count: u64,
    /// Somebody stopped it, so its restart policy rests.
    pub(crate) stopped: bool,
    /// `starting`, `healthy` or `unhealthy`.
    pub(crate) health: &'static str,
    pub(crate) health_fails: u32,
    pub(crate) log: Arc<LogBook>,
    /// Ends the task of the present run.
    pub(crate) run: CancellationToken,
    /// Counts the runs, so that a task of an earlier one changes nothing.
    pub(crate) epoch: u64,
}

pub(crate) struct State {
    pub(crate) containers: BTreeMap<String, SimContainer>,
    pub(crate) events: VecDeque<(i64, Arc<str>)>,
    pub(crate) holdings: Holdings,
    pub(crate) execs: crate::shell::Execs,
    next: u64,
}

/// One simulated engine, shared by its connections and its containers' tasks.
pub(crate) struct SimEngine {
    pub(crate) name: String,
    pub(crate) seed: u64,
    /// Where registries really answer, by their names.
    pub(crate) registries: parking_lot::RwLock<BTreeMap<String, String>>,
    /// It speaks as podman does where that differs.
    pub(crate) podman: AtomicBool,
    pub(crate) state: Mutex<State>,
    pub(crate) live: broadcast::Sender<(i64, Arc<str>)>,
}

impl SimEngine {
    pub(crate) fn new(name: &str, seed: u64) -> Arc<Self> {
        let state = State {
            containers: BTreeMap::new(),
            events: VecDeque::new(),
            holdings: Holdings::new(),
            execs: crate::shell::Execs::new(),
            next: 0,
        };
        let (live, _) = broadcast::channel(1024);
        Arc::new(Self {
            name: name.to_owned(),
            seed,
            registries: parking_lot::RwLock::default(),
            podman: AtomicBool::new(false),
            state: Mutex::new(state),
            live,
        })
    }

    /// An id that is the same in every run with the same seed.
    fn id(&self, number: u64, name: &str) -> String {
        let text = format!("{}/{}/{number}/{name}", self.seed, self.name);
        let digest = ring::digest::digest(&ring::digest::SHA256, text.as_bytes());
        digest.as_ref().iter().map(|b| format!("{b:02x}")).collect()
    }

    /// Adds a container in the state `created`. Errors with the id that has the name already.
    pub(crate) fn create(&self, spec: ContainerSpec) -> Result<String, String> {
        self.create_with(spec, Value::Null)
    }

    /// The same, with what was sent over the API.
    pub(crate) fn create_with(&self, mut spec: ContainerSpec, body: Value) -> Result<String, String> {
        let mut state = self.state.lock();
        if let Some(other) = state.containers.values().find(|c| c.spec.name == spec.name) {
            return Err(other.id.clone());
        }
        state.next += 1;
        let id = self.id(state.next, &spec.name);
        if spec.name.is_empty() {
            spec.name = format!("unnamed-{}", &id[..8]);
        }
        for (n, volume) in spec.volumes.iter_mut().enumerate() {
            if volume.source.is_empty() {
                volume.source = self.id(n as u64, &format!("volume of {id}"));
            }
        }
        state.holdings.need_image(&spec.image);
        let image = crate::holdings::find_image(&state, &spec.image)
            .map_or_else(|| crate::answers::image_id(&spec.image), |(id, _)| id.clone());
        let mut networks: BTreeMap<String, Value> = body["NetworkingConfig"]["EndpointsConfig"]
            .as_object()
            .map(|o| o.iter().map(|(k, v)| (k.clone(), v.clone())).collect())
            .unwrap_or_default();
        if !spec.network.starts_with("container:") {
            networks.entry(spec.network.clone()).or_insert(Value::Null);
        }
        let container = SimContainer {
            image,
            body,
            networks,
            id: id.clone(),
            created: Timestamp::now(),
            status: Status::Created,
            started: None,
            finished: None,
            exit_code: 0,
            out_of_memory: false,
            error: String::new(),
            restart_count: 0,
            stopped: false,
            health: "starting",
            health_fails: 0,
            log: Arc::new(LogBook::default()),
            run: CancellationToken::new(),
            epoch: 0,
            spec,
        };
        container.log.set_closed(true);
        for network in container.networks.keys() {
            state.holdings.need_network(network);
        }
        state.holdings.files.seed_container(&id, &container.spec.name);
        for volume in container.spec.volumes.iter().filter(|v| !v.source.starts_with('/')) {
            state.holdings.need_volume(&volume.source);
        }
        self.emit(&mut state, &container.id, &container.spec, "create", &[]);
        state.containers.insert(id.clone(), container);
        Ok(id)
    }

    /// Finds a container by id, the beginning of an id or name.
    pub(crate) fn find(&self, reference: &str) -> Option<String> {
        let state = self.state.lock();
        if state.containers.contains_key(reference) {
            return Some(reference.to_owned());
        }
        if let Some(c) = state.containers.values().find(|c| c.spec.name == reference) {
            return Some(c.id.clone());
        }
        let mut by_prefix = state.containers.keys().filter(|id| id.starts_with(reference));
        match (by_prefix.next(), by_prefix.next()) {
            (Some(id), None) => Some(id.clone()),
            _ => None,
        }
    }

    /// Tells of an image, a volume or a network.
    pub(crate) fn emit_other(&self, kind: &str, id: &str, action: &str) {
        let now = Timestamp::now();
        let nanos = i64::try_from(now.as_nanosecond()).unwrap_or(i64::MAX);
        let event = json!({
            "Type": kind, "Action": action, "Actor": {"ID": id, "Attributes": {"name": id}}, "scope": "local",
            "time": nanos / 1_000_000_000, "timeNano": nanos,
        });
        let line: Arc<str> = format!("{event}\n").into();
        let mut state = self.state.lock();
        state.events.push_back((nanos, line.clone()));
        while state.events.len() > EVENTS_KEPT {
            state.events.pop_front();
        }
        // Nobody may be listening.
        let _ = self.live.send((nanos, line));
    }

    /// Writes an event, to be kept and sent to all who listen.
    pub(crate) fn emit(
        &self,
        state: &mut State,
        id: &str,
        spec: &ContainerSpec,
        action: &str,
        more: &[(&str, String)],
    ) {
        let now = Timestamp::now();
        let mut nanos = i64::try_from(now.as_nanosecond()).unwrap_or(i64::MAX);
        if let Some((last, _)) = state.events.back() {
            nanos = nanos.max(last + 1);
        }
        let mut attributes = serde_json::Map::new();
        attributes.insert("name".into(), json!(spec.name));
        attributes.insert("image".into(), json!(spec.image));
        attributes.extend(more.iter().map(|(k, v)| ((*k).to_owned(), Value::String(v.clone()))));
        let event = json!({
            "status": action, "id": id, "from": spec.image, "Type": "container", "Action": action,
            "Actor": {"ID": id, "Attributes": attributes}, "scope": "local",
            "time": nanos / 1_000_000_000, "timeNano": nanos,
        });
        let line: Arc<str> = format!("{event}\n").into();
        state.events.push_back((nanos, line.clone()));
        while state.events.len() > EVENTS_KEPT {
            state.events.pop_front();
        }
        // Nobody may be listening.
        let _ = self.live.send((nanos, line));
    }
}

/// A small deterministic source of numbers (SplitMix64), for chatter and jitter.
pub(crate) struct Numbers(u64);

impl Numbers {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub(crate) fn below(&mut self, limit: u64) -> u64 {
        self.next() % limit.max(1)
    }
}
