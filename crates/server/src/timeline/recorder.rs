//! Records engine events and the links of hosts on the timeline, in batches.
//!
//! Operations, sign-ins and changes of hosts by members get there with their own records, in the store.
//! When events come faster than the disk takes them, the oldest wait up to a limit and the rest is
//! counted and said.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use gubernum_api::timeline::{EventKind, TimelineEvent};
use gubernum_core::host::LinkProblem;
use gubernum_core::text::shown;
use gubernum_core::timeline::event_word;
use gubernum_engine::events::{EngineEvent, Subject};
use jiff::Timestamp;
use moka::sync::Cache;
use parking_lot::Mutex;
use tokio::sync::mpsc;

use crate::clock::Clock;
use crate::operations::Claims;
use crate::storage::Db;

/// How many events may wait for the disk.
const WAITING: usize = 20_000;
/// Events of this span are written together.
const GATHER: Duration = Duration::from_millis(500);
const MOST_TOGETHER: usize = 2000;
/// How often what is too old is let go.
const FORGET_EVERY: Duration = Duration::from_secs(3600);

/// An end that somebody asked for within this span is that end; some engines tell of the asking after it.
const ASKED: Duration = Duration::from_secs(60);
/// The most containers of which it is remembered that they were asked to end.
const MOST_ASKED: u64 = 10_000;

/// What the writer is told.
enum Entry {
    /// Something happened.
    Event(Box<TimelineEvent>),
    /// The last end of this container on this host was requested: it is nothing that went wrong.
    Excuse(String, String),
}

/// A way to the timeline. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Recorder {
    sender: mpsc::Sender<Entry>,
    clock: Clock,
    dropped: Arc<AtomicU64>,
    /// Which operation works on what.
    claims: Arc<Claims>,
    /// Containers that somebody asked to end, by host and id.
    asked: Cache<(String, String), ()>,
    /// Hosts that are lost now, so that every new try that fails is not told again.
    lost: Arc<Mutex<std::collections::HashSet<String>>>,
}

/// The other end, to be run.
pub(crate) struct Writer {
    receiver: mpsc::Receiver<Entry>,
    db: Db,
    clock: Clock,
    dropped: Arc<AtomicU64>,
    days: u32,
}

impl Recorder {
    /// Makes both ends; events older than `days` are let go.
    pub(crate) fn with_writer(db: Db, clock: Clock, days: u32, claims: Arc<Claims>) -> (Self, Writer) {
        let (sender, receiver) = mpsc::channel(WAITING);
        let dropped = Arc::new(AtomicU64::new(0));
        let recorder = Self {
            sender,
            clock: clock.clone(),
            dropped: dropped.clone(),
            claims,
            asked: Cache::builder().max_capacity(MOST_ASKED).time_to_live(ASKED).build(),
            lost: Arc::default(),
        };
        (recorder, Writer { receiver, db, clock, dropped, days })
    }

    fn put(&self, event: TimelineEvent) {
        if self.sender.try_send(Entry::Event(Box::new(event))).is_err() {
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// An engine told of something.
    pub(crate) fn engine(&self, host: &str, event: &EngineEvent) {
        let action = event.action.split(':').next().unwrap_or_default().trim();
        // Commands run inside, such as health checks, and reading would fill it with nothing to know.
        if action.starts_with("exec_")
            || matches!(action, "top" | "resize" | "attach" | "cleanup" | "init" | "archive-path")
        {
            return;
        }
        let object = match event.subject {
            Subject::Container => "container",
            Subject::Image => "image",
            Subject::Volume => "volume",
            Subject::Network => "network",
        };
        let time = Timestamp::from_nanosecond(i128::from(event.nanos)).unwrap_or_else(|_| self.clock.now());
        let sick = event.action.contains("unhealthy");
        let asked = event.subject == Subject::Container && self.was_asked(host, event, action);
        let failed = action == "die" && !asked && !matches!(event.detail.as_str(), "" | "exit code 0");
        let words = event.action.split_once(':').map_or("", |(_, words)| words.trim());
        let sentence = [words, event.detail.as_str()]
            .iter()
            .filter(|p| !p.is_empty())
            .copied()
            .collect::<Vec<_>>()
            .join(", ");
        let name = if event.name.is_empty() { &event.id } else { &event.name };
        let container = event.container.as_deref().unwrap_or_default();
        let owner = self.claims.find(host, &[&event.id, &event.name, container]);
        // A temporary name is told of under the lasting one.
        let lasting = owner.as_ref().filter(|_| event.subject == Subject::Container).map(|(_, name)| name);
        let name = lasting.unwrap_or(name);
        self.put(TimelineEvent {
            id: 0,
            time,
            kind: EventKind::Engine,
            host: host.to_owned(),
            object: object.to_owned(),
            name: shown(name, 200),
            action: event_word(object, &shown(action, 60)).to_owned(),
            member: None,
            sentence: shown(&sentence, 300),
            bad: action == "oom" || sick || failed,
            operation: owner.map(|(operation, _)| operation),
            folded: 0,
        });
    }

    /// Whether somebody asked for this end; takes note of who asks.
    fn was_asked(&self, host: &str, event: &EngineEvent, action: &str) -> bool {
        let key = (host.to_owned(), event.id.clone());
        match action {
            "kill" | "stop" => {
                self.asked.insert(key, ());
                let name = if event.name.is_empty() { &event.id } else { &event.name };
                let excuse = Entry::Excuse(host.to_owned(), shown(name, 200));
                if self.sender.try_send(excuse).is_err() {
                    self.dropped.fetch_add(1, Ordering::Relaxed);
                }
                true
            }
            "start" => {
                self.asked.invalidate(&key);
                false
            }
            _ => self.asked.contains_key(&key),
        }
    }

    /// A host cannot be reached.
    pub(crate) fn lost(&self, host: &str, problem: &LinkProblem) {
        if self.lost.lock().insert(host.to_owned()) {
            self.of_host(host, "lost", &problem.sentence, true);
        }
    }

    /// A host is reached, for the first time or again.
    pub(crate) fn found(&self, host: &str) {
        let again = self.lost.lock().remove(host);
        self.of_host(host, "live", if again { "it can be reached again" } else { "" }, false);
    }

    fn of_host(&self, host: &str, action: &str, sentence: &str, bad: bool) {
        self.put(TimelineEvent {
            id: 0,
            time: self.clock.now(),
            kind: EventKind::Host,
            host: host.to_owned(),
            object: "host".to_owned(),
            name: host.to_owned(),
            action: event_word("host", action).to_owned(),
            member: None,
            sentence: sentence.to_owned(),
            bad,
            operation: None,
            folded: 0,
        });
    }
}

impl Writer {
    /// Writes until all ends to it are gone.
    pub(crate) async fn run(mut self) {
        let mut next_forget = tokio::time::Instant::now() + Duration::from_secs(30);
        let mut together = Vec::new();
        loop {
            let first = tokio::select! {
                first = self.receiver.recv() => first,
                () = tokio::time::sleep_until(next_forget) => {
                    self.forget().await;
                    next_forget = tokio::time::Instant::now() + FORGET_EVERY;
                    continue;
                }
            };
            let Some(first) = first else { return };
            together.push(first);
            let until = tokio::time::Instant::now() + GATHER;
            while together.len() < MOST_TOGETHER {
                match tokio::time::timeout_at(until, self.receiver.recv()).await {
                    Ok(Some(event)) => together.push(event),
                    _ => break,
                }
            }
            let entries = std::mem::take(&mut together);
            let count = entries.len();
            let since = self.clock.now() - jiff::SignedDuration::from_secs(60);
            let written = self.db.run(move |store| {
                let mut events: Vec<TimelineEvent> = Vec::new();
                let mut excused = Vec::new();
                for entry in entries {
                    match entry {
                        Entry::Event(event) => events.push(*event),
                        Entry::Excuse(host, name) => {
                            let ends = events.iter_mut().filter(|e| e.action == "exited");
                            ends.filter(|e| e.host == host && e.name == name).for_each(|e| e.bad = false);
                            excused.push((host, name));
                        }
                    }
                }
                store.add_events(&events)?;
                store.excuse_ends(&excused, since)
            });
            if let Err(error) = written.await {
                tracing::error!(count, "timeline events could not be saved: {error}");
            }
            let dropped = self.dropped.swap(0, Ordering::Relaxed);
            if dropped > 0 {
                tracing::warn!(
                    dropped,
                    "events came faster than they could be written; some are missing from the timeline"
                );
            }
        }
    }

    async fn forget(&self) {
        let before = self.clock.now() - jiff::SignedDuration::from_hours(24 * i64::from(self.days));
        if let Err(error) = self.db.run(move |store| store.forget_events(before)).await {
            tracing::error!("old events could not be removed: {error}");
        }
    }
}
