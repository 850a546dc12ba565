//! One container's lines for a stream of many: what is kept, what the engine holds, and what comes.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use gubernum_core::logs::LogLine;
use gubernum_engine::Engine;
use gubernum_engine::logs::LogQuery;
use gubernum_store::segments::Last;
use jiff::Timestamp;
use tokio::sync::{Semaphore, mpsc};

use crate::app::App;
use crate::logs::follow::{Follow, Next, Skip, count};
use crate::logs::merger::kept;
use crate::logs::merger::kept::{KeptLines, Part};
use crate::logs::merger::ring::Ring;
use crate::logs::merger::{Chosen, Plan};

/// How long a place among the logs of a host is waited for.
const PLACE_TIMEOUT: Duration = Duration::from_secs(30);
/// How long a container is waited for that was removed and not replaced.
const PATIENCE: Duration = Duration::from_secs(600);
/// How long an engine may take to show that it is still there after the end of a log.
const STILL_THERE: Duration = Duration::from_secs(5);

/// What a source says.
pub(super) enum Word {
    /// Lines that are wanted, in order, and the time up to which all have been looked at.
    Lines { lines: Vec<LogLine>, reached: Option<Timestamp> },
    /// What lies back is read: what comes now is new.
    Present,
    /// Something to know.
    Note(String),
    /// There is no more.
    End,
}

pub(super) struct Source {
    pub(super) app: App,
    pub(super) plan: Arc<Plan>,
    pub(super) chosen: Chosen,
    pub(super) number: usize,
    pub(super) words: mpsc::Sender<(usize, Word)>,
    pub(super) credit: Arc<Semaphore>,
    /// It was found while following: everything that it has said is wanted.
    pub(super) fresh: bool,
    /// The most bytes of the last lines that it holds.
    pub(super) tail_bytes: usize,
}

/// Nobody listens any more.
struct Gone;

impl Source {
    pub(super) async fn run(self) {
        // Whoever listens is gone: nothing is left to say.
        if self.read().await.is_ok() {
            let _ = self.say(Word::End).await;
        }
    }

    async fn say(&self, word: Word) -> Result<(), Gone> {
        self.words.send((self.number, word)).await.map_err(|_| Gone)
    }

    async fn note(&self, text: impl Into<String>) -> Result<(), Gone> {
        self.say(Word::Note(text.into())).await
    }

    /// Hands lines on, when the stream has taken enough of those before.
    async fn hand_on(&self, lines: Vec<LogLine>, reached: Option<Timestamp>) -> Result<(), Gone> {
        self.credit.acquire().await.map_err(|_| Gone)?.forget();
        self.say(Word::Lines { lines, reached }).await
    }

    fn id(&self) -> &str {
        self.chosen.container.as_ref().map_or("", |c| &c.id)
    }

    async fn read(&self) -> Result<(), Gone> {
        let (host, name) = (&self.chosen.host, &self.chosen.name);
        let mut follow = self.plan.follow.then(|| Follow::new(&self.app, host, name));
        let last = match self.plan.tail {
            Some(most) if !self.fresh => self.read_tail(most as usize).await?,
            _ => self.read_back().await?,
        };
        let Some(follow) = &mut follow else { return Ok(()) };
        self.say(Word::Present).await?;
        if self.chosen.container.is_some() {
            follow.opened(self.id(), last);
            self.go_on(follow, last).await?;
        }
        loop {
            match follow.next(Some(PATIENCE)).await {
                Next::Turn(turn) => {
                    if let Some(note) = turn.note {
                        self.note(note).await?;
                    }
                    let opening = (&turn.engine, turn.id.as_str(), turn.terminal);
                    let query = self.query(since(turn.last), None, true);
                    self.pass(opening, &query, turn.last, Some(follow)).await?;
                }
                Next::Note(note) => self.note(note).await?,
                Next::Gone => return Ok(()),
            }
        }
    }

    /// New lines of the container that was read so far.
    async fn go_on(&self, follow: &mut Follow, last: Option<Last>) -> Result<(), Gone> {
        let Some(engine) = self.app.links.get(&self.chosen.host).and_then(|l| l.live()) else {
            follow.ended();
            return Ok(());
        };
        let since = since(last);
        let tail = since.is_none().then_some(0).filter(|_| self.plan.tail.is_some());
        let query = self.query(since.or(self.plan.since), tail, true);
        self.pass((&engine, self.id(), self.terminal()), &query, last, Some(follow)).await
    }

    /// Everything that lies back and is wanted.
    async fn read_back(&self) -> Result<Option<Last>, Gone> {
        // What is found while following is told from its own beginning, not from that of others of its name.
        let last = if self.fresh { None } else { self.read_kept().await? };
        let Some(engine) = self.engine().await? else { return Ok(last) };
        let query = self.query(since(last).max(self.plan.since), None, false);
        let mut follow = Follow::new(&self.app, &self.chosen.host, &self.chosen.name);
        follow.opened(self.id(), last);
        self.pass((&engine, self.id(), self.terminal()), &query, last, Some(&mut follow)).await?;
        Ok(*follow.last())
    }

    async fn read_kept(&self) -> Result<Option<Last>, Gone> {
        let (segments, plan) = (self.app.segments.clone(), self.plan.clone());
        let (host, name, id) = (self.chosen.host.clone(), self.chosen.name.clone(), self.id().to_owned());
        let opened = self.app.kept_reads.acquire().await.map_err(|_| Gone)?;
        let lines = tokio::task::spawn_blocking(move || KeptLines::new(&segments, &host, &name, id, plan));
        let Ok(mut lines) = lines.await else { return Ok(None) };
        drop(opened);
        loop {
            // The place is held for one block, never while the stream is waited for.
            let place = self.app.kept_reads.acquire().await.map_err(|_| Gone)?;
            let step = tokio::task::spawn_blocking(move || {
                let parts = lines.next();
                (lines, parts)
            });
            let Ok((back, parts)) = step.await else { return Ok(None) };
            drop(place);
            lines = back;
            let Some(parts) = parts else { return Ok(lines.last()) };
            for part in parts {
                match part {
                    Part::Lines(lines, reached) => self.hand_on(lines, reached).await?,
                    Part::Damaged(text) => self.note(text).await?,
                }
            }
        }
    }

    /// The last lines that are wanted. Without a filter the engine finds them itself.
    async fn read_tail(&self, most: usize) -> Result<Option<Last>, Gone> {
        let (segments, plan) = (self.app.segments.clone(), self.plan.clone());
        let (host, name, id) = (self.chosen.host.clone(), self.chosen.name.clone(), self.id().to_owned());
        let mut ring = Ring::new(most, self.tail_bytes);
        let place = self.app.kept_reads.clone().acquire_owned().await.map_err(|_| Gone)?;
        let kept = tokio::task::spawn_blocking(move || {
            let _place = place;
            let last = kept::tail(&segments, &host, &name, &id, &plan, &mut ring);
            (ring, last)
        });
        let Ok((mut ring, mut last)) = kept.await else { return Ok(None) };
        if let Some(engine) = self.engine().await? {
            let plain = self.plan.filter.takes_all() && self.plan.only.is_none() && last.is_none();
            let tail = plain.then(|| u32::try_from(most).unwrap_or(u32::MAX));
            let query = self.query(since(last).max(self.plan.since), tail, false);
            let mut skip = Skip::after(last);
            match engine.logs(self.id(), self.terminal(), &query).await {
                Ok(mut reader) => loop {
                    match reader.next().await {
                        Ok(Some(mut lines)) => {
                            skip.apply(&mut lines);
                            count(&mut last, &lines);
                            self.leave_wanted(&mut lines);
                            ring.extend(lines);
                        }
                        Ok(None) => break,
                        Err(error) => {
                            self.note(error.to_string()).await?;
                            break;
                        }
                    }
                },
                Err(error) => self.note(error.to_string()).await?,
            }
        }
        if ring.was_cut() {
            let text =
                format!("its last {most} lines are more than can be held at once; the oldest are left out");
            self.note(text).await?;
        }
        self.hand_on_all(ring.into_lines()).await?;
        Ok(last)
    }

    async fn hand_on_all(&self, mut lines: VecDeque<LogLine>) -> Result<(), Gone> {
        while !lines.is_empty() {
            let some: Vec<LogLine> = lines.drain(..lines.len().min(self.plan.portion)).collect();
            self.hand_on(some, None).await?;
        }
        Ok(())
    }

    /// The engine, if the container is on a host that can be reached; else it is said.
    async fn engine(&self) -> Result<Option<Engine>, Gone> {
        if self.chosen.container.is_none() {
            return Ok(None);
        }
        let live = self.app.links.get(&self.chosen.host).and_then(|l| l.live());
        if live.is_none() {
            self.note(format!(
                "the host `{}` is out of reach: only what is kept can be shown",
                self.chosen.host
            ))
            .await?;
        }
        Ok(live)
    }

    fn terminal(&self) -> bool {
        self.chosen.container.as_ref().is_some_and(|c| c.terminal)
    }

    fn query(&self, since: Option<Timestamp>, tail: Option<u32>, follow: bool) -> LogQuery {
        LogQuery { tail, since, until: self.plan.until, follow, ..LogQuery::default() }
    }

    fn leave_wanted(&self, lines: &mut Vec<LogLine>) {
        if self.plan.only.is_some() {
            lines.retain(|l| self.plan.wants(l.stream));
        }
        self.plan.filter.keep(lines);
    }

    /// Reads one answer of the engine to its end.
    async fn pass(
        &self,
        (engine, id, terminal): (&Engine, &str, bool),
        query: &LogQuery,
        last: Option<Last>,
        mut follow: Option<&mut Follow>,
    ) -> Result<(), Gone> {
        let outcome = self.read_to_end((engine, id, terminal), query, last, follow.as_deref_mut()).await;
        if let Some(follow) = follow {
            follow.ended();
        }
        outcome
    }

    async fn read_to_end(
        &self,
        (engine, id, terminal): (&Engine, &str, bool),
        query: &LogQuery,
        last: Option<Last>,
        mut follow: Option<&mut Follow>,
    ) -> Result<(), Gone> {
        let link = self.app.links.get(&self.chosen.host);
        let place = match link.map(|l| l.logs.clone()) {
            Some(places) => tokio::time::timeout(PLACE_TIMEOUT, places.acquire_owned()).await,
            None => return Ok(()),
        };
        let Ok(Ok(_place)) = place else {
            return self.note("too many logs of its host are being read; try again in a moment").await;
        };
        let opened = tokio::select! {
            () = self.words.closed() => return Err(Gone),
            opened = engine.logs(id, terminal, query) => opened,
        };
        let mut reader = match opened {
            Ok(reader) => reader,
            Err(error) if error.status() == Some(404) => return Ok(()),
            // What becomes of the host is told by whoever waits for it.
            Err(error) if error.is_link() && query.follow => return Ok(()),
            Err(error) => return self.note(error.to_string()).await,
        };
        let mut skip = Skip::after(last);
        loop {
            let superseded = async {
                match follow.as_deref() {
                    Some(follow) if query.follow => follow.superseded().await,
                    _ => std::future::pending().await,
                }
            };
            let next = tokio::select! {
                () = self.words.closed() => return Err(Gone),
                next = reader.next() => next,
                () = superseded => return Ok(()),
            };
            match next {
                Ok(Some(mut lines)) => {
                    let reached = lines.iter().rev().find_map(|l| l.time);
                    skip.apply(&mut lines);
                    if let Some(follow) = follow.as_deref_mut() {
                        follow.count(&lines);
                    }
                    self.leave_wanted(&mut lines);
                    if query.follow && lines.is_empty() {
                        continue;
                    }
                    self.hand_on(lines, reached).await?;
                }
                Ok(None) if query.follow => return Ok(()),
                Ok(None) => {
                    // An engine that shuts down ends its logs as if they were whole.
                    return match engine.ping(STILL_THERE).await {
                        Ok(()) => Ok(()),
                        Err(error) => self.note(format!("Stream interrupted: {error}")).await,
                    };
                }
                Err(error) => return self.note(format!("Stream interrupted: {error}")).await,
            }
        }
    }
}

/// The time from which a reading goes on.
fn since(last: Option<Last>) -> Option<Timestamp> {
    last.and_then(|l| Timestamp::from_nanosecond(i128::from(l.nanos)).ok())
}
