//! A tap on one container's log: opened with bounds, read with back-pressure, on the thread that is
//! kept for streams.
//!
//! Streams run on a runtime of their own with a single thread: that is faster for many small reads than
//! the shared one, and a flood of lines cannot delay anything else.

use std::time::Duration;

use futures_util::FutureExt;
use gubernum_core::container::Container;
use gubernum_core::logs::LogLine;
use gubernum_core::moment;
use gubernum_engine::logs::{LogQuery, LogReader};
use gubernum_engine::{Engine, EngineError};
use gubernum_store::segments::Last;
use jiff::Timestamp;
use tokio::sync::mpsc;
use tokio_util::task::AbortOnDropHandle;

use crate::app::App;
use crate::logs::LogError;
use crate::logs::follow::{Follow, Next, Skip};

/// How many batches of lines may wait for the reader. A batch is what one read gave, at most some
/// hundred kilobytes, or one line.
const WAITING: usize = 4;

/// How long an engine may take to show that it is still there after the end of a log.
const STILL_THERE: Duration = Duration::from_secs(5);

/// How many reads, and about how many lines, are handed on together.
const GATHERED_READS: usize = 32;
const GATHERED_LINES: usize = 512;

/// Which lines are wanted, as people write it.
#[derive(Debug, Clone)]
pub(crate) struct Wish {
    pub(crate) tail: Option<u32>,
    pub(crate) since: Option<String>,
    pub(crate) until: Option<String>,
    pub(crate) follow: bool,
    pub(crate) stdout: bool,
    pub(crate) stderr: bool,
}

/// An open log. Dropping it ends the engine's stream.
pub(crate) struct Tap<T> {
    receiver: mpsc::Receiver<Result<TapEvent<T>, EngineError>>,
    _task: AbortOnDropHandle<()>,
}

/// What a tap gives.
pub(crate) enum TapEvent<T> {
    /// What the lines were made into.
    Lines(T),
    /// Something to know about what comes: the engine went away, the container was replaced.
    Note(String),
}

impl<T: Send + 'static> Tap<T> {
    /// Opens a container's log. `field` names a wish's field for errors; `render` makes of the lines
    /// what the reader takes, on the streams' own thread, so that lines never change threads. A log that is followed
    /// goes on with whatever container has the name.
    pub(crate) fn open(
        app: &App,
        container: &Container,
        wish: &Wish,
        field: impl Fn(&str) -> String,
        render: impl Fn(Vec<LogLine>) -> T + Send + Sync + 'static,
    ) -> Result<Self, LogError> {
        let query = query(wish, app.clock.now(), field)?;
        let engine = app.links.engine(&container.host)?;
        let link = app.links.get(&container.host);
        let place = link.and_then(|l| l.logs.try_acquire_owned().ok());
        let place = place.ok_or_else(|| LogError::HostBusy(container.host.clone()))?;
        let (sender, receiver) = mpsc::channel(WAITING);
        let reading = Reading { app: app.clone(), container: container.clone(), query, render, sender };
        let task = app.streams.spawn(async move {
            let _place = place;
            let closed = reading.sender.clone();
            tokio::select! {
                () = closed.closed() => {}
                () = reading.run(engine) => {}
            }
        });
        Ok(Self { receiver, _task: AbortOnDropHandle::new(task) })
    }

    /// What the next lines were made into; `None` when the log is over.
    pub(crate) async fn next(&mut self) -> Option<Result<TapEvent<T>, EngineError>> {
        self.receiver.recv().await
    }
}

/// One log on its way to its reader.
struct Reading<T, F> {
    app: App,
    container: Container,
    query: LogQuery,
    render: F,
    sender: mpsc::Sender<Result<TapEvent<T>, EngineError>>,
}

/// Nobody reads any more, or it has been told why not.
struct Over;

impl<T: Send + 'static, F: Fn(Vec<LogLine>) -> T + Send> Reading<T, F> {
    async fn run(self, engine: Engine) {
        let c = &self.container;
        if !self.query.follow {
            let _ = self.read_once(&engine).await;
            return;
        }
        let mut follow = Follow::new(&self.app, &c.host, &c.name);
        follow.opened(&c.id, None);
        if self.pass(&engine, &c.id, c.terminal, &self.query, &mut follow, None).await.is_err() {
            return;
        }
        loop {
            let turn = match follow.next(None).await {
                Next::Turn(turn) => turn,
                Next::Note(note) => {
                    if self.sender.send(Ok(TapEvent::Note(note))).await.is_err() {
                        return;
                    }
                    continue;
                }
                Next::Gone => return,
            };
            if let Some(note) = &turn.note
                && self.sender.send(Ok(TapEvent::Note(note.clone()))).await.is_err()
            {
                return;
            }
            let query = LogQuery { stdout: self.query.stdout, stderr: self.query.stderr, ..turn.query() };
            // Where nothing was read yet, the wish still says from where on.
            let first = turn.last.is_none() && turn.id == c.id;
            let query = if first { LogQuery { since: self.query.since, ..query } } else { query };
            if self.pass(&turn.engine, &turn.id, turn.terminal, &query, &mut follow, turn.last).await.is_err()
            {
                return;
            }
        }
    }

    async fn send(&self, message: Result<TapEvent<T>, EngineError>) -> Result<(), Over> {
        self.sender.send(message).await.map_err(|_| Over)
    }

    /// Reads what is there. An engine that shuts down ends its logs as if the containers had: that is told apart.
    async fn read_once(&self, engine: &Engine) -> Result<(), Over> {
        let (id, terminal) = (&self.container.id, self.container.terminal);
        let mut reader = match engine.logs(id, terminal, &self.query).await {
            Ok(reader) => reader,
            Err(error) => return self.send(Err(error)).await,
        };
        let mut ahead = None;
        loop {
            let next = match ahead.take() {
                Some(next) => next,
                None => reader.next().await,
            };
            match next {
                Ok(Some(mut lines)) => {
                    ahead = gather(&mut reader, &mut lines).await;
                    self.send(Ok(TapEvent::Lines((self.render)(lines)))).await?;
                }
                Ok(None) => {
                    return match engine.ping(STILL_THERE).await {
                        Ok(()) => Ok(()),
                        Err(error) => self.send(Err(error)).await,
                    };
                }
                Err(error) => return self.send(Err(error)).await,
            }
        }
    }

    /// Reads one container's log until it ends, breaks off or another container takes the name.
    async fn pass(
        &self,
        engine: &Engine,
        id: &str,
        terminal: bool,
        query: &LogQuery,
        follow: &mut Follow,
        last: Option<Last>,
    ) -> Result<(), Over> {
        let opened = engine.logs(id, terminal, query).await;
        let mut reader = match opened {
            Ok(reader) => reader,
            // It is gone, or its engine is: what comes next is waited for.
            Err(error) if error.status() == Some(404) || error.is_link() => {
                follow.ended();
                return Ok(());
            }
            Err(error) => {
                self.send(Err(error)).await?;
                return Err(Over);
            }
        };
        let mut skip = Skip::after(last);
        let mut ahead = None;
        loop {
            let next = match ahead.take() {
                Some(next) => next,
                None => tokio::select! {
                    next = reader.next() => next,
                    () = follow.superseded() => break,
                },
            };
            match next {
                Ok(Some(mut lines)) => {
                    ahead = gather(&mut reader, &mut lines).await;
                    skip.apply(&mut lines);
                    follow.count(&lines);
                    if !lines.is_empty() {
                        self.send(Ok(TapEvent::Lines((self.render)(lines)))).await?;
                    }
                }
                Ok(None) => break,
                Err(error) if error.is_link() => {
                    self.send(Ok(TapEvent::Note(format!("Stream interrupted: {error}. Reconnecting…"))))
                        .await?;
                    break;
                }
                Err(error) => {
                    self.send(Err(error)).await?;
                    return Err(Over);
                }
            }
        }
        follow.ended();
        Ok(())
    }
}

/// What a reader gives.
type Read = Result<Option<Vec<LogLine>>, EngineError>;

/// Takes along what comes right behind: engines write line by line, and handing each on alone would
/// wake the next thread for every one. Waits for nothing. An end or an error that comes up is given
/// back, to be told after the lines.
async fn gather(reader: &mut LogReader, lines: &mut Vec<LogLine>) -> Option<Read> {
    for _ in 0..GATHERED_READS {
        if lines.len() >= GATHERED_LINES {
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

fn query(wish: &Wish, now: Timestamp, field: impl Fn(&str) -> String) -> Result<LogQuery, LogError> {
    let read = |name: &str, text: &Option<String>| {
        let parsed = text.as_deref().map(|t| moment::parse(t, now)).transpose();
        parsed.map_err(|e| LogError::invalid(field(name), e.to_string()))
    };
    let (since, until) = (read("since", &wish.since)?, read("until", &wish.until)?);
    if let (Some(since), Some(until)) = (since, until)
        && since > until
    {
        return Err(LogError::invalid(field("until"), "`until` is before `since`; swap them"));
    }
    Ok(LogQuery {
        tail: wish.tail,
        since,
        until,
        follow: wish.follow,
        stdout: wish.stdout,
        stderr: wish.stderr,
    })
}
