//! The watcher of one host: one listing, then events; a new listing whenever in doubt.
//!
//! Each host has its own task with its own timeouts and pauses, so that a slow or lost one harms
//! nobody else. What it sees goes to the hub; it decides nothing.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use backon::{BackoffBuilder, ExponentialBuilder};
use futures_util::StreamExt;
use gubernum_core::container::{Container, State};
use gubernum_core::fleet::Observation;
use gubernum_engine::events::{EngineEvent, EventReader, Subject};
use gubernum_engine::{Endpoint, Engine, EngineError};
use jiff::Timestamp;
use tokio::sync::watch;
use tokio::time::{Instant, sleep, timeout};
use tokio_util::sync::CancellationToken;

use crate::clock::Clock;
use crate::fleet::hub::Hub;
use crate::fleet::probes::Probes;
use crate::storage::Db;
use crate::timeline::Recorder;

/// Seconds between two looks whether the engine still answers.
const PING_EVERY: Duration = Duration::from_secs(5);
const PING_TIMEOUT: Duration = Duration::from_secs(5);
/// A listing that takes longer is a failure.
const LIST_TIMEOUT: Duration = Duration::from_secs(60);
/// Now and then a whole listing, against whatever an engine may have failed to tell.
const LIST_EVERY: Duration = Duration::from_secs(600);
/// Events that come within this span of a look are looked at together; the first after a quiet moment is not kept waiting.
const GATHER: Duration = Duration::from_millis(8);
const MOST_GATHERED: usize = 256;
/// The pauses between looks at a container that was made and has not been started, and the most of them.
const LOOK_AGAIN: [Duration; 4] =
    [Duration::from_millis(700), Duration::from_secs(2), Duration::from_secs(6), Duration::from_secs(20)];
const MOST_UNSTARTED: usize = 1000;
const FIRST_PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// What a watcher needs.
pub(crate) struct Watcher {
    pub(crate) name: String,
    pub(crate) endpoint: Endpoint,
    pub(crate) hub: Arc<Hub>,
    pub(crate) clock: Clock,
    pub(crate) recorder: Recorder,
    /// Since when things have been unused, kept over a restart.
    pub(crate) db: Db,
    pub(crate) engine: watch::Sender<Option<Engine>>,
    /// Somebody took something away: the disk is measured soon.
    pub(crate) measure: Arc<tokio::sync::Notify>,
    pub(crate) end: CancellationToken,
}

/// The pauses between two tries to connect: growing, and spread so that many hosts do not try at one moment.
fn tries() -> impl Iterator<Item = Duration> {
    let pauses = ExponentialBuilder::new().with_min_delay(FIRST_PAUSE).with_max_delay(LONGEST_PAUSE);
    pauses.without_max_times().with_jitter().build()
}

impl Watcher {
    /// Watches until it is told to end.
    pub(crate) async fn run(self) {
        let end = self.end.clone();
        end.run_until_cancelled(self.watch_for_ever()).await;
    }

    async fn watch_for_ever(&self) {
        let address = self.endpoint.to_string();
        let mut pauses = tries();
        loop {
            let begun = Instant::now();
            let error = match self.watch_once().await {
                Ok(never) => never,
                Err(error) => error,
            };
            self.engine.send_replace(None);
            let problem = error.as_problem(&address);
            self.recorder.lost(&self.name, &problem);
            tracing::warn!(host = %self.name, code = ?problem.code, "{}", problem.sentence);
            self.observe(Observation::Lost { host: self.name.clone(), problem });
            // A link that held for a while deserves a quick new try.
            if begun.elapsed() > LONGEST_PAUSE * 3 {
                pauses = tries();
            }
            sleep(pauses.next().unwrap_or(LONGEST_PAUSE)).await;
        }
    }

    /// Spreads the tries of many hosts: between 0.75 and 1.25 of the pause, by the host's name and the time.
    fn jittered(&self, pause: Duration) -> Duration {
        let seed = self.name.bytes().fold(self.clock.now().subsec_nanosecond().unsigned_abs(), |s, b| {
            s.wrapping_mul(31).wrapping_add(u32::from(b))
        });
        pause.mul_f64(0.75 + f64::from(seed % 1000) / 2000.0)
    }

    pub(crate) fn observe(&self, observation: Observation) {
        self.hub.observe(observation, self.clock.now());
    }

    /// Connects, lists and follows until something fails; returns what failed.
    async fn watch_once(&self) -> Result<EngineError, EngineError> {
        let engine = Engine::open(&self.endpoint).await?;
        // Events first, so that nothing between the listing and them is missed.
        let mut events = engine.events(None).await?;
        self.list(&engine).await?;
        self.engine.send_replace(Some(engine.clone()));
        tracing::info!(host = %self.name, version = %engine.facts().version, "the host is live");
        self.recorder.found(&self.name);
        let (probes, requests) = Probes::new();
        self.worry_about_all(&probes);
        tokio::select! {
            over = self.follow(&engine, &mut events, &probes) => over,
            error = self.look_after(&engine, requests) => Err(error),
        }
    }

    /// Takes events as they come; returns what ended that.
    async fn follow(
        &self,
        engine: &Engine,
        events: &mut EventReader,
        probes: &Probes,
    ) -> Result<EngineError, EngineError> {
        let mut next_ping = Instant::now() + self.jittered(PING_EVERY);
        let mut next_list = Instant::now() + LIST_EVERY;
        let mut unstarted = Unstarted::default();
        let mut looked: Option<Instant> = None;
        loop {
            tokio::select! {
                event = events.next() => match event? {
                    Some(event) => {
                        let busy = looked.is_some_and(|at| at.elapsed() < GATHER);
                        let gather = if busy { GATHER } else { Duration::ZERO };
                        self.take_events(engine, event, events, gather, probes, &mut unstarted).await?;
                        looked = Some(Instant::now());
                    }
                    None => return Ok(ended(engine)),
                },
                () = tokio::time::sleep_until(next_ping) => {
                    engine.ping(PING_TIMEOUT).await?;
                    self.observe(Observation::Alive { host: self.name.clone() });
                    next_ping = Instant::now() + self.jittered(PING_EVERY);
                }
                () = tokio::time::sleep_until(unstarted.next()) => {
                    let due = unstarted.due();
                    self.look(engine, due, probes, &mut unstarted).await?;
                }
                () = tokio::time::sleep_until(next_list) => {
                    self.list(engine).await?;
                    probes.look_at_assets();
                    next_list = Instant::now() + LIST_EVERY;
                }
            }
        }
    }

    async fn list(&self, engine: &Engine) -> Result<(), EngineError> {
        let listing = timeout(LIST_TIMEOUT, engine.list()).await;
        let containers = listing.unwrap_or_else(|_| Err(slow(engine)))?;
        let (host, engine) = (self.name.clone(), engine.facts().clone());
        self.observe(Observation::Listing { host, engine, containers });
        Ok(())
    }

    /// Looks once at each container that the waiting events speak of, and those that come within `gather`.
    async fn take_events(
        &self,
        engine: &Engine,
        first: EngineEvent,
        events: &mut EventReader,
        gather: Duration,
        probes: &Probes,
        unstarted: &mut Unstarted,
    ) -> Result<(), EngineError> {
        let mut touched: HashSet<String> = HashSet::new();
        let mut note = |event: EngineEvent| {
            self.recorder.engine(&self.name, &event);
            if event.subject != Subject::Container || event.gone || event.action == "create" {
                probes.look_at_assets();
            }
            if event.subject == Subject::Container && matches!(event.action.as_str(), "kill" | "stop") {
                self.observe(Observation::AskedToEnd { host: self.name.clone(), id: event.id.clone() });
            }
            if event.subject == Subject::Container
                && event.action == "oom"
                && let Ok(time) = Timestamp::from_nanosecond(i128::from(event.nanos))
            {
                let (host, id) = (self.name.clone(), event.id.clone());
                self.observe(Observation::OutOfMemory { host, id, time });
            }
            if event.gone {
                touched.remove(&event.id);
                unstarted.forget(&event.id);
                self.observe(Observation::Gone { host: self.name.clone(), id: event.id });
            } else if event.matters() {
                touched.insert(event.id);
            }
        };
        note(first);
        // With no time to wait, what has arrived already is still taken along.
        let gather_until = Instant::now() + gather;
        let mut over = false;
        for _ in 0..MOST_GATHERED {
            match tokio::time::timeout_at(gather_until, events.next()).await {
                Err(_) => break,
                Ok(Ok(Some(event))) => note(event),
                Ok(Ok(None)) => {
                    over = true;
                    break;
                }
                Ok(Err(error)) => return Err(error),
            }
        }
        self.look(engine, touched, probes, unstarted).await?;
        if over { Err(ended(engine)) } else { Ok(()) }
    }

    /// Looks once at each of these containers.
    async fn look(
        &self,
        engine: &Engine,
        ids: HashSet<String>,
        probes: &Probes,
        unstarted: &mut Unstarted,
    ) -> Result<(), EngineError> {
        let mut looks = futures_util::stream::iter(ids)
            .map(|id| async move { (engine.inspect(&id).await, id) })
            .buffer_unordered(8);
        while let Some((looked, id)) = looks.next().await {
            match looked {
                Ok(inspected) => {
                    let mut container = Box::new(inspected.container);
                    container.host.clone_from(&self.name);
                    probes.worry(&container);
                    unstarted.note(&container);
                    self.observe(Observation::Seen { container });
                }
                Err(e) if e.status() == Some(404) => {
                    unstarted.forget(&id);
                    self.observe(Observation::Gone { host: self.name.clone(), id });
                }
                Err(e) => return Err(e),
            }
        }
        Ok(())
    }
}

/// Containers that were made and do not run yet. Engines tell of no event when a start fails before there is a process (a
/// port that is taken): they are looked at again a few times, for what they keep of that.
#[derive(Default)]
struct Unstarted(HashMap<String, Rechecks>);

/// When it is looked at next, unless it was often enough, and how often it was.
struct Rechecks(Option<Instant>, usize);

impl Unstarted {
    fn note(&mut self, container: &Container) {
        if container.state != State::Created {
            self.forget(&container.id);
        } else if self.0.len() < MOST_UNSTARTED {
            let first = || Rechecks(Some(Instant::now() + LOOK_AGAIN[0]), 0);
            self.0.entry(container.id.clone()).or_insert_with(first);
        }
    }

    fn forget(&mut self, id: &str) {
        self.0.remove(id);
    }

    /// When the next is due; far off when none is.
    fn next(&self) -> Instant {
        self.0.values().filter_map(|l| l.0).min().unwrap_or_else(|| Instant::now() + LIST_EVERY)
    }

    /// Those that are due now; each is due again after a longer pause, a few times.
    fn due(&mut self) -> HashSet<String> {
        let now = Instant::now();
        let mut due = HashSet::new();
        for (id, Rechecks(at, times)) in &mut self.0 {
            if at.is_some_and(|at| at <= now) {
                *times += 1;
                *at = LOOK_AGAIN.get(*times).map(|pause| now + *pause);
                due.insert(id.clone());
            }
        }
        due
    }
}

fn ended(engine: &Engine) -> EngineError {
    let code = gubernum_core::host::LinkFault::Failed;
    EngineError::link(code, engine.address(), "it closed the stream of events, as it does when it shuts down")
}

fn slow(engine: &Engine) -> EngineError {
    let code = gubernum_core::host::LinkFault::TimedOut;
    EngineError::link(code, engine.address(), "listing its containers took longer than 60 s")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_made_and_not_started_is_looked_at_a_few_times() {
        let mut unstarted = Unstarted::default();
        let mut container = Container::blank("packhouse", "label-printer", "aa");
        container.state = State::Created;
        unstarted.note(&container);
        assert!(unstarted.due().is_empty(), "not at once");
        for _ in LOOK_AGAIN {
            // As if its time had come.
            unstarted.0.get_mut("aa").unwrap().0 = Some(Instant::now());
            assert_eq!(unstarted.due().len(), 1);
            unstarted.note(&container);
        }
        assert!(unstarted.0["aa"].0.is_none(), "and then only events bring it here");
        container.state = State::Running;
        unstarted.note(&container);
        assert!(unstarted.0.is_empty());
    }
}
