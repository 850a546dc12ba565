//! Samples the usage of one host's containers: all of them at a steady interval, watched ones every second.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use gubernum_api::usage::CurrentUsage;
use gubernum_core::container::State;
use gubernum_core::usage::{Counters, between, levels};
use gubernum_engine::Engine;
use tokio::sync::watch;
use tokio::time::{Instant, sleep_until};

use crate::clock::Clock;
use crate::fleet::Hub;
use crate::usage::latest::Uses;

/// The pace while somebody looks.
const SECOND: Duration = Duration::from_secs(1);

/// What a sampler needs.
pub(crate) struct Sampler {
    pub(crate) host: String,
    pub(crate) hub: Arc<Hub>,
    pub(crate) clock: Clock,
    pub(crate) uses: Arc<Uses>,
    pub(crate) engine: watch::Receiver<Option<Engine>>,
}

/// A running container, as far as a sample needs it.
struct Running {
    name: String,
    stack: Option<String>,
    memory_limit: Option<u64>,
}

impl Sampler {
    /// Samples until it is dropped.
    pub(crate) async fn run(mut self) {
        let every = Duration::from_secs(self.uses.every.max(1));
        // The hosts' rounds are spread over the pace, so that they do not all come at once.
        let place = self.host.bytes().fold(7u64, |h, b| h.wrapping_mul(31).wrapping_add(u64::from(b)));
        let offset = every.mul_f64((place % 1000) as f64 / 1000.0);
        loop {
            let Ok(engine) = self.engine.wait_for(|e| e.is_some()).await.map(|e| e.clone()) else { return };
            let Some(engine) = engine else { continue };
            self.rounds(&engine, every, offset).await;
            self.uses.forget_host(&self.host);
        }
    }

    /// Rounds for as long as the engine is there.
    async fn rounds(&mut self, engine: &Engine, every: Duration, offset: Duration) {
        // The first round at once, so that the next one can tell rates; then in its place.
        let mut next_all = Instant::now();
        let mut before_all: HashMap<String, Counters> = HashMap::new();
        let mut before_any: HashMap<String, Counters> = HashMap::new();
        let mut settled = false;
        loop {
            let now = Instant::now();
            let all = now >= next_all;
            let watched = self.uses.watched_of(&self.host);
            // Most of the time nobody looks at this host.
            let running = if all || !watched.is_empty() { self.running() } else { HashMap::new() };
            let ids: Vec<String> = if all {
                next_all = if settled { next_all + every } else { now + Duration::from_secs(2) + offset };
                settled = true;
                if next_all < now {
                    next_all = now + every;
                }
                running.keys().cloned().collect()
            } else {
                watched.into_iter().filter(|id| running.contains_key(id)).collect()
            };
            if !ids.is_empty() || all {
                let memory = self.hub.look(|f| f.host(&self.host).and_then(|h| h.machine.memory_total));
                match engine.sample(&ids, memory).await {
                    Ok(samples) => self.tell(samples, &running, all, &mut before_all, &mut before_any),
                    Err(error) => {
                        self.uses.round_failed();
                        tracing::debug!(host = %self.host, "no sample: {error}");
                    }
                }
            }
            if all {
                before_all.retain(|id, _| running.contains_key(id));
                before_any.retain(|id, _| running.contains_key(id));
            }
            let next = (now + SECOND).max(Instant::now()).min(next_all.max(Instant::now()));
            tokio::select! {
                () = sleep_until(next) => {}
                changed = self.engine.wait_for(|e| e.is_none()) => {
                    let _ = changed;
                    return;
                }
            }
        }
    }

    fn running(&self) -> HashMap<String, Running> {
        self.hub.look(|fleet| {
            let up =
                fleet.containers_of(&self.host).filter(|c| matches!(c.state, State::Running | State::Paused));
            up.map(|c| {
                (
                    c.id.clone(),
                    Running { name: c.name.clone(), stack: c.stack.clone(), memory_limit: c.memory_limit },
                )
            })
            .collect()
        })
    }

    fn tell(
        &self,
        samples: Vec<(String, Counters)>,
        running: &HashMap<String, Running>,
        all: bool,
        before_all: &mut HashMap<String, Counters>,
        before_any: &mut HashMap<String, Counters>,
    ) {
        let time = self.clock.now();
        let mut told = Vec::with_capacity(samples.len());
        for (id, counters) in samples {
            let Some(c) = running.get(&id) else { continue };
            // An engine's sample names the machine's memory where there is no limit; the record is plain.
            let counters = Counters { memory_limit: c.memory_limit, ..counters };
            if all {
                let kept = before_all.get(&id).map_or_else(|| levels(&counters), |b| between(b, &counters));
                self.uses.keep(&self.host, &c.name, time, &kept);
                before_all.insert(id.clone(), counters.clone());
            }
            let figures = before_any.get(&id).map_or_else(|| levels(&counters), |b| between(b, &counters));
            let memory_has_cache = counters.memory_has_cache;
            before_any.insert(id.clone(), counters);
            told.push(CurrentUsage {
                host: self.host.clone(),
                id,
                name: c.name.clone(),
                stack: c.stack.clone(),
                time,
                figures,
                memory_has_cache,
                recent_processors: Vec::new(),
                recent_memory: Vec::new(),
            });
        }
        self.uses.take(&self.host, told, all);
    }
}
