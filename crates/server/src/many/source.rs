//! One container's lines for a stream of many: what is kept, what the engine holds, and what comes.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use gubernum_core::container::State;
use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::nanos;
use gubernum_engine::Engine;
use gubernum_engine::logs::LogQuery;
use gubernum_store::segments::Last;
use jiff::Timestamp;
use tokio::sync::{Semaphore, mpsc};

use super::kept::{self, Part};
use super::{Chosen, Plan};
use crate::app::App;

/// How long a place among the logs of a host is waited for.
const PLACE_TIMEOUT: Duration = Duration::from_secs(30);
/// How often it is looked whether a container runs again or a host is back.
const AGAIN: Duration = Duration::from_millis(700);

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
}

/// Nobody listens any more.
struct Gone;

/// Leaves out what has been read before: all before a time, and so many lines of that very time.
struct Skip {
    nanos: i64,
    count: u32,
}

impl Skip {
    fn after(last: Option<Last>) -> Self {
        last.map_or(Self { nanos: i64::MIN, count: 0 }, |l| Self { nanos: l.nanos, count: l.count })
    }

    fn apply(&mut self, lines: &mut Vec<LogLine>) {
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

/// Counts lines so that a later reading can go on behind them.
fn count(last: &mut Option<Last>, lines: &[LogLine]) {
    for n in lines.iter().filter_map(|l| l.time).map(nanos) {
        Last::count(last, n);
    }
}

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
        let mut last = match self.plan.tail {
            Some(most) if !self.fresh => self.read_tail(most as usize).await?,
            _ => self.read_back().await?,
        };
        if !self.plan.follow || self.chosen.container.is_none() {
            return Ok(());
        }
        self.say(Word::Present).await?;
        loop {
            self.follow(&mut last).await?;
            self.wait_until_it_runs().await?;
        }
    }

    /// Everything that lies back and is wanted.
    async fn read_back(&self) -> Result<Option<Last>, Gone> {
        let mut last = self.read_kept().await?;
        let Some(engine) = self.engine().await? else { return Ok(last) };
        let since = last.and_then(|l| Timestamp::from_nanosecond(i128::from(l.nanos)).ok());
        let since = since.max(self.plan.since);
        let query = self.query(since, None, false);
        let mut skip = Skip::after(last);
        self.pass(&engine, &query, &mut skip, &mut last).await?;
        Ok(last)
    }

    async fn read_kept(&self) -> Result<Option<Last>, Gone> {
        let (sender, mut receiver) = mpsc::channel(2);
        let (segments, plan) = (self.app.segments.clone(), self.plan.clone());
        let (host, name, id) = (self.chosen.host.clone(), self.chosen.name.clone(), self.id().to_owned());
        tokio::task::spawn_blocking(move || kept::read(&segments, &host, &name, &id, &plan, &sender));
        while let Some(part) = receiver.recv().await {
            match part {
                Part::Lines(lines, reached) => self.hand_on(lines, reached).await?,
                Part::Damaged(text) => self.note(text).await?,
                Part::Over(last) => return Ok(last),
            }
        }
        Ok(None)
    }

    /// The last lines that are wanted. Without a filter the engine finds them itself.
    async fn read_tail(&self, most: usize) -> Result<Option<Last>, Gone> {
        let (segments, plan) = (self.app.segments.clone(), self.plan.clone());
        let (host, name, id) = (self.chosen.host.clone(), self.chosen.name.clone(), self.id().to_owned());
        let kept = tokio::task::spawn_blocking(move || kept::tail(&segments, &host, &name, &id, &plan, most));
        let (mut ring, mut last) = kept.await.unwrap_or_default();
        if let Some(engine) = self.engine().await? {
            let plain = self.plan.filter.takes_all() && self.plan.only.is_none() && last.is_none();
            let tail = plain.then(|| u32::try_from(most).unwrap_or(u32::MAX));
            let since = last.and_then(|l| Timestamp::from_nanosecond(i128::from(l.nanos)).ok());
            let query = self.query(since.max(self.plan.since), tail, false);
            let mut skip = Skip::after(last);
            match engine.logs(self.id(), self.terminal(), &query).await {
                Ok(mut reader) => loop {
                    match reader.next().await {
                        Ok(Some(mut lines)) => {
                            skip.apply(&mut lines);
                            count(&mut last, &lines);
                            self.leave_wanted(&mut lines);
                            ring.extend(lines);
                            let spare = ring.len().saturating_sub(most);
                            ring.drain(..spare);
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
        self.hand_on_all(ring).await?;
        Ok(last)
    }

    async fn hand_on_all(&self, mut lines: VecDeque<LogLine>) -> Result<(), Gone> {
        while !lines.is_empty() {
            let some: Vec<LogLine> = lines.drain(..lines.len().min(512)).collect();
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
        engine: &Engine,
        query: &LogQuery,
        skip: &mut Skip,
        last: &mut Option<Last>,
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
            opened = engine.logs(self.id(), self.terminal(), query) => opened,
        };
        let mut reader = match opened {
            Ok(reader) => reader,
            Err(error) if error.status() == Some(404) => return Ok(()),
            Err(error) => return self.note(error.to_string()).await,
        };
        loop {
            let next = tokio::select! {
                () = self.words.closed() => return Err(Gone),
                next = reader.next() => next,
            };
            match next {
                Ok(Some(mut lines)) => {
                    let reached = lines.iter().rev().find_map(|l| l.time);
                    skip.apply(&mut lines);
                    count(last, &lines);
                    self.leave_wanted(&mut lines);
                    if query.follow && lines.is_empty() {
                        continue;
                    }
                    self.hand_on(lines, reached).await?;
                }
                Ok(None) => return Ok(()),
                Err(error) => return self.note(error.to_string()).await,
            }
        }
    }

    /// New lines until the container ends or its host is lost.
    async fn follow(&self, last: &mut Option<Last>) -> Result<(), Gone> {
        let Some(engine) = self.app.links.get(&self.chosen.host).and_then(|l| l.live()) else {
            return Ok(());
        };
        let since = last.and_then(|l| Timestamp::from_nanosecond(i128::from(l.nanos)).ok());
        let tail = since.is_none().then_some(0).filter(|_| self.plan.tail.is_some());
        let query = self.query(since.or(self.plan.since), tail, true);
        let mut skip = Skip::after(*last);
        self.pass(&engine, &query, &mut skip, last).await
    }

    /// Waits until there is something to follow again; ends when the container is gone.
    async fn wait_until_it_runs(&self) -> Result<(), Gone> {
        loop {
            tokio::select! {
                () = self.words.closed() => return Err(Gone),
                () = tokio::time::sleep(AGAIN) => {}
            }
            let state = self.app.hub.look(|f| f.container(&self.chosen.host, self.id()).map(|c| c.state));
            match state {
                None => {
                    self.say(Word::End).await?;
                    return Err(Gone);
                }
                Some(State::Running | State::Paused) => {
                    if self.app.links.get(&self.chosen.host).and_then(|l| l.live()).is_some() {
                        return Ok(());
                    }
                }
                Some(_) => {}
            }
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
        /// Wherever a reading is cut, also in the middle of many lines of one time, the next goes on behind.
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
}
