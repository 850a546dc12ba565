//! The current usage of every container, its viewers, and the path from samplers to viewers and history.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use gubernum_api::usage::CurrentUsage;
use gubernum_core::history::series::codes;
use gubernum_core::usage::Figures;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use tokio::sync::broadcast;

use crate::usage::history::History;

/// How many samples of the recent past are held of each container, for the small curves in lists.
const RECENT: usize = 30;
/// How many batches a viewer may lag behind.
const LAG: usize = 512;
/// The largest selection of containers that is sampled every second.
pub(crate) const MOST_WATCHED: usize = 50;

struct Latest {
    now: CurrentUsage,
    processors: VecDeque<f32>,
    memory: VecDeque<f32>,
}

/// What sampling has done since the service started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct SampleTotals {
    /// Samples taken into history.
    pub(crate) taken: u64,
    /// Rounds over a host that failed.
    pub(crate) failed_rounds: u64,
    /// Containers that are being sampled.
    pub(crate) sampled: usize,
}

/// What is used now, over the whole fleet.
pub(crate) struct Uses {
    taken: AtomicU64,
    failed_rounds: AtomicU64,
    latest: RwLock<HashMap<String, HashMap<String, Latest>>>,
    /// How many look at each container, by host and id.
    watched: Mutex<HashMap<(String, String), usize>>,
    sender: broadcast::Sender<Arc<Vec<CurrentUsage>>>,
    pub(crate) history: Arc<History>,
    /// Seconds between two samples of what nobody looks at.
    pub(crate) every: u64,
}

/// Somebody looks at some containers. Dropping it ends that.
pub(crate) struct Watching {
    uses: Arc<Uses>,
    keys: Vec<(String, String)>,
}

impl Drop for Watching {
    fn drop(&mut self) {
        let mut watched = self.uses.watched.lock();
        for key in &self.keys {
            if let Some(count) = watched.get_mut(key) {
                *count -= 1;
                if *count == 0 {
                    watched.remove(key);
                }
            }
        }
    }
}

impl Uses {
    pub(crate) fn new(history: Arc<History>, every: u64) -> Self {
        let (sender, _) = broadcast::channel(LAG);
        Self {
            taken: AtomicU64::new(0),
            failed_rounds: AtomicU64::new(0),
            latest: RwLock::default(),
            watched: Mutex::default(),
            sender,
            history,
            every,
        }
    }

    /// What sampling has done since the service started.
    pub(crate) fn totals(&self) -> SampleTotals {
        SampleTotals {
            taken: self.taken.load(Ordering::Relaxed),
            failed_rounds: self.failed_rounds.load(Ordering::Relaxed),
            sampled: self.latest.read().values().map(HashMap::len).sum(),
        }
    }

    /// A round over a host failed.
    pub(crate) fn round_failed(&self) {
        self.failed_rounds.fetch_add(1, Ordering::Relaxed);
    }

    /// Looks at these containers, given by host and id, until dropped; more than [`MOST_WATCHED`] are not
    /// sampled more often for it.
    pub(crate) fn watch(self: &Arc<Self>, keys: Vec<(String, String)>) -> Watching {
        let keys = if keys.len() > MOST_WATCHED { Vec::new() } else { keys };
        let mut watched = self.watched.lock();
        for key in &keys {
            *watched.entry(key.clone()).or_default() += 1;
        }
        drop(watched);
        Watching { uses: self.clone(), keys }
    }

    /// The containers of a host that somebody looks at.
    pub(crate) fn watched_of(&self, host: &str) -> Vec<String> {
        let watched = self.watched.lock();
        watched.keys().filter(|(h, _)| h == host).map(|(_, id)| id.clone()).collect()
    }

    /// Hears of samples from now on.
    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Arc<Vec<CurrentUsage>>> {
        self.sender.subscribe()
    }

    /// Takes the samples of one host. `all` when it is the regular round over all its containers, which
    /// goes into history, with the figures over the whole time since the round before.
    pub(crate) fn take(&self, host: &str, samples: Vec<CurrentUsage>, all: bool) {
        let mut latest = self.latest.write();
        let of_host = latest.entry(host.to_owned()).or_default();
        if all {
            let present: std::collections::HashSet<&str> = samples.iter().map(|s| s.id.as_str()).collect();
            of_host.retain(|id, _| present.contains(id.as_str()));
        }
        for sample in &samples {
            let entry = of_host.entry(sample.id.clone()).or_insert_with(|| Latest {
                now: sample.clone(),
                processors: VecDeque::new(),
                memory: VecDeque::new(),
            });
            entry.now = sample.clone();
            if all {
                let push = |ring: &mut VecDeque<f32>, value: Option<f64>| {
                    ring.push_back(value.map_or(f32::NAN, |v| v as f32));
                    if ring.len() > RECENT {
                        ring.pop_front();
                    }
                };
                push(&mut entry.processors, sample.figures.processors);
                push(&mut entry.memory, sample.figures.memory);
            }
        }
        drop(latest);
        if self.sender.receiver_count() > 0 && !samples.is_empty() {
            // Nobody may be left; that is no failure.
            let _ = self.sender.send(Arc::new(samples));
        }
    }

    /// Puts a regular sample into history.
    pub(crate) fn keep(&self, host: &str, name: &str, time: Timestamp, figures: &Figures) {
        self.taken.fetch_add(1, Ordering::Relaxed);
        self.history.push(host, name, time.as_second(), codes(&figures.row()));
    }

    /// What the containers use that `wanted` picks, with their recent past.
    pub(crate) fn now(&self, wanted: impl Fn(&CurrentUsage) -> bool) -> Vec<CurrentUsage> {
        let latest = self.latest.read();
        let all = latest.values().flat_map(HashMap::values).filter(|l| wanted(&l.now));
        let numbers =
            |ring: &VecDeque<f32>| ring.iter().map(|v| if v.is_finite() { *v } else { 0.0 }).collect();
        all.map(|l| CurrentUsage {
            recent_processors: numbers(&l.processors),
            recent_memory: numbers(&l.memory),
            ..l.now.clone()
        })
        .collect()
    }

    /// A host has no more samples to give.
    pub(crate) fn forget_host(&self, host: &str) {
        self.latest.write().remove(host);
    }
}
