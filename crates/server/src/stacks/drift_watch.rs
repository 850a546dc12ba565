//! Watches deployed stacks for drift from their newest revision.
//!
//! Nothing is asked at intervals: an observation of one of its containers, a host that is back, or an operation that ended makes a
//! stack due, and it is looked at a moment later, when things have calmed down. Working out what differs is the planner's.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use gubernum_api::stacks::DriftRow;
use gubernum_core::delta::{Change, Delta};
use gubernum_core::host::LinkState;
use gubernum_core::journal::Operation;
use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio::sync::broadcast::{self, error::RecvError};
use tokio::time::{Instant, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

use crate::clock::Clock;
use crate::fleet::Hub;
use crate::operations::Runner;
use crate::storage::Db;

/// So long after an observation a stack is looked at: one change makes several.
const CALM: Duration = Duration::from_millis(600);
/// The least time between two looks at one stack; a container that restarts all the time is not looked at each time.
const BETWEEN: Duration = Duration::from_secs(3);
/// How soon it is tried again while an operation changes the stack, or its host does not answer.
const AGAIN: Duration = Duration::from_secs(1);
/// The same after a look that failed.
const AFTER_FAILURE: Duration = Duration::from_secs(20);
/// The longest that one look may take.
const LONGEST: Duration = Duration::from_secs(30);
/// How many stacks are looked at at once.
const AT_ONCE: usize = 4;
/// How many rows a listener may lag behind; then it asks for all.
const LAG: usize = 256;

/// A host and a stack.
type Which = (String, String);

/// What is known of each stack. Its size is that of the kept stacks.
pub(crate) struct DriftWatch {
    db: Db,
    clock: Clock,
    hub: Arc<Hub>,
    runner: Arc<Runner>,
    rows: Mutex<BTreeMap<Which, DriftRow>>,
    /// The stacks that are kept, as of the last operation: hosts tell something all the time, and the records are not asked each time.
    known: Mutex<BTreeSet<Which>>,
    changed: broadcast::Sender<Arc<DriftRow>>,
    /// Stacks that are kept since a moment ago without an operation.
    wanted: Mutex<Vec<Which>>,
    wake: Notify,
}

/// When stacks are looked at.
#[derive(Default)]
struct Due {
    /// When each is due.
    at: BTreeMap<Which, Instant>,
    /// When each was looked at last.
    looked: BTreeMap<Which, Instant>,
    /// Those that are being looked at.
    under_way: Vec<Which>,
}

impl Due {
    fn add(&mut self, which: Which, after: Duration) {
        self.add_at(which, Instant::now() + after);
    }

    fn add_at(&mut self, which: Which, when: Instant) {
        let earliest = self.looked.get(&which).map(|last| *last + BETWEEN);
        let when = earliest.into_iter().fold(when, Instant::max);
        let place = self.at.entry(which).or_insert(when);
        *place = (*place).min(when);
    }

    /// The next that is due, with its time. What is being looked at waits for its end.
    fn next(&self) -> Option<(Which, Instant)> {
        let waiting = self.at.iter().filter(|(which, _)| !self.under_way.contains(which));
        waiting.min_by_key(|(_, at)| **at).map(|(which, at)| (which.clone(), *at))
    }
}

/// What a look came to.
enum Looked {
    /// A row, or nothing where the stack is not kept any more.
    Told(Option<DriftRow>),
    /// It cannot be told now.
    Later(Duration),
}

impl DriftWatch {
    pub(crate) fn new(db: Db, clock: Clock, hub: Arc<Hub>, runner: Arc<Runner>) -> Self {
        let (changed, _) = broadcast::channel(LAG);
        let (rows, known) = (Mutex::default(), Mutex::default());
        let (wanted, wake) = (Mutex::default(), Notify::new());
        Self { db, clock, hub, runner, rows, known, changed, wanted, wake }
    }

    /// What is known of every stack that was deployed here.
    pub(crate) fn rows(&self) -> Vec<DriftRow> {
        self.rows.lock().values().cloned().collect()
    }

    /// Has a stack looked at that was adopted.
    pub(crate) fn want(&self, host: &str, stack: &str) {
        self.wanted.lock().push((host.to_owned(), stack.to_owned()));
        self.wake.notify_one();
    }

    /// Hears of rows that change.
    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Arc<DriftRow>> {
        self.changed.subscribe()
    }

    /// Watches until the service ends.
    pub(crate) async fn run(&self, end: CancellationToken) {
        let mut fleet = self.hub.subscribe();
        let mut operations = self.runner.subscribe();
        let mut due = Due::default();
        let mut looks = FuturesUnordered::new();
        for which in self.kept(None).await {
            due.add(which, CALM);
        }
        loop {
            let next = due.next().filter(|_| looks.len() < AT_ONCE);
            let wait = async {
                match &next {
                    Some((_, at)) => sleep_until(*at).await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                () = end.cancelled() => return,
                () = self.wake.notified() => {
                    let wanted = std::mem::take(&mut *self.wanted.lock());
                    self.kept(None).await;
                    wanted.into_iter().for_each(|which| due.add(which, Duration::ZERO));
                }
                published = fleet.recv() => match published {
                    Ok(published) => {
                        for which in self.concerned(&published.delta) {
                            due.add(which, CALM);
                        }
                    }
                    Err(RecvError::Lagged(_)) => {
                        for which in self.kept(None).await {
                            due.add(which, CALM);
                        }
                    }
                    Err(RecvError::Closed) => return,
                },
                operation = operations.recv() => match operation {
                    Ok(operation) => self.after_operation(&operation, &mut due).await,
                    Err(RecvError::Lagged(_)) => {
                        for which in self.kept(None).await {
                            due.add(which, CALM);
                        }
                    }
                    Err(RecvError::Closed) => return,
                },
                Some((which, looked)) = looks.next() => {
                    let which: Which = which;
                    due.under_way.retain(|other| *other != which);
                    match looked {
                        Looked::Told(row) => self.tell(which, row),
                        Looked::Later(after) => due.add(which, after),
                    }
                }
                () = wait => if let Some((which, _)) = next {
                    due.at.remove(&which);
                    due.looked.insert(which.clone(), Instant::now());
                    due.under_way.push(which.clone());
                    looks.push(async move {
                        let looked = self.look(&which).await;
                        (which, looked)
                    });
                },
            }
        }
    }

    /// The kept stacks, of one host or of all.
    async fn kept(&self, host: Option<&str>) -> Vec<Which> {
        match self.db.run(|store| store.kept_stacks()).await {
            Ok(all) => {
                let all: BTreeSet<Which> = all.into_iter().map(|(host, stack, _)| (host, stack)).collect();
                self.known.lock().clone_from(&all);
                all.into_iter().filter(|(at, _)| host.is_none_or(|host| at == host)).collect()
            }
            Err(error) => {
                tracing::error!("the revisions of stacks cannot be read: {error}");
                Vec::new()
            }
        }
    }

    /// The stacks that a change of the fleet may concern.
    fn concerned(&self, delta: &Delta) -> Vec<Which> {
        let (rows, known) = (self.rows.lock(), self.known.lock());
        let mut all = Vec::new();
        for change in &delta.changes {
            match change {
                Change::ContainerPut { container } => {
                    let which = container.stack.clone().map(|stack| (container.host.clone(), stack));
                    all.extend(which.filter(|which| known.contains(which)));
                }
                // It may have been any of the host's; they are few, and this is rare.
                Change::ContainerGone { host, .. } => {
                    all.extend(known.iter().filter(|(at, _)| at == host).cloned());
                }
                // It is back: what is not known of its stacks can be told again.
                Change::HostPut { host } if host.state == LinkState::Live => {
                    let is_unknown = |which: &Which| rows.get(which).is_none_or(|row| row.unknown.is_some());
                    let of_host = known.iter().filter(|which| which.0 == host.name);
                    all.extend(of_host.filter(|which| is_unknown(which)).cloned());
                }
                _ => {}
            }
        }
        all
    }

    async fn after_operation(&self, operation: &Operation, due: &mut Due) {
        if operation.ended.is_none() {
            return;
        }
        let hosts: std::collections::BTreeSet<&str> =
            operation.targets.iter().map(|t| t.host.as_str()).collect();
        for host in hosts {
            for which in self.kept(Some(host)).await {
                due.add(which, CALM);
            }
            // What was removed is not kept and loses its row.
            let gone: Vec<Which> = self.rows.lock().keys().filter(|(at, _)| at == host).cloned().collect();
            gone.into_iter().for_each(|which| due.add(which, CALM));
        }
    }

    async fn look(&self, (host, stack): &Which) -> Looked {
        let is_kept = self.kept(Some(host)).await.iter().any(|(_, other)| other == stack);
        let link = self.hub.look(|fleet| fleet.host(host).map(|h| h.state));
        let Some(link) = link.filter(|_| is_kept) else { return Looked::Told(None) };
        if link != LinkState::Live {
            // Its coming back is an observation.
            return Looked::Told(Some(self.unknown(host, stack, "its host is unreachable")));
        }
        if self.runner.is_changing(host, stack) {
            return Looked::Later(AGAIN);
        }
        match timeout(LONGEST, self.runner.drift(host, stack)).await {
            // An operation that began meanwhile would be taken for somebody's change.
            Ok(Ok(_)) if self.runner.is_changing(host, stack) => Looked::Later(AGAIN),
            Ok(Ok(None)) => Looked::Told(None),
            Ok(Ok(Some(drift))) => {
                let differs: Vec<String> = drift.targets.into_iter().map(|t| t.name).collect();
                let before = self.rows.lock().get(&(host.clone(), stack.clone())).cloned();
                let since = before.filter(|row| !row.differs.is_empty()).and_then(|row| row.since);
                Looked::Told(Some(DriftRow {
                    host: host.clone(),
                    stack: stack.clone(),
                    revision: drift.revision,
                    since: if differs.is_empty() { None } else { since.or_else(|| Some(self.clock.now())) },
                    differs,
                    unknown: None,
                }))
            }
            Ok(Err(error)) => {
                tracing::debug!(%host, %stack, "drift cannot be determined: {error}");
                self.tell((host.clone(), stack.clone()), Some(self.unknown(host, stack, &error.to_string())));
                Looked::Later(AFTER_FAILURE)
            }
            Err(_) => Looked::Later(AFTER_FAILURE),
        }
    }

    /// What was known stays, with the word that it is not known now.
    fn unknown(&self, host: &str, stack: &str, why: &str) -> DriftRow {
        let known = self.rows.lock().get(&(host.to_owned(), stack.to_owned())).cloned();
        let blank = || DriftRow {
            host: host.to_owned(),
            stack: stack.to_owned(),
            revision: 0,
            differs: Vec::new(),
            since: None,
            unknown: None,
        };
        DriftRow { unknown: Some(gubernum_core::text::shown(why, 300)), ..known.unwrap_or_else(blank) }
    }

    fn tell(&self, which: Which, row: Option<DriftRow>) {
        let mut rows = self.rows.lock();
        let Some(row) = row else {
            if let Some(gone) = rows.remove(&which) {
                // Whoever shows it learns that nothing of it differs any more.
                let last = DriftRow { differs: Vec::new(), since: None, unknown: None, revision: 0, ..gone };
                let _ = self.changed.send(Arc::new(last));
            }
            return;
        };
        if rows.get(&which) != Some(&row) {
            // Nobody may be listening; that is no failure.
            let _ = self.changed.send(Arc::new(row.clone()));
            rows.insert(which, row);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn which(stack: &str) -> Which {
        ("packhouse".to_owned(), stack.to_owned())
    }

    #[test]
    fn one_that_changes_all_the_time_is_looked_at_now_and_then() {
        let mut due = Due::default();
        let begin = Instant::now();
        due.add_at(which("a"), begin + CALM);
        due.add_at(which("a"), begin + AFTER_FAILURE);
        assert_eq!(due.next().unwrap(), (which("a"), begin + CALM), "the earlier of both counts");
        due.at.clear();
        due.looked.insert(which("a"), begin);
        due.add_at(which("a"), begin + CALM);
        due.add_at(which("b"), begin + AFTER_FAILURE);
        assert_eq!(due.next().unwrap(), (which("a"), begin + BETWEEN));
        due.under_way.push(which("a"));
        assert_eq!(due.next().unwrap().0, which("b"), "what is being looked at waits");
    }
}
