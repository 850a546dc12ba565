//! Follows one container's log by host and name across restarts, replacements, rollbacks and engine outages.
//!
//! [`Follow`] says which container is read next and from where on, so that no line is lost or repeated; whoever follows
//! opens the engine's log and reads it. Readers: `merger::source` and `keeper` (kept
//! logs). [`Followers`] lets an operation wait, for a moment, until the last lines of a container have been read before
//! the container is removed.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Weak};
use std::time::Duration;

use gubernum_core::container::Container;
use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::nanos;
use gubernum_engine::Engine;
use gubernum_engine::logs::{LogQuery, LogReader};
use gubernum_store::segments::Last;
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::time::Instant;

use crate::logs::LogsContext;

/// How soon after the end of a log it is looked what became of the container, and how often later on.
const SOON: Duration = Duration::from_millis(20);
const LATER: Duration = Duration::from_millis(300);
/// After this it is looked less often.
const SETTLED: Duration = Duration::from_secs(10);
/// A log that ended although its container runs is opened again after this.
const AGAIN: Duration = Duration::from_millis(700);
/// Containers of one name for which it is remembered how far they were read.
const REMEMBERED: usize = 16;

/// Leaves out what has been read before: all before a time, and a number of lines of that very time.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Skip {
    nanos: i64,
    count: u32,
}

impl Skip {
    /// What was read up to this line.
    pub(crate) fn after(last: Option<Last>) -> Self {
        last.map_or(Self { nanos: i64::MIN, count: 0 }, |l| Self { nanos: l.nanos, count: l.count })
    }

    /// Takes the lines out that were read before.
    pub(crate) fn apply(&mut self, lines: &mut Vec<LogLine>) {
        if self.nanos == i64::MIN {
            return;
        }
        lines.retain(|l| {
            let Some(time) = l.time.map(nanos) else { return true };
            if time == self.nanos && self.count > 0 {
                self.count -= 1;
                return false;
            }
            time >= self.nanos
        });
    }
}

/// Counts lines so that a later reading can continue behind them.
pub(crate) fn count(last: &mut Option<Last>, lines: &[LogLine]) {
    for n in lines.iter().filter_map(|l| l.time).map(nanos) {
        Last::count(last, n);
    }
}

/// What an engine still holds of a log whose following has ended. One that is busy ends it when the container does, and
/// may not have told its last lines by then.
pub(crate) async fn remainder(
    engine: &Engine,
    (id, terminal): (&str, bool),
    followed: &LogQuery,
    last: Option<Last>,
) -> Option<(LogReader, Skip)> {
    let since = since(last).max(followed.since);
    let query = LogQuery { since, tail: None, follow: false, ..followed.clone() };
    // What cannot be read now is reported by the task that waits for the container or its host.
    let reader = engine.logs(id, terminal, &query).await.ok()?;
    Some((reader, Skip::after(last)))
}

/// The time from which a reading goes on.
pub(crate) fn since(last: Option<Last>) -> Option<Timestamp> {
    last.and_then(|l| Timestamp::from_nanosecond(i128::from(l.nanos)).ok())
}

/// A log to be opened.
pub(crate) struct Turn {
    pub(crate) engine: Engine,
    pub(crate) id: String,
    pub(crate) terminal: bool,
    /// Where the reading goes on; absent at the beginning of a successor's log.
    pub(crate) last: Option<Last>,
    /// What there is to tell the reader before its lines.
    pub(crate) note: Option<String>,
}

/// What comes next for a follower.
pub(crate) enum Next {
    /// A log can be read.
    Turn(Box<Turn>),
    /// Something to tell while it waits.
    Note(String),
    /// The container has been gone for as long as the caller wanted to wait.
    Gone,
}

/// Follows one name on one host.
pub(crate) struct Follow {
    context: Arc<LogsContext>,
    host: String,
    name: String,
    /// The container that was opened last, with when it had started and when it was opened.
    current: Option<(String, Option<Timestamp>, Instant)>,
    /// How far each container of this name was read, the newest last.
    read: VecDeque<(String, Option<Last>)>,
    /// The end of the last reading.
    ended: Instant,
    /// It has been told that the host is unreachable, or the container gone.
    told: bool,
    /// It has been told that the host is unreachable.
    away: bool,
    progress: Arc<Progress>,
}

impl Follow {
    /// Begins to follow. `container` is the one that was read so far, up to `last`.
    pub(crate) fn new(context: &Arc<LogsContext>, host: &str, name: &str) -> Self {
        Self {
            context: context.clone(),
            host: host.to_owned(),
            name: name.to_owned(),
            current: None,
            read: VecDeque::new(),
            ended: Instant::now(),
            told: false,
            away: false,
            progress: context.followers.join(host, name),
        }
    }

    /// Notes that a container is being read, from behind `last` on.
    pub(crate) fn opened(&mut self, id: &str, last: Option<Last>) {
        let started = self
            .context
            .hub
            .look(|fleet| fleet.container(&self.host, id).and_then(|container| container.started));
        self.current = Some((id.to_owned(), started, Instant::now()));
        self.remember(id, last);
        self.progress.reading(id);
    }

    fn remember(&mut self, id: &str, last: Option<Last>) {
        self.read.retain(|(known, _)| known != id);
        self.read.push_back((id.to_owned(), last));
        if self.read.len() > REMEMBERED {
            self.read.pop_front();
        }
    }

    /// How far the present container was read.
    pub(crate) fn last(&mut self) -> &mut Option<Last> {
        if self.read.is_empty() {
            self.read.push_back((String::new(), None));
        }
        let end = self.read.len() - 1;
        &mut self.read[end].1
    }

    /// Counts lines of the present container.
    pub(crate) fn count(&mut self, lines: &[LogLine]) {
        if !lines.is_empty() {
            self.told = false;
        }
        count(self.last(), lines);
        self.progress.state.lock().handing_on = Some(Instant::now());
    }

    /// Its log is over for now.
    pub(crate) fn ended(&mut self) {
        self.ended = Instant::now();
        if let Some((id, ..)) = &self.current {
            self.progress.read(id);
        }
    }

    /// Waits until there is a log to be read: the same container's after a new start, a successor's, or that of a host
    /// that is back. Gives [`Next::Gone`] when no container has had the name for `timeout`.
    pub(crate) async fn next(&mut self, timeout: Option<Duration>) -> Next {
        let mut gone_since = None;
        let began = Instant::now();
        loop {
            let live = self.context.links.get(&self.host).and_then(|link| link.live());
            let Some(engine) = live else {
                if !self.told {
                    (self.told, self.away) = (true, true);
                    return Next::Note(format!("{} is unreachable. Reconnecting…", self.host));
                }
                tokio::time::sleep(LATER).await;
                continue;
            };
            match self.look() {
                Lookup::Read(container) => {
                    let id = container.id.clone();
                    let replaced = self.current.as_ref().is_some_and(|(known, ..)| *known != id);
                    let note = match (replaced, std::mem::take(&mut self.away)) {
                        (true, _) => {
                            Some(format!("{}/{} was replaced; the log continues.", self.host, self.name))
                        }
                        (false, true) => Some(format!("{} is back.", self.host)),
                        (false, false) => None,
                    };
                    let last = self.read.iter().find(|(known, _)| *known == id).and_then(|(_, last)| *last);
                    self.opened(&id, last);
                    return Next::Turn(Box::new(Turn {
                        engine,
                        id,
                        terminal: container.terminal,
                        last,
                        note,
                    }));
                }
                Lookup::Wait => gone_since = None,
                Lookup::Gone => {
                    let since = *gone_since.get_or_insert_with(Instant::now);
                    if timeout.is_some_and(|timeout| since.elapsed() > timeout) {
                        return Next::Gone;
                    }
                    if !self.told && since.elapsed() > SETTLED / 5 {
                        self.told = true;
                        let (host, name) = (&self.host, &self.name);
                        return Next::Note(format!(
                            "{host}/{name} was removed; waiting for a new one with this name."
                        ));
                    }
                }
            }
            tokio::time::sleep(if began.elapsed() < SETTLED { SOON } else { LATER }).await;
        }
    }

    /// What the fleet shows under the name.
    fn look(&mut self) -> Lookup {
        let current = self.current.as_ref();
        let found = self.context.hub.look(|fleet| {
            let named = fleet.named(&self.host, &self.name);
            // Renamed while it was followed: it is still the one that is meant.
            let renamed = || current.and_then(|(id, ..)| fleet.container(&self.host, id));
            let held = || {
                let mut aside = fleet.aside_of(&self.host);
                aside.any(|c| c.role.as_ref().is_some_and(|role| role.of == self.name))
            };
            named.or_else(renamed).cloned().ok_or_else(held)
        });
        let container = match found {
            Ok(container) => container,
            // An operation is at it.
            Err(true) => return Lookup::Wait,
            Err(false) => return Lookup::Gone,
        };
        let fresh = match current {
            Some((id, started, _)) if *id == container.id => container.started != *started,
            _ => true,
        };
        if container.started.is_none() {
            return Lookup::Wait;
        }
        let again = container.state.is_alive() && self.ended.elapsed() > AGAIN;
        if fresh || again {
            self.name.clone_from(&container.name);
            return Lookup::Read(Box::new(container));
        }
        Lookup::Wait
    }

    /// Waits until another container has the name while the one that is read lives on under another; then it is let go.
    pub(crate) async fn superseded(&self) {
        // The caller waits for the engine again: the lines before have been handed on.
        self.progress.state.lock().handing_on = None;
        loop {
            tokio::time::sleep(AGAIN).await;
            let Some((id, ..)) = &self.current else { continue };
            let other = self.context.hub.look(|fleet| {
                let named = fleet.named(&self.host, &self.name).is_some_and(|c| c.id != *id);
                named && fleet.container(&self.host, id).is_some()
            });
            if other {
                return;
            }
        }
    }
}

enum Lookup {
    /// This one can be read.
    Read(Box<Container>),
    /// It is there, and there is nothing new of it.
    Wait,
    /// No container has the name.
    Gone,
}

/// How far one follower has come.
#[derive(Default)]
struct Progress {
    state: Mutex<ProgressState>,
}

#[derive(Default)]
struct ProgressState {
    /// Containers whose logs were read to their end.
    read: VecDeque<String>,
    /// The container whose log is open.
    reading: Option<String>,
    /// Since when lines wait to be taken by the listener; absent while the engine is waited for.
    handing_on: Option<Instant>,
}

impl Progress {
    fn reading(&self, id: &str) {
        let mut state = self.state.lock();
        state.read.retain(|known| known != id);
        state.reading = Some(id.to_owned());
        state.handing_on = None;
    }

    fn read(&self, id: &str) {
        let mut state = self.state.lock();
        state.read.retain(|known| known != id);
        state.read.push_back(id.to_owned());
        if state.read.len() > REMEMBERED {
            state.read.pop_front();
        }
        (state.reading, state.handing_on) = (None, None);
    }

    /// Whether it is worth waiting on for this follower to read a container's log to its end.
    fn is_awaited(&self, id: &str, waited: Duration, limits: LastLines) -> bool {
        let state = self.state.lock();
        if state.read.iter().any(|known| known == id) {
            return false;
        }
        // One that does not take its lines is not waited for.
        let is_stuck = state.handing_on.is_some_and(|since| since.elapsed() >= limits.stuck);
        let limit = if state.reading.as_deref() == Some(id) { limits.reading } else { limits.beginning };
        !is_stuck && waited < limit
    }
}

/// How long an operation waits for last lines before it removes their container.
#[derive(Debug, Clone, Copy)]
pub(crate) struct LastLines {
    /// For a follower to take lines.
    pub(crate) stuck: Duration,
    /// For a follower to begin: its engine may be slow to end the log of the container before, and to tell of this one.
    pub(crate) beginning: Duration,
    /// For an engine to give them: one that is busy takes seconds to end a log.
    pub(crate) reading: Duration,
}

/// Everybody who follows a log now, by host and name.
#[derive(Default)]
pub(crate) struct Followers(Mutex<HashMap<Followed, Vec<Weak<Progress>>>>);

/// A host and a name there.
type Followed = (String, String);

impl Followers {
    fn join(&self, host: &str, name: &str) -> Arc<Progress> {
        let progress = Arc::new(Progress::default());
        let mut all = self.0.lock();
        let of_name = all.entry((host.to_owned(), name.to_owned())).or_default();
        of_name.retain(|follower| follower.strong_count() > 0);
        of_name.push(Arc::downgrade(&progress));
        if all.len().is_multiple_of(256) {
            all.retain(|_, followers| followers.iter().any(|f| f.strong_count() > 0));
        }
        progress
    }

    /// Waits until all who follow this name have read a container's log to its end, within `limits`: one that does not
    /// take its lines is not waited for.
    pub(crate) async fn have_read(&self, host: &str, name: &str, id: &str, limits: LastLines) {
        let key = (host.to_owned(), name.to_owned());
        let begun = Instant::now();
        loop {
            let all = self.0.lock().get(&key).cloned().unwrap_or_default();
            let waited = begun.elapsed();
            if !all.iter().filter_map(Weak::upgrade).any(|f| f.is_awaited(id, waited, limits)) {
                return;
            }
            tokio::time::sleep(SOON).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gubernum_core::logs::Stream;
    use proptest::prelude::*;

    fn line(second: i64, text: &str) -> LogLine {
        let time = Timestamp::from_second(second).ok();
        LogLine { stream: Stream::Stdout, time, bytes: text.as_bytes().to_vec(), continued: false }
    }

    proptest! {
        /// Wherever a reading is cut, also in the middle of many lines of one time, the next continues behind.
        #[test]
        fn going_on_neither_loses_nor_doubles(seconds in proptest::collection::vec(0i64..4, 1..40), cut in any::<proptest::sample::Index>()) {
            let mut seconds = seconds;
            seconds.sort_unstable();
            let all: Vec<LogLine> = seconds.iter().enumerate().map(|(n, &s)| line(s, &n.to_string())).collect();
            let cut = cut.index(all.len() + 1);
            let mut last = None;
            count(&mut last, &all[..cut]);
            // The engine gives again whatever is not before the last time.
            let from = last.map_or(i64::MIN, |l: Last| l.nanos);
            let mut again: Vec<LogLine> = all.iter().filter(|l| l.time.map(nanos).unwrap() >= from).cloned().collect();
            Skip::after(last).apply(&mut again);
            let texts: Vec<_> = all[..cut].iter().chain(&again).map(|l| l.bytes.clone()).collect();
            prop_assert_eq!(texts, all.iter().map(|l| l.bytes.clone()).collect::<Vec<_>>());
        }
    }

    #[tokio::test]
    async fn an_operation_waits_for_readers_and_never_long() {
        let followers = Followers::default();
        let limits = LastLines {
            stuck: Duration::from_millis(200),
            beginning: Duration::from_millis(400),
            reading: Duration::from_millis(900),
        };
        let waited = async || {
            let begun = Instant::now();
            followers.have_read("packhouse", "api", "aa", limits).await;
            begun.elapsed()
        };
        assert!(waited().await < limits.stuck, "nobody follows");
        let reader = followers.join("packhouse", "api");
        let never_begun = waited().await;
        assert!(never_begun >= limits.beginning && never_begun < limits.reading, "{never_begun:?}");
        reader.reading("aa");
        assert!(waited().await >= limits.reading, "the engine is given time to end the log");
        reader.state.lock().handing_on = Some(Instant::now());
        let stuck = waited().await;
        assert!(stuck >= limits.stuck && stuck < limits.reading, "nobody takes the lines: {stuck:?}");
        reader.read("aa");
        assert!(waited().await < limits.stuck);
    }
}
