//! One container's lines for a stream: kept lines, the engine's log, and new lines.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use futures_util::FutureExt;
use gubernum_core::logs::LogLine;
use gubernum_engine::logs::{LogQuery, LogReader};
use gubernum_engine::{Engine, EngineError};
use gubernum_store::segments::Last;
use jiff::Timestamp;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

use crate::logs::LogError;
use crate::logs::LogsContext;
use crate::logs::follow::{Follow, Next, Skip, count, remainder, since};
use crate::logs::merger::kept;
use crate::logs::merger::kept::{KeptLines, Part};
use crate::logs::merger::ring::Ring;
use crate::logs::merger::{Chosen, Pace, Plan};

/// How long a place among the logs of a host is waited for.
const PLACE_TIMEOUT: Duration = Duration::from_secs(30);
/// How long a container is waited for that was removed and not replaced.
const NEXT_TIMEOUT: Duration = Duration::from_secs(600);
/// How many turns others wait for a log that is being opened, so that what is said meanwhile comes in order: a second, or
/// longer where the machine has no time for this program. Podman answers only with the first line: who has nothing to say is
/// waited for in vain.
const OPENING_TURNS: u32 = 14;
/// How long an engine may take to show that it is still there after the end of a log.
const STILL_THERE: Duration = Duration::from_secs(5);

/// How many reads of an engine are handed on together.
const GATHERED_READS: usize = 32;

/// What a source says.
pub(super) enum Word {
    /// Lines that are wanted, in order, and the time up to which all have been looked at.
    Lines { lines: Vec<LogLine>, reached: Option<Timestamp> },
    /// The past has been read: whatever comes now is new.
    Present,
    /// Something to know.
    Note(String),
    /// It could not be read to its end.
    Failed(LogError),
    /// There is no more.
    End,
}

pub(super) struct Source {
    pub(super) context: Arc<LogsContext>,
    pub(super) plan: Arc<Plan>,
    pub(super) pace: Pace,
    pub(super) chosen: Chosen,
    pub(super) number: usize,
    pub(super) words: mpsc::Sender<(usize, Word)>,
    pub(super) credit: Arc<Semaphore>,
    /// It was found while following: everything that it has said is wanted.
    pub(super) fresh: bool,
    /// The most bytes of the last lines that it holds.
    pub(super) tail_bytes: usize,
    /// The engine has sent the whole past: whatever it sends from here on is new.
    pub(super) was_read: AtomicBool,
    /// It keeps nobody waiting any more.
    pub(super) is_present: AtomicBool,
}

/// Nobody listens any more.
struct Gone;

impl Source {
    pub(super) async fn run(self) {
        // The listener is gone: nothing is left to say.
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

    /// Tells that it could not be read to its end.
    async fn fail(&self, error: impl Into<LogError>) -> Result<(), Gone> {
        self.say(Word::Failed(error.into())).await
    }

    /// Hands lines on, when the stream has taken enough of those before.
    async fn hand_on(&self, lines: Vec<LogLine>, reached: Option<Timestamp>) -> Result<(), Gone> {
        self.credit.acquire().await.map_err(|_| Gone)?.forget();
        self.say(Word::Lines { lines, reached }).await
    }

    /// From here on lines are new: others do not wait for it any more.
    async fn come_to_present(&self) -> Result<(), Gone> {
        match self.is_present.swap(true, Ordering::Relaxed) {
            true => Ok(()),
            false => self.say(Word::Present).await,
        }
    }

    fn id(&self) -> &str {
        self.chosen.container.as_ref().map_or("", |c| &c.id)
    }

    async fn read(&self) -> Result<(), Gone> {
        let (host, name) = (&self.chosen.host, &self.chosen.name);
        let mut follow = self.plan.follow.then(|| Follow::new(&self.context, host, name));
        // Where nobody waits for the past, one answer of the engine is both the past and what follows.
        let at_once = self.plan.is_alone && self.plan.follow && self.plan.filter.takes_all();
        let begun = self.context.clock.now();
        let last = match self.plan.tail {
            Some(most) if !self.fresh => self.read_tail(most as usize).await?,
            _ if at_once => self.read_kept().await?,
            _ => self.read_back().await?,
        };
        let Some(follow) = &mut follow else { return Ok(()) };
        if self.plan.is_alone {
            self.come_to_present().await?;
        } else {
            self.hand_on(Vec::new(), Some(begun)).await?;
        }
        if self.chosen.container.is_some() {
            follow.opened(self.id(), last);
            self.resume(follow, last).await?;
        }
        self.come_to_present().await?;
        let timeout = (!self.plan.is_alone).then_some(NEXT_TIMEOUT);
        loop {
            match follow.next(timeout).await {
                Next::Turn(turn) => {
                    if let Some(note) = turn.note {
                        self.note(note).await?;
                    }
                    let opening = (&turn.engine, turn.id.as_str(), turn.terminal);
                    let query = self.query_on(&turn.id, turn.last);
                    self.pass(opening, &query, turn.last, Some(follow)).await?;
                }
                Next::Note(note) => self.note(note).await?,
                Next::Gone => return Ok(()),
            }
        }
    }

    /// New lines of the container that was read so far.
    async fn resume(&self, follow: &mut Follow, last: Option<Last>) -> Result<(), Gone> {
        let Some(engine) = self.context.links.get(&self.chosen.host).and_then(|l| l.live()) else {
            follow.ended();
            return Ok(());
        };
        let query = self.query_on(self.id(), last);
        self.pass((&engine, self.id(), self.terminal()), &query, last, Some(follow)).await
    }

    /// The question for what comes after `last`. Where nothing of the chosen container was read yet, the request still
    /// says from where on; a successor is told from its beginning.
    fn query_on(&self, id: &str, last: Option<Last>) -> LogQuery {
        match since(last) {
            Some(since) => self.query(Some(since), None, true),
            None if id == self.id() => {
                // Where all was read and there was not one line, every line is new.
                let tail = self.plan.tail.filter(|_| !self.was_read.load(Ordering::Relaxed));
                self.query(self.plan.since, tail, true)
            }
            None => self.query(None, None, true),
        }
    }

    /// All past lines that are wanted.
    async fn read_back(&self) -> Result<Option<Last>, Gone> {
        // What is found while following is told from its own beginning, not from that of others of its name.
        let last = if self.fresh { None } else { self.read_kept().await? };
        let Some(engine) = self.engine().await? else { return Ok(last) };
        let query = self.query(since(last).max(self.plan.since), None, false);
        let mut follow = Follow::new(&self.context, &self.chosen.host, &self.chosen.name);
        follow.opened(self.id(), last);
        self.pass((&engine, self.id(), self.terminal()), &query, last, Some(&mut follow)).await?;
        Ok(*follow.last())
    }

    async fn read_kept(&self) -> Result<Option<Last>, Gone> {
        let (segments, plan) = (self.context.segments.clone(), self.plan.clone());
        let (host, name, id) = (self.chosen.host.clone(), self.chosen.name.clone(), self.id().to_owned());
        let opened = self.context.kept_reads.acquire().await.map_err(|_| Gone)?;
        let lines = tokio::task::spawn_blocking(move || KeptLines::new(&segments, &host, &name, id, plan));
        let Ok(mut lines) = lines.await else { return Ok(None) };
        drop(opened);
        loop {
            // The place is held for one block, never while the stream is waited for.
            let place = self.context.kept_reads.acquire().await.map_err(|_| Gone)?;
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
        let (segments, plan) = (self.context.segments.clone(), self.plan.clone());
        let (host, name, id) = (self.chosen.host.clone(), self.chosen.name.clone(), self.id().to_owned());
        let mut ring = Ring::new(most, self.tail_bytes);
        let place = self.context.kept_reads.clone().acquire_owned().await.map_err(|_| Gone)?;
        let kept = tokio::task::spawn_blocking(move || {
            let _place = place;
            let last = kept::tail(&segments, &host, &name, &id, &plan, &mut ring);
            (ring, last)
        });
        let Ok((mut ring, mut last)) = kept.await else { return Ok(None) };
        if let Some(engine) = self.engine().await? {
            let is_plain = self.plan.filter.takes_all() && self.plan.only.is_none() && last.is_none();
            let lines = u32::try_from(most).unwrap_or(u32::MAX);
            if is_plain && ring.is_empty() && lines > 0 {
                return self.read_last(&engine, lines).await;
            }
            // Where none is wanted the last one still tells from where on lines are new.
            let tail = (is_plain || lines == 0).then_some(lines.max(1));
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
                        Ok(None) => {
                            self.was_read.store(true, Ordering::Relaxed);
                            break;
                        }
                        Err(error) => {
                            self.fail(error).await?;
                            break;
                        }
                    }
                },
                Err(error) => self.fail(error).await?,
            }
        }
        if ring.was_cut() {
            let text = format!("its last {most} lines are too large; the oldest are left out");
            self.note(text).await?;
        }
        self.hand_on_all(ring.into_lines()).await?;
        Ok(last)
    }

    /// The last lines as the engine itself finds them: nothing needs to be held.
    async fn read_last(&self, engine: &Engine, most: u32) -> Result<Option<Last>, Gone> {
        let query = self.query(self.plan.since, Some(most), false);
        let mut follow = Follow::new(&self.context, &self.chosen.host, &self.chosen.name);
        follow.opened(self.id(), None);
        self.pass((engine, self.id(), self.terminal()), &query, None, Some(&mut follow)).await?;
        Ok(*follow.last())
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
        let live = self.context.links.get(&self.chosen.host).and_then(|l| l.live());
        if live.is_none() {
            self.note(format!("host '{}' is unreachable; showing kept lines only", self.chosen.host)).await?;
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

    /// Opens a log of the engine, with the place among the host's logs that it takes; `None`: there is nothing to read, and
    /// what there is to report about that has been said.
    async fn open(
        &self,
        (engine, id, terminal): (&Engine, &str, bool),
        query: &LogQuery,
    ) -> Result<Option<(LogReader, OwnedSemaphorePermit)>, Gone> {
        let Some(link) = self.context.links.get(&self.chosen.host) else { return Ok(None) };
        let places = link.logs.clone();
        let opening = async {
            let place = tokio::time::timeout(PLACE_TIMEOUT, places.acquire_owned()).await;
            let Ok(Ok(place)) = place else { return Err(LogError::HostBusy(self.chosen.host.clone())) };
            Ok((engine.logs(id, terminal, query).await, place))
        };
        tokio::pin!(opening);
        let keeps_waiting = query.follow && !self.is_present.load(Ordering::Relaxed);
        let opened = tokio::select! {
            () = self.words.closed() => return Err(Gone),
            opened = &mut opening => opened,
            () = self.pace.turns(OPENING_TURNS), if keeps_waiting => {
                self.come_to_present().await?;
                tokio::select! {
                    () = self.words.closed() => return Err(Gone),
                    opened = opening => opened,
                }
            }
        };
        if query.follow {
            self.come_to_present().await?;
        }
        match opened {
            Ok((Ok(reader), place)) => Ok(Some((reader, place))),
            Ok((Err(error), _)) if error.status() == Some(404) => Ok(None),
            // What becomes of the host is reported by the task that waits for it.
            Ok((Err(error), _)) if error.is_link() && query.follow => Ok(None),
            Ok((Err(error), _)) => self.fail(error).await.map(|()| None),
            Err(busy) => self.fail(busy).await.map(|()| None),
        }
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
        let Some((mut reader, _place)) = self.open((engine, id, terminal), query).await? else {
            return Ok(());
        };
        let mut skip = Skip::after(last);
        let (mut ahead, mut is_remainder) = (None, false);
        loop {
            let next = match ahead.take() {
                Some(next) => next,
                None => {
                    let superseded = async {
                        match follow.as_deref() {
                            Some(follow) if query.follow => follow.superseded().await,
                            _ => std::future::pending().await,
                        }
                    };
                    tokio::select! {
                        () = self.words.closed() => return Err(Gone),
                        next = reader.next() => next,
                        () = superseded => return Ok(()),
                    }
                }
            };
            match next {
                Ok(Some(mut lines)) => {
                    ahead = gather(&mut reader, &mut lines, self.plan.portion).await;
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
                Ok(None) if query.follow => {
                    let last = follow.as_deref_mut().map_or(last, |follow| *follow.last());
                    let more = match is_remainder {
                        true => None,
                        false => tokio::select! {
                            () = self.words.closed() => return Err(Gone),
                            more = remainder(engine, (id, terminal), query, last) => more,
                        },
                    };
                    let Some(more) = more else { return Ok(()) };
                    ((reader, skip), is_remainder) = (more, true);
                }
                Ok(None) => {
                    // An engine that shuts down ends its logs as if they were whole.
                    return match engine.ping(STILL_THERE).await {
                        Ok(()) => {
                            self.was_read.store(true, Ordering::Relaxed);
                            Ok(())
                        }
                        Err(error) => self.fail(error).await,
                    };
                }
                Err(error) if query.follow => {
                    return self.note(format!("Stream interrupted: {error}. Reconnecting…")).await;
                }
                Err(error) => return self.fail(error).await,
            }
        }
    }
}

/// What a reader gives.
type Read = Result<Option<Vec<LogLine>>, EngineError>;

/// Takes along what comes right behind: engines write line by line, and handing each on alone would
/// wake the next thread for every one. Waits for nothing. An end or an error that comes up is given
/// back, to be told after the lines.
async fn gather(reader: &mut LogReader, lines: &mut Vec<LogLine>, most: usize) -> Option<Read> {
    for _ in 0..GATHERED_READS {
        if lines.len() >= most {
            break;
        }
        // Lets the connection's own task look at the socket once more.
        tokio::task::yield_now().await;
        match reader.next().now_or_never()? {
            Ok(Some(more)) => lines.extend(more),
            other => return Some(other),
        }
    }
    None
}
